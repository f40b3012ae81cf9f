"""The overview, the live feed and the logbook."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field

from restless_tide.core.berth import BerthState
from restless_tide.core.ladder import Stage
from restless_tide.core.leg import LegPhase
from restless_tide.core.numbers import LONGEST_DAYS
from restless_tide.wire.base import AnyInstant, Told, Wanted


class CallTold(Told):
    """Something that needs a person, and the console's place to fix it."""

    said: str
    place: str
    weight: str


class AlsoOnTold(Told):
    """A version on another track than production."""

    version: str
    track: str
    track_title: str
    phase: LegPhase
    share: float


class BerthRow(Told):
    app: str
    app_title: str
    store: str
    store_title: str
    platform: str
    berth_state: BerthState
    live_version: str | None
    version: str | None = Field(description="the release that matters now: on its way, else what comes next")
    phase: LegPhase | None
    share: float
    ladder: list[Stage]
    stage_ends_at: datetime | None
    confirmed: bool
    next_version: str | None = Field(description="what comes after the one that matters now")
    next_phase: LegPhase | None
    newest_build: str | None
    also_on: list[AlsoOnTold] = Field(description="versions on other tracks than production, offered or on their way")
    calls: list[CallTold]


class StoreCallTold(Told):
    """Something at a store that needs a person."""

    store: str
    store_title: str
    call: CallTold


class OverviewTold(Told):
    now: datetime
    apps: int
    stores: int
    rows: list[BerthRow]
    store_calls: list[StoreCallTold] = Field(description="what needs a person at the stores themselves")
    desk_calls: list[CallTold] = Field(default_factory=list, description="what needs a person at the desk itself")


class FoundTold(Told):
    """One thing that a search has found. ``place`` is its page in the console."""

    kind: Literal["app", "release", "build", "cohort", "tester", "store"]
    title: str
    about: str
    place: str


class ChangeTold(Told):
    """One event of the live feed; ``id`` is its Last-Event-ID."""

    id: int
    at: datetime
    kind: str
    app: str | None
    subject: str
    said: str


class LineTold(Told):
    id: int
    at: datetime
    person: str = Field(description="pseudonymous id")
    who: str
    act: str
    subject: str
    app: str | None
    reason: str
    before: dict[str, Any] | None
    after: dict[str, Any] | None
    digest: str


class VerificationTold(Told):
    lines: int
    first_broken: int | None


class ClockWanted(Wanted):
    step_hours: float = Field(default=0.0, ge=-24 * LONGEST_DAYS, le=24 * LONGEST_DAYS)
    show: AnyInstant | None = None


class ClockTold(Told):
    now: datetime


class ReadyTold(Told):
    """``working``: this engine holds the lease; ``standing by``: another one does and this one waits for it."""

    status: Literal["ready", "not ready"]
    engine: Literal["working", "standing by", "stopped"]
    database: Literal["writable", "not writable"]


class HealthTold(Told):
    status: Literal["ok"] = "ok"
    version: str
