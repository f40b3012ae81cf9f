"""Invitations leave as mail: plain text, with the steps and the personal link.

Mail never blocks an act: invitations wait in the records until the mail server has taken them. A
mail that was sent just before the desk was killed may be sent again; it carries the same
Message-ID then, by which mail programs recognise it.
"""

from __future__ import annotations

import smtplib
from datetime import timedelta
from email.message import EmailMessage
from pathlib import Path

from jinja2 import Environment, FileSystemLoader, StrictUndefined
from sqlalchemy import or_, select

from restless_tide.core.invitation import INVITATION, InvitationEvent, InvitationState
from restless_tide.core.order import pause_before_retry_seconds
from restless_tide.core.trial import TrialState
from restless_tide.desk.desk import ENGINE, Desk
from restless_tide.desk.trials import personal_code
from restless_tide.engine.carriers import needed
from restless_tide.records.tables import Invitation, Trial

_BATCH = 50
_TIMEOUT_SECONDS = 10
_TEMPLATES = Environment(
    loader=FileSystemLoader(Path(__file__).parent),
    undefined=StrictUndefined,
    trim_blocks=True,
    autoescape=False,  # noqa: S701  (plain text)
)


def send_waiting(desk: Desk) -> int:
    """Send the invitations that wait, over one connection; returns how many were sent."""
    now = desk.clock.now()
    with desk.look() as session:
        waiting = session.scalars(
            select(Invitation)
            .join(Trial)
            .where(
                Invitation.state == InvitationState.QUEUED,
                Trial.state == TrialState.OPEN,
                or_(Invitation.try_after.is_(None), Invitation.try_after <= now),
            )
            .limit(_BATCH)
        ).all()
        mails = [(invitation.id, _write(desk, invitation)) for invitation in waiting]
    if not mails:
        return 0
    sent = 0
    try:
        with smtplib.SMTP(desk.settings.smtp_host, desk.settings.smtp_port, timeout=_TIMEOUT_SECONDS) as server:
            for invitation_id, mail in mails:
                try:
                    server.send_message(mail)
                except smtplib.SMTPRecipientsRefused:
                    _settle(desk, invitation_id, InvitationEvent.BOUNCE, "the mail server does not know the address")
                else:
                    _settle(desk, invitation_id, InvitationEvent.SEND, None)
                    sent += 1
    except (OSError, smtplib.SMTPException) as wrong:
        for invitation_id, _ in mails[sent:]:
            _postpone(desk, invitation_id, f"the mail server does not take it ({type(wrong).__name__})")
    return sent


def _write(desk: Desk, invitation: Invitation) -> EmailMessage:
    trial = invitation.trial
    build, app = trial.consignment.build, trial.cohort.app
    mail = EmailMessage()
    mail["From"] = desk.settings.mail_from
    mail["To"] = invitation.tester.email
    mail["Reply-To"] = trial.contact
    mail["Subject"] = f"Try {app.title} {build.version} ({build.number})"
    mail["Message-ID"] = f"<{invitation.id}@{desk.settings.mail_from.rpartition('@')[2]}>"
    link = f"{desk.settings.address}/invitation/{personal_code(desk.seal, invitation)}"
    text = _TEMPLATES.get_template("invitation.txt").render(
        name=invitation.tester.name,
        app=app.title,
        build=build,
        store=trial.consignment.berth.store.rulebook["store"],
        notes=trial.notes,
        contact=trial.contact,
        link=link,
    )
    mail.set_content(text)
    return mail


def _settle(desk: Desk, invitation_id: str, event: InvitationEvent, trouble: str | None) -> None:
    with desk.act(ENGINE) as act:
        invitation = needed(act.session, Invitation, invitation_id)
        if (invitation.state, event) not in INVITATION.table:
            return
        invitation.state, invitation.changed_at, invitation.trouble = (
            INVITATION.after(invitation.state, event),
            act.now,
            trouble,
        )
        act.tell(f"invitation {invitation.state}", f"invitation {invitation.id}", app=invitation.trial.cohort.app.name)


def _postpone(desk: Desk, invitation_id: str, trouble: str) -> None:
    with desk.act(ENGINE) as act:
        invitation = needed(act.session, Invitation, invitation_id)
        invitation.attempts += 1
        invitation.try_after = act.now + timedelta(seconds=pause_before_retry_seconds(invitation.attempts))
        invitation.trouble = trouble
