"""Steps that people carry to a store by hand."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from restless_tide.core.step import StepEvent, StepState
from restless_tide.wire.base import OneLine, Told, Wanted, Words


class StepFile(Told):
    """A file to take along."""

    sha256: str
    name: str
    size_bytes: int
    address: str = Field(description="where it is fetched")


class StepTold(Told):
    id: str
    store: str
    store_title: str
    app: str | None
    title: str
    todo: list[str]
    texts: dict[str, str] = Field(description="what to paste, by what it is for")
    files: list[StepFile]
    look_for: str
    outcomes: list[str]
    urgent: bool
    state: StepState
    possible: list[StepEvent]
    outcome: str | None
    said: str
    created_at: datetime
    settled_at: datetime | None
    can_undo: bool


class OutcomeWanted(Wanted):
    outcome: OneLine
    said: Words = Field(default="", description="the store's words; needed for a refusal")


class UndoWanted(Wanted):
    reason: Words = ""
