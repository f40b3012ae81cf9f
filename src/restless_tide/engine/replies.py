"""Answers to field reports leave as mail; what testers write back comes in by the inlet."""

from __future__ import annotations

import random
import smtplib
from datetime import timedelta
from email.message import EmailMessage

from sqlalchemy import or_, select

from restless_tide.core.notice import DELIVERY, DeliveryEvent, DeliveryState
from restless_tide.core.retry import MOST_ATTEMPTS, TO_PEOPLE
from restless_tide.desk.desk import ENGINE, Desk
from restless_tide.desk.invitations import personal_code
from restless_tide.desk.lanes import needed
from restless_tide.desk.words import language_of, words
from restless_tide.engine import postbox
from restless_tide.engine.mail import TEMPLATES
from restless_tide.records.tables import FieldReport, Invitation, ReportWord

_BATCH = 50


def send_waiting(desk: Desk) -> int:
    """Send the answers that wait; returns how many were taken."""
    now = desk.clock.now()
    with desk.look() as session:
        waiting = session.scalars(
            select(ReportWord)
            .where(
                ReportWord.state == DeliveryState.QUEUED,
                or_(ReportWord.try_after.is_(None), ReportWord.try_after <= now),
            )
            .limit(_BATCH)
        ).all()
        written = [(word.id, _written(desk, word)) for word in waiting]
    if not written:
        return 0
    sent = 0
    try:
        with postbox.connected(desk.settings) as server:
            while written:
                word_id, mail = written[0]
                if mail is not None:
                    try:
                        server.send_message(mail)
                    except smtplib.SMTPRecipientsRefused:
                        _settle(desk, word_id, "the mail server does not know the address", over=True)
                        written.pop(0)
                        continue
                _settle(desk, word_id, None if mail else "nobody is left to answer", over=mail is None)
                written.pop(0)
                sent += mail is not None
    except (OSError, smtplib.SMTPException) as wrong:
        for word_id, _ in written:
            _settle(desk, word_id, postbox.told(wrong))
    return sent


def _settle(desk: Desk, word_id: str, trouble: str | None, *, over: bool = False) -> None:
    with desk.act(ENGINE) as act:
        word = needed(act.session, ReportWord, word_id)
        if word.state is not DeliveryState.QUEUED:
            return
        word.attempts += 1
        word.trouble = trouble
        if trouble is not None and not over and word.attempts < MOST_ATTEMPTS:
            pause = TO_PEOPLE.pause(word.attempts, dice=random.random())  # noqa: S311
            word.try_after = act.now + timedelta(seconds=pause)
            return
        word.state = DELIVERY.after(word.state, DeliveryEvent.GIVE_UP if trouble else DeliveryEvent.SEND)
        act.tell(f"answer {word.state}", f"report {word.report_id}", app=word.report.app.name)


def _written(desk: Desk, word: ReportWord) -> EmailMessage | None:
    report = word.report
    tester = report.tester
    if tester is None or tester.forgotten_at is not None:
        return None
    said = words(language_of([report.language, *tester.languages]))["mail"]
    version = report.build.version if report.build else ""
    named = {"app": report.app.title, "version": version, "name": tester.name}
    mail = postbox.begun(desk.settings, tester.email, said["reply_subject"].format(**named), word.id)
    del mail["Auto-Submitted"]  # someone of the team wrote it
    contact = report.trial.contact if report.trial else desk.settings.mail_from
    mail["Reply-To"] = postbox.address_for(desk, postbox.REPORT, report.id) or contact
    mail.set_content(
        TEMPLATES.get_template("reply.txt").render(
            hello=(said["hello"] if tester.name else said["hello_nobody"]).format(**named),
            intro=said["reply_intro"].format(**named),
            outro=said["reply_outro"],
            remark=report.text or report.headline,
            text=word.text,
            link=_link(desk, report),
        )
    )
    return mail


def _link(desk: Desk, report: FieldReport) -> str:
    with desk.look() as session:
        found = session.scalar(
            select(Invitation).where(Invitation.trial_id == report.trial_id, Invitation.tester_id == report.tester_id)
        )
        return f"{desk.settings.address}/invitation/{personal_code(desk.seal, found)}" if found else ""
