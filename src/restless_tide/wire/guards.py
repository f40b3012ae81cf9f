"""What is counted by the hour, and the guards that watch it."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Self

from pydantic import AfterValidator, Field, model_validator

from restless_tide.core.gauges import HOUR, MOST_CELLS, MOST_COUNTED
from restless_tide.core.guard import (
    LONGEST_GUARD_NAME,
    LONGEST_SILENCE,
    Against,
    GuardRule,
    OnBreach,
    Verdict,
    Watched,
)
from restless_tide.wire.base import Instant, OneLine, Told, Wanted, Words, one_step

MOST_HOURS = 24 * 7
"""Of one document that is sent."""
_Count = Annotated[int, Field(ge=0, le=MOST_COUNTED)]
_Short = Annotated[OneLine, Field(max_length=60)]


GuardName = Annotated[OneLine, Field(min_length=1, max_length=LONGEST_GUARD_NAME), AfterValidator(one_step)]


class Counts(Wanted):
    """What was counted; all whole numbers."""

    people: _Count = Field(default=0, description="active in the hour")
    sessions: _Count = 0
    crashed_sessions: _Count = Field(default=0, description="sessions that ended in a crash")
    crashed_people: _Count = Field(
        default=0, description="people who met a crash, each at most once a day, in the hour of the first"
    )
    hangs: _Count = 0
    first_starts: _Count = Field(default=0, description="people who began this version for the first time")
    stars_1: _Count = 0
    stars_2: _Count = 0
    stars_3: _Count = 0
    stars_4: _Count = 0
    stars_5: _Count = 0


class CountsWanted(Counts):
    """The counts of one version, on one kind of device where these are told apart."""

    version: OneLine
    number: OneLine = ""
    level: _Short = Field(default="", description="the platform level")
    device: _Short = Field(default="", description="the class of device")


class HourWanted(Wanted):
    at: Instant = Field(description="the beginning of the hour")
    revision: int = Field(default=1, ge=1, lt=2**31, description="a later one replaces an earlier one, whole")
    complete: bool = Field(default=True, description="nothing more is expected; guards look at complete hours only")
    cells: list[CountsWanted] = Field(max_length=MOST_CELLS)


class GaugesWanted(Wanted):
    """Counts from a source of the team's own, or of a hand-carried store as a person reads them there."""

    store: OneLine
    source: _Short = Field(default="", description="such as crashes; empty: the hand-carried store itself")
    hours: list[HourWanted] = Field(min_length=1, max_length=MOST_HOURS)


class GaugesTaken(Told):
    taken: int = Field(description="hours that were new or corrected")
    passed: int = Field(description="hours of a revision that was known already, or too old")


class CountedTold(Told):
    """What was counted of one version at one store in one hour, or in one day once its hours are old."""

    at: datetime
    hours: int = Field(description="1, or 24 for a day")
    version: str
    complete: bool
    counts: Counts


class GaugesTold(Told):
    store: str
    source: str
    sources: list[str] = Field(description="the other sources that counts come from here")
    trouble: str = Field(description="what was wrong with counts that could not be taken; empty: nothing")
    counted: list[CountedTold]


class GuardWanted(Wanted, GuardRule):
    """A guard as it is to be: its rule, and what it may do. What is left out is the usual."""

    name: GuardName
    on_breach: OnBreach = OnBreach.TELL
    every_store: bool = Field(default=False, description="what it does, it does at every store of the release")
    together: bool = Field(default=True, description="the stores of a release are judged as one")
    stores: list[OneLine] = Field(default_factory=list, max_length=100, description="none: every store")
    source: _Short = Field(default="", description="where its counts come from; empty: the stores themselves")

    def rule(self) -> GuardRule:
        """What of it the arithmetic needs."""
        return GuardRule.model_validate(self.model_dump(include=set(GuardRule.model_fields)))


class GuardTold(Told):
    id: str
    name: str
    watched: Watched
    against: Against
    bound: float | None
    tolerance: float
    error_bound: float
    least_people: int
    on_breach: OnBreach
    every_store: bool
    together: bool
    stores: list[str]
    source: str
    said: str = Field(description="the rule in one sentence")
    created_at: datetime


class EvidencePoint(Told):
    at: datetime
    way: float = Field(description="how far the evidence has come towards the threshold: 0 to 1")


