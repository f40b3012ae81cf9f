"""Who is asking: a bearer token or a console session, as FastAPI dependencies."""

from __future__ import annotations

import re
from typing import Annotated

from fastapi import Depends, Request
from fastapi.security import APIKeyCookie, HTTPBearer
from fastapi.security.http import HTTPAuthorizationCredentials

from restless_tide.core.errors import Denied, Unauthenticated
from restless_tide.desk import naming, people
from restless_tide.desk.desk import Desk
from restless_tide.records.tables import Build, Consignment, Person, Trial
from restless_tide.service import threads

SESSION_COOKIE = "tide_session"
_FOR_BUILD_SERVERS = [
    (methods.split(), re.compile(pattern))
    for methods, pattern in (
        ("GET", r"/v1/me"),
        ("GET POST HEAD PATCH DELETE", r"/v1/uploads(/[^/]+)?"),
        ("HEAD", r"/v1/packages/[0-9a-f]{64}"),
        ("GET", r"/v1/apps/(?P<app>[^/]+)"),
        ("POST", r"/v1/apps/(?P<app>[^/]+)/(checks|pushes)"),
        ("GET", r"/v1/apps/(?P<app>[^/]+)/numbers"),
        ("GET POST", r"/v1/apps/(?P<app>[^/]+)/reservations"),
        ("GET POST", r"/v1/apps/(?P<app>[^/]+)/builds"),
        ("GET", r"/v1/apps/(?P<app>[^/]+)/builds/[^/]+"),
        ("GET", r"/v1/apps/(?P<app>[^/]+)/locker/[^/]+/content"),
        ("GET", r"/v1/apps/(?P<app>[^/]+)/cohorts"),
        ("POST", r"/v1/apps/(?P<app>[^/]+)/(trials|trial-sheets|reports)"),
        ("GET", r"/v1/apps/(?P<app>[^/]+)/tracks"),
        ("POST", r"/v1/apps/(?P<app>[^/]+)/gauges"),
        ("POST", r"/v1/apps/(?P<app>[^/]+)/(placements|placement-sheets)"),
        ("GET POST", r"/v1/builds/(?P<build>[^/]+)/symbols"),
        ("GET", r"/v1/builds/(?P<build>[^/]+)"),
        ("GET", r"/v1/consignments/(?P<consignment>[^/]+)"),
        ("GET", r"/v1/trials/(?P<trial>[^/]+)"),
    )
]
_bearer = HTTPBearer(auto_error=False, scheme_name="token", description="made with: tide token add")
_cookie = APIKeyCookie(name=SESSION_COOKIE, auto_error=False, scheme_name="session")


async def the_desk(request: Request) -> Desk:
    desk = request.app.state.desk
    assert isinstance(desk, Desk)
    return desk


TheDesk = Annotated[Desk, Depends(the_desk)]


def demand_within(desk: Desk, apps: list[str], method: str, path: str) -> None:
    """Hold a build server's token to what builds of its apps need. Raises Denied for all else.

    What is not named here is not reached, so a new route is closed to such a token until someone opens it.
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
                app = naming.exactly(session, Build, "build", named["build"]).app.name
            elif "consignment" in named:
                app = naming.exactly(session, Consignment, "consignment", named["consignment"]).build.app.name
            elif "trial" in named:
                app = naming.exactly(session, Trial, "trial", named["trial"]).cohort.app.name
        allowed = app is None or app in apps
    if not allowed:
        raise Denied(
            f"This token is a build server's, for {', '.join(apps)}; it does not reach that.",
            remedy="Use a token of a person, or one for this app.",
            code="token-limited",
        )


class Asking:
    """Who asks, by what the request carries. ``person`` looks it up, each time it is called."""

    def __init__(self, desk: Desk, request: Request, token: str | None, session: str | None) -> None:
        self._desk, self._request, self._token, self._session = desk, request, token, session
        self.limited_to: list[str] = []
        """The apps of a build server's token, once it was looked up."""

    def person(self) -> Person:
        """Raises Unauthenticated, and Denied where a build server's token does not reach."""
        if self._token is not None:
            person, self.limited_to = people.whose_token(self._desk, self._token)
            if self.limited_to:
                demand_within(self._desk, self.limited_to, self._request.method, self._request.url.path)
            return person
        if self._session:
            return people.whose_session(self._desk, self._session)
        raise Unauthenticated("Nobody is signed in.", remedy="Sign in, or send a token: Authorization: Bearer tide_…")


async def asking(
    request: Request,
    desk: TheDesk,
    bearer: Annotated[HTTPAuthorizationCredentials | None, Depends(_bearer)],
    session: Annotated[str | None, Depends(_cookie)],
) -> Asking:
    return Asking(desk, request, bearer.credentials if bearer is not None else None, session)


WhoAsks = Annotated[Asking, Depends(asking)]


def signed_in(who: WhoAsks) -> Person:
    """The person who asks. Raises Unauthenticated."""
    return who.person()


SignedIn = Annotated[Person, Depends(signed_in)]


async def signed_in_at_once(request: Request, who: WhoAsks) -> Person:
    """The same on the threads that are kept for steering."""
    return await threads.steering(request, who.person)


SignedInAtOnce = Annotated[Person, Depends(signed_in_at_once)]
