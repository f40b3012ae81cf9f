"""Steps that people carry by hand."""

from __future__ import annotations

from typing import Literal

from restless_tide.core.rights import Reach, Right
from restless_tide.desk import steps
from restless_tide.service import shown
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import Reached, SignedIn, TheDesk
from restless_tide.wire.steps import OutcomeWanted, StepTold, UndoWanted

router = router_of("steps", "/v1/steps")


@router.get("")
@needs(Right.SEE, Reach.SOME)
def every(desk: TheDesk, reach: Reached, state: Literal["waiting", "settled"] = "waiting") -> list[StepTold]:
    """What waits for a person, the urgent first; or what was settled lately."""
    with desk.look() as session:
        found = steps.waiting(session) if state == "waiting" else steps.settled(session)
        return [shown.step(session, row) for row in found if reach is None or row.app in reach]


@router.get("/{step}")
@needs(Right.SEE)
def one(step: str, desk: TheDesk, _: SignedIn) -> StepTold:
    with desk.look() as session:
        return shown.step(session, steps.find(session, step))


@router.post("/{step}/outcome")
@needs(Right.STEER)
def settle(step: str, wanted: OutcomeWanted, desk: TheDesk, person: SignedIn) -> StepTold:
    """Say what came of a step: done, or what the store said instead."""
    with desk.act(person.id) as act:
        return shown.step(act.session, steps.settle(act, step, wanted.outcome, wanted.said))


@router.post("/{step}/undo")
@needs(Right.STEER)
def undo(step: str, wanted: UndoWanted, desk: TheDesk, person: SignedIn) -> StepTold:
    """Take a confirmation back that was a mistake."""
    with desk.act(person.id) as act:
        return shown.step(act.session, steps.undo(act, step, wanted.reason))
