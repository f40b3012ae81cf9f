"""Freezes: windows in which nothing launches and no share rises."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Self

from pydantic import Field, model_validator

from restless_tide.core.freeze import Freeze
from restless_tide.wire.base import OneLine, Told, Wanted, Words


class FreezeWanted(Wanted):
    """``begins`` and ``ends`` as the clock on the wall shows them in ``zone``."""

    name: Annotated[OneLine, Field(min_length=1, max_length=60)]
    begins: datetime = Field(description="without a zone, such as 2026-12-20T18:00")
    ends: datetime
    zone: Annotated[OneLine, Field(max_length=60)] = Field(default="UTC", description="such as Europe/Berlin (IANA)")
    yearly: bool = Field(default=False, description="every year on these days, whatever their year")
    apps: list[OneLine] = Field(default_factory=list, max_length=500, description="none: all")
    stores: list[OneLine] = Field(default_factory=list, max_length=100, description="none: all")
    reason: Words = ""

    @model_validator(mode="after")
    def _makes_sense(self) -> Self:
        self.freeze()
        return self

    def freeze(self) -> Freeze:
        return Freeze(
            name=self.name, begins=self.begins, ends=self.ends, zone=self.zone, yearly=self.yearly,
            apps=tuple(self.apps), stores=tuple(self.stores),
        )  # fmt: skip


class FreezeTold(Told):
    name: str
    begins: datetime = Field(description="as the clock on the wall shows it in its zone")
    ends: datetime
    zone: str
    yearly: bool
    apps: list[str]
    stores: list[str]
    reason: str
    holds: bool = Field(description="it holds now")
    next_begin: datetime | None = Field(description="when it begins, or began; none: it is over")
    next_end: datetime | None


class OverrideWanted(Wanted):
    reason: Words


class OverrideTold(Told):
    """A release that is to rise in spite of a freeze. ``agreed_at`` none: a second person has to agree."""

    id: str
    app: str
    version: str
    reason: str
    asked_by: str
    asked_at: datetime
    agreed_by: str | None
    agreed_at: datetime | None
    until: datetime = Field(description="the freeze ends then")
