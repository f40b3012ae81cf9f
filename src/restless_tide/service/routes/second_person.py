"""Acts that wait for a second person: agreed to, or dropped."""

from __future__ import annotations

from restless_tide.core.rights import Reach, Right
from restless_tide.desk import people
from restless_tide.desk import second_person as waiting
from restless_tide.service import second_person, shown
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import Reached, SignedIn, TheDesk
from restless_tide.wire.apps import AppTold
from restless_tide.wire.second_person import DropWanted, SecondPersonWanted, WaitingActTold

router = router_of("second-person", "/v1")


@router.put("/apps/{app}/second-person")
@needs(Right.MANAGE_PEOPLE)
def set_rule(app: str, wanted: SecondPersonWanted, desk: TheDesk, person: SignedIn) -> AppTold:
    """Have what brings releases of an app to people wait for a second person, or no longer. Halts and pauses never wait."""
    with desk.act(person.id) as act:
        return shown.app(act.session, waiting.set_rule(act, app, wanted.demanded))


@router.get("/proposals")
@needs(Right.SEE, Reach.SOME)
def every(desk: TheDesk, person: SignedIn, reach: Reached) -> list[WaitingActTold]:
    """What waits for a second person in the apps that you reach, the oldest first."""
    with desk.look() as session:
        rows = [row for row in waiting.waiting(session, desk.clock.now()) if reach is None or row.app.name in reach]
        names = people.names(session, {row.asked_by for row in rows})
        return [
            WaitingActTold.of(
                row, app=row.app.name, asked_by=names.get(row.asked_by, row.asked_by), mine=row.asked_by == person.id
            )
            for row in rows
        ]


@router.post("/proposals/{proposal}/agreement", status_code=204)
@needs(Right.STEER)
def agree(proposal: str, desk: TheDesk, person: SignedIn) -> None:
    """Agree as the second person; it is done with that."""
    second_person.agree(desk, person.id, proposal)


@router.post("/proposals/{proposal}/drop", status_code=204)
@needs(Right.STEER)
def drop(proposal: str, wanted: DropWanted, desk: TheDesk, person: SignedIn) -> None:
    """Drop what was asked; it is not done."""
    with desk.act(person.id) as act:
        waiting.drop(act, proposal, wanted.reason)
