"""Who is asking: a bearer token or a console session, as FastAPI dependencies."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Request
from fastapi.security import APIKeyCookie, HTTPBearer
from fastapi.security.http import HTTPAuthorizationCredentials

from restless_tide.core.errors import Unauthenticated
from restless_tide.desk import people
from restless_tide.desk.desk import Desk
from restless_tide.records.tables import Person

SESSION_COOKIE = "tide_session"
_bearer = HTTPBearer(auto_error=False, scheme_name="token", description="made with: tide token add")
_cookie = APIKeyCookie(name=SESSION_COOKIE, auto_error=False, scheme_name="session")


def the_desk(request: Request) -> Desk:
    desk = request.app.state.desk
    assert isinstance(desk, Desk)
    return desk


TheDesk = Annotated[Desk, Depends(the_desk)]


def signed_in(
    desk: TheDesk,
    bearer: Annotated[HTTPAuthorizationCredentials | None, Depends(_bearer)],
    session: Annotated[str | None, Depends(_cookie)],
) -> Person:
    """The person who asks. Raises Unauthenticated."""
    if bearer is not None:
        return people.whose_token(desk, bearer.credentials)
    if session:
        return people.whose_session(desk, session)
    raise Unauthenticated("Nobody is signed in.", remedy="Sign in, or send a token: Authorization: Bearer tide_…")


SignedIn = Annotated[Person, Depends(signed_in)]
