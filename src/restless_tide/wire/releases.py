"""Releases, legs, rounds and rollouts."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from restless_tide.core.ladder import Stage
from restless_tide.core.leg import LegPhase
from restless_tide.core.order import OrderKind, OrderState
from restless_tide.core.rollout import RolloutEvent
from restless_tide.core.round import RoundState
from restless_tide.wire.base import Told, Wanted
from restless_tide.wire.problems import FindingTold


class LegWanted(Wanted):
    """What is wanted of a leg; what is left out stays as it is."""

    build: str | None = None
    ladder: str | None = Field(default=None, description="such as 5@24,20@48,100: per cent @ hours to hold")
    needs_word: bool | None = None
    not_before: datetime | None = None
    with_other_legs: bool | None = None


class ReleaseWanted(Wanted):
    version: str
    legs: dict[str, LegWanted] = Field(description="by store")
    notes: dict[str, str] = Field(default_factory=dict, description="by locale")


class NotesWanted(Wanted):
    text: str


class SubmitWanted(Wanted):
    store: str | None = Field(default=None, description="none: every leg that can be handed in")


class RecallWanted(Wanted):
    store: str
    reason: str = ""


class WordWanted(Wanted):
    store: str | None = None
    reason: str = ""


class SteerWanted(Wanted):
    act: RolloutEvent
    reason: str
    store: str | None = Field(default=None, description="none: every leg where it is possible")
    share: float | None = Field(default=None, description="for advance at a store with a free ladder: 0 to 1")


class RoundTold(Told):
    number: int
    build: str
    build_label: str
    state: RoundState
    submitted_at: datetime
    changed_at: datetime
    reasons: list[str]


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


class LegTold(Told):
    store: str
    store_title: str
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
    needs_word: bool
    word_given_at: datetime | None
    not_before: datetime | None
    with_other_legs: bool
    waits_for: list[str] = Field(description="what an approved leg still waits for")
    launched_at: datetime | None
    rounds: list[RoundTold]
    acts: list[OptionTold]
    seen: SightingTold | None
    confirmed: bool = Field(description="whether everything ordered is confirmed by the store")
    hand_carried: bool
    step: str | None = Field(description="the step that waits for a person, if one does")
    orders: list[OrderTold] = Field(description="the latest orders to the store, newest first")
    findings: list[FindingTold] = Field(description="what stands in the way of handing it in")


class ReleaseTold(Told):
    app: str
    app_title: str
    version: str
    revision: int
    notes: dict[str, str]
    created_at: datetime
    legs: list[LegTold]


class SteeredTold(Told):
    store: str
    ordered: bool
    why_not: str


class SteeringTold(Told):
    outcomes: list[SteeredTold]
    release: ReleaseTold
