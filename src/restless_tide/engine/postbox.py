"""The way out for mail: one connection to the mail server of the settings, and the addresses that mails come back to."""

from __future__ import annotations

import binascii
import smtplib
import ssl
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC, datetime
from email.message import EmailMessage
from functools import lru_cache
from typing import Any

from restless_tide.desk.desk import Desk
from restless_tide.desk.settings import Settings

_TIMEOUT_SECONDS = 10
BOUNCE, REPORT = "bounce", "report"


@contextmanager
def connected(settings: Settings) -> Iterator[smtplib.SMTP]:
    """A mail server that takes mails. Raises OSError or SMTPException."""
    host, port = settings.smtp_host, settings.smtp_port
    if settings.smtp_security == "tls":
        context = ssl.create_default_context()
        server: smtplib.SMTP = smtplib.SMTP_SSL(host, port, timeout=_TIMEOUT_SECONDS, context=context)
    else:
        server = smtplib.SMTP(host, port, timeout=_TIMEOUT_SECONDS)
    with server:
        if settings.smtp_security == "starttls":
            server.starttls(context=ssl.create_default_context())
        if settings.smtp_user:
            server.login(settings.smtp_user, settings.smtp_password)
        yield server


def begun(
    settings: Settings, to: str, subject: str, mail_id: str, besides: Mapping[str, str] | None = None
) -> EmailMessage:
    """A mail that the desk writes on its own, with what every mail carries (RFC 5322, RFC 3834) and the headers ``besides``.

    Only its content is missing, and headers that no other mail has.
    """
    mail = EmailMessage()
    for name, value in _read_headers(settings.mail_from, " ".join(subject.split()), *(besides or {}).items()):
        mail[name] = value
    mail["To"] = to
    mail["Date"] = datetime.now(UTC)
    mail["Message-ID"] = f"<{mail_id}@{settings.mail_domain}>"
    return mail


@lru_cache(maxsize=256)
def _read_headers(sender: str, subject: str, *besides: tuple[str, str]) -> list[tuple[str, Any]]:
    """Headers as the library keeps them once it has read them, which takes far longer than putting them into a mail."""
    mail = EmailMessage()
    mail["From"] = sender
    mail["Subject"] = subject
    mail["Auto-Submitted"] = "auto-generated"
    for name, value in besides:
        mail[name] = value
    return list(mail.items())


def write_both(mail: EmailMessage, text: str, html: str) -> None:
    """The content of a mail as text and as HTML (RFC 2046), as quoted-printable, so that people can read its source."""
    mail["MIME-Version"] = "1.0"
    mail["Content-Type"] = "multipart/alternative"
    for kind, content in (("plain", text), ("html", html)):
        part = EmailMessage()
        for name, value in _part_headers(kind):
            part[name] = value
        part.set_payload(binascii.b2a_qp(content.encode(), istext=True).decode("ascii"))
        mail.attach(part)


@lru_cache
def _part_headers(kind: str) -> list[tuple[str, Any]]:
    part = EmailMessage()
    part["Content-Type"] = f'text/{kind}; charset="utf-8"'
    part["Content-Transfer-Encoding"] = "quoted-printable"
    return list(part.items())


def told(wrong: Exception) -> str:
    """Why mail does not go out, without what a server may repeat of a secret."""
    if isinstance(wrong, smtplib.SMTPAuthenticationError):
        return "the mail server does not take it (it refuses the credentials)"
    if isinstance(wrong, smtplib.SMTPResponseException):
        return f"the mail server does not take it ({wrong.smtp_code})"
    return f"the mail server does not take it ({type(wrong).__name__})"


def address_for(desk: Desk, what: str, subject: str) -> str | None:
    """The address at this desk for mails about ``subject``, which nobody can guess; None without an inlet."""
    if desk.settings.inlet_port is None:
        return None
    return f"{what}+{subject}.{desk.seal.mail_code(f'{what} {subject}')}@{desk.settings.mail_domain}"


def subject_of(desk: Desk, address: str) -> tuple[str, str] | None:
    """What such an address stands for, as (what, subject); None when it is none of this desk's."""
    local = address.strip().lower().rpartition("@")[0]
    what, _, rest = local.partition("+")
    subject, _, code = rest.rpartition(".")
    if what in (BOUNCE, REPORT) and subject and desk.seal.is_mail_code(f"{what} {subject}", code):
        return what, subject
    return None
