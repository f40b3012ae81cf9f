"""Invitations leave as mail, in the tester's language: as text and as HTML, with the steps and the personal link.

Mail never blocks an act: invitations wait in the records until the store has given the seat and the mail
server has taken the mail. What the server takes is noted at once (sent_mails.py) and written to the records
in groups. A mail that was taken just as the desk was killed may be sent again; it carries the same Message-ID
then, by which mail programs recognise it. A mail that was wanted again has another one.
"""

from __future__ import annotations

import smtplib
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime, timedelta
from email.message import EmailMessage
from pathlib import Path

import structlog
from jinja2 import Environment, FileSystemLoader, StrictUndefined, select_autoescape
from sqlalchemy import or_, select, update
from sqlalchemy.orm import joinedload, selectinload

from restless_tide.core.errors import LostLease
from restless_tide.core.invitation import (
    INVITATION,
    MOST_MAILS_A_DAY,
    InvitationEvent,
    InvitationState,
    may_be_mailed_from,
    of_the_last_day,
)
from restless_tide.core.retry import TO_PEOPLE
from restless_tide.core.trial import TrialState
from restless_tide.desk import invitations, seating
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.invitations import personal_code
from restless_tide.desk.lanes import needed
from restless_tide.desk.stores import rules_of
from restless_tide.desk.words import language_of, steps_for, text_for, words
from restless_tide.engine import postbox
from restless_tide.engine.sent_mails import SentMails, Taken
from restless_tide.records.tables import Cohort, Consignment, Invitation, Tester, Trial

_BATCH = 100
_SETTLE_AFTER_MAILS, _SETTLE_AFTER_SECONDS = 50, 0.5
"""What comes first: then the records are told what the server has taken."""
_NOT_TAKEN = "the mail server does not take it"
_TEMPORARY = range(400, 500)
TEMPLATES = Environment(
    loader=FileSystemLoader(Path(__file__).parent),
    undefined=StrictUndefined,
    trim_blocks=True,
    lstrip_blocks=True,
    autoescape=select_autoescape(("html",)),
)
_OPEN = select(Trial.id).where(Trial.state == TrialState.OPEN)
_WAITS = (
    Invitation.trial_id.in_(_OPEN),
    Invitation.state == InvitationState.QUEUED,
    Invitation.seated_at.is_not(None),
)
_WITH_PEOPLE = select(Invitation).options(
    joinedload(Invitation.tester),
    selectinload(Invitation.trial).options(selectinload(Trial.cohort).selectinload(Cohort.app)),
)
_log = structlog.get_logger("engine")


@dataclass(frozen=True)
class Ready:
    """A mail ready to go; ``sender`` is where it comes back to."""

    taken: Taken
    mail: EmailMessage
    sender: str

    @property
    def invitation(self) -> str:
        return self.taken.invitation


