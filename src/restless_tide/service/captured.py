"""A request's body read whole, so that it can be handed on more than once; and an answer held back until it is looked at."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from starlette.datastructures import Headers
from starlette.types import ASGIApp, Message, Receive, Scope, Send

JSON = "application/json"


async def body_of(receive: Receive) -> bytes | None:
    """The whole body; None where the line ended before."""
    content = bytearray()
    while True:
        message = await receive()
        if message["type"] != "http.request":
            return None
        content += message.get("body", b"")
        if not message.get("more_body", False):
            return bytes(content)


def given_again(body: bytes, receive: Receive) -> Receive:
    """A body that was read already, as if it came now; after it the line as it is."""
    came = False

    async def received() -> Message:
        nonlocal came
        if came:
            return await receive()
        came = True
        return {"type": "http.request", "body": body, "more_body": False}

    return received


@dataclass
class Answer:
    """An answer as it was made, held back. What is passed on as it comes (``streams``) is not held."""

    status: int = 0
    headers: list[tuple[bytes, bytes]] = field(default_factory=list)
    body: bytearray = field(default_factory=bytearray)
    streams: bool = False

    @property
    def is_json(self) -> bool:
        return Headers(raw=self.headers).get("content-type", "").startswith(JSON)

    async def pass_on(self, send: Send) -> None:
        await send({"type": "http.response.start", "status": self.status, "headers": self.headers})
        await send({"type": "http.response.body", "body": bytes(self.body)})


async def answer_of(
    app: ASGIApp, scope: Scope, receive: Receive, send: Send, *, held: Callable[[Answer], bool] = lambda _: True
) -> Answer:
    """Have an application answer. The answer is held back where ``held`` is true of its beginning; else it passes as it comes."""
    made = Answer()

    async def kept(message: Message) -> None:
        if message["type"] == "http.response.start":
            made.status, made.headers = message["status"], list(message.get("headers", []))
            made.streams = not held(made)
        if made.streams:
            await send(message)
        elif message["type"] == "http.response.body":
            made.body += message.get("body", b"")

    await app(scope, receive, kept)
    return made
