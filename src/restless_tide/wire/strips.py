"""What was live where, now and at any instant before."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from restless_tide.core.rollout import RolloutState
from restless_tide.wire.base import Told


class LayerTold(Told):
    """A version that new people are offered."""

    version: str
    state: RolloutState
    part: float = Field(description="the part of new people, above 0 and up to 1")


class _Offered(Told):
    told: str = Field(description="what is offered, in words")
    where: str = Field(description="everywhere, the countries, or that it is closed to new people")
    layers: list[LayerTold] = Field(description="the newest version first; the parts add up to 1 at most")
    closed: bool = Field(description="nobody new gets the app there at all")
    countries: list[str] = Field(description="ISO 3166 alpha-2; none: everywhere the store is")


class LiveTold(_Offered):
    """What one store offers new people of an app at an instant."""

    app: str
    app_title: str
    store: str
    store_title: str
    platform: str
    at: datetime
    known_since: datetime | None = Field(description="nothing is known of the time before; null: nothing was ever seen")


class StretchTold(_Offered):
    """A stretch of time in which nothing changed."""

    since: datetime
    until: datetime


class MarkTold(Told):
    """An instant at which the store was first seen to hold a version so."""

    at: datetime
    version: str
    state: RolloutState
    share: float


class StoreStripTold(Told):
    store: str
    store_title: str
    platform: str
    known_since: datetime | None
    stretches: list[StretchTold]
    marks: list[MarkTold]


class StripTold(Told):
    """What new people were offered of an app over a time, at every store."""

    app: str
    app_title: str
    since: datetime
    until: datetime
    stores: list[StoreStripTold]
