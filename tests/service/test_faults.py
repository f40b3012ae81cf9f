"""When something around the desk fails: the mail server, a store, a rule met too late. Nothing is lost, all of it is said."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

import pytest

from restless_tide.client import Conflict, ImpossibleAct, Invalid, NotFound, NotReady
from restless_tide.core.rulebook import CohortKind, read_rulebook
from restless_tide.standins.__main__ import RULEBOOKS
from tests.harbour import Harbour, leg_of, until
from tests.nursery import NurseryProcesses
from tests.ports import own_ports

TRIAL = {"cohort": "crew", "store": "openfield", "notes": "Look.", "contact": "ida@example.org"}


def crew_of(harbour: Harbour, app: str, count: int) -> list[str]:
    harbour.tide.testing.make_cohort(app, "crew")
    addresses = [f"tester{place}.{app}@example.org" for place in range(count)]
    for address in addresses:
        harbour.tide.testing.add_tester(app, "crew", address)
    return addresses


def test_a_dead_mail_server_is_visible_and_every_mail_goes_out_once_when_it_is_back(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    addresses = crew_of(harbour, app, 3)
    harbour.processes.stop("mail")
    try:
        trial = harbour.tide.testing.open_trial(app, build=build, **TRIAL)
        stuck = until(
            lambda: harbour.tide.testing.invitations(trial.id), lambda now: all(entry.trouble for entry in now)
        )
        assert {entry.state for entry in stuck} == {"queued"}
        assert "mail server does not take it" in (stuck[0].trouble or "")
        assert harbour.tide.testing.trial(trial.id).state == "open"
        assert any("Mail does not go out" in call.said for call in harbour.tide.watching.overview().desk_calls)
    finally:
        harbour.processes.start("mail")
    until(lambda: harbour.tide.testing.trial(trial.id), lambda now: now.invited == {"sent": 3})
    received = Counter(mail["to"] for mail in harbour.mails(app))
    assert received == dict.fromkeys(addresses, 1)


def test_an_invitation_can_be_sent_again_by_the_same_link_and_nobody_is_flooded(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    (address,) = crew_of(harbour, app, 1)
    trial = harbour.tide.testing.open_trial(app, build=build, **TRIAL)
    until(lambda: harbour.tide.testing.trial(trial.id), lambda now: now.invited == {"sent": 1})
    (sent,) = harbour.tide.testing.invitations(trial.id)
    with pytest.raises(Conflict, match="less than 24 hours ago"):
        harbour.tide.testing.send_again(sent.id)
    told = harbour.tide.testing.send_again_all(trial.id)
    assert (told.queued, told.held_back) == (0, 1)
    harbour.tide.watching.move_clock(step_hours=25)
    harbour.tide.testing.send_again(sent.id)
    mails = until(lambda: harbour.mails(address), lambda found: len(found) == 2)
    assert mails[0]["text"] == mails[1]["text"]
    assert mails[0]["message_id"] != mails[1]["message_id"]
    with pytest.raises(NotFound):
        harbour.tide.testing.send_again("in-none")


def test_seats_are_counted_before_anybody_is_invited(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "northgate")
    rules = read_rulebook((RULEBOOKS / "northgate.toml").read_text(encoding="utf-8"))
    seats = rules.cohorts[CohortKind.CREW].seats
    too_many = f"{seats} crew seats; {seats + 1} testers"
    crew_of(harbour, app, seats + 1)
    with pytest.raises(NotReady, match=too_many) as short:
        harbour.tide.testing.open_trial(app, build=build, **TRIAL | {"store": "northgate"})
    assert "Take 1 tester(s) out" in short.value.remedy
    assert harbour.tide.testing.trials(app) == []
    harbour.tide.testing.remove_tester(app, "crew", f"tester{seats}.{app}@example.org")
    harbour.tide.testing.open_trial(app, build=build, **TRIAL | {"store": "northgate"})
    with pytest.raises(NotReady, match=too_many):
        harbour.tide.testing.add_tester(app, "crew", f"late.{app}@example.org")
    assert harbour.tide.testing.cohorts(app)[0].testers == seats


def test_a_trial_is_ended_and_an_ended_one_cannot_be_ended_again(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    crew_of(harbour, app, 1)
    trial = harbour.tide.testing.open_trial(app, build=build, **TRIAL)
    until(lambda: harbour.tide.testing.trial(trial.id), lambda now: now.state == "open")
    assert harbour.tide.testing.close_trial(trial.id, reason="enough").state == "closed"
    until(
        lambda: [
            entry["state"]
            for entry in harbour.control("openfield", "things/trial")
            if any(app in who for who in entry["testers"])
        ],
        lambda states: states == ["closed"],
    )
    with pytest.raises(ImpossibleAct, match="The trial is closed"):
        harbour.tide.testing.close_trial(trial.id)


@pytest.mark.parametrize(
    ("changed", "error", "complaint"),
    [
        ({"notes": "  "}, NotReady, "needs notes"),
        ({"contact": "nobody"}, Invalid, "no mail address"),
        ({"cohort": "walkers"}, NotFound, "No cohort"),
        ({"store": "northgate"}, NotReady, "not sent there"),
    ],
)
def test_a_trial_that_lacks_something_is_refused(
    harbour: Harbour, changed: dict[str, str], error: type[Exception], complaint: str
) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    crew_of(harbour, app, 1)
    with pytest.raises(error, match=complaint):
        harbour.tide.testing.open_trial(app, build=build, **TRIAL | changed)


def test_a_store_that_is_away_is_said_so_and_what_was_ordered_is_done_when_it_is_back(harbour: Harbour) -> None:
    harbour.control("northgate", "mischief", {"outage": True})
    name = "awaybook"
    try:
        until(
            harbour.tide.stores.every,
            lambda stores: any(store.name == "northgate" and store.trouble for store in stores),
        )
        harbour.tide.apps.register(name, title="Awaybook", identifiers={"ios": "org.example.awaybook"})
        harbour.tide.apps.open_berth(name, "northgate")
        berth = until(lambda: harbour.tide.apps.berth(name, "northgate"), lambda seen: seen.waiting_because)
        assert (berth.state, "closed for a while" in (berth.waiting_because or "")) == ("ordered", True)
        with pytest.raises(Invalid, match="ordered, not confirmed yet"):
            harbour.tide.builds.next_numbers(name, "northgate")
    finally:
        harbour.control("northgate", "mischief", {"outage": False})
    until(lambda: harbour.tide.apps.berth(name, "northgate"), lambda seen: seen.state == "open")
    until(
        harbour.tide.stores.every,
        lambda stores: not any(store.trouble for store in stores if store.name == "northgate"),
    )


def test_a_push_while_the_store_is_away_is_checked_against_the_desks_own_records(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.ready_build(app, "openfield", "1.0.0", 7)
    harbour.control("openfield", "mischief", {"outage": True})
    try:
        with pytest.raises(NotReady, match="Number 7 is not above 7"):
            harbour.push(harbour.package(app, "openfield", "1.1.0", 7), app=app, store="openfield")
        sent = harbour.push(harbour.package(app, "openfield", "1.1.0", 8), app=app, store="openfield")
        until(lambda: harbour.tide.builds.consignment(sent.id), lambda seen: seen.waiting_because)
    finally:
        harbour.control("openfield", "mischief", {"outage": False})
    until(lambda: harbour.tide.builds.consignment(sent.id), lambda seen: seen.state == "processing")


def test_what_the_store_refuses_leaves_the_leg_as_the_store_was_seen_to_hold_it(harbour: Harbour) -> None:
    """Someone paused on the store's own pages a moment before: the desk's own pause is refused there."""
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))
    (rollout,) = harbour.rollouts("openfield", app)
    harbour.control("openfield", "mischief", {"outage": True})
    harbour.control("openfield", "acts/pause", {"submission": rollout["submission"]})
    harbour.tide.releases.steer(app, "1.0.0", "pause", reason="a look")
    harbour.control("openfield", "mischief", {"outage": False})
    leg = leg_of(harbour.released(app, "1.0.0", lambda seen: seen.legs[0].orders[0].state == "refused"), "openfield")
    assert "cannot be taken through pause" in (leg.orders[0].trouble or "")
    until(lambda: harbour.leg(app, "openfield"), lambda seen: seen.phase == "paused" and seen.seen.state == "paused")


def test_a_ladder_a_build_and_a_version_that_do_not_fit_are_refused(harbour: Harbour) -> None:
    app = harbour.new_app()
    drafted = harbour.draft(app)
    android, ios = leg_of(drafted, "openfield").build, leg_of(drafted, "northgate").build
    with pytest.raises(Invalid, match="dictates its ladder"):
        harbour.tide.releases.change_leg(app, "1.0.0", "openfield", ladder="5,100")
    with pytest.raises(Invalid, match="is for android; Northgate carries ios"):
        harbour.tide.releases.change_leg(app, "1.0.0", "northgate", build=android)
    other = harbour.ready_build(app, "northgate", "1.1.0", 1)
    with pytest.raises(Invalid, match="carries version 1.1.0; the release is 1.0.0"):
        harbour.tide.releases.change_leg(app, "1.0.0", "northgate", build=other)
    assert leg_of(harbour.tide.releases.one(app, "1.0.0"), "northgate").build == ios


def test_a_desk_without_people_says_how_to_add_the_first(tmp_path: Path) -> None:
    with NurseryProcesses(tmp_path, own_ports()) as processes:
        processes.start("desk")
        told = (tmp_path / "desk.log").read_text()
    assert "Nobody can sign in yet" in told
    assert "tide desk init" in told
