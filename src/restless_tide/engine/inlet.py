"""The small inlet for mail: what comes back (RFC 3464), and what testers answer. It takes nothing else.

Off unless the settings give it a port. Every address it takes was made up by this desk and cannot be
guessed; a mail server in front passes them on by SMTP or LMTP (RFC 2033).
"""

from __future__ import annotations

import asyncio
import email
import email.policy
import re
from email.message import EmailMessage, Message
from typing import Any, NamedTuple

import structlog
from aiosmtpd.controller import Controller
from aiosmtpd.lmtp import LMTP
from aiosmtpd.smtp import SMTP, Envelope, Session

from restless_tide.core.errors import LostLease, TideError
from restless_tide.desk import invitations, pictures, reports
from restless_tide.desk.desk import ENGINE, Desk
from restless_tide.desk.lanes import needed
from restless_tide.engine import postbox
from restless_tide.records.tables import FieldReport, Invitation

LARGEST_MAIL_BYTES = 16 * 1024 * 1024
MOST_HEADER_BYTES, LONGEST_FIELD_BYTES, LONGEST_LINE_BYTES, MOST_PARTS = 64 * 1024, 8 * 1024, 4 * 1024, 500
_STATUS_TYPES = ("message/delivery-status", "message/global-delivery-status")
"""Of RFC 3464, and of RFC 6533 for addresses in other scripts."""
_QUOTED = re.compile(r"^\s*>")
_WROTE = re.compile(
    r"^\s*(On .{5,200} wrote:|Am .{5,200} schrieb.{0,100}:|-{2,}\s*(Original|Urspr).*)\s*$", re.IGNORECASE
)
_log = structlog.get_logger("engine")


class _Limited(SMTP):
    """SMTP with a bound on the size of a mail."""

    def __init__(self, handler: Any, **settings: Any) -> None:
        super().__init__(handler, data_size_limit=LARGEST_MAIL_BYTES, **settings)


class _LimitedLmtp(LMTP):
    def __init__(self, handler: Any, **settings: Any) -> None:
        super().__init__(handler, data_size_limit=LARGEST_MAIL_BYTES, **settings)


class Inlet(Controller):
    """The inlet of a desk; ``start`` and ``stop`` as aiosmtpd's controllers have them."""

    def __init__(self, desk: Desk) -> None:
        settings = desk.settings
        super().__init__(_Taker(desk), hostname=settings.inlet_host, port=settings.inlet_port or 0)
        self._kind = _LimitedLmtp if settings.inlet_protocol == "lmtp" else _Limited

    def factory(self) -> Any:
        return self._kind(self.handler, hostname="desk", ident="Restless Tide", enable_SMTPUTF8=True)


class _Taker:
    def __init__(self, desk: Desk) -> None:
        self._desk = desk

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        if postbox.subject_of(self._desk, address) is None:
            return "550 5.1.1 nobody here is called that"
        envelope.rcpt_tos.append(address)
        return "250 2.1.5 taken"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        content = envelope.content or b""
        whole = content if isinstance(content, bytes) else content.encode()
        return await asyncio.to_thread(self._take, envelope.rcpt_tos, whole)

    def _take(self, addresses: list[str], content: bytes) -> str:
        odd = too_odd(content)
        if odd is not None:
            _log.info("a mail is not read", why=odd)
            return f"554 5.6.0 it is not read: {odd}"
        try:
            mail = email.message_from_bytes(content, policy=email.policy.default)
            for address in addresses:
                found = postbox.subject_of(self._desk, address)
                if found is not None:
                    take(self._desk, *found, mail)
        except LostLease:
            return "451 4.3.0 another engine works here now; try again"
        except TideError as wrong:
            _log.warning("a mail could not be taken", why=wrong.code)
        except Exception:  # noqa: BLE001  (a mail in an odd form must not end the inlet)
            _log.exception("a mail could not be read")
            return "554 5.6.0 it cannot be read"
        return "250 2.0.0 taken"


def too_odd(content: bytes) -> str | None:
    """Why a mail is not even parsed: reading headers costs more than their length; None: it is parsed."""
    if len(content.split(b"\r\n\r\n", 1)[0].split(b"\n\n", 1)[0]) > MOST_HEADER_BYTES:
        return f"its headers are over {MOST_HEADER_BYTES} bytes"
    folded = parts = 0
    for line in content.splitlines():
        if len(line) > LONGEST_LINE_BYTES:
            return f"a line is over {LONGEST_LINE_BYTES} bytes"
        folded = folded + len(line) if line[:1] in (b" ", b"\t") else len(line)
        if folded > LONGEST_FIELD_BYTES:
            return f"a header is over {LONGEST_FIELD_BYTES} bytes"
        parts += line.startswith(b"--")
        if parts > MOST_PARTS:
            return f"it has over {MOST_PARTS} parts"
    return None


