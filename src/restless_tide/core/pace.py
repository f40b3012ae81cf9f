"""The pace of a release: whether its stores rise each for itself, in step, or after one that leads.

In step: no act raises a store by more than one stage of its own ladder above what the slowest store was seen to hold. Ladders
differ from store to store, so the slowest share is found on the ladder of the one that is to rise. With a lead: the others
are launched when it was seen to hold a share and was steady for some hours.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Annotated, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from restless_tide.core.ladder import MOST_HOURS, Ladder
from restless_tide.core.leg import LegPhase
from restless_tide.core.rollout import GONE
from restless_tide.core.words import percent

StoreName = Annotated[str, Field(min_length=1, max_length=100)]
NOT_COUNTED = frozenset(LegPhase(state.value) for state in GONE)
"""A store that no longer offers it holds no other back."""


class PaceKind(StrEnum):
    FREE = "free"
    IN_STEP = "in step"
    LEAD = "lead"


PACES = {
    PaceKind.FREE: "each store for itself",
    PaceKind.IN_STEP: "in step: no store more than one stage ahead of the slowest",
    PaceKind.LEAD: "one store leads",
}
"""Each kind in words."""
USUAL_LEAD_SHARE, USUAL_STEADY_HOURS = 0.1, 24.0


class Pace(BaseModel):
    """``apart``: stores that hold no other back and that none holds back."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    kind: PaceKind = PaceKind.FREE
    lead: StoreName | None = Field(default=None, description="the store that leads")
    share: float = Field(
        default=USUAL_LEAD_SHARE, gt=0, le=1, description="the others are launched when it holds this share, 0 to 1,"
    )
    steady_hours: float = Field(
        default=USUAL_STEADY_HOURS, ge=0, le=MOST_HOURS, description="and its guards were steady so long"
    )
    apart: tuple[StoreName, ...] = Field(default=(), max_length=100, description="stores that this does not concern")

    @model_validator(mode="after")
    def _fits_together(self) -> Self:
        if (self.kind is PaceKind.LEAD) != (self.lead is not None):
            raise ValueError("name the store that leads, where one leads, and only there")
        if self.lead is not None and self.lead in self.apart:
            raise ValueError(f"{self.lead} leads; it cannot stand apart")
        return self

    def told(self) -> str:
        """In one line."""
        apart = f"; not {', '.join(self.apart)}" if self.apart else ""
        if self.kind is not PaceKind.LEAD:
            return f"{PACES[self.kind]}{apart}"
        steady = f" and was steady for {self.steady_hours:g} h" if self.steady_hours else ""
        return f"{self.lead} leads: the others are launched when it holds {percent(self.share)}{steady}{apart}"


FREE = Pace()


@dataclass(frozen=True, slots=True)
class Beside:
    """Where one store of a release stands. ``share`` is what it was seen to hold; nothing before its launch."""

    store: str
    title: str
    phase: LegPhase
    share: float
    confirmed: bool = True

    def told(self) -> str:
        if not self.share:
            launch = f"which is not launched ({self.phase})" if self.confirmed else "whose launch is not confirmed yet"
            return f"{self.title}, {launch}"
        how = f", {self.phase}" if self.phase is not LegPhase.RISING else ""
        return f"{self.title}, which holds {percent(self.share)}{how}{'' if self.confirmed else ', not confirmed yet'}"


def holds_rise(pace: Pace, store: str, ladder: Ladder, stage: int, others: Sequence[Beside]) -> list[str]:
    """Whom a store waits for before it is raised to a stage of its own ladder, counted from 0; nothing: it may rise."""
    if pace.kind is not PaceKind.IN_STEP or store in pace.apart:
        return []
    counted = (one for one in others if one.store not in (store, *pace.apart) and one.phase not in NOT_COUNTED)
    return [one.told() for one in counted if ladder.stage_of(one.share) + 1 < stage]


def holds_launch(pace: Pace, store: str, others: Sequence[Beside], lead_unsteady: Sequence[str]) -> list[str]:
    """What a store waits for before it is launched after the one that leads. ``lead_unsteady``: what that one's steadiness lacks."""
    if pace.kind is not PaceKind.LEAD or store == pace.lead or store in pace.apart:
        return []
    lead = next((one for one in others if one.store == pace.lead), None)
    if lead is None:
        return [f"{pace.lead} to lead; it is not in this release"]
    if lead.share < pace.share or lead.phase not in _GOING:
        return [f"{lead.title} to hold {percent(pace.share)} (now: {lead.phase}, {percent(lead.share)})"]
    return [f"{lead.title}, which leads: {lack}" for lack in lead_unsteady]


_GOING = frozenset({LegPhase.RISING, LegPhase.COMPLETE})
