"""Freezes: windows in which nothing launches and no share rises."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import AfterValidator, Field

from restless_tide.core.freeze import LONGEST_FREEZE_NAME, Freeze
from restless_tide.wire.base import OneLine, Told, Wanted, Words, one_step


class FreezeWanted(Wanted, Freeze):
    """A freeze as it is to be, and why."""

    name: Annotated[OneLine, Field(min_length=1, max_length=LONGEST_FREEZE_NAME), AfterValidator(one_step)]
    reason: Words = ""

    def freeze(self) -> Freeze:
        return Freeze.model_validate(self.model_dump(include=set(Freeze.model_fields)))


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
