"""One's own account: signing in and out, password, second factor, sessions and tokens."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from html import escape
from typing import Annotated, TypeVar
from urllib.parse import urlencode

import segno
from fastapi import Path, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import HTMLResponse, RedirectResponse
from sqlalchemy.orm import Session

from restless_tide.core.errors import Denied, NotFound, TooOften, Unauthenticated
from restless_tide.core.rights import Reach, Right
from restless_tide.desk import passwords, people, second_factor, sessions, tokens
from restless_tide.desk.desk import Desk
from restless_tide.desk.sessions import Asker
from restless_tide.records.tables import PersonalLink, SignIn
from restless_tide.service import shown_people
from restless_tide.service.brake import Brake, SignInBrake
from restless_tide.service.provider import COOKIE as PROVIDER_COOKIE
from restless_tide.service.provider import LIFE_SECONDS as PROVIDER_SECONDS
from restless_tide.service.provider import Provider, ProviderAway
from restless_tide.service.rights import needs, open_to_anyone
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import SignedIn, TheAsker, TheDesk, WhoAsks, session_cookie
from restless_tide.service.threads import hashing, threads_of
from restless_tide.wire.people import (
    ChosenWanted,
    CodeWanted,
    EndedTold,
    LinkTold,
    MeTold,
    PasswordWanted,
    PersonChange,
    PersonTold,
    ProofWanted,
    RecoveryTold,
    ResetWanted,
    SessionTold,
    SetupTold,
    SignInWanted,
    TokenMade,
    TokenTold,
    TokenWanted,
    WayInTold,
)

Answer = TypeVar("Answer")
router = router_of("account", "/v1")
_LONGEST_LINK = 100
PROVIDER_PATH = "/v1/sign-in/provider"
LinkCode = Annotated[str, Path(max_length=_LONGEST_LINK, description="of the link in the mail")]
_PAUSE = "Wait ten minutes and try again; whoever is signed in can continue to work, and every token stays valid."


def own_place(path: str) -> bool:
    """Whether a path is one of this console, never an address elsewhere."""
    return path.startswith("/") and not path.startswith(("//", "/\\"))


def _place(request: Request) -> str:
    return request.client.host if request.client else ""


def _brake(request: Request) -> SignInBrake:
    brake = request.app.state.sign_in_brake
    assert isinstance(brake, SignInBrake)
    return brake


def _demand_calm(request: Request, what: str) -> str:
    """Hold one place that guesses what is behind links, or floods; no one else is held with it. Returns what to count it by.
    Raises TooOften."""
    place = f"{what} {_place(request)}"
    if _by_place(request).over(place):
        raise TooOften("Too many attempts came from where you are.", remedy="Wait ten minutes and try again.")
    return place


def _by_place(request: Request) -> Brake:
    brake = request.app.state.brake
    assert isinstance(brake, Brake)
    return brake


def _demand_patience(request: Request, account: str) -> None:
    """Hold whoever guesses, and everybody while too many passwords are being checked. Raises TooOften."""
    if _brake(request).holds(account, _place(request)) or threads_of(request).sign_in_is_busy:
        raise TooOften("Too many sign-ins failed, or too many are under way.", remedy=_PAUSE)


@router.post("/sign-in")
@open_to_anyone
async def sign_in(wanted: SignInWanted, request: Request, desk: TheDesk, response: Response) -> PersonTold:
    """Begin a console session; its secret travels in a cookie that scripts cannot read."""
    account, place = wanted.email.strip().lower(), _place(request)
    _demand_patience(request, account)
    agent = request.headers.get("user-agent", "")

    def begin() -> tuple[PersonTold, str]:
        person, secret = sessions.sign_in(desk, wanted.email, wanted.password, wanted.code, agent=agent, place=place)
        return shown_people.person(person, address=True), secret

    try:
        person, secret = await hashing(request, begin)
    except Unauthenticated as wrong:
        if wrong.code != "second-factor-needed":
            _brake(request).failed(account, place)
        raise
    session_cookie(response, desk, secret)
    return person


@router.get("/sign-in/ways")
@open_to_anyone
def ways(desk: TheDesk) -> WayInTold:
    """How people sign in here besides by password."""
    known = bool(desk.settings.oidc_issuer)
    return WayInTold(
        provider=desk.settings.oidc_name if known else None, provider_address=PROVIDER_PATH if known else None
    )


def _provider(request: Request) -> Provider:
    found = request.app.state.provider
    if not isinstance(found, Provider):
        raise NotFound("People sign in by password here.", code="provider-unknown")
    return found


@router.get("/sign-in/provider", status_code=303, response_class=RedirectResponse)
@open_to_anyone
def to_provider(
    request: Request, desk: TheDesk, following: Annotated[str, Query(alias="next", max_length=500)] = "/"
) -> Response:
    """Go to the company's identity provider."""
    _demand_calm(request, "provider")
    address, cookie = _provider(request).begin(following if own_place(following) else "/")
    answer = RedirectResponse(address, 303)
    answer.set_cookie(
        PROVIDER_COOKIE,
        cookie,
        max_age=PROVIDER_SECONDS,
        path=PROVIDER_PATH,
        httponly=True,
        samesite="lax",  # it has to come along when the provider sends the person back
        secure=desk.settings.address.startswith("https"),
    )
    return answer