class Found(Told):
    """What a guard found, as figures. ``ratio`` with ``low`` to ``high``: those not ruled out, valid at every instant."""

    reference: str = Field(description="what it is compared with")
    ratio: float | None = Field(description="of the rates; for ratings the difference in stars")
    low: float | None
    high: float | None
    way: float = Field(description="how far the evidence has come towards the threshold: 0 to 1")
    people: int = Field(description="who have begun the version")
    exposed: int = Field(description="sessions, people or ratings of the version that were looked at")
    events: int = Field(description="of these, those that went wrong")
    reference_exposed: int
    reference_events: int
    dispersion: float = Field(description="how far counts come in clusters; evidence is divided by it")
    corrected: int = Field(description="hours that were told anew after they had been complete")
    begins_at: datetime = Field(description="the counts begin here")


class BreachTold(Told):
    """The evidence of a breach as it was then."""

    said: str
    found: Found
    line: list[EvidencePoint]


class WatchTold(Told):
    """What a guard says of one rollout."""

    guard: GuardTold
    place: str | None = Field(description="the leg it watches; none: all of them together")
    verdict: Verdict | None = Field(description="none: it is blind, or nothing was counted yet")
    verdict_since: datetime
    judged_at: datetime | None
    blind: str = Field(description="why it can say nothing; empty: it can")
    said: str
    found: Found | None
    line: list[EvidencePoint] = Field(description="the evidence by the hour, where it was asked for")
    breached_at: datetime | None
    acted: str = Field(description="what followed from the breach")
    breach: BreachTold | None
    silent: bool = Field(description="it does nothing now, regardless of what it finds")
    silent_until: datetime | None
    silent_reason: str
    silent_by: str


class SilenceWanted(Wanted):
    """For some hours from now, or until an instant; neither: it speaks again."""

    until: Instant | None = None
    hours: float | None = Field(default=None, gt=0, le=LONGEST_SILENCE / HOUR)
    reason: Words = ""

    @model_validator(mode="after")
    def _one_of_two(self) -> Self:
        if self.until is not None and self.hours is not None:
            raise ValueError("name an instant or a number of hours, not both")
        return self


class GuardTrialWanted(GuardWanted):
    """A guard to be tried on what was counted of a release, or on made-up counts; nothing is set up, nothing is stopped."""

    name: GuardName = "trial"
    version: OneLine | None = Field(default=None, description="a release whose counts are played again")
    ratio: float | None = Field(
        default=None, gt=0, le=100, description="made up: how many times as often it goes wrong"
    )
    rate: float = Field(default=0.004, gt=0, le=0.5, description="made up: how often it went wrong before, a session")
    people: int = Field(default=40_000, ge=100, le=100_000_000, description="made up: who use the app")
    share: float = Field(default=0.05, gt=0, le=0.9, description="made up: the share that gets the version")
    hours: int = Field(default=24 * 14, ge=24, le=24 * 60, description="made up: how long it is watched")
    seed: int = Field(default=1, ge=0, lt=2**31)

    @model_validator(mode="after")
    def _one_of_two(self) -> Self:
        if (self.version is None) == (self.ratio is None):
            raise ValueError("name a version whose counts are played again, or a ratio for made-up counts")
        return self


class GuardTrialTold(Told):
    """Whether it would have stopped, and when."""

    said: str
    rule: str
    stopped_at: datetime | None
    after_hours: int | None = Field(description="from the launch")
    after_exposed: int | None = Field(description="sessions, people or ratings of the version until then")
    share: float | None = Field(description="made up: of so many such rollouts it would have stopped this part")
    found: Found
    line: list[EvidencePoint]


class CoursePoint(Told):
    """What was so at the end of one stretch of time; the counts are of that stretch."""

    at: datetime
    share: float = Field(description="of people who are offered it, as ordered, 0 to 1; 0 once it was stopped")
    people: int = Field(description="who have begun the version until then")
    sessions: int
    crashed_people: int
    reference_sessions: int
    reference_crashed_people: int
    rate: float | None = Field(
        description="of people who met a crash among sessions, of this stretch and as many before as it takes to say something"
    )
    reference_rate: float | None


class CourseMark(Told):
    at: datetime
    act: str
    who: str
    reason: str
    share: float | None


class CourseTold(Told):
    """The course of a rollout at one store."""

    place: str
    title: str
    reference: str | None = Field(description="the version that people had before")
    points: list[CoursePoint]
    marks: list[CourseMark]
