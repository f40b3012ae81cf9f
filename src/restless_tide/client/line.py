"""The line to a desk: HTTP underneath, typed answers and the family of errors above."""

from __future__ import annotations

import socket
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, BinaryIO, TypeVar

import httpx
from pydantic import BaseModel, TypeAdapter, ValidationError

from restless_tide.tls import verified
from restless_tide.wire.errors import DeskUnreachable, TideError
from restless_tide.wire.problems import error_from

Answer = TypeVar("Answer")

_TIMEOUT = httpx.Timeout(30.0, connect=5.0)
_SAFE = frozenset({"GET", "HEAD", "OPTIONS"})
_PAUSES_SECONDS = (0.2, 0.5, 1.0, 2.0, 4.0)
"""Between attempts of an act whose answer was lost; the desk may just be starting again."""
_UNDER_WAY = "act-under-way"
_LITTLE_ON_ITS_WAY = [(socket.SOL_SOCKET, socket.SO_SNDBUF, 512 * 1024)]
"""What the kernel holds of an upload is sent again after a cut, so it holds little."""


class Line:
    """One connection to one desk as one person. Raises the family of errors from every method."""

    def __init__(self, url: str, token: str | None) -> None:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        self.url = url.rstrip("/")
        secure = verified(self.url)
        transport = httpx.HTTPTransport(verify=secure, trust_env=False, socket_options=_LITTLE_ON_ITS_WAY)
        self._http = httpx.Client(
            base_url=self.url, headers=headers, timeout=_TIMEOUT, transport=transport, verify=secure
        )

    def close(self) -> None:
        self._http.close()

    def get(self, path: str, kind: type[Answer], /, **params: Any) -> Answer:
        wanted = {name: value for name, value in params.items() if value is not None}
        return self._read(self.send("GET", path, params=wanted), kind)

    def page(self, path: str, kind: type[Answer], /, **params: Any) -> tuple[Answer, bool]:
        """One page of a list, and whether another follows (RFC 8288)."""
        wanted = {name: value for name, value in params.items() if value is not None}
        answer = self.send("GET", path, params=wanted)
        return self._read(answer, kind), "next" in answer.links

    def post(self, path: str, kind: type[Answer], body: BaseModel | None = None) -> Answer:
        return self._read(self.send("POST", path, json=_json(body)), kind)

    def put(self, path: str, kind: type[Answer], body: BaseModel, headers: dict[str, str] | None = None) -> Answer:
        return self._read(self.send("PUT", path, json=_json(body), headers=headers), kind)

    def patch(self, path: str, kind: type[Answer], body: BaseModel, headers: dict[str, str] | None = None) -> Answer:
        return self._read(self.send("PATCH", path, json=_json(body), headers=headers), kind)

    def act(self, method: str, path: str, body: BaseModel | None = None) -> None:
        """Do what has no answer but that it was done."""
        self.send(method, path, json=_json(body))

    def send_bytes(self, path: str, kind: type[Answer], content: bytes, media_type: str, **params: Any) -> Answer:
        """Post a file as it is."""
        wanted = {name: value for name, value in params.items() if value is not None}
        headers = {"Content-Type": media_type}
        return self._read(self.send("POST", path, content=content, params=wanted, headers=headers), kind)

    def send_file(self, path: str, kind: type[Answer], source: BinaryIO, size_bytes: int) -> Answer:
        """Post a file as it is, read as it goes."""
        headers = {"Content-Type": "application/octet-stream", "Content-Length": str(size_bytes)}
        return self._read(self.send("POST", path, content=source, headers=headers), kind)

    def each(self, path: str, kind: type[Answer], /, **params: Any) -> Iterator[Answer]:
        """Every entry of a long list, a page at a time as they are asked for (RFC 8288)."""
        place: str | None = path
        wanted: dict[str, Any] | None = {name: value for name, value in params.items() if value not in (None, "")}
        while place is not None:
            answer = self.send("GET", place, params=wanted)
            page: list[Answer] = self._read(answer, list[kind])  # type: ignore[valid-type]
            yield from page
            place, wanted = answer.links.get("next", {}).get("url"), None

    def delete(self, path: str) -> None:
        self.send("DELETE", path)

    def delete_for(self, path: str, kind: type[Answer], /, **params: Any) -> Answer:
        """Delete something, and read what is left of that which it was a part of."""
        return self._read(self.send("DELETE", path, params=params), kind)

    def send(self, method: str, path: str, **sent: Any) -> httpx.Response:
        """One request, and its answer. Raises the family of errors.

        An act carries a key of its own, so that it is sent again without being done twice when the line breaks before the
        answer has come.
        """
        if method not in _SAFE and "content" not in sent:
            sent["headers"] = {"Idempotency-Key": uuid.uuid4().hex} | (sent.get("headers") or {})
            return self._surely(method, path, **sent)
        with self._reached():
            answer = self._http.request(method, path, **sent)
        if not answer.is_success:
            raise _error(answer)
        return answer

    def _surely(self, method: str, path: str, **sent: Any) -> httpx.Response:
        for pause in (*_PAUSES_SECONDS, None):
            with self._reached():
                try:
                    answer = self._http.request(method, path, **sent)
                except (httpx.ReadError, httpx.RemoteProtocolError, httpx.WriteError, httpx.ConnectError) as wrong:
                    first = pause == _PAUSES_SECONDS[0]
                    if pause is None or (first and isinstance(wrong, httpx.ConnectError)):
                        raise  # the desk is not there: nothing was sent
                    time.sleep(pause)
                    continue
            if answer.is_success:
                return answer
            error = _error(answer)
            if pause is None or error.code != _UNDER_WAY:
                raise error
            time.sleep(pause)
        raise AssertionError("the last attempt returns or raises")

    def fetch(self, path: str, to: Path) -> None:
        """Stream an answer into a file; nothing is left of it when that breaks off."""
        part = to.with_name(f"{to.name}.part")
        try:
            with self._reached(), self._http.stream("GET", path) as answer, part.open("wb") as file:
                if not answer.is_success:
                    answer.read()
                    raise _error(answer)
                for block in answer.iter_bytes():
                    file.write(block)
            part.replace(to)
        finally:
            part.unlink(missing_ok=True)

    @contextmanager
    def stream(self, path: str, headers: dict[str, str]) -> Iterator[httpx.Response]:
        """A response read as it comes, without end."""
        with (
            self._reached(),
            self._http.stream("GET", path, headers=headers, timeout=httpx.Timeout(5.0, read=60.0)) as answer,
        ):
            if not answer.is_success:
                answer.read()
                raise _error(answer)
            yield answer

    @contextmanager
    def _reached(self) -> Iterator[None]:
        try:
            yield
        except (httpx.TransportError, httpx.InvalidURL) as wrong:
            raise DeskUnreachable(
                f"No desk answers at {self.url} ({type(wrong).__name__}).",
                remedy="Check the address (--url or TIDE_URL), and that the service runs.",
            ) from None

    def _read(self, answer: httpx.Response, kind: type[Answer]) -> Answer:
        try:
            return TypeAdapter(kind).validate_json(answer.content)
        except ValidationError:
            raise DeskUnreachable(
                f"What answers at {self.url} is no Restless Tide desk.", remedy="Check the address."
            ) from None


def _json(body: BaseModel | None) -> Any:
    return None if body is None else body.model_dump(mode="json", exclude_none=True)


def _error(answer: httpx.Response) -> TideError:
    try:
        document = answer.json()
    except ValueError:
        document = {}
    return error_from(document if isinstance(document, dict) else {}, answer.status_code)
