"""Acts that are repeated: whoever sends an Idempotency-Key may send the same act again, and it is done once.

The key is written down in the transaction of the act itself, and the answer beside it once it was made; for a day the same
request gets the same answer. Where the desk ended between the two, a repetition is told that it was done.
"""

from __future__ import annotations

import asyncio
import hashlib
import json
import re

import structlog
from starlette.datastructures import Headers
from starlette.requests import cookie_parser
from starlette.types import ASGIApp, Receive, Scope, Send

from restless_tide.core.errors import Conflict, Invalid, TideError
from restless_tide.desk import kept_answers
from restless_tide.desk.desk import Desk
from restless_tide.expectation import Expectation, expectation
from restless_tide.service import threads
from restless_tide.service.captured import Answer, answer_of, body_of, given_again
from restless_tide.service.edge import methods_at
from restless_tide.service.faults import answer_problem
from restless_tide.service.limits import LARGEST_BODY_BYTES, largest_body
from restless_tide.service.paths import ACTING
from restless_tide.service.signed_in import asker_by, session_secret

HEADER = "idempotency-key"
LONGEST_WAIT_SECONDS = 10.0
"""So long a repetition waits for the same act that is under way."""
_KEY = re.compile(r"[\x21-\x7e]{1,200}")
_NOT_KEPT = frozenset({b"content-length", b"x-request-id", b"date", b"set-cookie"})
_log = structlog.get_logger("service")


class Repeating:
    """Holds the keys of acts. Files are left out: what they are kept under is made of their content, so twice is once."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app
        self._under_way: dict[str, asyncio.Event] = {}

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        headers = Headers(scope=scope) if scope["type"] == "http" else None
        if headers is None or scope["method"] not in ACTING or HEADER not in headers or not _is_small(scope["path"]):
            await self._app(scope, receive, send)
            return
        given = headers[HEADER]
        if not _KEY.fullmatch(given):
            if not _is_served(scope):
                await self._app(scope, receive, send)
                return
            wrong = Invalid(
                "The Idempotency-Key is not 1 to 200 visible characters.", remedy="Send a UUID.", code="key-unfit"
            )
            await answer_problem(wrong)(scope, receive, send)
            return
        desk: Desk = scope["app"].state.desk
        asker = headers.get("authorization") or session_secret(desk, cookie_parser(headers.get("cookie", "")))
        if not asker:
            await self._app(scope, receive, send)  # which says that no one is signed in
            return
        body = await body_of(receive)
        if body is None:
            return
        key = _digest(asker, given)
        request = _digest(scope["method"], scope["path"], scope["query_string"].decode("latin-1"), body.hex())
        while (before := self._under_way.get(key)) is not None:
            try:
                await asyncio.wait_for(before.wait(), LONGEST_WAIT_SECONDS)
            except TimeoutError:
                late = Conflict("This very act is under way.", remedy="Ask again in a moment.", code="act-under-way")
                await answer_problem(late)(scope, receive, send)
                return
        over = self._under_way[key] = asyncio.Event()
        try:
            await self._once(scope, given_again(body, receive), send, key, request)
        finally:
            del self._under_way[key]
            over.set()

    async def _once(self, scope: Scope, receive: Receive, send: Send, key: str, request: str) -> None:
        desk: Desk = scope["app"].state.desk
        known = await threads.keeping(scope["app"], lambda: kept_answers.find(desk, key))
        if known is not None and (known.request == request or _is_served(scope)):
            await self._again(scope, receive, send, known, request)
            return
        expected = Expectation(key=key, request=request)
        expectation.set(expected)
        answer = await answer_of(self._app, scope, receive, send)
        await answer.pass_on(send)
        if expected.acted and answer.status < 500:
            try:
                headers, body = _kept_headers(answer), bytes(answer.body)
                await threads.keeping(scope["app"], lambda: kept_answers.keep(desk, key, answer.status, headers, body))
            except Exception:  # noqa: BLE001  (the answer has left; a repetition is told that it was done)
                _log.exception("an answer could not be kept")

    async def _again(self, scope: Scope, receive: Receive, send: Send, known: kept_answers.Kept, request: str) -> None:
        desk: Desk = scope["app"].state.desk
        try:
            await threads.keeping(scope["app"], lambda: _demand_sign_in(desk, Headers(scope=scope)))
            if known.request != request:
                raise Conflict(
                    "This Idempotency-Key was used for another request.", remedy="Send a new key.", code="key-used"
                )
            if known.status is None:
                raise Conflict(
                    "This was done before, and its answer was lost when the desk ended.",
                    remedy="Look how it stands; do not repeat it.",
                    code="answer-lost",
                )
        except TideError as wrong:
            await answer_problem(wrong)(scope, receive, send)
            return
        headers = [(name.encode("latin-1"), value.encode("latin-1")) for name, value in json.loads(known.headers)]
        await Answer(known.status, [*headers, (b"idempotency-replayed", b"true")], bytearray(known.body)).pass_on(send)


def _is_served(scope: Scope) -> bool:
    """Whether the method is one of those at this path: else that is what is wrong, before anything about a key."""
    return scope["method"] in methods_at(scope)


def _is_small(path: str) -> bool:
    return largest_body(path) == LARGEST_BODY_BYTES and not path.startswith("/v1/uploads")


def _demand_sign_in(desk: Desk, headers: Headers) -> None:
    """An answer is given again only to whoever is still let in. Raises Unauthenticated."""
    token = headers.get("authorization", "").partition(" ")[2] or None
    asker_by(desk, token, session_secret(desk, cookie_parser(headers.get("cookie", ""))))


def _kept_headers(answer: Answer) -> str:
    kept = [
        (name.decode("latin-1"), value.decode("latin-1")) for name, value in answer.headers if name not in _NOT_KEPT
    ]
    return json.dumps(kept)


def _digest(*parts: str) -> str:
    return hashlib.sha256("\0".join(parts).encode()).hexdigest()
