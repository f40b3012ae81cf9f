"""Launches by conditions at one desk in this process: who gives the go-ahead, what is looked at, what is told, what never comes twice."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from sqlalchemy import select

from restless_tide.core.condition_text import parse_condition
from restless_tide.core.errors import ImpossibleAct, Invalid, NotFound
from restless_tide.core.freeze import Freeze
from restless_tide.core.leg import LegPhase
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.order import OrderKind
from restless_tide.core.report import ReportKind, ReportState
from restless_tide.core.rollout import Progress, RolloutEvent, RolloutState
from restless_tide.core.round import RoundState
from restless_tide.desk import freezes, go_aheads, launching, legs, people, releases, steering
from restless_tide.desk.launch_facts import About, Fact
from restless_tide.engine import launches
from restless_tide.records.tables import (
    Berth,
    Build,
    Cohort,
    Consignment,
    FieldReport,
    Leg,
    Notice,
    Order,
    Round,
    Store,
    Trial,
    TrialUsage,
)
from tests.shore import AT, Shore, shore

HOUR = timedelta(hours=1)
WISH = releases.LegWish()


@pytest.fixture
def here(tmp_path: Path) -> Iterator[Shore]:
    """Marram 1.0.0, approved and not launched at Openfield, and at Wrackline, which is carried by hand."""
    with shore(tmp_path) as opened:
        with opened.desk.act("operator") as act:
            session = act.session
            leg = session.get_one(Leg, opened.leg_id)
            legs.keep_progress(leg, Progress(), act.now)
            leg.launched_at = leg.given_out_since = None
            leg.rounds[-1].changed_at = act.now
            other = Store(id="s-other", name="wrackline", connected_at=AT, rulebook=leg.berth.store.rulebook, may=[])
            session.add(other)
            session.flush()
            berth = Berth(
                app_id=leg.release.app_id, store_id=other.id, listed_name="M", platform="android", identifier="m",
                language="en", created_at=AT, store_ref="berth-other",
            )  # fmt: skip
            session.add(berth)
            session.flush()
            second = Leg(
                id="l-other", release_id=leg.release_id, berth_id=berth.id, build_id=leg.build_id, created_at=AT,
                ladder=leg.ladder,
            )  # fmt: skip
            session.add(second)
            session.flush()
            session.add(Round(leg_id=second.id, number=1, build_id=leg.build_id, submitted_at=AT, changed_at=AT))
            for name in ("Ida Fenwick", "Tom Reed", "Wren Moss"):
                people.add(act, name, f"{name.split()[0].lower()}@example.org", "sea-lavender-4")
        with opened.desk.background.launching:
            opened.desk.background.launch_facts.clear()
        yield opened


def person(here: Shore, name: str) -> str:
    with here.desk.look() as session:
        return next(one.id for one in people.every(session) if one.name.startswith(name))


def another_build(leg: Leg, version: str, number: int) -> Build:
    return Build(
        app_id=leg.release.app_id, platform="android", version=version, number=BuildNumber(number), created_at=AT, created_by="p"
    )  # fmt: skip


def wait_for(here: Shore, *texts: str, place: str = "openfield") -> None:
    wish = replace(WISH, conditions=tuple(parse_condition(text) for text in texts))
    with here.desk.act("operator") as act:
        releases.change_leg(act, "marram", "1.0.0", place, wish)


def give(here: Shore, who: str, *, withdraw: bool = False) -> None:
    act_of = releases.take_back_go_ahead if withdraw else releases.give_go_ahead
    with here.desk.act(person(here, who)) as act:
        act_of(act, "marram", "1.0.0", None, "the fair opens")


def look(here: Shore) -> float | None:
    return launches.look(here.desk)


def launched(here: Shore) -> int:
    with here.desk.look() as session:
        return len(session.scalars(select(Order).where(Order.kind == OrderKind.LAUNCH)).all())


def missing(here: Shore) -> list[str]:
    with here.desk.look() as session:
        return launching.waits_for(session.get_one(Leg, here.leg_id), here.desk.clock.now())


def notices(here: Shore) -> list[str]:
    with here.desk.look() as session:
        return [
            row.said for row in session.scalars(select(Notice).order_by(Notice.at)) if row.kind.startswith("launch")
        ]


def set_up(here: Shore, change: object) -> None:
    with here.desk.act("operator") as act:
        act.session.add(change)


def test_without_conditions_it_is_launched_as_soon_as_it_is_approved_and_once(here: Shore) -> None:
    with here.desk.background.launching:
        here.desk.background.launch_facts.add(Fact(About.LEG, here.leg_id))
    look(here)
    assert launched(here) == 1
    with here.desk.background.launching:
        here.desk.background.launch_facts.add(Fact(About.EVERYTHING))
    with ThreadPoolExecutor(4) as hands:
        list(hands.map(lambda _: look(here), range(8)))
        list(hands.map(lambda _: launches._look_at(here.desk, here.leg_id, {}), range(8)))
    assert launched(here) == 1
    here.settle()
    assert here.leg().state is RolloutState.RISING


def test_several_people_have_to_give_the_go_ahead_each_for_themself(here: Shore) -> None:
    wait_for(here, "go-ahead 2 of ida@example.org,tom@example.org")
    with pytest.raises(ImpossibleAct, match="asked of Ida Fenwick and Tom Reed"):
        give(here, "Wren")
    give(here, "Ida")
    with pytest.raises(ImpossibleAct, match="given your go-ahead for 1.0.0 already"):
        give(here, "Ida")
    look(here)
    assert missing(here) == ["2 go-aheads of Ida Fenwick or Tom Reed (1 of 2 given, by Ida Fenwick)"]
    give(here, "Ida", withdraw=True)
    with pytest.raises(ImpossibleAct, match="you have given none"):
        give(here, "Ida", withdraw=True)
    give(here, "Tom")
    look(here)
    assert launched(here) == 0, "what was withdrawn counts no more"
    give(here, "Ida")
    look(here)
    assert launched(here) == 1
    with pytest.raises(ImpossibleAct, match="it is launched already"):
        give(here, "Tom", withdraw=True)


def test_two_people_who_give_and_withdraw_at_once_leave_what_the_logbook_says(here: Shore) -> None:
    wait_for(here, "go-ahead 3")

    def to_and_fro(who: str) -> None:
        for withdraw in (False, True, False):
            give(here, who, withdraw=withdraw)

    with ThreadPoolExecutor(2) as hands:
        list(hands.map(to_and_fro, ("Ida", "Tom")))
    with here.desk.look() as session:
        assert go_aheads.given(session.get_one(Leg, here.leg_id)).keys() == {person(here, "Ida"), person(here, "Tom")}
    assert (here.lines().count("go-ahead given"), here.lines().count("go-ahead withdrawn")) == (4, 2)


@pytest.mark.parametrize(
    ("texts", "said"),
    [
        (("approved northgate",), "does not go to northgate; it goes to openfield and wrackline"),
        (("live openfield 5%",), "cannot wait for itself"),
        (("hours mon 08:00-09:00", "hours tue 08:00-09:00"), "no instant at which these hold together"),
        (("go-ahead of nobody@example.org",), "No person at this desk has the address nobody@example.org"),
    ],
)
def test_conditions_that_can_never_hold_are_refused_when_they_are_set(
    here: Shore, texts: tuple[str, ...], said: str
) -> None:
    wait_for(here, "go-ahead")
    with pytest.raises(Invalid, match=said):
        wait_for(here, *texts)
    assert missing(here) == ["the go-ahead to launch"], "nothing was changed"
    with pytest.raises(NotFound, match="insiders"):
        wait_for(here, "trial insiders 99% 100")
    wait_for(here, "live wrackline 5%")
    with pytest.raises(Invalid, match="wrackline waits until openfield is live"):
        wait_for(here, "live openfield 5%", place="wrackline")


def test_only_legs_that_read_what_has_changed_are_looked_at(here: Shore, monkeypatch: pytest.MonkeyPatch) -> None:
    with here.desk.act("operator") as act:
        session, leg = act.session, act.session.get_one(Leg, here.leg_id)
        other = another_build(leg, "0.9.0", 9)
        cohort = Cohort(app_id=leg.release.app_id, name="guests", kind="guest", created_at=AT)
        session.add_all([other, cohort])
        session.flush()
        consignment = Consignment(
            build_id=leg.build_id, berth_id=leg.berth_id, created_at=AT, changed_at=AT, size_bytes=1
        )
        session.add(consignment)
        session.flush()
        trial = Trial(
            id="t-1", cohort_id=cohort.id, consignment_id=consignment.id, created_at=AT, changed_at=AT, brief={}, contact="x",
            track="guest",
        )  # fmt: skip
        session.add(trial)
        app_id, build_id, other_id = leg.release.app_id, leg.build_id, other.id
    wait_for(here, "no-reports crash", "trial guests 99% 100", "approved")
    look(here)
    seen: list[str] = []
    real = launches._look_at
    monkeypatch.setattr(
        launches, "_look_at", lambda desk, leg_id, looks: (seen.append(leg_id), real(desk, leg_id, looks))
    )

    def report(build: str) -> FieldReport:
        return FieldReport(
            app_id=app_id, build_id=build, source="api", kind=ReportKind.CRASH, at=AT, received_at=AT, changed_at=AT
        )

    set_up(here, report(other_id))
    look(here)
    assert seen == [], "a report about another build concerns nobody"
    set_up(here, report(build_id))
    look(here)
    assert seen == [here.leg_id]
    assert "no open field report of kind crash (1 are open)" in missing(here)
    with here.desk.act("operator") as act:
        decided = act.session.scalars(select(FieldReport).where(FieldReport.build_id == build_id)).one()
        decided.state = ReportState.CLOSED
        act.session.add(TrialUsage(trial_id="t-1", day="2026-11-20", sessions=400, crashed=2))
        act.launch_facts.add(Fact(About.TRIAL, "t-1"))
    look(here)
    assert seen == [here.leg_id] * 2
    assert missing(here) == ["approval at wrackline"]
    with here.desk.act("operator") as act:
        act.session.scalars(select(Round).where(Round.leg_id == "l-other")).one().state = RoundState.APPROVED
    look(here)
    assert launched(here) == 2, "the other one waited for nothing"


def test_the_clock_alone_lets_a_launch_go_and_tells_of_it_a_day_ahead(here: Shore) -> None:
    at = here.desk.clock.now() + 40 * HOUR
    wait_for(here, f"after {at:%Y-%m-%dT%H:%M}")
    pause = look(here)
    assert pause is not None
    assert 15 * 3600 < pause <= 16 * 3600, "it looks when a day is left"
    assert notices(here) == []
    here.desk.clock.step(17 * HOUR)
    pause = look(here)
    (said,) = notices(here)
    assert said.startswith("Marram 1.0.0 launches at Openfield on ")
    here.desk.clock.step(22 * HOUR)
    here.desk.background.launch_facts.add(Fact(About.EVERYTHING))
    look(here)
    assert len(notices(here)) == 1, "each instant is told of once"
    assert launched(here) == 0
    here.desk.clock.step(2 * HOUR)
    look(here)
    assert launched(here) == 1


def test_a_launch_that_stands_still_for_a_day_is_told_of_once(here: Shore) -> None:
    wait_for(here, "go-ahead", "hours mon-sun 00:00-00:00")
    look(here)
    here.desk.clock.step(25 * HOUR)
    for _ in range(2):
        here.desk.background.launch_facts.add(Fact(About.EVERYTHING))
        look(here)
    (said,) = notices(here)
    assert said == "Marram 1.0.0 has been approved at Openfield for a day, and waits for the go-ahead to launch."


def test_a_freeze_moves_the_instant_that_is_foreseen(here: Shore) -> None:
    now = here.desk.clock.now()
    wait_for(here, f"after {now + HOUR:%Y-%m-%dT%H:%M}")
    wall = now.replace(tzinfo=None)
    with here.desk.act("operator") as act:
        freezes.set_freeze(act, Freeze(name="fair", begins=wall, ends=wall + 9 * HOUR), "the fair")
        leg = act.session.get_one(Leg, here.leg_id)
        assert launching.comes_at(leg, act.now) == now + 9 * HOUR
    look(here)
    here.desk.clock.step(2 * HOUR)
    look(here)
    assert launched(here) == 0
    here.desk.clock.step(8 * HOUR)
    look(here)
    assert launched(here) == 1


def test_a_halt_of_the_release_voids_every_go_ahead(here: Shore) -> None:
    wait_for(here, "go-ahead or approved", "after 2031-01-01T00:00")
    give(here, "Ida")
    with here.desk.act("operator") as act:
        leg = act.session.get_one(Leg, here.leg_id)
        assert steering.hold_back(act, [leg], "it crashes") == [leg]
        assert steering.hold_back(act, [leg], "it crashes") == [], "it waits for people already"
        assert [one.kind for one in go_aheads.conditions_of(leg)] == ["go-ahead", "any", "after"]
        assert go_aheads.given(leg) == {}


def test_an_approval_of_a_build_that_was_replaced_launches_nothing(here: Shore) -> None:
    wait_for(here, "go-ahead")
    with here.desk.act("operator") as act:
        leg = act.session.get_one(Leg, here.leg_id)
        newer = another_build(leg, "1.0.0", 2)
        act.session.add(newer)
        act.session.flush()
        releases.change_leg(act, "marram", "1.0.0", "openfield", replace(WISH, build=newer.id))
        assert legs.phase(leg) is LegPhase.DRAFT
    give(here, "Ida")
    look(here)
    assert launched(here) == 0


def test_a_leg_that_cannot_be_judged_keeps_no_other_from_launching(
    here: Shore, monkeypatch: pytest.MonkeyPatch
) -> None:
    with here.desk.act("operator") as act:
        act.session.scalars(select(Round).where(Round.leg_id == "l-other")).one().state = RoundState.APPROVED
    real = launching.waits_for

    def fails(leg: Leg, now: datetime) -> list[str]:
        if leg.id == here.leg_id:
            raise ValueError("broken")
        return real(leg, now)

    monkeypatch.setattr(launching, "waits_for", fails)
    look(here)
    assert launched(here) == 1
    assert RolloutEvent.LAUNCH == "launch"


def test_what_an_act_writes_only_at_its_end_is_looked_at_and_what_goes_wrong_is_tried_again(
    here: Shore, monkeypatch: pytest.MonkeyPatch
) -> None:
    wait_for(here, "approved")
    look(here)
    assert here.desk.background.launch_facts == set()
    with here.desk.act("operator") as act:
        act.session.get_one(Round, _round_of_the_other(here)).state = RoundState.APPROVED
    assert Fact(About.LEG, "l-other") in here.desk.background.launch_facts
    monkeypatch.setattr(launches, "_reading", lambda *_: 1 / 0)
    with pytest.raises(ZeroDivisionError):
        look(here)
    monkeypatch.undo()
    monkeypatch.setattr(launching, "waits_for", lambda *_: 1 / 0)
    assert (look(here) or 0) <= 60, "a leg that could not be judged is looked at again in a minute"
    monkeypatch.undo()
    assert launched(here) == 0
    here.desk.clock.step(timedelta(minutes=2))
    look(here)
    assert launched(here) == 2


def _round_of_the_other(here: Shore) -> str:
    with here.desk.look() as session:
        return session.scalars(select(Round.id).where(Round.leg_id == "l-other")).one()


def test_a_part_of_an_act_that_was_undone_stops_neither_the_act_nor_the_facts(here: Shore) -> None:
    with here.desk.act("operator") as act:
        with suppress(ZeroDivisionError), act.attempt():
            act.session.get_one(Leg, here.leg_id).share = 0.5
            act.session.flush()
            raise ZeroDivisionError
        act.session.get_one(Leg, "l-other").looks_at = act.now
    assert Fact(About.LEG, "l-other") in here.desk.background.launch_facts
    assert here.leg().share == 0.0
