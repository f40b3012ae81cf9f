"""A mail server that delivers nothing: every mail is kept as a file, and shown over HTTP."""

from __future__ import annotations

import email
import email.policy
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session
from fastapi import FastAPI


class _Keeper:
    def __init__(self, folder: Path) -> None:
        self._folder = folder
        folder.mkdir(parents=True, exist_ok=True)

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        place = self._folder / f"{len(list(self._folder.iterdir())) + 1:06d}.eml"
        content = envelope.content or b""
        place.write_bytes(content if isinstance(content, bytes) else content.encode())
        return "250 kept"


def mail_sink_app(folder: Path, host: str, smtp_port: int) -> FastAPI:
    """The sink as an ASGI application whose lifespan also runs the SMTP side."""

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        controller = Controller(_Keeper(folder), hostname=host, port=smtp_port)
        controller.start()
        yield
        controller.stop()

    app = FastAPI(title="Mail sink (stand-in)", lifespan=lifespan)

    @app.get("/mails")
    def mails(to: str | None = None) -> list[dict[str, Any]]:
        """The mails kept, oldest first."""
        found = []
        for place in sorted(folder.glob("*.eml")):
            message = email.message_from_bytes(place.read_bytes(), policy=email.policy.default)
            body = message.get_body(("plain",))
            if to is None or to.lower() in str(message["To"]).lower():
                found.append(
                    {
                        "to": str(message["To"]),
                        "subject": str(message["Subject"]),
                        "message_id": str(message["Message-ID"]),
                        "text": body.get_content() if body else "",
                    }
                )
        return found

    return app
