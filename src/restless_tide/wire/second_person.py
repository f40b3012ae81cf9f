"""Acts that wait for a second person."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from restless_tide.core.second_person import AskedAct
from restless_tide.wire.base import Told, Wanted, Words


class SecondPersonWanted(Wanted):
    demanded: bool = Field(description="acts by which releases of this app reach people wait for a second person")


class WaitingActTold(Told):
    id: str
    app: str
    version: str
    kind: AskedAct
    said: str
    asked_by: str
    asked_at: datetime
    until: datetime
    mine: bool = Field(description="you asked for it, so another person has to agree")


class DropWanted(Wanted):
    reason: Words = Field(min_length=1)
