"""A mail server that delivers nothing: every mail is kept as a file, and shown over HTTP.

It can be told to misbehave: to refuse addresses, to ask for patience, to be slow, and to send mails back
as a delivery status notification (RFC 3464) to the address they were sent from.
"""

from __future__ import annotations

import asyncio
import email
import email.policy
import itertools
import smtplib
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from email.message import Message
from email.mime.base import MIMEBase
from email.mime.multipart import MIMEMultipart
from email.mime.text import MIMEText
from functools import lru_cache
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session
from fastapi import FastAPI
from fastapi.responses import HTMLResponse
from pydantic import BaseModel, Field

_ON_ITS_WAY_SECONDS = 0.2


class Mood(BaseModel):
    """How the sink behaves; addresses may be parts of them."""

    refuse: list[str] = Field(default_factory=list)
    wait: list[str] = Field(default_factory=list)
    send_back: list[str] = Field(default_factory=list)
    delay: list[str] = Field(default_factory=list)
    slow_seconds: float = 0.0
    bounces_to: str = ""
    """Host and port of whoever takes what comes back."""


class _Keeper:
    def __init__(self, folder: Path) -> None:
        self._folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self._numbers = itertools.count(len(list(folder.iterdir())) + 1)
        self.mood = Mood()

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        if _named(address, self.mood.refuse):
            return "550 5.1.1 nobody here is called that"
        if _named(address, self.mood.wait):
            return "450 4.2.1 try again later"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        if self.mood.slow_seconds:
            await asyncio.sleep(self.mood.slow_seconds)
        place = self._folder / f"{next(self._numbers):06d}.eml"
        content = envelope.content or b""
        raw = content if isinstance(content, bytes) else content.encode()
        arriving = place.with_suffix(".arriving")
        arriving.write_bytes(raw)
        arriving.rename(place)  # whoever lists the mails meanwhile sees a whole one or none
        for address in envelope.rcpt_tos:
            failed = _named(address, self.mood.send_back)
            if (failed or _named(address, self.mood.delay)) and envelope.mail_from and self.mood.bounces_to:
                notice = delivery_notice(raw, address, envelope.mail_from, failed=failed)
                asyncio.get_running_loop().run_in_executor(
                    None, _hand_back, self.mood.bounces_to, envelope.mail_from, notice
                )
        return "250 kept"


def _named(address: str, parts: list[str]) -> bool:
    return any(part.lower() in address.lower() for part in parts)


def delivery_notice(original: bytes, recipient: str, sender: str, *, failed: bool) -> bytes:
    """A delivery status notification by RFC 3464, as mail servers write them."""
    whole = MIMEMultipart("report", report_type="delivery-status")
    whole["From"], whole["To"], whole["Subject"] = "MAILER-DAEMON@mail.example.org", sender, "Undelivered mail"
    whole["Auto-Submitted"] = "auto-replied"
    told = "could not be delivered" if failed else "is on its way, but late"
    whole.attach(MIMEText(f"Your mail to {recipient} {told}.\n"))
    status = MIMEBase("message", "delivery-status")
    mail_server, person = Message(), Message()
    mail_server["Reporting-MTA"] = "dns; mail.example.org"
    person["Final-Recipient"] = f"rfc822; {recipient}"
    person["Action"] = "failed" if failed else "delayed"
    person["Status"] = "5.1.1" if failed else "4.4.1"
    person["Diagnostic-Code"] = f"smtp; {'550 5.1.1 no such mailbox' if failed else '421 4.4.1 nobody answers there'}"
    status.set_payload([mail_server, person])
    whole.attach(status)
    returned = MIMEBase("text", "rfc822-headers")
    returned.set_payload(original.partition(b"\r\n\r\n")[0].decode("utf-8", "replace").replace("\r\n", "\n"))
    whole.attach(returned)
    return whole.as_bytes(policy=email.policy.SMTP)


def _hand_back(place: str, to: str, content: bytes) -> None:
    time.sleep(_ON_ITS_WAY_SECONDS)
    host, _, port = place.partition(":")
    with smtplib.SMTP(host, int(port), timeout=10) as server:
        server.sendmail("", [to], content)


def mail_sink_app(folder: Path, host: str, smtp_port: int, bounces_to: str = "") -> FastAPI:
    """The sink as an ASGI application whose lifespan also runs the SMTP side."""
    keeper = _Keeper(folder)
    keeper.mood.bounces_to = bounces_to

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        controller = Controller(keeper, hostname=host, port=smtp_port)
        controller.start()
        yield
        controller.stop()

    app = FastAPI(title="Mail sink (stand-in)", lifespan=lifespan)

    @app.post("/mood")
    def mood(wish: Mood) -> Mood:
        keeper.mood = wish.model_copy(update={"bounces_to": wish.bounces_to or bounces_to})
        return keeper.mood

    @app.get("/mails")
    def mails(to: str | None = None, after: int = 0) -> list[dict[str, Any]]:
        """The mails kept, oldest first; ``after`` leaves out the first so many."""
        found = (_shown(place) for place in sorted(folder.glob("*.eml"))[after:])
        return [mail for mail in found if to is None or to.lower() in mail["to"].lower()]

    @app.get("/count")
    def count() -> int:
        return sum(1 for _ in folder.glob("*.eml"))

    @app.get("/mails/{place}/html", response_class=HTMLResponse)
    def html(place: int) -> str:
        """The HTML side of the mail at this place, from 1, as a mail program shows it."""
        kept = sorted(folder.glob("*.eml"))[place - 1]
        message = email.message_from_bytes(kept.read_bytes(), policy=email.policy.default)
        body = message.get_body(("html", "plain"))
        return str(body.get_content()) if body else ""

    return app


@lru_cache(maxsize=20_000)
def _shown(place: Path) -> dict[str, Any]:
    """A kept mail never changes, so it is read once."""
    message = email.message_from_bytes(place.read_bytes(), policy=email.policy.default)
    plain, rich = message.get_body(("plain",)), message.get_body(("html",))
    return {
        "to": str(message["To"]),
        "subject": str(message["Subject"]),
        "message_id": str(message["Message-ID"]),
        "headers": {name: str(value) for name, value in message.items()},
        "text": plain.get_content() if plain else "",
        "html": rich.get_content() if rich else "",
        "attached": [
            {"name": part.get_filename(), "type": part.get_content_type(), "bytes": len(part.get_payload(decode=True))}
            for part in message.iter_attachments()
        ],
    }