class Postman:
    """Sends what waits. One for a desk; ``failures`` counts how often in a row the server was not to be had."""

    def __init__(self, desk: Desk, stopping: Callable[[], bool] = lambda: False) -> None:
        self._desk, self._stopping = desk, stopping
        self._failures = 0
        self._sent = SentMails(desk.settings.data / "mails-sent")
        self._settled_at = time.monotonic()

    def send_waiting(self) -> int:
        """Send the invitations that wait, over one connection; returns how many were sent."""
        self._settle_sent()
        waiting = self._waiting()
        if not waiting:
            return 0
        sent = 0
        try:
            with postbox.connected(self._desk.settings) as server:
                self._heard()
                while waiting and not self._stopping():
                    for ready in waiting:
                        sent += self._send(server, ready)
                        if self._stopping():
                            return sent
                    self._settle_sent()
                    waiting = self._waiting()
        except (OSError, smtplib.SMTPException) as wrong:
            self._settle_sent()
            self._not_heard(wrong)
        finally:
            self._settle_sent()
        return sent

    def _waiting(self) -> list[Ready]:
        now = self._desk.clock.now()
        with self._desk.look() as session:
            due = or_(Invitation.try_after.is_(None), Invitation.try_after <= now)
            ids = session.scalars(select(Invitation.id).where(*_WAITS, due).limit(_BATCH)).all()
            if not ids:
                return []
            found = session.scalars(
                _WITH_PEOPLE.options(
                    selectinload(Invitation.trial)
                    .selectinload(Trial.consignment)
                    .options(selectinload(Consignment.build), selectinload(Consignment.berth))
                )
                .where(Invitation.id.in_(ids))
                .order_by(Invitation.created_at, Invitation.id)
            ).all()
            flooded = {
                row.id: free for row in found if (free := may_be_mailed_from(_mailed(row.tester), now)) is not None
            }
            ready, unwritten = [], []
            for row in found:
                if row.id in flooded:
                    continue
                try:
                    ready.append(_written(self._desk, row))
                except ValueError:  # one mail that cannot be written keeps no other from going
                    _log.exception("a mail cannot be written", invitation=row.id)
                    unwritten.append(row.id)
        for invitation_id in unwritten:
            self._postpone(invitation_id, "the mail cannot be written; see the desk's log")
        if flooded:
            with self._desk.act(ENGINE) as act:
                for invitation_id, free in flooded.items():
                    row = needed(act.session, Invitation, invitation_id)
                    row.try_after = free
                    row.trouble = f"{MOST_MAILS_A_DAY} mails went to this address in a day; the next waits"
        return ready

    def _send(self, server: smtplib.SMTP, ready: Ready) -> bool:
        """One mail; a server that goes away in between ends the whole turn."""
        try:
            server.send_message(ready.mail, from_addr=ready.sender)
        except smtplib.SMTPRecipientsRefused as refused:
            code, said = next(iter(refused.recipients.values()), (550, b""))
            told = said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said)
            self._settle_refused(ready.invitation, int(code), told)
            return False
        except smtplib.SMTPNotSupportedError:
            self._settle_refused(ready.invitation, 550, "the mail server cannot write to such an address")
            return False
        except (smtplib.SMTPSenderRefused, smtplib.SMTPDataError) as refused:
            self._postpone(ready.invitation, postbox.told(refused))
            return False
        self._sent.add(ready.taken)
        late = time.monotonic() - self._settled_at > _SETTLE_AFTER_SECONDS
        if late or len(self._sent.entries) >= _SETTLE_AFTER_MAILS:
            self._settle_sent()
        return True

    def _settle_sent(self) -> None:
        """Write down what the server has taken: all together, or each alone when one of them cannot be written."""
        self._settled_at = time.monotonic()
        if not self._sent.entries:
            return
        try:
            with self._desk.act(ENGINE) as act:
                _settle(act, self._sent.entries)
        except LostLease:
            raise
        except Exception:  # noqa: BLE001  (each on its own then)
            for taken in self._sent.entries:
                self._settle_alone(taken)
        self._sent.clear()

    def _settle_alone(self, taken: Taken) -> None:
        try:
            with self._desk.act(ENGINE) as act:
                _settle(act, [taken])
        except LostLease:
            raise
        except Exception:  # noqa: BLE001  (the others are written all the same)
            _log.exception("a mail that was sent could not be written down", invitation=taken.invitation)
            with suppress(Exception):  # told above; nothing of one mail may keep the next from going
                self._postpone(
                    taken.invitation, "the mail was sent, and that could not be written down; see the desk's log"
                )

    def _settle_refused(self, invitation_id: str, code: int, said: str) -> None:
        if code in _TEMPORARY:
            self._postpone(invitation_id, f"the mail server asks to wait ({code})")
            return
        with self._desk.act(ENGINE) as act:
            row = needed(act.session, Invitation, invitation_id)
            told = said.replace(row.tester.email, "the address")
            invitations.bounced(
                act, row, f"the mail server does not know the address ({code} {told})"[:300], for_good=True
            )

    def _postpone(self, invitation_id: str, trouble: str) -> None:
        with self._desk.act(ENGINE) as act:
            row = needed(act.session, Invitation, invitation_id)
            row.attempts += 1
            row.try_after = act.now + timedelta(seconds=TO_PEOPLE.pause(row.attempts))
            row.trouble = trouble

    def _heard(self) -> None:
        """The server is back: what waited for it alone goes at once."""
        if self._desk.background.mail_trouble is None and not self._failures:
            return
        self._failures, self._desk.background.mail_trouble = 0, None
        with self._desk.act(ENGINE) as act:
            act.session.execute(
                update(Invitation)
                .where(Invitation.state == InvitationState.QUEUED, Invitation.trouble.startswith(_NOT_TAKEN))
                .values(try_after=None)
            )
            act.tell("mail goes out", "mail")

    def _not_heard(self, wrong: Exception) -> None:
        self._failures += 1
        told = postbox.told(wrong)
        _log.warning("mail does not go out", why=told)
        with self._desk.act(ENGINE) as act:
            pause = timedelta(seconds=TO_PEOPLE.pause(self._failures))
            act.session.execute(update(Invitation).where(*_WAITS).values(try_after=act.now + pause, trouble=told))
            if self._desk.background.mail_trouble != told:
                act.tell("mail waits", "mail", said=told)
            self._desk.background.mail_trouble = told


