"""The tester's own page behind the personal link in the mail; the only pages that need no sign-in."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Form
from fastapi.responses import HTMLResponse, RedirectResponse, Response
from jinja2 import Environment, FileSystemLoader, StrictUndefined
from sqlalchemy.orm import Session

from restless_tide.core.errors import ImpossibleAct, NotFound
from restless_tide.core.invitation import INVITATION, InvitationEvent, InvitationState
from restless_tide.desk import trials
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import Invitation
from restless_tide.service.signed_in import TheDesk

router = APIRouter(prefix="/invitation", include_in_schema=False)

_PAGES = Environment(loader=FileSystemLoader(Path(__file__).parent.parent), undefined=StrictUndefined, autoescape=True)
_PRIVATE = {"Cache-Control": "no-store", "Referrer-Policy": "no-referrer"}
_EVENTS = {"accept": InvitationEvent.ACCEPT, "decline": InvitationEvent.DECLINE}
_SAID = {
    InvitationState.ACCEPTED: "You take part. Thank you!",
    InvitationState.INSTALLED: "You take part. Thank you!",
    InvitationState.DECLINED: "You do not take part. Nothing more will be sent.",
}


@router.get("/{code}")
def page(code: str, desk: TheDesk) -> HTMLResponse:
    with desk.look() as session:
        try:
            return _shown(session, trials.invitation_by_code(session, desk.seal, code))
        except NotFound as wrong:
            text = _PAGES.get_template("invitation.html").render(
                title=wrong.detail, detail=wrong.remedy, invitation=None
            )
            return HTMLResponse(text, 404, headers=_PRIVATE)


@router.post("/{code}")
def answer(code: str, desk: TheDesk, answer: Annotated[str, Form()]) -> Response:
    event = _EVENTS.get(answer)
    if event is not None:
        with suppress(ImpossibleAct, NotFound):  # the page shows what is so and what is possible
            trials.respond(desk, code, event)
    return RedirectResponse(f"/invitation/{code}", 303, headers=_PRIVATE)


def _shown(session: Session, invitation: Invitation) -> HTMLResponse:
    trial = invitation.trial
    app, build = trial.cohort.app, trial.consignment.build
    possible = INVITATION.possible(invitation.state)
    text = _PAGES.get_template("invitation.html").render(
        title=f"Try {app.title} {build.version}",
        invitation=invitation,
        app=app.title,
        build=build,
        notes=trial.notes,
        contact=trial.contact,
        store=rules_of(trial.consignment.berth.store).store,
        said=_SAID.get(invitation.state),
        tester=invitation.tester.name or invitation.tester.email,
        can_accept=InvitationEvent.ACCEPT in possible,
        can_decline=InvitationEvent.DECLINE in possible,
    )
    return HTMLResponse(text, headers=_PRIVATE)
