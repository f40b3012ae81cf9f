"""Matters: the reasons of refusals as work, and the standing checks that they teach."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from restless_tide.core.rights import Right
from restless_tide.desk import find, matters
from restless_tide.service import shown_matters
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.matters import (
    CheckTold,
    CheckWanted,
    MatterArranged,
    MatterDecision,
    MatterTold,
    NoteTold,
)
from restless_tide.wire.retiring import ReasonWanted

router = router_of("matters", "/v1/apps/{app}")


@router.get("/matters")
@needs(Right.SEE)
def every(
    app: str,
    desk: TheDesk,
    _: SignedIn,
    version: Annotated[str | None, Query(max_length=100, description="only of this release")] = None,
    settled: Annotated[bool, Query(description="those that are settled, too")] = False,
) -> list[MatterTold]:
    """The matters of an app, the newest refusal first."""
    with desk.look() as session:
        return shown_matters.matters_told(session, matters.of_app(session, app, version, every=settled))


@router.post("/matters/{matter}/decisions")
@needs(Right.PREPARE)
def decide(app: str, matter: str, wanted: MatterDecision, desk: TheDesk, person: SignedIn) -> MatterTold:
    """Say what was done about a matter: answered, fixed, disputed; or open it again."""
    with desk.act(person.id) as act:
        return shown_matters.matters_told(act.session, [matters.decide(act, app, matter, wanted.event, wanted.said)])[0]


@router.patch("/matters/{matter}")
@needs(Right.PREPARE)
def arrange(app: str, matter: str, wanted: MatterArranged, desk: TheDesk, person: SignedIn) -> MatterTold:
    """Who takes a matter, its ticket and its due day."""
    with desk.act(person.id) as act:
        row = matters.change(act, app, matter, matters.MatterChange(wanted.taken_by, wanted.ticket, wanted.due_on))
        return shown_matters.matters_told(act.session, [row])[0]


@router.get("/releases/{version}/legs/{store}/reviewer-note")
@needs(Right.SEE)
def note(app: str, version: str, store: str, desk: TheDesk, _: SignedIn) -> NoteTold:
    """What the next round would say to the reviewer, drafted from what was done about the matters."""
    with desk.look() as session:
        leg = find.leg(find.release(session, find.app(session, app), version), store)
        return NoteTold(text=matters.drafted_note(leg))


@router.get("/standing-checks")
@needs(Right.SEE)
def checks(
    app: str,
    desk: TheDesk,
    _: SignedIn,
    version: Annotated[str | None, Query(max_length=100, description="with what was ticked for this release")] = None,
) -> list[CheckTold]:
    """The standing checks of an app."""
    with desk.look() as session:
        return shown_matters.checks_told(session, app, version)


@router.post("/standing-checks", status_code=201)
@needs(Right.PREPARE)
def teach(app: str, wanted: CheckWanted, desk: TheDesk, person: SignedIn) -> CheckTold:
    """Make a standing check: it is looked at before every later hand-in of the app."""
    with desk.act(person.id) as act:
        return shown_matters.check_told(matters.teach(act, app, wanted.kind, wanted.text, wanted.matter))


@router.post("/standing-checks/{check}/end", status_code=204)
@needs(Right.PREPARE)
def end(app: str, check: str, wanted: ReasonWanted, desk: TheDesk, person: SignedIn) -> None:
    """End a standing check."""
    with desk.act(person.id) as act:
        matters.end_check(act, app, check, wanted.reason)


@router.post("/releases/{version}/standing-checks/{check}/tick")
@needs(Right.PREPARE)
def tick(app: str, version: str, check: str, desk: TheDesk, person: SignedIn) -> CheckTold:
    """Answer a check with yes for one release."""
    with desk.act(person.id) as act:
        return shown_matters.check_told(matters.tick(act, app, version, check), ticked=True)
