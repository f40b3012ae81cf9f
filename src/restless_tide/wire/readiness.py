"""The readiness sheet of a release: store by store, what is there and what is missing."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from restless_tide.core.known import MendAct, NodeState
from restless_tide.core.rulebook import ThingKind
from restless_tide.core.sheet import Verdict
from restless_tide.wire.base import Told
from restless_tide.wire.problems import FindingTold


class ThingTold(Told):
    """One thing that a store wants, and where it stands."""

    key: str
    kind: ThingKind
    title: str
    help: str = Field(description="the store's own words on it")
    state: NodeState
    reason: str
    findings: list[FindingTold]
    mend: MendAct = Field(description="the act that helps")
    waits_for: list[str] = Field(description="what must be done before it opens")
    lock: str = Field(description="why it cannot change now, or when it will lock")
    usual_hours: float
    applies_from: datetime | None
    needed: bool = Field(description="whether the release waits for it")
    folded: bool = Field(description="nothing about it changes with this release, and nothing is wrong with it")


class PlaceSheetTold(Told):
    """What stands between a release and its people at one place."""

    place: str = Field(description="a store, or store/track")
    store: str
    store_title: str
    place_title: str
    verdict: Verdict
    day: datetime = Field(description="the planned day; the sheet is by the rules that hold then")
    rulebook_revision: str
    done: int = Field(description="how many of the needed things are there")
    needed: int = Field(description="how many things are needed")
    usual_hours: float = Field(description="how long the rest usually takes")
    first_release: bool = Field(description="the app was never live there")
    things: list[ThingTold] = Field(description="in the order of the store's graph")
    announced: list[str] = Field(description="what announced rules mean for this release")
    means: dict[str, str] = Field(description="from the store's own fields to those that all stores share")
    shows: dict[str, str] = Field(description="from the store's own classes of pictures to those that all stores share")
    topics: dict[str, str] = Field(description="from the store's own questions to the topics that all stores share")


class ReadinessTold(Told):
    """The sheets of a release at all its places; without a release, at every store that carries the app."""

    app: str
    app_title: str
    version: str | None = Field(description="none: the release to come")
    drafted: bool
    verdict: Verdict = Field(description="the worst of all places")
    places: list[PlaceSheetTold]
