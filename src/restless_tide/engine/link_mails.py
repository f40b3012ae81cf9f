"""Mails with a link by which someone chooses a password. The code is sealed until its mail has left, and is gone then."""

from __future__ import annotations

import smtplib
from datetime import timedelta
from email.message import EmailMessage

import structlog
from sqlalchemy import or_, select

from restless_tide.core.personal_link import LinkKind
from restless_tide.core.retry import TO_PEOPLE
from restless_tide.desk import passwords, people
from restless_tide.desk.desk import ENGINE, Desk
from restless_tide.engine import postbox
from restless_tide.engine.mail import TEMPLATES
from restless_tide.records.tables import PersonalLink

_BATCH = 20
_SUBJECTS = {
    LinkKind.WELCOME: "You are invited to the release desk",
    LinkKind.RESET: "A new password for the release desk",
}
_log = structlog.get_logger("engine")


def send_waiting(desk: Desk) -> int:
    """Send the links that wait; returns how many went. One that cannot be sent keeps no other from going."""
    now = desk.clock.now()
    with desk.look() as session:
        due = or_(PersonalLink.try_after.is_(None), PersonalLink.try_after <= now)
        wanted = select(PersonalLink).where(PersonalLink.sealed_code.is_not(None), PersonalLink.expires_at > now, due)
        ready: list[tuple[str, EmailMessage | None]] = []
        for row in session.scalars(wanted.order_by(PersonalLink.created_at).limit(_BATCH)):
            by = people.names(session, [row.by]).get(row.by, "Someone")
            try:
                ready.append((row.code_digest, _written(desk, row, by)))
            except Exception:  # noqa: BLE001  (such as a seal that does not open: the others go all the same)
                _log.exception("a link cannot be mailed", person=row.person_id)
                ready.append((row.code_digest, None))
    return sum(_send(desk, digest, mail) for digest, mail in ready)


def _send(desk: Desk, digest: str, mail: EmailMessage | None) -> bool:
    trouble = "the mail cannot be written; see the desk's log" if mail is None else None
    if mail is not None:
        try:
            with postbox.connected(desk.settings) as server:
                server.send_message(mail)
        except (OSError, smtplib.SMTPException) as wrong:
            trouble = postbox.told(wrong)
    with desk.act(ENGINE) as act:
        row = act.session.get(PersonalLink, digest)
        if row is None:  # used or taken back meanwhile
            return trouble is None
        row.trouble = trouble
        if trouble is None:
            row.sealed_code = row.try_after = None
        else:
            row.attempts += 1
            row.try_after = act.now + timedelta(seconds=TO_PEOPLE.pause(row.attempts))
    return trouble is None


def _written(desk: Desk, row: PersonalLink, by: str) -> EmailMessage:
    assert row.sealed_code is not None
    code = desk.seal.open(row.sealed_code, f"link {row.code_digest}").decode()
    mail = postbox.begun(desk.settings, row.person.email, _SUBJECTS[row.kind], f"link.{row.code_digest[:16]}")
    text = TEMPLATES.get_template("link.txt").render(
        welcome=row.kind is LinkKind.WELCOME,
        by=by,
        desk=desk.settings.address,
        until=f"{row.expires_at:%d %B %Y, %H:%M} UTC",
        link=passwords.link_address(desk, code),
    )
    mail.set_content(text)
    return mail
