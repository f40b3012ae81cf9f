"""Signing in and out, and tokens."""

from __future__ import annotations

from datetime import timedelta

from fastapi import Request, Response

from restless_tide.core.errors import TooOften, Unauthenticated
from restless_tide.desk import people
from restless_tide.service import shown
from restless_tide.service.brake import SignInBrake
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import SESSION_COOKIE, SignedIn, TheDesk
from restless_tide.service.threads import hashing, threads_of
from restless_tide.wire.people import PersonTold, SignInWanted, TokenMade, TokenTold, TokenWanted

router = router_of("people", "/v1")


@router.post("/sign-in")
async def sign_in(wanted: SignInWanted, request: Request, desk: TheDesk, response: Response) -> PersonTold:
    """Begin a console session; its secret travels in a cookie that scripts cannot read."""
    brake, account = request.app.state.sign_in_brake, wanted.email.strip().lower()
    assert isinstance(brake, SignInBrake)
    place = request.client.host if request.client else ""
    if brake.holds(account, place) or threads_of(request).sign_in_is_busy:
        raise TooOften(
            "Too many sign-ins failed, or too many are under way.",
            remedy="Wait ten minutes and try again; whoever is signed in can continue to work, and every token stays valid.",
        )
    try:
        person, secret = await hashing(request, lambda: people.sign_in(desk, wanted.email, wanted.password))
    except Unauthenticated:
        brake.failed(account, place)
        raise
    response.set_cookie(
        SESSION_COOKIE,
        secret,
        max_age=int(people.SIGN_IN_LIFE.total_seconds()),
        httponly=True,
        samesite="strict",
        secure=desk.settings.address.startswith("https"),
    )
    return shown.person(person)


@router.post("/sign-out", status_code=204)
def sign_out(request: Request, desk: TheDesk, person: SignedIn, response: Response) -> None:
    secret = request.cookies.get(SESSION_COOKIE)
    if secret:
        with desk.act(person.id) as act:
            people.sign_out(act, secret)
    response.delete_cookie(SESSION_COOKIE, httponly=True, samesite="strict")


@router.get("/me")
def me(person: SignedIn) -> PersonTold:
    return shown.person(person)


@router.get("/people")
def every(desk: TheDesk, _: SignedIn) -> list[PersonTold]:
    """Everybody who works at this desk, by name."""
    with desk.look() as session:
        return [shown.person(row) for row in people.every(session)]


@router.get("/tokens")
def tokens(desk: TheDesk, person: SignedIn) -> list[TokenTold]:
    """Your own tokens."""
    with desk.look() as session:
        return [shown.token(row) for row in people.tokens(session, person.id)]


@router.post("/tokens", status_code=201)
def make_token(wanted: TokenWanted, desk: TheDesk, person: SignedIn) -> TokenMade:
    """Make a token; its value is in this answer and nowhere else."""
    life = timedelta(days=wanted.days) if wanted.days else None
    with desk.act(person.id) as act:
        token, value = people.make_token(act, wanted.label, life, wanted.apps)
        return TokenMade(token=shown.token(token), value=value)


@router.delete("/tokens/{token_id}")
def revoke_token(token_id: str, desk: TheDesk, person: SignedIn) -> TokenTold:
    with desk.act(person.id) as act:
        return shown.token(people.revoke_token(act, token_id))
