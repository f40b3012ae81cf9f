"""A step: what a person does at a store by hand, in place of a call to its gateway.

An order to a hand-carried store becomes one step, with what to do, the files and texts to take, and
what to look for. A step that only watches for what the store says (the end of processing, a verdict)
has the store's possible words as its outcomes. A step confirmed by mistake may be undone as long as
nothing followed from it.
"""

from __future__ import annotations

from enum import StrEnum

from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.machine import Machine
from restless_tide.core.round import RoundState


class StepState(StrEnum):
    WAITING = "waiting"
    CONFIRMED = "confirmed"
    REFUSED = "refused"
    DROPPED = "dropped"


class StepEvent(StrEnum):
    CONFIRM = "confirm"
    REFUSE = "refuse"
    UNDO = "undo"
    DROP = "drop"


S, E = StepState, StepEvent

STEP = Machine(
    noun="The step",
    initial=S.WAITING,
    table={
        (S.WAITING, E.CONFIRM): S.CONFIRMED,
        (S.WAITING, E.REFUSE): S.REFUSED,
        (S.WAITING, E.DROP): S.DROPPED,
        (S.CONFIRMED, E.UNDO): S.WAITING,
    },
)

DONE, REFUSED = "done", "refused"
OF_PROCESSING = (str(ConsignmentState.READY), str(ConsignmentState.REFUSED))
OF_REVIEW = (str(RoundState.APPROVED), str(RoundState.REJECTED))
"""The outcomes of steps: of one that does something, and of those that watch for the store's word."""
REFUSALS = frozenset({REFUSED, str(ConsignmentState.REFUSED), str(RoundState.REJECTED)})
"""With these the store's words are asked for."""

REMIND_AFTER_HOURS = (1.0, 8.0, 24.0)
"""When a waiting step is called to mind; after the last, once a day."""
REMIND_URGENT_AFTER_HOURS = (0.1, 0.5, 1.0)


def reminders_due(waited_hours: float, *, urgent: bool) -> int:
    """How many reminders a step that has waited so long should have had by now."""
    marks = REMIND_URGENT_AFTER_HOURS if urgent else REMIND_AFTER_HOURS
    early = sum(1 for mark in marks if waited_hours >= mark)
    return early + max(int((waited_hours - marks[-1]) // 24.0), 0) if early == len(marks) else early
