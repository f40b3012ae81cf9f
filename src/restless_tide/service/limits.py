"""Bounds on requests, and a line in the log for each request. Plain ASGI, so that bodies stream through."""

from __future__ import annotations

import re
import secrets
import time

import structlog
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from restless_tide.core.crashes.symbols import LARGEST_BYTES as LARGEST_SYMBOLS
from restless_tide.core.errors import NoLength, TideError, TooLarge
from restless_tide.core.limits import LARGEST_DOCUMENT_BYTES, LARGEST_FILM_BYTES
from restless_tide.core.testers import LARGEST_BYTES as LARGEST_LIST
from restless_tide.desk.pictures import LARGEST_BYTES as LARGEST_PICTURE
from restless_tide.folders.archive import LARGEST_ARCHIVE_BYTES
from restless_tide.request import request_id as current_request
from restless_tide.service.faults import answer_problem, unforeseen
from restless_tide.service.paths import impersonal

LARGEST_BODY_BYTES = 1024 * 1024
_LARGER = (
    (re.compile(r"/v1/(testers|apps/[^/]+/cohorts/[^/]+)/imports"), LARGEST_LIST),
    (re.compile(r"/v1/reports/[^/]+/pictures|/invitation/[^/]+/remarks"), LARGEST_PICTURE + 64 * 1024),
    (re.compile(r"/v1/builds/[^/]+/symbols"), LARGEST_SYMBOLS),
    (re.compile(r"/v1/pictures"), LARGEST_FILM_BYTES),
    (re.compile(r"/v1/documents"), LARGEST_DOCUMENT_BYTES),
    (re.compile(r"/v1/apps/[^/]+/dossier/(folder-checks|folders)"), LARGEST_ARCHIVE_BYTES),
)
_REQUEST_ID = re.compile(rb"[\w.:-]{1,80}")
_log = structlog.get_logger("service")


def largest_body(path: str) -> int:
    """The most bytes that are taken at a path."""
    return next((most for pattern, most in _LARGER if pattern.fullmatch(path)), LARGEST_BODY_BYTES)


class BodyLimit:
    """Refuses a body over the limit by its announced length; packages have their own limit and pass."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "http" and not scope["path"].startswith("/v1/uploads/"):
            largest = largest_body(scope["path"])
            headers = dict(scope["headers"])
            length = headers.get(b"content-length", b"0")
            if b"transfer-encoding" in headers or not length.isdigit():
                wrong: TideError = NoLength("The request must announce its length.", remedy="Send Content-Length.")
                await answer_problem(wrong)(scope, receive, send)
                return
            if int(length) > largest:
                wrong = TooLarge(
                    f"The request has {int(length)} bytes; {largest} are taken here.",
                    remedy="Send package files to /v1/uploads by tus; all else is small.",
                    code="body-too-large",
                )
                await answer_problem(wrong)(scope, receive, send)
                return
        await self._app(scope, receive, send)


class RequestLog:
    """Gives each request an id, or keeps the one it came with, returns it, and writes one line when it is done.

    The id goes along with every order that the request places, to the store and into the store's own log.
    """

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        given = dict(scope["headers"]).get(b"x-request-id", b"")
        request_id = given.decode() if _REQUEST_ID.fullmatch(given) else secrets.token_hex(8)
        began = time.perf_counter()
        status = 0

        async def noted(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                message["headers"] = [*message.get("headers", []), (b"x-request-id", request_id.encode())]
            await send(message)

        current_request.set(request_id)
        with structlog.contextvars.bound_contextvars(request=request_id):
            try:
                await self._app(scope, receive, noted)
            except Exception as wrong:
                _log.error("unforeseen", path=impersonal(scope["path"]), exc_info=wrong)
                if status:
                    raise
                await unforeseen(request_id)(scope, receive, noted)
            metrics = getattr(scope["app"].state, "metrics", None)
            if metrics is not None:
                metrics.requests.labels(scope["method"], status).observe(time.perf_counter() - began)
            if not scope["path"].startswith("/assets/"):
                took = round((time.perf_counter() - began) * 1000, 1)
                path = impersonal(scope["path"])
                _log.info("answered", method=scope["method"], path=path, status=status, took_ms=took)
