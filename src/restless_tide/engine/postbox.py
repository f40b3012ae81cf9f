"""The way out for mail: one connection to the mail server of the settings, and the addresses that mails come back to."""

from __future__ import annotations

import smtplib
import ssl
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from email.message import EmailMessage

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


def begun(settings: Settings, to: str, subject: str, mail_id: str) -> EmailMessage:
    """A mail that the desk writes on its own, with what every mail carries (RFC 5322, RFC 3834). Only its content is missing."""
    mail = EmailMessage()
    mail["From"] = settings.mail_from
    mail["To"] = to
    mail["Subject"] = " ".join(subject.split())
    mail["Date"] = datetime.now(UTC)
    mail["Message-ID"] = f"<{mail_id}@{settings.mail_domain}>"
    mail["Auto-Submitted"] = "auto-generated"
    return mail


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
