"""The pages that need no sign-in: a tester's own, behind the personal link in the mail, and the one to join by."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import Annotated, Any

from fastapi import Depends, File, Form, Request, UploadFile
from fastapi.responses import HTMLResponse, RedirectResponse, Response
from jinja2 import Environment, FileSystemLoader, StrictUndefined
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Invalid, NotFound, TideError
from restless_tide.core.invitation import INVITATION, TAKES_PART, InvitationEvent, InvitationState
from restless_tide.core.report import ReportKind, ReportState
from restless_tide.core.testers import PLATFORMS
from restless_tide.core.trial import TrialState
from restless_tide.desk import inbox, invitations, joining, pictures, reports, trials
from restless_tide.desk.desk import Desk
from restless_tide.desk.reports import Filing
from restless_tide.desk.stores import rules_of
from restless_tide.desk.words import accepted_languages, language_of, steps_for, text_for, words
from restless_tide.records.tables import FieldReport, Invitation, Trial
from restless_tide.service.brake import WINDOW_SECONDS, Brake
from restless_tide.service.rights import open_to_anyone
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import TheDesk

_PAGES = Environment(
    loader=FileSystemLoader(Path(__file__).parent.parent / "pages"), undefined=StrictUndefined, autoescape=True
)
_HEADERS = {
    "Cache-Control": "no-store",
    "Referrer-Policy": "no-referrer",
    "X-Content-Type-Options": "nosniff",
    "Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'; img-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'",
}
_EVENTS = {"accept": InvitationEvent.ACCEPT, "decline": InvitationEvent.DECLINE}
_TOLD_STATE = {
    ReportState.NEW: "new",
    ReportState.ACCEPTED: "taken",
    ReportState.DUPLICATE: "same",
    ReportState.FIXED: "fixed",
    ReportState.CLOSED: "closed",
}


class PageTooOften(Exception):
    """Someone asks for a page too often; the answer is a page in the visitor's language."""


def braked(request: Request, desk: TheDesk) -> None:
    """Hold whoever asks too often; guessing links and flooding others with mail lead nowhere."""
    brake = request.app.state.brake
    assert isinstance(brake, Brake)
    if brake.holds(request.client.host if request.client else ""):
        raise PageTooOften


router = router_of("invitation", in_schema=False)
Braked = Depends(braked)


def _wanted(request: Request) -> list[str]:
    return accepted_languages(request.headers.get("accept-language", ""))


async def too_often(request: Request, _: Exception) -> Response:
    said = words(language_of(_wanted(request)))["page"]
    return _said(request, said["too_many"], said["too_many_help"], 429, {"Retry-After": f"{WINDOW_SECONDS:.0f}"})


def _said(
    request: Request, title: str, detail: str, status: int, headers: Mapping[str, str] | None = None
) -> HTMLResponse:
    text = _PAGES.get_template("said.html").render(title=title, detail=detail, language=language_of(_wanted(request)))
    return HTMLResponse(text, status, headers=_HEADERS | dict(headers or {}))


def _unknown(request: Request) -> HTMLResponse:
    """A link that is not valid; whoever guesses is slowed down."""
    brake = request.app.state.brake
    if brake.holds(f"guess {request.client.host if request.client else ''}"):
        raise PageTooOften
    said = words(language_of(_wanted(request)))["page"]
    return _said(request, said["invalid"], said["invalid_help"], 404)


@router.get("/invitation/{code}")
@open_to_anyone
def page(code: str, request: Request, desk: TheDesk, said: str = "") -> HTMLResponse:
    return _page(code, request, desk, said=said)


def _page(
    code: str,
    request: Request,
    desk: Desk,
    *,
    said: str = "",
    wrong: str = "",
    draft: Mapping[str, str] | None = None,
    status: int = 200,
) -> HTMLResponse:
    with desk.look() as session:
        try:
            invitation = invitations.by_code(session, desk.seal, code)
        except NotFound:
            return _unknown(request)
        text = _PAGES.get_template("invitation.html").render(
            _content(session, desk, invitation, code, _wanted(request), said=said, wrong=wrong, draft=draft or {})
        )
        return HTMLResponse(text, status, headers=_HEADERS)


@router.post("/invitation/{code}")
@open_to_anyone
def answer(code: str, request: Request, desk: TheDesk, answer: Annotated[str, Form()]) -> Response:
    event = _EVENTS.get(answer)
    wrong = ""
    if event is not None:
        try:
            invitations.respond(desk, code, event)
        except NotFound:
            return _unknown(request)
        except Conflict as refused:
            wrong = refused.code
    if wrong == "seats-exhausted":
        return _page(code, request, desk, wrong="no_seat", status=409)
    return RedirectResponse(f"/invitation/{code}", 303, headers=_HEADERS)


