"""Signing in and out, and tokens."""

from __future__ import annotations

from datetime import timedelta

from fastapi import APIRouter, Request, Response

from restless_tide.desk import people
from restless_tide.service import shown
from restless_tide.service.signed_in import SESSION_COOKIE, SignedIn, TheDesk
from restless_tide.wire.people import PersonTold, SignInWanted, TokenMade, TokenTold, TokenWanted

router = APIRouter(prefix="/v1", tags=["people"])


@router.post("/sign-in")
def sign_in(wanted: SignInWanted, desk: TheDesk, response: Response) -> PersonTold:
    """Begin a console session; its secret travels in a cookie that scripts cannot read."""
    person, secret = people.sign_in(desk, wanted.email, wanted.password)
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
