"""Releases, legs, rounds and rollouts."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Self

from pydantic import Field, model_validator

from restless_tide.core.conditions import Condition as Condition
from restless_tide.core.conditions import Conditions
from restless_tide.core.ladder import HOW_TO_WRITE, LONGEST_LADDER_TEXT, Stage
from restless_tide.core.leg import LegAct, LegPhase
from restless_tide.core.order import OrderKind, OrderState
from restless_tide.core.pace import Pace
from restless_tide.core.rollout import RolloutEvent
from restless_tide.core.round import RoundState
from restless_tide.wire.base import AnyInstant, OneLine, Ordered, Text, TextByLocale, Told, Wanted, Words
from restless_tide.wire.problems import FindingTold
from restless_tide.wire.reviewing import FileTold, ItemTold

LadderText = Annotated[OneLine, Field(min_length=1, max_length=LONGEST_LADDER_TEXT)]


class LegWanted(Wanted):
    """What is wanted of a leg; what is left out stays as it is."""

    build: OneLine | None = None
    ladder: LadderText | None = Field(default=None, description=f"a named ladder, or its stages: {HOW_TO_WRITE}")
    conditions: Conditions | None = Field(
        default=None, description="what its launch waits for, all of it; people by their addresses"
    )
    needs_go_ahead: bool | None = Field(
        default=None, description="shorthand: adds or takes away the condition go-ahead"
    )
    not_before: AnyInstant | None = Field(
        default=None, description="shorthand for the condition after; null in the document takes the date away"
    )
    no_date: bool | None = Field(default=None, description="true takes the date away")
    with_other_legs: bool | None = Field(
        default=None, description="shorthand for the condition approved, at all stores"
    )

    @model_validator(mode="after")
    def _null_takes_the_date_away(self) -> Self:
        if self.no_date and self.not_before is not None:
            raise ValueError("it says both a date and that there is none")
        return self


class ReleaseWanted(Wanted):
    version: OneLine
    legs: dict[OneLine, LegWanted] = Field(max_length=100, description="by store, or by store/track")
    notes: TextByLocale = Field(default_factory=dict, description="by locale")


class ReleaseChange(Wanted):
    version: OneLine = Field(description="its version from now on; possible until it was handed in")


class NotesWanted(Wanted):
    text: Text


class RecallWanted(Wanted):
    store: OneLine
    reason: Words = ""


class FixWanted(Wanted):
    builds: list[OneLine] = Field(
        min_length=1, max_length=20, description="of one version above it: one for each platform that it went out for"
    )


class GoAheadWanted(Wanted):
    store: OneLine | None = None
    reason: Words = ""


class NewLegWanted(LegWanted):
    store: OneLine


class SteerWanted(Wanted):
    act: RolloutEvent
    reason: Words
    store: OneLine | None = Field(default=None, description="none: every leg where it is possible")
    share: float | None = Field(
        default=None, ge=0, le=1, description="for advance at a store with a free ladder: 0 to 1"
    )


class PaceWanted(Wanted, Pace):
    """How the stores of a release rise beside each other, and why."""

    reason: Words = ""

    def pace(self) -> Pace:
        return Pace.model_validate(self.model_dump(include=set(Pace.model_fields)))


class HaltsWanted(Wanted):
    """Every rollout of an app, of a platform, or both at once; at least one of them is named."""

    reason: Words
    app: OneLine | None = None
    platform: OneLine | None = Field(default=None, description="such as android")
    complete_too: bool = Field(default=False, description="also what everybody is offered already")

    @model_validator(mode="after")
    def _names_something(self) -> Self:
        if self.app is None and self.platform is None:
            raise ValueError("name an app, a platform, or both")
        return self


class WaitTold(Told):
    """How long a round waits, in hours, and what is usual there."""

    hours: float
    median_hours: float
    low_hours: float = Field(description="eight of ten lie between this and high_hours")
    high_hours: float
    nine_in_ten_hours: float = Field(description="what nine in ten stay under")
    rounds: int = Field(description="so many decided rounds of this team say it; 0: the rulebook does")
    long: bool = Field(description="longer than nine in ten")


class FiguresTold(Told):
    """Figures over some rounds; hours are medians, and none where nothing is known."""

    name: str
    rounds: int
    under_review: int
    decided: int
    refused: int
    refused_share: float | None
    waiting_hours: float | None = Field(description="until the store began to look")
    deciding_hours: float | None = Field(description="from there to its verdict")
    whole_hours: float | None
    low_hours: float | None = Field(description="eight of ten lie between this and high_hours; none: too few")
    high_hours: float | None


class RoundTold(Ordered):
    seen: str | None = Field(description="the state in which the store was last seen to hold it")
    number: int
    build: str
    build_label: str
    state: RoundState
    submitted_at: datetime
    taken_up_at: datetime | None = Field(description="when the store began to look, where it reported that")
    decided_at: datetime | None
    changed_at: datetime
    waiting: WaitTold | None = Field(description="how long it waits, while it is under review")
    reasons: list[str]
    notes: dict[str, str] | None = Field(description="as they were handed in, by locale; none: not known")
    for_reviewer: str = Field(description="what it said to the reviewer")
    in_spite_of: str = Field(description="why it was handed in while a matter was open")
    items: list[ItemTold] = Field(description="what went to review together")
    files: list[FileTold] = Field(description="what went along for the reviewer")
    messages: int = Field(description="so many were written, both ways")
    waits_for_answer: bool = Field(description="the reviewer waits for an answer")


class OptionTold(Told):
    act: RolloutEvent
    possible: bool
    why_not: str
    consequence: str


class OrderTold(Told):
    id: str
    kind: OrderKind
    state: OrderState
    ordered_at: datetime
    settled_at: datetime | None
    attempts: int
    trouble: str | None


class SightingTold(Told):
    """What the store was last seen to hold, by the store's own clock."""

    state: str
    share: float
    at: datetime


