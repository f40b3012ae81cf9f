"""Conditional requests (RFC 9110, section 13): an ETag on every answer that can be read again, If-None-Match, If-Match.

The condition of an act is held against what would be read now, at its own address or the nearest one above it that can be
read; and the act begins only if nothing was written since, else the condition is looked at once more.
"""

from __future__ import annotations

import hashlib
import re

from fastapi.routing import APIRoute
from starlette.datastructures import Headers, MutableHeaders
from starlette.routing import Match
from starlette.types import ASGIApp, Receive, Scope, Send

from restless_tide.core.errors import Conflict, Invalid, StaleView
from restless_tide.desk.desk import Desk
from restless_tide.expectation import Expectation, expectation
from restless_tide.service import threads
from restless_tide.service.captured import Answer, answer_of, body_of, given_again
from restless_tide.service.faults import answer_problem
from restless_tide.service.operations import routes_at
from restless_tide.service.paths import ACTING, API, is_of_console

_TAG = re.compile(r'(W/)?"[\x21\x23-\x7e\x80-\xff]*"')
_TRIES = 8
"""So often a condition is looked at again because something else was written meanwhile."""


def tags_of(header: str) -> list[str] | None:
    """The entity tags of a condition; None for ``*``. Raises Invalid for what is none."""
    if header.strip() == "*":
        return None
    parts = [part.strip() for part in header.split(",")]
    wrong = [part for part in parts if not _TAG.fullmatch(part)]
    if wrong:
        raise Invalid(f"If-Match is {wrong[0]!r}; send the ETag as it was read.", code="etag-unfit")
    return parts


class Conditional:
    """Puts ETags on answers and holds acts to their condition. Operations with a condition of their own keep it."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or not scope["path"].startswith(API):
            await self._app(scope, receive, send)
            return
        headers = Headers(raw=scope["headers"])
        if scope["method"] in ("GET", "HEAD"):
            await self._read(scope, receive, send, headers.get("if-none-match"))
        elif scope["method"] in ACTING and "if-match" in headers and _is_held(scope):
            await self._act(scope, receive, send, headers["if-match"])
        else:
            await self._app(scope, receive, send)

    async def _read(self, scope: Scope, receive: Receive, send: Send, known: str | None) -> None:
        answer = await answer_of(self._app, scope, receive, send, held=lambda made: made.status == 200 and made.is_json)
        if answer.streams:
            return
        tag = _tagged(answer)
        try:
            fits = known is not None and ((tags := tags_of(known)) is None or tag in [_strong(one) for one in tags])
        except Invalid:
            fits = False
        if fits:
            kept = [(name, value) for name, value in answer.headers if name not in (b"content-length", b"content-type")]
            answer = Answer(304, kept)
        await answer.pass_on(send)

    async def _act(self, scope: Scope, receive: Receive, send: Send, condition: str) -> None:
        try:
            wanted = tags_of(condition)
        except Invalid as wrong:
            await answer_problem(wrong)(scope, receive, send)
            return
        body = await body_of(receive)
        if body is None:
            return
        desk: Desk = scope["app"].state.desk
        for _ in range(_TRIES):
            version = await threads.keeping(scope["app"], desk.database.version)
            tag = await self._tag_now(scope, receive)
            if tag is None or (wanted is not None and tag not in wanted):
                await answer_problem(_stale())(scope, receive, send)
                return
            expected = expectation.get() or Expectation()
            expected.version, expected.moved = version, False
            expectation.set(expected)
            answer = await answer_of(self._app, scope, given_again(body, receive), send)
            if not expected.moved:
                await answer.pass_on(send)
                return
        busy = Conflict(
            "So much is written just now that the condition could not be held; nothing was done.",
            remedy="Send it again.",
            code="condition-not-held",
        )
        await answer_problem(busy)(scope, receive, send)

    async def _tag_now(self, scope: Scope, receive: Receive) -> str | None:
        """The ETag of what the act is about, as it would be read now; None where there is nothing to read."""
        place = scope["path"]
        dropped = (b"content-length", b"content-type", b"if-match", b"idempotency-key", b"transfer-encoding")
        headers = [(name, value) for name, value in scope["headers"] if name not in dropped]
        while place.count("/") >= 2:
            asked = {
                **scope, "method": "GET", "path": place, "raw_path": place.encode(), "query_string": b"", "headers": headers,
            }  # fmt: skip
            if _route_at(asked) is not None:
                answer = await answer_of(self._app, asked, given_again(b"", receive), _nowhere)
                return _tagged(answer) if answer.status == 200 else None
            place = place.rpartition("/")[0]
        return None


async def _nowhere(_: object) -> None:
    """Where an answer goes that is only looked at."""


def _stale() -> StaleView:
    return StaleView(
        "It was changed since you read it; nothing was done.",
        remedy="Read it again, and decide anew.",
        code="stale-view",
    )


def _strong(tag: str) -> str:
    return tag.removeprefix("W/")


def _tagged(answer: Answer) -> str:
    """The ETag of an answer: its own, or one made of its bytes."""
    headers = MutableHeaders(raw=answer.headers)
    if "etag" not in headers:
        headers["ETag"] = f'"{hashlib.sha256(answer.body).hexdigest()[:32]}"'
    return headers["etag"]


def _route_at(scope: Scope) -> APIRoute | None:
    """The operation that a request is for; None where there is none but the console's page."""
    for route in routes_at(scope["app"], scope["path"]):
        if isinstance(route, APIRoute) and not is_of_console(route) and route.matches(scope)[0] is Match.FULL:
            return route
    return None


def _is_held(scope: Scope) -> bool:
    """Whether the condition is held here: there is such an operation, and it does not read If-Match itself, such as that of
    one text among many."""
    route = _route_at(scope)
    return route is not None and all(one.alias.lower() != "if-match" for one in route.dependant.header_params)