@router.get("/sign-in/provider/back", status_code=303, response_class=RedirectResponse)
@open_to_anyone
def from_provider(
    request: Request,
    desk: TheDesk,
    state: Annotated[str, Query(max_length=500)] = "",
    code: Annotated[str, Query(max_length=4000)] = "",
) -> Response:
    """Come back from the identity provider; what went wrong stands on the sign-in page."""
    counted, place = _demand_calm(request, "provider"), _place(request)
    try:
        secret, following = _provider(request).finish(
            request.cookies.get(PROVIDER_COOKIE, ""),
            state,
            code,
            agent=request.headers.get("user-agent", ""),
            place=place,
        )
    except (Unauthenticated, ProviderAway) as wrong:
        if wrong.code == "provider-refused":
            _by_place(request).count(counted)
        answer: Response = RedirectResponse(f"/sign-in?{urlencode({'wrong': wrong.detail})}", 303)
    else:
        # the cookie of the session is strict: a page of ours has to ask for the next one
        answer = HTMLResponse(f'<!doctype html><meta http-equiv="refresh" content="0;url={escape(following)}">')
        session_cookie(answer, desk, secret)
    answer.delete_cookie(PROVIDER_COOKIE, path=PROVIDER_PATH)
    return answer


@router.post("/sign-out", status_code=204)
@needs(Right.WHO, Reach.SOME)
def sign_out(request: Request, desk: TheDesk, who: WhoAsks, person: SignedIn, response: Response) -> None:
    """End the console session that asks; a token that asks is revoked."""
    asker = who.asker()
    with desk.act(person.id) as act:
        if asker.token is not None:
            tokens.revoke(act, asker.token.id)
        elif who.session_secret:
            sessions.sign_out(act, who.session_secret)
    session_cookie(response, desk, None)


@router.get("/me")
@needs(Right.WHO, Reach.SOME)
def me(asker: TheAsker) -> MeTold:
    """Who asks, and what they may do by this session or token."""
    return shown_people.me(asker)


@router.patch("/me")
@needs(Right.ACCOUNT, Reach.SOME)
def rename(wanted: PersonChange, desk: TheDesk, who: WhoAsks, person: SignedIn) -> MeTold:
    """Correct your own name."""
    with desk.act(person.id) as act:
        people.rename(act, person.id, wanted.name)
    return shown_people.me(who.asker())


def _session_of(asker: Asker) -> SignIn:
    """The session of a person who is signed in. Raises Denied for a token: who holds one must not take the account over."""
    if asker.session is None:
        raise Denied(
            "That takes a person who is signed in, not a token.", remedy="Sign in at the console.", code="token-limited"
        )
    return asker.session


async def _proven(request: Request, asker: Asker, work: Callable[[], Answer]) -> Answer:
    """Do what the password is asked for once more; who guesses it is held like at the sign-in."""
    account = asker.person.email
    _demand_patience(request, account)
    try:
        return await hashing(request, work)
    except Unauthenticated:
        _brake(request).failed(account, _place(request))
        raise


@router.put("/me/password", status_code=204)
@needs(Right.ACCOUNT, Reach.SOME)
async def change_password(wanted: PasswordWanted, request: Request, desk: TheDesk, asker: TheAsker) -> None:
    """Change your password; your other sessions end, your tokens stay."""
    kept = _session_of(asker).token_digest
    await _proven(request, asker, lambda: passwords.change(desk, asker.person, wanted.current, wanted.new, kept))


@router.post("/me/second-factor", status_code=201)
@needs(Right.WHO, Reach.SOME)
async def begin_factor(wanted: ProofWanted, request: Request, desk: TheDesk, asker: TheAsker) -> SetupTold:
    """Begin to set up a second factor: what your authenticator is told. It is in force once a code of it was given."""
    _session_of(asker)

    def begin() -> second_factor.Setup:
        passwords.demand(asker.person, wanted.password)
        return second_factor.begin(desk, asker.person.id)

    setup = await _proven(request, asker, begin)
    picture = segno.make_qr(setup.address).svg_data_uri(scale=5)
    return SetupTold(secret=setup.secret, address=setup.address, picture=picture)


@router.put("/me/second-factor")
@needs(Right.WHO, Reach.SOME)
def confirm_factor(wanted: CodeWanted, desk: TheDesk, asker: TheAsker) -> RecoveryTold:
    """Put the second factor into force by a code of it; your other sessions end. The recovery codes are shown this once."""
    return RecoveryTold(codes=second_factor.confirm(desk, asker.person.id, wanted.code, _session_of(asker).id))


