"""What every request meets first: whether it comes from a page of ours, HEAD and OPTIONS, and headers on every answer.

Plain ASGI, so that bodies stream through.
"""

from __future__ import annotations

import asyncio
from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.routing import Match, Mount
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from restless_tide.core.errors import Denied
from restless_tide.service.faults import answer_problem
from restless_tide.service.operations import routes_at
from restless_tide.service.paths import API, SAFE, is_of_console

SLOWEST_BODY_SECONDS = 30.0
"""So long a request may pause within its body; then the line is cut, so that half-sent bodies do not stay."""
_OWN = ("same-origin", "none")


def methods_at(scope: Scope) -> set[str]:
    """Every method that is served at a path, HEAD beside GET; none where nothing is there."""
    found: set[str] = set()
    for route in routes_at(scope["app"], scope["path"]):
        if not isinstance(route, Mount) and not is_of_console(route) and route.matches(scope)[0] is not Match.NONE:
            found |= getattr(route, "methods", None) or set()
    return found | ({"HEAD"} if "GET" in found else set())


def _has_head(scope: Scope) -> bool:
    routes = routes_at(scope["app"], scope["path"])
    return any(route.matches(scope)[0] is Match.FULL for route in routes if "HEAD" in getattr(route, "methods", ()))


class Edge:
    """Refuses acts that another site's page begins with a session of ours, serves HEAD and OPTIONS wherever something is
    (RFC 9110), and puts the headers on each answer that keep browsers from guessing, keeping or telling on."""

    def __init__(self, app: ASGIApp, *, address: str) -> None:
        self._app = app
        self._own = urlsplit(address).netloc.lower()
        self._secure = address.startswith("https")

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        head = scope["method"] == "HEAD"

        async def noted(message: Message) -> None:
            if message["type"] == "http.response.start":
                self._protect(scope["path"], MutableHeaders(raw=message.setdefault("headers", [])))
            elif head and message["type"] == "http.response.body":
                message = {**message, "body": b""}
            await send(message)

        if scope["method"] == "OPTIONS" and (known := methods_at(scope)) and "OPTIONS" not in known:
            allowed = ", ".join(sorted(known | {"OPTIONS"})).encode()
            await noted({"type": "http.response.start", "status": 204, "headers": [(b"allow", allowed)]})
            await noted({"type": "http.response.body", "body": b""})
            return
        if self._from_elsewhere(scope):
            wrong = Denied(
                "This act comes from a page of another site.",
                remedy="Open the console itself; a program sends a token, not a cookie.",
                code="other-origin",
            )
            await answer_problem(wrong)(scope, receive, noted)
            return
        if head and not _has_head(scope):
            scope = {**scope, "method": "GET"}
        await self._app(scope, _in_time(receive), noted)

    def _from_elsewhere(self, scope: Scope) -> bool:
        """Whether a browser says that another site's page asks. Who sends a token is no browser with a session."""
        if scope["method"] in SAFE or not scope["path"].startswith(API):
            return False
        headers = Headers(raw=scope["headers"])
        if "authorization" in headers:
            return False
        site, origin = headers.get("sec-fetch-site"), headers.get("origin")
        if site is not None and site not in _OWN:
            return True
        return origin is not None and urlsplit(origin).netloc.lower() not in (
            self._own,
            headers.get("host", "").lower(),
        )

    def _protect(self, path: str, headers: MutableHeaders) -> None:
        headers.setdefault("X-Content-Type-Options", "nosniff")
        headers.setdefault("Referrer-Policy", "no-referrer")
        if path.startswith(API):
            headers.setdefault("Cache-Control", "no-store")
            headers.setdefault("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
        if self._secure:
            headers.setdefault("Strict-Transport-Security", "max-age=31536000")


def _in_time(receive: Receive) -> Receive:
    """Cut the line to whoever pauses too long within a body."""
    whole = False

    async def received() -> Message:
        nonlocal whole
        if whole:  # what comes now is only that the line ends, which may take as long as it wants
            return await receive()
        try:
            message = await asyncio.wait_for(receive(), SLOWEST_BODY_SECONDS)
        except TimeoutError:
            whole = True
            return {"type": "http.disconnect"}
        whole = message["type"] != "http.request" or not message.get("more_body", False)
        return message

    return received