@router.post("/invitation/{code}/unsubscribe")
@open_to_anyone
def unsubscribe(code: str, request: Request, desk: TheDesk) -> Response:
    """One click in the mail program (RFC 8058)."""
    try:
        invitations.respond(desk, code, InvitationEvent.DECLINE)
    except NotFound:
        return _unknown(request)
    except TideError:
        pass
    said = words(language_of(_wanted(request)))["page"]
    return _said(request, said["unsubscribed"], "", 200)


@router.get("/invitation/{code}/unsubscribe")
@open_to_anyone
def ask_to_unsubscribe(code: str) -> Response:
    """A link must do nothing by being looked at; the page has the button."""
    return RedirectResponse(f"/invitation/{code}", 303, headers=_HEADERS)


@router.post("/invitation/{code}/remarks", dependencies=[Braked])
@open_to_anyone
def remark(
    code: str,
    request: Request,
    desk: TheDesk,
    text: Annotated[str, Form()] = "",
    device: Annotated[str, Form()] = "",
    system: Annotated[str, Form()] = "",
    picture: Annotated[UploadFile | None, File()] = None,
) -> Response:
    """A remark with a picture, beside the build it is about; also when that build has expired."""
    draft = {"text": text, "device": device, "system": system}
    with desk.look() as session:
        try:
            invitation = invitations.by_code(session, desk.seal, code)
        except NotFound:
            return _unknown(request)
        tester_id, invitation_id = invitation.tester_id, invitation.id
    try:
        content = picture.file.read(pictures.LARGEST_BYTES + 1) if picture is not None and picture.filename else b""
        drawn = [pictures.draw_anew(content)] if content else []
        with desk.act(f"tester:{tester_id}") as act:
            row = invitations.needed(act.session, invitation_id)
            trial = row.trial
            filing = Filing(
                ReportKind.REMARK,
                text=text,
                device=device or row.device,
                system=system or row.system,
                language=language_of([*row.tester.languages, *_wanted(request)]),
                drawn=drawn,
                source="page",
            )
            reports.file(
                desk, act, trial.cohort.app, filing, build=trial.consignment.build, trial=trial, tester=row.tester
            )
    except TideError as refused:
        return _page(code, request, desk, wrong=f"{refused.detail} {refused.remedy}".strip(), draft=draft, status=422)
    return RedirectResponse(f"/invitation/{code}?said=thanks#tell", 303, headers=_HEADERS)


@router.post("/invitation/{code}/words", dependencies=[Braked])
@open_to_anyone
def write_back(
    code: str, request: Request, desk: TheDesk, report: Annotated[str, Form()], text: Annotated[str, Form()]
) -> Response:
    """The tester answers the team's answer."""
    with desk.look() as session:
        try:
            tester_id = invitations.by_code(session, desk.seal, code).tester_id
        except NotFound:
            return _unknown(request)
    with desk.act(f"tester:{tester_id}") as act:
        reports.answered_by(act, report, tester_id, text)
    return RedirectResponse(f"/invitation/{code}?said=thanks", 303, headers=_HEADERS)


def _content(
    session: Session,
    desk: Desk,
    invitation: Invitation,
    code: str,
    wanted: list[str],
    *,
    said: str,
    wrong: str,
    draft: Mapping[str, str],
) -> dict[str, Any]:
    trial, tester = invitation.trial, invitation.tester
    app, build = trial.cohort.app, trial.consignment.build
    dear = [*wanted, *tester.languages]
    language = language_of(dear)
    named: dict[str, object] = {
        "app": app.title,
        "version": build.version,
        "number": build.number,
        "store": rules_of(trial.consignment.berth.store).store,
        "name": tester.name or tester.email,
        "contact": trial.contact,
        "device": invitation.device,
        "page": trial.store_page or "",
        "where": trial.remarks_to,
        "day": _day(trials.expires_at(trial)),
        "fixed": "{fixed}",
    }
    p = {name: text.format(**named) for name, text in words(language)["page"].items()}
    m = {name: text.format(**named) for name, text in words(language)["mail"].items()}
    possible = INVITATION.possible(invitation.state)
    takes_part = invitation.state in TAKES_PART
    running = trial.state is TrialState.OPEN
    notes = [p["thanks"]] if said == "thanks" else []
    notes += [p[key] for key in _notes(invitation, trial)]
    newest = invitations.newer(session, invitation)
    newer = f"/invitation/{invitations.personal_code(desk.seal, newest)}" if newest else None
    return {
        "title": p["title"],
        "language": language,
        "p": p,
        "m": m,
        "here": f"/invitation/{code}",
        "notes": [*notes, *([p["newer"]] if newer else [])],
        "wrong": p.get(wrong, wrong),
        "newer": newer,
        "running": running,
        "brief": text_for(trial.brief, dear),
        "steps": steps_for(build.platform, language, named, has_page=False)
        if running and not _left(invitation)
        else [],
        "store_page": trial.store_page,
        "until": p["until"] if trials.expires_at(trial) else "",
        "takes_part": takes_part,
        "declined": invitation.state is InvitationState.DECLINED,
        "can_accept": running and InvitationEvent.ACCEPT in possible,
        "can_decline": InvitationEvent.DECLINE in possible,
        "can_leave": takes_part,
        "draft": {name: draft.get(name, "") for name in ("text", "device", "system")}
        | ({} if draft else {"device": invitation.device, "system": invitation.system}),
        "reports": [_told(report, p) for report in inbox.of_tester(session, invitation.tester_id, app.id)],
    }