def take(desk: Desk, what: str, subject: str, mail: EmailMessage | Message) -> None:
    """Receive a mail that came to one of this desk's addresses."""
    if what == postbox.BOUNCE:
        _take_bounce(desk, subject, mail)
    else:
        _take_answer(desk, subject, mail)


def _take_bounce(desk: Desk, invitation_id: str, mail: EmailMessage | Message) -> None:
    statuses = delivery_statuses(mail)
    if not statuses:
        _log.info("a mail came back that says nothing of delivery", invitation=invitation_id)
        return
    with desk.act(ENGINE) as act:
        invitation = act.session.get(Invitation, invitation_id)
        if invitation is None:
            return
        ours = [status for status in statuses if status.recipient == invitation.tester.email.lower()]
        _, action, code, said = min(ours or statuses, key=lambda status: status.action != "failed")
        if action not in ("failed", "delayed"):
            return
        for_good = action == "failed"  # a mail server has given up, whatever class its status has
        told = said.replace(invitation.tester.email, "the address")
        trouble = (
            f"the mail came back: {code} {told}".strip() if for_good else f"the mail waits on its way: {code} {told}"
        )
        invitations.bounced(act, invitation, trouble, for_good=for_good)


class Status(NamedTuple):
    """What a delivery status notification says of one recipient."""

    recipient: str
    action: str
    code: str
    said: str


def delivery_statuses(mail: EmailMessage | Message) -> list[Status]:
    """What a delivery status notification (RFC 3464, RFC 6533) says, recipient by recipient; empty: it is none."""
    if mail.get_content_type() != "multipart/report":
        return []
    return [
        Status(
            str(block.get("Final-Recipient") or "").partition(";")[2].strip().lower(),
            str(block["Action"]).strip().lower(),
            str(block.get("Status") or "").strip(),
            str(block.get("Diagnostic-Code") or "").partition(";")[2].strip(),
        )
        for part in mail.walk()
        if part.get_content_type() in _STATUS_TYPES
        for block in _blocks(part)
        if block.get("Action")
    ]


def _blocks(part: Message) -> list[Message]:
    """The groups of fields of a status part. Of the newer type the mail's reader makes one message; it is read here."""
    inner = [block for block in part.get_payload() if isinstance(block, Message)]
    if part.get_content_type() == _STATUS_TYPES[0]:
        return inner
    text = "".join(block.as_bytes().decode("utf-8", "replace") for block in inner)
    return [email.message_from_string(block, policy=email.policy.default) for block in re.split(r"\r?\n\r?\n", text)]


def _take_answer(desk: Desk, report_id: str, mail: EmailMessage | Message) -> None:
    if str(mail.get("Auto-Submitted") or "no").lower() != "no" or mail.get_content_type() == "multipart/report":
        return  # an absence note answers nobody
    text = unquoted(_plain_text(mail))
    drawn: list[pictures.Drawn] = []
    for part in mail.walk():
        if part.get_content_maintype() == "image" and len(drawn) < pictures.MOST_PICTURES:
            content = part.get_payload(decode=True)
            try:
                drawn.append(pictures.draw_anew(content if isinstance(content, bytes) else b""))
            except TideError:
                _log.info("an attachment is no picture", report=report_id)
    if not text and not drawn:
        return
    with desk.look() as session:
        found = session.get(FieldReport, report_id)
        if found is None or found.tester_id is None:
            return
        tester = found.tester_id
    with desk.act(f"tester:{tester}") as act:
        report = needed(act.session, FieldReport, report_id)
        reports.heard(act, report, text or "(a picture)")
        for entry in drawn[: pictures.MOST_PICTURES - len(report.pictures)]:
            pictures.attach(desk, act, report, entry)


def _plain_text(mail: EmailMessage | Message) -> str:
    body = mail.get_body(("plain",)) if isinstance(mail, EmailMessage) else None
    try:
        return str(body.get_content()) if body is not None else ""
    except (LookupError, UnicodeDecodeError):
        return ""


def unquoted(text: str) -> str:
    """What was written anew: without quoted lines, and without what stands after the line that announces them."""
    kept = []
    for line in text.splitlines():
        if _WROTE.match(line) or line.rstrip() == "--":
            break
        if not _QUOTED.match(line):
            kept.append(line.rstrip())
    return "\n".join(kept).strip()
