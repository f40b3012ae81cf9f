"""Counts and guards at one desk and one store in this process: what is taken, what is acted on, and what is only told."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from starlette.requests import Request
from starlette.responses import JSONResponse

from restless_tide.core.errors import LostLease
from restless_tide.core.freeze import Freeze
from restless_tide.core.gauges import HOUR, Counts, hour_number
from restless_tide.core.guard import Against, GuardRule, OnBreach, Verdict
from restless_tide.desk import course, freezes, gauges, go_aheads, guards, judging, overview
from restless_tide.desk.desk import ENGINE
from restless_tide.engine import counting
from restless_tide.records.tables import Berth, GaugeHour, GuardWatch, Leg, Showing, Store
from tests.shore import Shore, shore

BOUND = GuardRule(against=Against.BOUND, bound=0.01)


@pytest.fixture
def here(tmp_path: Path) -> Iterator[Shore]:
    with shore(tmp_path) as opened:
        yield opened


def hour(here: Shore, back: float, revision: int = 1, **counts: int) -> gauges.Hour:
    at = (here.desk.clock.now() - back * HOUR).replace(minute=0, second=0, microsecond=0)
    return gauges.Hour(at, revision, True, (gauges.Cell("1.0.0", "1", "", "", Counts(**counts)),))


def enter(here: Shore, *hours: gauges.Hour) -> gauges.Taken:
    with here.desk.act("p-ida") as act:
        return gauges.enter(act, "marram", "openfield", "collector", hours)


def crashing(here: Shore) -> None:
    many = {"people": 800, "sessions": 900, "crashed_sessions": 90, "crashed_people": 80, "first_starts": 400}
    enter(here, *(hour(here, back, **many) for back in (3, 2)))


def watch(here: Shore) -> GuardWatch:
    judging.judge_app(here.desk, "marram")
    with here.desk.look() as session:
        return session.query(GuardWatch).one()


def berth(here: Shore) -> Berth:
    with here.desk.look() as session:
        return session.query(Berth).one()


def test_a_guard_that_only_told_may_be_given_the_halt_and_halts_once_in_a_freeze_too(here: Shore) -> None:
    setting = guards.Setting("crashes", BOUND, source="collector")
    wall = here.desk.clock.now().replace(tzinfo=None)
    with here.desk.act("p-ida") as act:
        guards.set_up(act, "marram", setting)
        freezes.set_freeze(act, Freeze(name="fair", begins=wall - HOUR, ends=wall + HOUR), "")
    crashing(here)
    told = watch(here)
    assert (told.verdict, told.acted) == (Verdict.BREACH, "Nothing was stopped; the guard only tells.")
    assert told.breach is not None
    assert told.breach["events"] == 160
    assert here.orders() == []
    with here.desk.act("p-ida") as act:
        guards.change(act, "marram", "crashes", guards.Setting("crashes", BOUND, OnBreach.HALT, source="collector"))
    assert watch(here).acted == "Ordered a halt at Openfield."
    watch(here)
    here.carry()
    assert here.orders() == [("halt", "confirmed")]
    assert here.rollout()["state"] == "halted"
    assert here.notices().count("breach") == 1


def test_people_are_told_once_that_a_guard_is_blind(here: Shore) -> None:
    with here.desk.act("p-ida") as act:
        guards.set_up(act, "marram", guards.Setting("crashes", GuardRule()))
    assert watch(here).blind == "There is no version before it to compare with."
    assert here.notices() == []
    here.desk.clock.step(timedelta(hours=13))
    for _ in range(2):
        assert watch(here).verdict is None
    assert here.notices() == ["guard blind"]


def test_a_guard_that_ended_leaves_its_name_free_and_what_it_found(here: Shore) -> None:
    with here.desk.act("p-ida") as act:
        guards.set_up(act, "marram", guards.Setting("crashes", BOUND, source="collector"))
    crashing(here)
    watch(here)
    with here.desk.act("p-ida") as act:
        guards.end(act, "marram", "crashes", "another one comes")
        guards.set_up(act, "marram", guards.Setting("crashes", GuardRule()))
    with here.desk.look() as session:
        release = session.query(GuardWatch).one().release
        assert [one.guard.name for one in guards.watches(session, release)] == ["crashes"]


def test_hours_are_added_up_to_days_when_they_are_old(here: Shore) -> None:
    now = here.desk.clock.now()
    here.desk.clock.step(now.replace(hour=12) - now)
    enter(here, *(hour(here, back, people=3, sessions=10 + back) for back in range(1, 40)))
    taken = 39
    before = here.desk.clock.now()
    here.desk.clock.step(timedelta(days=70))
    with here.desk.act(ENGINE) as act:
        assert gauges.add_up(act) == taken
        assert gauges.add_up(act) == 0
    with here.desk.look() as session:
        assert session.query(GaugeHour).count() == 0
        found = gauges.series(session, berth(here), "collector", [], before - timedelta(days=5), here.desk.clock.now())
    assert {one.hours for one in found} == {24}
    assert len(found) in (2, 3)
    assert sum(one.counts.sessions for one in found) == sum(10 + back for back in range(1, 40))
    assert enter(here, hour(here, 24 * 70, 9, sessions=1)).passed == 1


def answering(page: dict[str, Any]) -> Any:
    """A store that answers with this page when it is asked for counts."""

    def spoil(app: Any, _: Any) -> Any:
        async def spoiled(scope: Any, receive: Any, send: Any) -> None:
            if scope["type"] == "http" and Request(scope).url.path.endswith("/gauges"):
                await JSONResponse(page)(scope, receive, send)
            else:
                await app(scope, receive, send)

        return spoiled

    return spoil


def fetched(here: Shore) -> Berth:
    with here.desk.act(ENGINE) as act:
        act.session.query(Berth).one().gauges_due = 1
    with here.desk.look() as session:
        gateway = here.desk.gateway(session.query(Store).one())
    counting.fetch(here.desk, here.store_id, gateway)
    return berth(here)


def test_one_hour_that_cannot_be_read_keeps_no_other_out(tmp_path: Path) -> None:
    good = {"at": "2026-11-20T13:00:00+00:00", "cells": [{"version": "1.0.0", "people": 1, "sessions": 2}]}
    bad = {"at": "2026-11-20T14:00:00+00:00", "cells": [{"version": "1.0.0", "sessions": -2}]}
    odd = {"at": "2026-11-20T15:00:00+00:00", "cells": [{"version": "1.0.0", "sessions": 2, "crashed_sessions": 3}]}
    with shore(tmp_path, answering({"hours": [bad, odd, good], "next": "3"})) as here:
        kept = fetched(here)
        assert (kept.gauges_cursor, kept.gauges_due) == ("3", 0)
        assert "an hour (2026-11-20T14:00:00+00:00) cannot be read: cells.0.sessions" in kept.gauges_trouble
        assert "3 sessions that crashed are more than 2 sessions" in kept.gauges_trouble
        with here.desk.look() as session:
            assert session.query(GaugeHour).count() == 1


def test_an_answer_that_is_no_page_is_noted_and_not_asked_for_again_at_once(tmp_path: Path) -> None:
    with shore(tmp_path, answering({"hours": "many"})) as here:
        kept = fetched(here)
        assert kept.gauges_due == 0
        assert "not the gateway protocol" in kept.gauges_trouble


def test_a_lost_lease_is_no_trouble_of_the_store(here: Shore) -> None:
    with here.desk.act(ENGINE) as act:
        act.session.query(Berth).one().gauges_due = 1
    with here.desk.look() as session:
        gateway = here.desk.gateway(session.query(Store).one())
    here.desk.background.fence = 9_999
    with pytest.raises(LostLease):
        counting.fetch(here.desk, here.store_id, gateway)
    assert berth(here).gauges_trouble == ""


def test_a_source_of_the_team_counts_by_the_desks_clock_and_a_store_by_its_own(here: Shore) -> None:
    with here.desk.act("p-ida") as act:
        act.session.query(Berth).one().clock_ahead_seconds = 60 * 3600
        guards.set_up(act, "marram", guards.Setting("crashes", BOUND, OnBreach.HALT, source="collector"))
        leg = act.session.get_one(Leg, here.leg_id)
        leg.launched_at = act.now - 5 * HOUR
    crashing(here)
    assert watch(here).verdict is Verdict.BREACH
    with here.desk.act("p-ida") as act:
        session = act.session
        leg = session.get_one(Leg, here.leg_id)
        assert gauges.ahead_of(leg.berth, "") == 60 * HOUR
        assert not judging.source_of(session, gauges.Tables(), BOUND, "", leg)[0].table.hour.size
        session.add(Showing(subject=leg.id, at=here.desk.clock.now() - 4 * HOUR, state="rising", share=0.1))
        session.add(Showing(subject=leg.id, at=here.desk.clock.now() - 2 * HOUR, state="paused", share=0.35))
        session.flush()
        first = hour_number(here.desk.clock.now()) - 6
        shares = judging.shares_by_hour(session, leg, "collector", first, first + 7)
        assert [shares.get(first + at) for at in range(7)] == [None, None, 0.1, 0.1, 0.35, 0.35, 0.02]


def test_counts_that_cannot_be_taken_need_someone(here: Shore) -> None:
    with here.desk.act("p-ida") as act:
        act.session.query(Berth).one().gauges_trouble = "an hour cannot be read"
    with here.desk.look() as session:
        (view,) = overview.look_over(session, here.desk.clock.now())
    (call,) = [call for call in view.calls if "Counts could not be taken" in call.said]
    assert (call.place, call.weight) == ("/apps/marram/guards", "caution")


def test_a_guard_holds_back_a_store_that_is_not_launched_yet_and_says_so_once(here: Shore) -> None:
    with here.desk.act("p-ida") as act:
        guards.set_up(
            act, "marram", guards.Setting("crashes", BOUND, OnBreach.HALT, every_store=True, source="collector")
        )
        leg, there = act.session.get_one(Leg, here.leg_id), act.session.get_one(Store, here.store_id)
        store = Store(name="elsewhere", may=[], rulebook=there.rulebook, connected_at=act.now)
        act.session.add(store)
        act.session.flush()
        known = leg.berth
        other = Berth(
            app_id=known.app_id, store_id=store.id, listed_name="Marram", platform="android", identifier="x", language="en",
            created_at=act.now, store_ref="berth-elsewhere",
        )  # fmt: skip
        act.session.add(other)
        act.session.flush()
        waiting = Leg(
            release_id=leg.release_id, berth_id=other.id, build_id=leg.build_id, created_at=act.now, ladder=leg.ladder
        )
        act.session.add(waiting)
        act.session.flush()
        waiting_id = waiting.id
    crashing(here)
    told = watch(here)
    assert told.verdict is Verdict.BREACH
    assert told.acted.count("go-ahead") == 1
    assert here.lines().count("launch held back") == 1
    with here.desk.look() as session:
        assert go_aheads.waits_for_people(session.get_one(Leg, waiting_id))
        marks = course.of_release(session, session.get_one(Leg, here.leg_id).release, here.desk.clock.now())[0].marks
    assert [mark.act for mark in marks if mark.act.startswith("guard")] == ["guard: breach"]