def _left(invitation: Invitation) -> bool:
    return invitation.state in (InvitationState.DECLINED, InvitationState.REMOVED)


def _notes(invitation: Invitation, trial: Trial) -> list[str]:
    """Which words say where the tester stands."""
    if _left(invitation):
        return [str(invitation.state)]
    if trial.state in (TrialState.CLOSED, TrialState.REPLACED, TrialState.EXPIRED):
        return ["over"]
    if trial.state is not TrialState.OPEN:
        return ["waiting"]
    if invitation.state is InvitationState.INSTALLED:
        return ["installed" if invitation.device else "installed_somewhere"]
    return ["accepted"] if invitation.state is InvitationState.ACCEPTED else []


def _told(report: FieldReport, p: Mapping[str, str]) -> dict[str, Any]:
    fixed = report.fixed_build.version if report.fixed_build else ""
    return {
        "id": report.id,
        "at": _day(report.at),
        "state": p[_TOLD_STATE[report.state]].format(fixed=fixed),
        "text": report.text or report.headline,
        "pictures": len(report.pictures),
        "words": [
            {"team": word.person_id is not None, "at": _day(word.at), "text": word.text} for word in report.words
        ],
        "answered": any(word.person_id for word in report.words),
    }


def _day(at: datetime | None) -> str:
    return f"{at:%Y-%m-%d}" if at else ""


# joining


@router.get("/join/{code}")
@open_to_anyone
def join_page(code: str, request: Request, desk: TheDesk, said: str = "") -> HTMLResponse:
    return _join_page(code, request, desk, done=said == "done")


def _join_page(
    code: str,
    request: Request,
    desk: Desk,
    *,
    done: bool = False,
    wrong: str = "",
    given: Mapping[str, str] | None = None,
    status: int = 200,
) -> HTMLResponse:
    language = language_of(_wanted(request))
    with desk.look() as session:
        try:
            cohort = joining.by_code(session, desk.seal, code)
        except NotFound:
            return _unknown(request)
        closed = joining.closed_because(session, cohort, desk.clock.now())
        j = {name: text.format(app=cohort.app.title) for name, text in words(language)["join"].items()}
        platforms = [row.platform for row in cohort.app.identifiers if row.platform in PLATFORMS]
    kept = {name: (given or {}).get(name, "") for name in ("address", "name", "platform")}
    text = _PAGES.get_template("join.html").render(
        title=j["title"], language=language, j=j, done=done, closed=closed is not None, wrong=j.get(wrong, wrong),
        given=kept, platforms=platforms,
    )  # fmt: skip
    return HTMLResponse(text, status, headers=_HEADERS)


@router.post("/join/{code}", dependencies=[Braked])
@open_to_anyone
def join(
    code: str,
    request: Request,
    desk: TheDesk,
    address: Annotated[str, Form()] = "",
    name: Annotated[str, Form()] = "",
    platform: Annotated[str, Form()] = "",
    consent: Annotated[str, Form()] = "",
) -> Response:
    """The answer is the same whether someone is in already or not."""
    given = {"address": address, "name": name, "platform": platform}
    if consent != "yes":
        return _join_page(code, request, desk, wrong="consent_missing", given=given, status=422)
    try:
        joining.join(desk, code, address, name, platform, language_of(_wanted(request)))
    except NotFound:
        return _unknown(request)
    except Conflict:
        return _join_page(code, request, desk, wrong="closed", given=given, status=409)
    except Invalid as refused:
        return _join_page(code, request, desk, wrong=refused.detail, given=given, status=422)
    return RedirectResponse(f"/join/{code}?said=done", 303, headers=_HEADERS)
