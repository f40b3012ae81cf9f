"""Handing builds to people, act by act on the records alone: no network, no background, every rule close up."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import func, select

from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.errors import Conflict, ImpossibleAct, Invalid, NotReady
from restless_tide.core.invitation import InvitationEvent, InvitationState
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.order import OrderKind, OrderState
from restless_tide.core.report import ReportEvent, ReportKind
from restless_tide.core.rulebook import CohortKind, read_rulebook
from restless_tide.core.trial import TrialState
from restless_tide.desk import cohorts, find, inbox, invitations, reports, seating, testers, trials
from restless_tide.desk.clock import SteppableClock
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.planning import Brief, plan
from restless_tide.desk.reports import Filing
from restless_tide.desk.settings import Settings
from restless_tide.desk.testers import Personal
from restless_tide.engine import field_reports
from restless_tide.gateways.protocol import StoreEvent
from restless_tide.records.tables import (
    App,
    AppIdentifier,
    Berth,
    Build,
    Consignment,
    Invitation,
    LogbookLine,
    Membership,
    Order,
    Store,
    Trial,
)
from restless_tide.records.tables import Tester as Human

RULEBOOKS = Path(__file__).parents[2] / "src/restless_tide/standins/rulebooks"
BRIEF = Brief({"en": "Look."}, contact="ida@example.org")


@pytest.fixture
def desk(tmp_path: Path) -> Iterator[Desk]:
    """A desk with one app, two stores and a build that is ready at both."""
    opened = Desk(Settings(data=tmp_path / "desk"), SteppableClock())
    with opened.act("operator") as act:
        app = App(name="marram", title="Marram", created_at=act.now)
        act.session.add(app)
        act.session.flush()
        act.session.add(AppIdentifier(app_id=app.id, platform="android", identifier="org.example.marram"))
        for name in ("openfield", "slatehouse"):
            rules = read_rulebook((RULEBOOKS / f"{name}.toml").read_text(encoding="utf-8")).model_dump(mode="json")
            account = {"domains": ["example.org"]}
            store = Store(name=name, may=[], rulebook=rules, account=account, connected_at=act.now)
            act.session.add(store)
            act.session.flush()
            act.session.add(
                Berth(
                    app_id=app.id, store_id=store.id, listed_name="Marram", platform="android", language="en",
                    identifier="org.example.marram", created_at=act.now, store_ref=f"berth-{name}",
                )
            )  # fmt: skip
        act.session.flush()
    add_build(opened, 1)
    yield opened
    opened.close()


def add_build(desk: Desk, number: int, state: ConsignmentState = ConsignmentState.READY) -> str:
    with desk.act("operator") as act:
        app = find.app(act.session, "marram")
        build = Build(
            app_id=app.id,
            platform="android",
            version="1.0.0",
            number=BuildNumber(number),
            created_at=act.now,
            created_by="p",
        )
        act.session.add(build)
        act.session.flush()
        for berth in app.berths:
            act.session.add(
                Consignment(
                    build_id=build.id, berth_id=berth.id, state=state, created_at=act.now, changed_at=act.now, size_bytes=1,
                    store_ref=f"consignment-{berth.store.name}-{number}",
                )
            )  # fmt: skip
        return build.id


def crew(desk: Desk, *who: str, name: str = "crew", kind: CohortKind = CohortKind.CREW, **told: Any) -> None:
    with desk.act("operator") as act:
        cohorts.make(act, "marram", name, kind)
        for entry in who:
            cohorts.add_tester(act, "marram", name, f"{entry}@example.org", Personal(**told))


def newest_build(act: Act) -> str:
    return act.session.scalars(select(Build.id).order_by(Build.number_order.desc())).first() or ""


def hand(desk: Desk, *names: str, store: str = "openfield", build: str | None = None, **wish: Any) -> list[str]:
    with desk.act("p-ida") as act:
        rows = trials.open_trials(act, "marram", build or newest_build(act), names or ["crew"], [store], BRIEF, **wish)
        return [row.id for row in rows]


def carried_out(desk: Desk) -> None:
    """The store has done whatever was ordered, and opened what was handed in."""
    with desk.act("store:openfield") as act:
        for order in act.session.scalars(select(Order).where(Order.state == OrderState.QUEUED)):
            order.state = OrderState.CONFIRMED
        for trial in act.session.scalars(select(Trial).where(Trial.state == TrialState.WITH_STORE)):
            trial.state, trial.store_ref = TrialState.OPEN, f"trial-{trial.id}"
            act.session.flush()
            trials.opened(act, trial)


def ordered(desk: Desk, *kinds: OrderKind) -> list[list[str]]:
    """The addresses of the orders of these kinds, in their sequence."""
    with desk.look() as session:
        rows = session.scalars(select(Order).where(Order.kind.in_(kinds)).order_by(Order.position)).all()
        return [list(seating.open_addresses(desk.seal, row)) for row in rows]


def states(desk: Desk, trial: str) -> dict[str, str]:
    with desk.look() as session:
        rows = session.execute(
            select(Human.email, Invitation.state)
            .join(Human, Invitation.tester_id == Human.id)
            .where(Invitation.trial_id == trial)
        )
        return {email.partition("@")[0]: str(state) for email, state in rows}


def invitation(act: Act, who: str, trial: str) -> Invitation:
    found = act.session.scalar(
        select(Invitation)
        .join(Human, Invitation.tester_id == Human.id)
        .where(Human.email == f"{who}@example.org", Invitation.trial_id == trial)
    )
    assert found is not None
    return found


def test_the_first_batch_goes_with_the_trial_and_the_others_after_it(desk: Desk) -> None:
    crew(desk, name="shore", kind=CohortKind.WALK_IN)
    with desk.act("p") as act:
        people = [
            testers.get_or_add(act, f"t{place:04}@example.org", Personal())[0] for place in range(seating.BATCH * 2 + 7)
        ]
        cohorts.put_in(act, find.cohort(act.session, find.app(act.session, "marram"), "shore"), people, "by the desk")
    hand(desk, "shore")
    orders = ordered(desk, OrderKind.OPEN_TRIAL, OrderKind.SEAT)
    assert [len(batch) for batch in orders] == [seating.BATCH, seating.BATCH, 7]
    assert sorted(address for batch in orders for address in batch) == sorted(tester.email for tester in people)
    with desk.look() as session:
        kept = session.scalars(select(Order.payload)).all()
        assert "@example.org" not in str(kept), "addresses stand in an order only sealed"


@pytest.mark.parametrize(
    ("store", "first", "second", "fits"),
    [
        ("openfield", 60, 0, True),
        ("openfield", 40, 20, True),
        ("openfield", 40, 21, False),
        ("slatehouse", 25, 0, True),
        ("slatehouse", 26, 0, False),
    ],
)
def test_seats_of_a_kind_are_counted_over_cohorts_in_the_same_act(
    desk: Desk, store: str, first: int, second: int, fits: bool
) -> None:
    crew(desk, *(f"a{place}" for place in range(first)))
    crew(desk, *([f"b{place}" for place in range(second)] or ["a0"]), name="second")
    if fits:
        assert len(hand(desk, "crew", "second", store=store)) == 2
        return
    with pytest.raises(NotReady, match="crew seats"):
        hand(desk, "crew", "second", store=store)
    with desk.look() as session:
        assert session.scalar(select(func.count()).select_from(Trial)) == 0
        assert session.scalar(select(func.count()).select_from(Order)) == 0


def test_every_build_has_its_own_seats_where_the_rulebook_says_so(desk: Desk) -> None:
    crew(desk, *(f"a{place}" for place in range(25)))
    hand(desk, store="slatehouse")
    carried_out(desk)
    add_build(desk, 2)
    crew(desk, *(f"b{place}" for place in range(25)), name="second")
    hand(desk, "second", store="slatehouse")
    with pytest.raises(NotReady, match="25 crew seats; 50"):
        hand(desk, "crew", store="slatehouse")


def test_who_has_no_device_of_the_platform_is_not_invited(desk: Desk) -> None:
    crew(desk, "droid", "any")
    with desk.act("p") as act:
        testers.change(act, "droid@example.org", Personal(platforms=["android"]))
        cohorts.add_tester(act, "marram", "crew", "phone@example.org", Personal(platforms=["ios"]))
    with desk.look() as session:
        build = session.scalars(select(Build.id)).one()
        (made,) = plan(session, "marram", build, ["crew"], ["openfield"], BRIEF)
        assert (len(made.people), made.without_platform) == (2, 1)
        assert [finding.code for finding in made.findings] == ["platform-missing"]
    (trial,) = hand(desk)
    assert set(states(desk, trial)) == {"droid", "any"}


def test_a_newer_trial_replaces_what_is_not_open_at_once_and_what_is_open_when_it_opens(desk: Desk) -> None:
    crew(desk, "wren")
    (first,) = hand(desk)
    carried_out(desk)
    second_build = add_build(desk, 2)
    (second,) = hand(desk, build=second_build)
    (third,) = hand(desk, build=add_build(desk, 3))
    with desk.look() as session:
        found = {row.id: row.state for row in session.scalars(select(Trial))}
    assert found == {first: TrialState.OPEN, second: TrialState.REPLACED, third: TrialState.WITH_STORE}
    carried_out(desk)
    with desk.look() as session:
        assert find.trial(session, first).state is TrialState.REPLACED
    closes = [kind for kind in _kinds(desk) if kind is OrderKind.CLOSE_TRIAL]
    assert len(closes) == 2


def _kinds(desk: Desk) -> list[OrderKind]:
    with desk.look() as session:
        return list(session.scalars(select(Order.kind).order_by(Order.position)))


def test_who_comes_later_is_taken_along_and_who_leaves_gives_the_seat_back(desk: Desk) -> None:
    crew(desk, "wren")
    (trial,) = hand(desk)
    carried_out(desk)
    with desk.act("p") as act:
        cohorts.add_tester(act, "marram", "crew", "tam@example.org", Personal())
    assert ordered(desk, OrderKind.SEAT) == [["tam@example.org"]]
    with desk.act("p") as act:
        cohorts.remove_testers(act, "marram", "crew", ["wren@example.org"])
    assert ordered(desk, OrderKind.UNSEAT) == [["wren@example.org"]]
    assert states(desk, trial) == {"wren": "removed", "tam": "queued"}
    with desk.act("p") as act:
        cohorts.add_tester(act, "marram", "crew", "wren@example.org", Personal())
    assert states(desk, trial)["wren"] == "queued"
    assert ordered(desk, OrderKind.SEAT)[-1] == ["wren@example.org"]


def test_declining_ends_everything_of_that_cohort_and_accepting_again_takes_a_seat_again(desk: Desk) -> None:
    crew(desk, "wren", "tam")
    (first,) = hand(desk)
    (other,) = hand(desk, store="slatehouse")
    carried_out(desk)
    with desk.act("tester:x") as act:
        invitations.declined(act, invitation(act, "wren", first))
        invitations.declined(act, invitation(act, "wren", first))
    assert states(desk, first)["wren"] == states(desk, other)["wren"] == "declined"
    assert ordered(desk, OrderKind.UNSEAT) == [["wren@example.org"], ["wren@example.org"]]
    (newer,) = hand(desk, build=add_build(desk, 2))
    assert set(states(desk, newer)) == {"tam"}
    with desk.act("tester:x") as act:
        invitations.accepted(act, invitation(act, "wren", first))
        membership = act.session.scalars(
            select(Membership).join(Human, Membership.tester_id == Human.id).where(Human.email == "wren@example.org")
        ).one()
        assert membership.declined_at is None
        assert membership.accepted_at is not None
    assert ordered(desk, OrderKind.SEAT)[-1] == ["wren@example.org"]


def test_nobody_accepts_a_test_that_is_over(desk: Desk) -> None:
    crew(desk, "wren")
    (trial,) = hand(desk)
    carried_out(desk)
    with desk.act("p") as act:
        trials.close(act, trial, "enough")
    with desk.act("tester:x") as act, pytest.raises(Conflict, match="This test is closed"):
        invitations.accepted(act, invitation(act, "wren", trial))


@pytest.mark.parametrize(
    ("seen", "after"),
    [
        (["accepted"], "accepted"),
        (["accepted", "installed"], "installed"),
        (["installed", "accepted"], "installed"),
        (["installed", "declined"], "declined"),
        (["declined", "installed"], "declined"),
        (["nonsense"], "queued"),
    ],
)
def test_what_a_store_sees_moves_an_invitation_on_and_never_back(desk: Desk, seen: list[str], after: str) -> None:
    crew(desk, "wren")
    (trial,) = hand(desk)
    carried_out(desk)
    for state in seen:
        with desk.act("store:openfield") as act:
            row = find.trial(act.session, trial)
            assert invitations.seen_at_store(act, row, "Wren@Example.org", state, "Wavelet 9", "Android 15")
    assert states(desk, trial) == {"wren": after}
    with desk.act("store:openfield") as act:
        assert not invitations.seen_at_store(
            act, find.trial(act.session, trial), "stranger@example.org", "accepted", "", ""
        )


def test_a_dead_address_is_not_mailed_and_lives_again_when_somebody_says_so(desk: Desk) -> None:
    crew(desk, "wren")
    (trial,) = hand(desk)
    carried_out(desk)
    with desk.act("engine") as act:
        row = invitation(act, "wren", trial)
        seating.move(act, row, InvitationEvent.SEND)
        row.mails, row.mailed_at = 1, act.now
        invitations.bounced(act, row, "4.4.1 nobody answers", for_good=False)
        assert row.state is InvitationState.SENT
        invitations.bounced(act, row, "5.1.1 no such mailbox", for_good=True)
        assert row.state is InvitationState.BOUNCED
    (newer,) = hand(desk, build=add_build(desk, 2))
    assert states(desk, newer) == {"wren": "bounced"}
    with desk.act("p") as act, pytest.raises(Conflict, match="24 hours"):
        invitations.send_again(act, invitation(act, "wren", trial).id)
    desk.clock.step(timedelta(hours=25))
    with desk.act("p") as act:
        again = invitations.send_again(act, invitation(act, "wren", trial).id)
        assert (again.state, again.tester.bounced_at) == (InvitationState.QUEUED, None)


def test_a_draft_waits_for_the_build_and_one_without_seats_stays(desk: Desk) -> None:
    crew(desk, "wren")
    coming = add_build(desk, 2, ConsignmentState.PROCESSING)
    with pytest.raises(NotReady, match="is processing"):
        hand(desk, build=coming)
    (trial,) = hand(desk, build=coming, when_ready=True)
    crew(desk, *(f"b{place}" for place in range(60)), name="second")
    hand(desk, "second", build=_first(desk))
    with desk.act("engine") as act:
        consignment = find.trial(act.session, trial).consignment
        consignment.state = ConsignmentState.READY
        trials.build_ready(act, consignment)
        row = find.trial(act.session, trial)
        assert row.state is TrialState.DRAFTED
        assert "60 crew seats; 61" in (row.reason or "")
    with desk.act("p") as act:
        cohorts.remove_testers(act, "marram", "second", ["b0@example.org"])
        trials.build_ready(act, find.trial(act.session, trial).consignment)
        assert find.trial(act.session, trial).state is TrialState.WITH_STORE


def _first(desk: Desk) -> str:
    with desk.look() as session:
        return session.scalars(select(Build.id).order_by(Build.number_order)).first() or ""


def test_what_can_not_be_done_now_is_refused_with_what_can(desk: Desk) -> None:
    crew(desk, "wren")
    (trial,) = hand(desk)
    for wrong, error, said in (
        (lambda act: trials.again(act, trial, Brief(), ""), ImpossibleAct, "hand in is not possible"),
        (lambda act: cohorts.attach(act, "marram", "crew", "openfield", by_itself=True), Invalid, "no standing brief"),
        (lambda act: cohorts.detach(act, "marram", "crew", "openfield"), Conflict, "with the store"),
        (lambda act: cohorts.set_join(act, "marram", "crew", is_open=True, limit=None, until=None, renew=False), Conflict, "only walk-in"),
        (lambda act: invitations.send_again_all(act, trial, 0), Conflict, "with the store"),
        (lambda act: trials.open_trials(act, "marram", newest_build(act), [], [], BRIEF), Invalid, "No cohort was named"),
    ):  # fmt: skip
        with desk.act("p") as act, pytest.raises(error, match=said):
            wrong(act)


def test_the_numbers_of_a_build_count_each_person_once_by_how_far_they_came(desk: Desk) -> None:
    crew(desk, "wren", "tam", "bo")
    (first,) = hand(desk)
    (second,) = hand(desk, store="slatehouse")
    carried_out(desk)
    with desk.act("store:openfield") as act:
        row = find.trial(act.session, first)
        invitations.seen_at_store(act, row, "wren@example.org", "installed", "Wavelet 9", "")
        invitations.seen_at_store(act, find.trial(act.session, second), "wren@example.org", "accepted", "", "")
        invitations.seen_at_store(act, row, "tam@example.org", "accepted", "", "")
    with desk.act("p") as act:
        app = find.app(act.session, "marram")
        build = act.session.scalars(select(Build)).one()
        stack = "E.X: a\n\tat org.example.A.run(A.java:1)\n"
        for place in range(3):
            filing = Filing(ReportKind.CRASH, stack=stack.replace("A.java:1", f"A.java:{place}"))
            report = reports.file(desk, act, app, filing, build=build)
        reports.file(desk, act, app, Filing(ReportKind.REMARK, text="Look."), build=build)
        reports.decide(act, report.id, reports.Decision(ReportEvent.CLOSE))
    with desk.look() as session:
        (numbers,) = inbox.numbers(session, "marram")
        assert (numbers.invited, numbers.accepted, numbers.installed) == (3, 2, 1)
        assert (numbers.remarks, numbers.crashes, numbers.open_reports) == (1, 3, 3)
        (group,) = inbox.groups(session, "marram")
        assert (group.count, group.open, group.newest.headline) == (3, 2, "X in A.run")


def test_people_stand_in_the_logbook_by_their_pseudonyms_alone(desk: Desk) -> None:
    crew(desk, "wren", name="crew")
    with desk.act("p") as act:
        cohorts.add_tester(act, "marram", "crew", "tam@example.org", Personal(name="Tam Okoro"))
        testers.change(act, "tam@example.org", Personal(name="Tam O."))
        cohorts.remove_testers(act, "marram", "crew", ["tam@example.org"])
    with desk.look() as session:
        lines = session.execute(
            select(LogbookLine.act, LogbookLine.subject, LogbookLine.before, LogbookLine.after)
        ).all()
    assert "Tam" not in str(lines)
    assert "@" not in str(lines)


def test_a_report_belongs_to_the_trial_of_the_store_that_tells_it_whatever_other_stores_call_theirs(desk: Desk) -> None:
    crew(desk, "wren")
    hand(desk)
    carried_out(desk)
    with desk.look() as session:
        reference = session.scalars(select(Trial.store_ref)).one()
    about = {"trial": reference, "text": "Nice."}
    event = StoreEvent(
        id="e-1", source="/", type="report.filed", subject="report-1", time=desk.clock.now(), sequence=1, data=about
    )
    taken = {}
    for name in ("slatehouse", "openfield"):
        with desk.act(f"store:{name}") as act:
            taken[name] = field_reports.take_in(desk, act, find.store(act.session, name), event)
    assert taken == {"slatehouse": False, "openfield": True}