@router.post("/me/second-factor/removal", status_code=204)
@needs(Right.ACCOUNT, Reach.SOME)
async def drop_factor(wanted: ProofWanted, request: Request, desk: TheDesk, asker: TheAsker) -> None:
    """Drop your second factor; refused while the desk demands one."""
    _session_of(asker)

    def drop() -> None:
        passwords.demand(asker.person, wanted.password)
        second_factor.drop_own(desk, asker.person.id)

    await _proven(request, asker, drop)


@router.get("/me/sessions")
@needs(Right.ACCOUNT, Reach.SOME)
def own_sessions(desk: TheDesk, asker: TheAsker) -> list[SessionTold]:
    """Your console sessions, the newest first."""
    with desk.look() as session:
        return [shown_people.session(row, asker) for row in sessions.running(session, asker.person.id, desk)]


@router.delete("/me/sessions/{session_id}", status_code=204)
@needs(Right.ACCOUNT, Reach.SOME)
def end_session(session_id: str, desk: TheDesk, person: SignedIn) -> None:
    """End one of your sessions at once."""
    with desk.act(person.id) as act:
        sessions.end(act, session_id)


@router.post("/me/endings")
@needs(Right.ACCOUNT, Reach.SOME)
def end_others(desk: TheDesk, asker: TheAsker) -> EndedTold:
    """End all your sessions but the one that asks; your tokens stay."""
    with desk.act(asker.person.id) as act:
        return EndedTold(sessions=sessions.end_others(act, asker.session), tokens=0)


@router.post("/password-resets", status_code=202)
@open_to_anyone
async def reset(wanted: ResetWanted, request: Request, desk: TheDesk) -> None:
    """Mail a link for a new password, if someone here has this address; the answer is the same if not."""
    _by_place(request).count(_demand_calm(request, "reset"))
    await run_in_threadpool(passwords.reset, desk, wanted.email)


@router.get("/personal-links/{code}")
@open_to_anyone
def link(code: LinkCode, desk: TheDesk, request: Request) -> LinkTold:
    """What a link from a mail is for."""
    with desk.look() as session:
        row = _link_of(request, session, desk, code)
        return LinkTold(
            kind=row.kind,
            name=row.person.name,
            expires_at=row.expires_at,
            shortest_password=passwords.SHORTEST_PASSWORD,
        )


def _link_of(request: Request, session: Session, desk: Desk, code: str) -> PersonalLink:
    """The link with a code; whoever guesses is held. Raises NotFound, TooOften."""
    counted = _demand_calm(request, "links")
    try:
        return passwords.by_code(session, desk, code)
    except NotFound:
        _by_place(request).count(counted)
        raise


@router.post("/personal-links/{code}", status_code=204)
@open_to_anyone
async def choose(code: LinkCode, wanted: ChosenWanted, desk: TheDesk, request: Request) -> None:
    """Choose a password by a link; it works once."""

    def known() -> None:
        with desk.look() as session:
            _link_of(request, session, desk, code)

    await run_in_threadpool(known)  # before a password is hashed for nothing
    await hashing(request, lambda: passwords.choose(desk, code, wanted.password))


@router.get("/tokens")
@needs(Right.ACCOUNT, Reach.SOME)
def own_tokens(desk: TheDesk, person: SignedIn) -> list[TokenTold]:
    """Your own tokens."""
    with desk.look() as session:
        return [shown_people.token(row) for row in tokens.of_person(session, person.id)]


@router.post("/tokens", status_code=201)
@needs(Right.ACCOUNT, Reach.SOME)
def make_token(wanted: TokenWanted, desk: TheDesk, asker: TheAsker) -> TokenMade:
    """Make a token; its value is in this answer and nowhere else. One that a token makes ends with it."""
    life = timedelta(days=wanted.days) if wanted.days else None
    with desk.act(asker.person.id) as act:
        token, value = tokens.make(
            act,
            wanted.label,
            asker.standing,
            life=life,
            role=wanted.role,
            apps=wanted.apps,
            parent=asker.token.id if asker.token is not None else None,
        )
        return TokenMade(token=shown_people.token(token), value=value)


@router.delete("/tokens/{token_id}")
@needs(Right.ACCOUNT, Reach.SOME)
def revoke_token(token_id: str, desk: TheDesk, asker: TheAsker) -> TokenTold:
    """Revoke a token at once, with those that it made. Who manages people may revoke anyone's."""
    of_anyone = asker.standing.everywhere(Right.MANAGE_PEOPLE)
    with desk.act(asker.person.id) as act:
        return shown_people.token(tokens.revoke(act, token_id, of_anyone=of_anyone))
