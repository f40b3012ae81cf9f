"""Who is asking, by a bearer token or a console session, and whether they may: as FastAPI dependencies.

The right that an operation needs stands above it (rights.py); here it is demanded, in one place for all of them.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any

from fastapi import Depends, Request, Response
from fastapi.security import APIKeyCookie, HTTPBearer
from fastapi.security.http import HTTPAuthorizationCredentials

from restless_tide.core.errors import Denied, Unauthenticated
from restless_tide.core.rights import ROLE_TOLD, TOLD, Apps, Reach, Right, Standing, roles_told, who_hold
from restless_tide.desk import sessions, whose
from restless_tide.desk.desk import Desk
from restless_tide.desk.sessions import Asker
from restless_tide.records.tables import Person
from restless_tide.service import threads
from restless_tide.service.rights import Need

SESSION_COOKIE, SECURE_COOKIE = "tide_session", "__Host-tide_session"
_bearer = HTTPBearer(auto_error=False, scheme_name="token", description="made with: tide token add")
_cookie = APIKeyCookie(
    name=SESSION_COOKIE, auto_error=False, scheme_name="session", description=f"under https: {SECURE_COOKIE}"
)


async def the_desk(request: Request) -> Desk:
    desk = request.app.state.desk
    assert isinstance(desk, Desk)
    return desk


TheDesk = Annotated[Desk, Depends(the_desk)]


def session_secret(desk: Desk, cookies: Mapping[str, str]) -> str | None:
    """The secret of the session that a request carries; under https only in the cookie that is bound to this host."""
    return cookies.get(SECURE_COOKIE if desk.settings.address.startswith("https") else SESSION_COOKIE)


def asker_by(desk: Desk, token: str | None, session: str | None) -> Asker:
    """Who asks by a token, or else by a session. Raises Unauthenticated."""
    if token is not None:
        return sessions.of_token(desk, token)
    if session:
        return sessions.of_session(desk, session)
    raise Unauthenticated("No one is signed in.", remedy="Sign in, or send a token: Authorization: Bearer tide_…")


class Asking:
    """Who asks, by what the request carries. ``asker`` looks it up, each time it is called."""

    def __init__(self, desk: Desk, request: Request, token: str | None, session: str | None) -> None:
        self._desk, self._request, self._token, self.session_secret = desk, request, token, session
        self._found: Asker | None = None

    @property
    def need(self) -> Need:
        """What the operation needs that is asked for."""
        need = self._request.scope["route"].need
        assert isinstance(need, Need)
        return need

    def asker(self) -> Asker:
        """Who it is, once held to what the operation needs. Raises Unauthenticated, Denied."""
        self._found = found = asker_by(self._desk, self._token, self.session_secret)
        self._demand(found)
        return found

    def person(self) -> Person:
        """The same as the person alone."""
        return self.asker().person

    @property
    def standing(self) -> Standing:
        """What the one who asks may do."""
        if self._found is None:
            self.asker()
        assert self._found is not None
        return self._found.standing

    @property
    def apps(self) -> Apps:
        """The apps for which the operation's right is held; None: all."""
        right = self.need.right
        assert right is not None
        return self.standing.reach(right)

    def demand(self, right: Right, app: str | None = None) -> None:
        """Hold the one who asks to a further right, over an app or over all. Raises Denied."""
        if not self.may(right, app):
            raise self._denied(right, [app] if app is not None else [])

    def may(self, right: Right, app: str | None = None) -> bool:
        """Whether a further right is held, over an app (by name or id) or over all."""
        return self.standing.everywhere(right) or (app is not None and self.standing.over(right, self._named(app)))

    def _named(self, app: str) -> str:
        with self._desk.glance() as session:
            return whose.app_named(session, app)

    def _demand(self, found: Asker) -> None:
        need = self.need
        right = need.right
        assert right is not None
        if found.unproven and right is not Right.WHO:
            raise Denied(
                "This desk demands a second factor.", remedy="Set one up first.", code="second-factor-demanded"
            )
        if not self._holds(found.standing, right, need.reach):
            raise self._denied(right, self._apps_asked(need.reach), everywhere=need.reach is Reach.DESK)

    def _holds(self, standing: Standing, right: Right, reach: Reach | None) -> bool:
        if standing.everywhere(right):
            return True
        if reach is Reach.DESK or not standing.somewhere(right):
            return False
        if reach is Reach.APP:
            app = self._request.path_params["app"]
            return standing.over(right, app) or standing.over(right, self._named(app))
        if reach is Reach.THING:
            given: dict[str, Any] = self._request.path_params
            with self._desk.look() as session:
                apps = [app for noun, of in whose.THINGS.items() if noun in given for app in of(session, given[noun])]
            return standing.over_all(right, apps)
        return True

    def _apps_asked(self, reach: Reach | None) -> list[str]:
        return [self._request.path_params["app"]] if reach is Reach.APP else []

    def _denied(self, right: Right, apps: list[str], *, everywhere: bool = False) -> Denied:
        assert self._found is not None
        over = f" for {', '.join(apps)}" if apps else " for all apps" if everywhere else ""
        can = " or ".join(ROLE_TOLD[role] for role in who_hold(right))
        token = self._found.token
        if token is not None and token.grant is not None:
            return Denied(
                f"This token is {token.grant.told()}; it does not reach that. It takes the right to {TOLD[right]}{over}.",
                remedy=f"Use a token of {can}.",
                code="token-limited",
            )
        return Denied(
            f"You are {roles_told(self._found.person.grants)}; this takes the right to {TOLD[right]}{over}.",
            remedy=f"Ask an owner of the desk; {can} may do it.",
            code="not-allowed",
        )


async def asking(
    request: Request,
    desk: TheDesk,
    bearer: Annotated[HTTPAuthorizationCredentials | None, Depends(_bearer)],
    _: Annotated[str | None, Depends(_cookie)],
) -> Asking:
    token = bearer.credentials if bearer is not None else None
    return Asking(desk, request, token, session_secret(desk, request.cookies))


def session_cookie(response: Response, desk: Desk, secret: str | None) -> None:
    """Set the cookie of a session, or take it away. Under https it is bound to this very host (``__Host-``)."""
    secure = desk.settings.address.startswith("https")
    name = SECURE_COOKIE if secure else SESSION_COOKIE
    if secret is None:
        response.delete_cookie(name, httponly=True, samesite="strict", secure=secure)
    else:
        life = int(sessions.SIGN_IN_LIFE.total_seconds())
        response.set_cookie(name, secret, max_age=life, httponly=True, samesite="strict", secure=secure)


WhoAsks = Annotated[Asking, Depends(asking)]


def signed_in(who: WhoAsks) -> Person:
    """The person who asks, held to what the operation needs. Raises Unauthenticated, Denied."""
    return who.person()


SignedIn = Annotated[Person, Depends(signed_in)]


def asks(who: WhoAsks) -> Asker:
    """The same with what they ask by, and what they may do."""
    return who.asker()


TheAsker = Annotated[Asker, Depends(asks)]


def reached(who: WhoAsks, _: SignedIn) -> Apps:
    """The apps to which the answer is to be held; None: all."""
    return who.apps


Reached = Annotated[Apps, Depends(reached)]


async def signed_in_at_once(request: Request, who: WhoAsks) -> Person:
    """The same on the threads that are kept for steering."""
    return await threads.steering(request, who.person)


SignedInAtOnce = Annotated[Person, Depends(signed_in_at_once)]