def _settle(act: Act, sent: Sequence[Taken]) -> None:
    """The state of each invitation whose mail was taken. One that the records tell of already stays as it is."""
    numbers = dict(sent)
    for row in act.session.scalars(_WITH_PEOPLE.where(Invitation.id.in_(numbers))):
        if row.mails >= numbers[row.id]:
            continue
        row.mails = numbers[row.id]
        row.mailed_at, row.attempts, row.try_after = act.now, 0, None
        recent = [*of_the_last_day(_mailed(row.tester), act.now), act.now]
        row.tester.mailed = [at.isoformat() for at in recent]
        if (row.state, InvitationEvent.SEND) in INVITATION.table:
            row.trouble = None
            seating.move(act, row, InvitationEvent.SEND)
            if row.carried:
                seating.move(act, row, InvitationEvent.ACCEPT)
        act.tell(f"invitation {row.state}", f"invitation {row.id}", app=row.trial.cohort.app.name)


def _mailed(tester: Tester) -> list[datetime]:
    return [datetime.fromisoformat(at) for at in tester.mailed]


def _written(desk: Desk, invitation: Invitation) -> Ready:
    trial, tester = invitation.trial, invitation.tester
    build, app = trial.consignment.build, trial.cohort.app
    language = language_of(tester.languages)
    said = words(language)
    named = {
        "app": app.title,
        "version": build.version,
        "number": build.number,
        "store": rules_of(trial.consignment.berth.store).store,
        "name": tester.name,
        "contact": trial.contact,
        "where": trial.remarks_to,
        "page": trial.store_page or "",
    }
    link = f"{desk.settings.address}/invitation/{personal_code(desk.seal, invitation)}"
    content = {
        "w": {name: text.format(**named) for name, text in said["mail"].items()},
        "steps": steps_for(build.platform, language, named, has_page=bool(trial.store_page)),
        "brief": text_for(trial.brief, tester.languages),
        "link": link,
        "language": language,
        "carried": invitation.carried,
        "has_name": bool(tester.name),
        "remarks_to": trial.remarks_to,
    }
    subject = said["mail"]["subject_new" if invitation.carried else "subject"].format(**named)
    number = invitation.mails + 1
    same = {
        "Reply-To": trial.contact,
        "List-Id": f"<{trial.id}.trials.{desk.settings.mail_domain}>",
        "List-Unsubscribe-Post": "List-Unsubscribe=One-Click",
        "Content-Language": language,
    }
    mail = postbox.begun(desk.settings, tester.email, subject, f"{invitation.id}.{number}", same)
    mail["List-Unsubscribe"] = f"<{link}/unsubscribe>"
    text, html = (TEMPLATES.get_template(f"invitation.{kind}").render(content) for kind in ("txt", "html"))
    postbox.write_both(mail, text, html)
    back = postbox.address_for(desk, postbox.BOUNCE, invitation.id)
    return Ready(Taken(invitation.id, number), mail, back or desk.settings.mail_from)