class StandTold(Told):
    """How one condition of a launch stands."""

    condition: Condition = Field(description="people by their addresses")
    written: str = Field(description="as it is written on the command line")
    told: str = Field(description="in words")
    holds: bool
    since: datetime | None = Field(description="since when it holds, where that is known")
    missing: str = Field(description="what it waits for; empty when it holds")
    alternatives: list[AlternativeTold] = Field(description="how each of several alternatives stands")


class AlternativeTold(Told):
    told: str
    holds: bool
    since: datetime | None
    missing: str


class GoAheadTold(Told):
    person: str = Field(description="the id in the logbook")
    who: str
    given_at: datetime
    reason: str


class LegTold(Ordered):
    place: str = Field(description="what addresses the leg: its store, or store/track where that is not production")
    store: str
    store_title: str
    track: str
    place_title: str = Field(description="such as Openfield, or Openfield, Early")
    platform: str
    build: str
    build_label: str
    phase: LegPhase
    share: float = Field(description="as ordered, 0 to 1")
    stage: int
    stage_ends_at: datetime | None
    ladder_name: str
    ladder_dictated: bool
    ladder: list[Stage]
    ladder_text: str = Field(description="as it is written")
    conditions: list[StandTold] = Field(description="what its launch waits for; all of it has to hold")
    go_aheads: list[GoAheadTold] = Field(description="those that count")
    waits_for_people: bool = Field(description="whether a go-ahead is missing without which it cannot be launched")
    launches_at: datetime | None = Field(
        description="when an approved leg is launched if nothing but time passes; none: something else is missing"
    )
    frozen_by: str | None = Field(description="the freeze that holds it now, where it could rise; none: nothing does")
    frozen_until: datetime | None
    waits_for: list[str] = Field(description="what an approved leg still waits for")
    waits_to_rise: list[str] = Field(description="what its next stage waits for, besides its hours")
    launched_at: datetime | None
    rounds: list[RoundTold]
    acts: list[OptionTold]
    possible: list[LegAct] = Field(description="what may be done now besides steering")
    seen: SightingTold | None
    offered_again: bool = Field(
        description="the store offers again what was stopped, and a person has to say whether that is wanted"
    )
    hand_carried: bool
    step: str | None = Field(description="the step that waits for a person, if one does")
    orders: list[OrderTold] = Field(description="the latest orders to the store, newest first")
    findings: list[FindingTold] = Field(description="what blocks handing it in")
    notes_not_sent: list[str] = Field(description="locales whose notes were changed since the store got them")
    notes_go: str = Field(description="when notes that are written now reach the store")
    notes_limit: int = Field(description="the longest notes the store takes, counted as notes_counted_in says")
    notes_counted_in: str
    notes_required: list[str] = Field(description="locales in which the store wants notes")


class ReleaseTold(Told):
    app: str
    app_title: str
    version: str
    revision: int
    notes: dict[str, str]
    created_at: datetime
    pace: Pace
    pace_told: str = Field(description="the pace in words")
    legs: list[LegTold]


class SteeredTold(Told):
    """What became of a steering act at one store, and where the leg stands as wanted now."""

    place: str
    store: str
    ordered: bool
    why_not: str
    order: str | None = Field(description="the order that was placed; none when nothing had to be sent")
    phase: LegPhase
    share: float


class HaltedTold(SteeredTold):
    app: str
    version: str
    place_title: str


class HaltsTold(Told):
    """What became of one word that halts many rollouts. ``left``: complete ones that were left alone."""

    outcomes: list[HaltedTold]
    left: list[HaltedTold]


class SteeringTold(Told):
    """Read the release for what the stores answer."""

    outcomes: list[SteeredTold]
