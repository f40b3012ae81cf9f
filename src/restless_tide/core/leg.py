"""Where a leg stands as a whole: its review and its rollout seen as one phase.

The phase is derived, never kept. It also says which build the last approval was for: an approval of
one build is no approval of another.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from restless_tide.core import rollout
from restless_tide.core.errors import ImpossibleAct
from restless_tide.core.rollout import RolloutState
from restless_tide.core.round import UNDER_REVIEW, RoundState


class LegPhase(StrEnum):
    DRAFT = "draft"
    UNDER_REVIEW = "under review"
    REJECTED = "rejected"
    RECALLED = "recalled"
    APPROVED = "approved"
    RISING = "rising"
    PAUSED = "paused"
    COMPLETE = "complete"
    HALTED = "halted"
    WITHDRAWN = "withdrawn"
    SUPERSEDED = "superseded"


class LegAct(StrEnum):
    """What a person may do with a leg besides steering its rollout."""

    SUBMIT = "submit"
    RECALL = "recall"
    CHANGE = "change"
    DROP = "drop"


LAUNCHED = frozenset(LegPhase(state.value) for state in RolloutState if state is not RolloutState.WAITING)
PART_WAY = frozenset(LegPhase(state.value) for state in rollout.PART_WAY)
STOPPED = frozenset(LegPhase(state.value) for state in rollout.STOPPED)
OPEN_TO_CHANGE = frozenset({LegPhase.DRAFT, LegPhase.REJECTED, LegPhase.RECALLED, LegPhase.APPROVED})
OPEN_TO_SUBMISSION = frozenset({LegPhase.DRAFT, LegPhase.REJECTED, LegPhase.RECALLED})


WAY = (LegPhase.DRAFT, LegPhase.UNDER_REVIEW, LegPhase.APPROVED, LegPhase.RISING, LegPhase.COMPLETE)
"""The phases that a leg comes through when nothing is in the way."""
ENDS = frozenset({LegPhase.REJECTED, LegPhase.RECALLED, LegPhase.HALTED, LegPhase.WITHDRAWN, LegPhase.SUPERSEDED})
"""From here it continues only when a person does something."""


def reached(phase: LegPhase, wanted: LegPhase) -> bool:
    """Whether a leg has come to a phase: it stands there, or further along the way."""
    on_the_way = LegPhase.RISING if phase is LegPhase.PAUSED else phase
    further = on_the_way in WAY and wanted in WAY and WAY.index(on_the_way) > WAY.index(wanted)
    return phase is wanted or further


def possible(phase: LegPhase, *, ever_sent: bool) -> list[LegAct]:
    """What a person may do now besides steering. ``ever_sent``: a store has been handed it once."""
    where = {
        LegAct.SUBMIT: OPEN_TO_SUBMISSION,
        LegAct.RECALL: frozenset({LegPhase.UNDER_REVIEW}),
        LegAct.CHANGE: OPEN_TO_CHANGE,
        LegAct.DROP: frozenset() if ever_sent else frozenset({LegPhase.DRAFT}),
    }
    return [act for act, phases in where.items() if phase in phases]


def when_notes_go(phase: LegPhase) -> str:
    """When notes that are written now reach the store."""
    if phase in OPEN_TO_SUBMISSION:
        return "They go along when it is handed in."
    if phase is LegPhase.UNDER_REVIEW:
        return "They go along only when it is recalled and handed in again."
    return "They go along only with the next release."


@dataclass(frozen=True, slots=True)
class LastRound:
    state: RoundState
    build: str


def phase_of(rollout: RolloutState, last: LastRound | None, build: str) -> LegPhase:
    """The phase of a leg that carries ``build``."""
    if rollout is not RolloutState.WAITING:
        return LegPhase(rollout.value)
    if last is None:
        return LegPhase.DRAFT
    if last.state in UNDER_REVIEW:
        return LegPhase.UNDER_REVIEW
    if last.state is RoundState.APPROVED and last.build != build:
        return LegPhase.DRAFT
    return LegPhase(last.state.value)


def demand_open_to_change(phase: LegPhase, what: str) -> None:
    """Raise ImpossibleAct when ``what`` of the leg can no longer be changed."""
    if phase not in OPEN_TO_CHANGE:
        hint = ["recall"] if phase is LegPhase.UNDER_REVIEW else ["draft a new release"]
        raise ImpossibleAct(f"The leg is {phase}; its {what} cannot be changed.", possible=hint)


def demand_open_to_submission(phase: LegPhase) -> None:
    """Raise ImpossibleAct when the leg cannot be handed to review now."""
    if phase not in OPEN_TO_SUBMISSION:
        raise ImpossibleAct(f"The leg is {phase}; it cannot be handed in.", possible=sorted(OPEN_TO_SUBMISSION))
