"""Invitations on their way: what the mail server has taken is known whatever happens next, and none goes twice for it."""

from __future__ import annotations

import smtplib
from contextlib import nullcontext
from datetime import UTC, datetime, timedelta
from email import message_from_bytes, policy
from email.message import EmailMessage
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import select

from restless_tide.core.cohorts import CohortKind
from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.invitation import InvitationState
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.trial import TrialState
from restless_tide.desk.clock import SteppableClock
from restless_tide.desk.desk import ENGINE, Desk
from restless_tide.desk.settings import Settings
from restless_tide.engine import mail, postbox
from restless_tide.engine.mail import Postman
from restless_tide.engine.sent_mails import SentMails, Taken
from restless_tide.records import tables
from restless_tide.records.tables import App, Berth, Build, Cohort, Consignment, Invitation, Store, Trial
from restless_tide.standins.__main__ import RULEBOOKS, read_rulebook

AT = datetime(2026, 11, 2, 9, tzinfo=UTC)
PEOPLE = 7


class Server:
    """A mail server that takes mails, until it is told to go away after some."""

    def __init__(self, takes: int = 1000) -> None:
        self.takes = takes
        self.mails: list[EmailMessage] = []

    def send_message(self, mail: EmailMessage, from_addr: str) -> None:
        if len(self.mails) >= self.takes:
            raise smtplib.SMTPServerDisconnected
        self.mails.append(mail)

    def ids(self) -> list[str]:
        return [mail["Message-ID"] for mail in self.mails]


@pytest.fixture
def desk(tmp_path: Path) -> Any:
    opened = Desk(Settings(data=tmp_path / "desk"), SteppableClock())
    rules = read_rulebook((RULEBOOKS / "openfield.toml").read_text(encoding="utf-8")).model_dump(mode="json")
    with opened.act(ENGINE) as act:
        add = act.session.add
        store, app = (
            Store(name="openfield", may=[], rulebook=rules, connected_at=AT),
            App(name="marram", title="Marram", created_at=AT),
        )
        act.session.add_all([store, app])
        act.session.flush()
        berth = Berth(
            app_id=app.id, store_id=store.id, listed_name="Marram", platform="android", identifier="org.example.marram",
            language="en", created_at=AT, store_ref="b",
        )  # fmt: skip
        build = Build(
            app_id=app.id, platform="android", version="1.0.0", number=BuildNumber(1), created_at=AT, created_by="p"
        )
        cohort = Cohort(app_id=app.id, name="crew", kind=CohortKind.CREW, created_at=AT)
        act.session.add_all([berth, build, cohort])
        act.session.flush()
        sent = Consignment(
            build_id=build.id,
            berth_id=berth.id,
            state=ConsignmentState.READY,
            created_at=AT,
            changed_at=AT,
            size_bytes=1,
        )
        add(sent)
        act.session.flush()
        trial = Trial(
            cohort_id=cohort.id, consignment_id=sent.id, track="workbench", state=TrialState.OPEN, contact="ida@example.org",
            created_at=AT, changed_at=AT, brief={"en": "Walk along the dike – please."},
        )  # fmt: skip
        testers = [
            tables.Tester(email=f"t{number}@example.org", name=f"Tünde {number}", created_at=AT)
            for number in range(PEOPLE)
        ]
        act.session.add_all([trial, *testers])
        act.session.flush()
        act.session.add_all(
            Invitation(trial_id=trial.id, tester_id=tester.id, created_at=AT, changed_at=AT, seated_at=AT)
            for tester in testers
        )
    yield opened
    opened.close()


def send_through(server: Server, desk: Desk, monkeypatch: pytest.MonkeyPatch) -> int:
    """Send what waits over this server, by a postman who has just come; returns how many were sent."""
    monkeypatch.setattr(postbox, "connected", lambda _settings: nullcontext(server))
    return Postman(desk).send_waiting()


def states(desk: Desk) -> list[tuple[InvitationState, int]]:
    with desk.look() as session:
        return [(row.state, row.mails) for row in session.scalars(select(Invitation).order_by(Invitation.id))]


def test_every_mail_says_the_same_in_text_and_html_and_its_source_can_be_read(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    server = Server()
    assert send_through(server, desk, monkeypatch) == PEOPLE
    assert states(desk) == [(InvitationState.SENT, 1)] * PEOPLE
    read = message_from_bytes(bytes(server.mails[0]), policy=policy.default)
    text, html = read.get_body(("plain",)), read.get_body(("html",))
    assert text is not None
    assert html is not None
    for part in (text, html):
        assert "Tünde" in part.get_content()
        assert "Walk along the dike – please." in part.get_content()
    assert max(len(line) for line in bytes(server.mails[0]).splitlines()) <= 200
    assert {mail["To"] for mail in server.mails} == {f"t{number}@example.org" for number in range(PEOPLE)}
    assert len(set(server.ids())) == PEOPLE
    assert {mail["From"] for mail in server.mails} == {desk.settings.mail_from}
    assert {mail["Reply-To"] for mail in server.mails} == {"ida@example.org"}


def test_what_a_server_took_before_it_went_away_is_sent_no_second_time(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    first, then = Server(takes=3), Server()
    send_through(first, desk, monkeypatch)
    assert sorted(state for state, _ in states(desk)) == ["queued"] * 4 + ["sent"] * 3
    with desk.act(ENGINE) as act:
        for row in act.session.scalars(select(Invitation)):
            row.try_after = None
    assert send_through(then, desk, monkeypatch) == PEOPLE - 3
    assert not set(first.ids()) & set(then.ids())


def test_a_desk_that_is_killed_between_the_mail_and_the_record_knows_what_was_taken(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    class KilledError(BaseException):
        pass

    def dies(*_: object) -> None:
        raise KilledError

    server, then = Server(takes=4), Server()
    with monkeypatch.context() as here:
        here.setattr(mail, "_settle", dies)
        with pytest.raises(KilledError):
            send_through(server, desk, here)
    assert states(desk) == [(InvitationState.QUEUED, 0)] * PEOPLE
    took = len(server.mails)  # fewer than 4 where the machine was so slow that they were to be written down before
    assert took > 0
    assert send_through(then, desk, monkeypatch) == PEOPLE - took
    assert len({*server.ids(), *then.ids()}) == PEOPLE
    assert states(desk) == [(InvitationState.SENT, 1)] * PEOPLE
    assert not (desk.settings.data / "mails-sent").exists()


def test_one_mail_that_cannot_be_written_down_keeps_no_other_from_it(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    with desk.look() as session:
        bad = session.scalars(select(Invitation.id).limit(1)).one()
    real = mail._settle

    def spoilt(act: Any, sent: Any) -> None:
        if any(taken.invitation == bad for taken in sent):
            raise ValueError("spoilt")
        real(act, sent)

    monkeypatch.setattr(mail, "_settle", spoilt)
    send_through(Server(), desk, monkeypatch)
    assert sorted(state for state, _ in states(desk)) == ["queued"] + ["sent"] * (PEOPLE - 1)
    with desk.look() as session:
        row = session.get(Invitation, bad)
        assert row is not None
        assert row.trouble is not None
        assert row.try_after is not None
        assert row.try_after > desk.clock.now() - timedelta(seconds=1)


def test_a_line_that_was_cut_off_is_passed_over(tmp_path: Path) -> None:
    place = tmp_path / "mails-sent"
    SentMails(place).add(Taken("in-1", 2))
    place.write_text(place.read_text() + "in-2", encoding="ascii")
    assert SentMails(place).entries == [Taken("in-1", 2)]
