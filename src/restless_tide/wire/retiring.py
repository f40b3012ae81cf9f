"""Taking something out of use, and why."""

from __future__ import annotations

from pydantic import Field

from restless_tide.wire.base import Told, Wanted, Words


class ReasonWanted(Wanted):
    reason: Words = ""


class OutlookTold(Told):
    """What taking something out of use would meet."""

    under_way: list[str] = Field(description="what has to end first; while there is any, it stays in use")
    stays: list[str] = Field(description="what continues as it is, or is to be known before")
