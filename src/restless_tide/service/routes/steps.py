"""Steps that people carry by hand."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import Query, Response

from restless_tide.core.rights import Reach, Right
from restless_tide.desk import steps
from restless_tide.service import shown
from restless_tide.service.paging import link_next
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import Reached, SignedIn, TheDesk
from restless_tide.wire.steps import OutcomeWanted, StepTold, UndoWanted

router = router_of("steps", "/v1/steps")


@router.get("")
@needs(Right.SEE, Reach.SOME)
def every(
    desk: TheDesk,
    reach: Reached,
    response: Response,
    state: Literal["waiting", "settled"] = "waiting",
    after: Annotated[str | None, Query(description="the id of the last settled step of the page before")] = None,
    limit: Annotated[int, Query(ge=1, le=500, description="settled steps at once")] = 100,
) -> list[StepTold]:
    """All that waits for a person, the urgent first; or what was settled, the newest first, a page at a time."""
    with desk.look() as session:
        if state == "waiting":
            return [shown.step(session, row) for row in steps.waiting(session) if reach is None or row.app in reach]
        rows = steps.settled(session, reach, after=after, limit=limit + 1)
        if len(rows) > limit:
            link_next(response, "/v1/steps", rows[limit - 1].id, state=state, limit=limit)
        return [shown.step(session, row) for row in rows[:limit]]


@router.get("/{step}")
@needs(Right.SEE)
def one(step: str, desk: TheDesk, _: SignedIn) -> StepTold:
    """One step: what to do, what to take, what to look for."""
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
