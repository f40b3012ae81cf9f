"""Who is asking: a bearer token or a console session, as FastAPI dependencies."""

from __future__ import annotations

import re
from typing import Annotated

from fastapi import Depends, Request
from fastapi.security import APIKeyCookie, HTTPBearer
from fastapi.security.http import HTTPAuthorizationCredentials

from restless_tide.core.errors import Denied, Unauthenticated
from restless_tide.desk import find, people
from restless_tide.desk.desk import Desk
from restless_tide.records.tables import Person

SESSION_COOKIE = "tide_session"
_FOR_BUILD_SERVERS = [
    (methods.split(), re.compile(pattern))
    for methods, pattern in (
        ("GET", r"/v1/me"),
        ("GET POST HEAD PATCH DELETE", r"/v1/uploads(/[^/]+)?"),
        ("HEAD", r"/v1/packages/[0-9a-f]{64}"),
        ("GET", r"/v1/apps/(?P<app>[^/]+)"),
        ("POST", r"/v1/apps/(?P<app>[^/]+)/checks"),
        ("GET", r"/v1/apps/(?P<app>[^/]+)/numbers"),
        ("GET POST", r"/v1/apps/(?P<app>[^/]+)/reservations"),
        ("GET POST", r"/v1/apps/(?P<app>[^/]+)/builds"),
        ("GET", r"/v1/apps/(?P<app>[^/]+)/locker/[^/]+/content"),
        ("GET", r"/v1/apps/(?P<app>[^/]+)/cohorts"),
        ("POST", r"/v1/apps/(?P<app>[^/]+)/(trials|trial-sheets|reports)"),
        ("GET POST", r"/v1/builds/(?P<build>[^/]+)/symbols"),
        ("GET", r"/v1/builds/(?P<build>[^/]+)"),
        ("POST", r"/v1/builds/(?P<build>[^/]+)/consignments"),
        ("GET", r"/v1/consignments/(?P<consignment>[^/]+)"),
        ("GET", r"/v1/trials/(?P<trial>[^/]+)"),
    )
]
_bearer = HTTPBearer(auto_error=False, scheme_name="token", description="made with: tide token add")
_cookie = APIKeyCookie(name=SESSION_COOKIE, auto_error=False, scheme_name="session")


def the_desk(request: Request) -> Desk:
    desk = request.app.state.desk
    assert isinstance(desk, Desk)
    return desk


TheDesk = Annotated[Desk, Depends(the_desk)]


def demand_within(desk: Desk, apps: list[str], method: str, path: str) -> None:
    """Hold a build server's token to what builds of its apps need. Raises Denied for all else.

    What is not named here is not reached, so a new route is closed to such a token until somebody opens it.
    """
    allowed = False
    for methods, pattern in _FOR_BUILD_SERVERS:
        found = pattern.fullmatch(path)
        if found is None or method not in methods:
            continue
        named = found.groupdict()
        app = named.get("app")
        with desk.look() as session:
            if "build" in named:
                app = find.build(session, named["build"]).app.name
            elif "consignment" in named:
                app = find.consignment(session, named["consignment"]).build.app.name
            elif "trial" in named:
                app = find.trial(session, named["trial"]).cohort.app.name
        allowed = app is None or app in apps
    if not allowed:
        raise Denied(
            f"This token is a build server's, for {', '.join(apps)}; it does not reach that.",
            remedy="Use a token of a person, or one for this app.",
            code="token-limited",
        )


def signed_in(
    request: Request,
    desk: TheDesk,
    bearer: Annotated[HTTPAuthorizationCredentials | None, Depends(_bearer)],
    session: Annotated[str | None, Depends(_cookie)],
) -> Person:
    """The person who asks. Raises Unauthenticated."""
    if bearer is not None:
        person, apps = people.whose_token(desk, bearer.credentials)
        if apps:
            demand_within(desk, apps, request.method, request.url.path)
        return person
    if session:
        return people.whose_session(desk, session)
    raise Unauthenticated("Nobody is signed in.", remedy="Sign in, or send a token: Authorization: Bearer tide_…")


SignedIn = Annotated[Person, Depends(signed_in)]
