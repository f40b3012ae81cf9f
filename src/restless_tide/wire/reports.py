"""Field reports: what comes back from people who test."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from restless_tide.core.notice import DeliveryState
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.report import ReportEvent, ReportKind, ReportState
from restless_tide.wire.base import FileText, Instant, Number, OneLine, Text, Told, Wanted, Words
from restless_tide.wire.cohorts import TesterTold


class FrameGiven(Wanted):
    """One call of a stack. ``address`` is an offset into the image where no function is known."""

    module: OneLine = ""
    function: OneLine = ""
    file: OneLine = ""
    line: Number | None = None
    address: int | None = Field(default=None, ge=0, lt=2**63)


class ReportWanted(Wanted):
    """A crash has a ``stack`` as its runtime prints it, or ``frames`` with ``thrown``, the innermost first."""

    kind: ReportKind = ReportKind.REMARK
    build: OneLine | None = Field(default=None, description="the build's id; or say version and number")
    version: OneLine | None = None
    number: BuildNumber | None = None
    platform: OneLine | None = None
    tester: OneLine | None = Field(default=None, description="id or address of a tester that the desk knows")
    text: Text = ""
    device: OneLine = ""
    system: OneLine = ""
    language: OneLine = ""
    at: Instant | None = None
    stack: FileText = ""
    thrown: OneLine = ""
    message: Text = ""
    frames: list[FrameGiven] = Field(default_factory=list, max_length=256)


class DecideWanted(Wanted):
    act: Literal["accept", "fix", "duplicate", "close", "reopen"]
    build: OneLine | None = Field(default=None, description="in which it is fixed")
    duplicate_of: OneLine | None = None
    reason: Words = ""


MOST_DECIDED = 500


class DecideAllWanted(DecideWanted):
    reports: Annotated[list[OneLine], Field(min_length=1, max_length=MOST_DECIDED)] = Field(
        description="ids or their beginnings"
    )


class LeftTold(Told):
    """A report that a decision on several left as it is."""

    report: str
    why: str


class ReplyWanted(Wanted):
    text: Text


class TicketWanted(Wanted):
    ticket: OneLine = Field(description="an address or a ticket's number; empty: none")


class PictureTold(Told):
    place: int
    media_type: str
    width: int
    height: int
    size_bytes: int


class WordTold(Told):
    """``who``: the desk's person, or the tester. ``state`` is of the mail; none: it came in."""

    at: datetime
    who: str
    from_desk: bool
    text: str
    state: DeliveryState | None
    trouble: str | None


class ReportTold(Told):
    id: str
    app: str
    app_title: str
    kind: ReportKind
    state: ReportState
    possible: list[ReportEvent]
    headline: str
    build: str | None
    build_label: str | None
    trial: str | None
    cohort: str | None
    store: str | None
    source: str
    tester: TesterTold | None
    text: str
    device: str
    system: str
    language: str
    at: datetime
    received_at: datetime
    changed_at: datetime
    fingerprint: str | None
    symbolised: bool
    alike: int = Field(description="reports with the same fingerprint, this one among them")
    fixed_in: str | None
    fixed_label: str | None
    duplicate_of: str | None
    ticket: str
    pictures: list[PictureTold]
    answers: int


class FrameTold(Told):
    told: str
    own: bool = Field(description="of the app's own code")


class ReportDetailTold(ReportTold):
    thrown: str
    stack: str
    frames: list[FrameTold]
    words: list[WordTold]
    joined: list[str] = Field(description="reports that say the same as this one")


class GroupTold(Told):
    """Crashes that are the same by their fingerprint."""

    fingerprint: str
    headline: str
    thrown: str
    count: int
    people: int
    open: int
    first_at: datetime
    last_at: datetime
    builds: dict[str, int]
    devices: dict[str, int]
    symbolised: bool
    newest: str


class DayTold(Told):
    day: str
    sessions: int
    crashed: int


class BuildNumbersTold(Told):
    """A build in people's hands. ``crash_free`` is the share of sessions that did not end in a crash."""

    build: str
    label: str
    platform: str
    invited: int
    accepted: int
    installed: int
    sessions: int
    crashed: int
    crash_free: float | None
    remarks: int
    crashes: int
    open_reports: int
    days: list[DayTold]


class SymbolFileTold(Told):
    id: str
    build: str
    name: str
    kind: str
    identity: str
    size_bytes: int
    stored_at: datetime
    named: int = Field(default=0, description="crashes that got their names back by it")


class DecidedTold(Told):
    """What became of a decision on several reports."""

    done: list[ReportTold]
    left: list[LeftTold]
