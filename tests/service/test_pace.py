"""At the desk: named ladders, stores in step, one that leads, stages by steadiness, and one word that halts many rollouts."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest

from restless_tide.client import Conflict, ImpossibleAct, Invalid, NotFound
from restless_tide.core.gauges import HOUR, Counts
from restless_tide.core.guard import Against, GuardRule
from restless_tide.core.ladder import parse_ladder
from restless_tide.desk import gauges, guards, judging, legs, pacing
from restless_tide.engine import tides
from restless_tide.records.tables import Leg
from tests.harbour import Harbour, until
from tests.service.test_cli import Terminal
from tests.shore import Shore, shore


def test_stores_in_step_wait_for_the_slowest_and_say_for_whom(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app)
    releases = harbour.tide.releases
    releases.change_leg(app, "1.0.0", "northgate", ladder="5@1,20@1,50@1,100")
    told = releases.set_pace(app, "1.0.0", "in step", reason="a change of the database")
    assert told.pace_told.startswith("in step")
    harbour.approve(app)
    harbour.released(
        app, "1.0.0", lambda seen: all(leg.phase == "rising" and leg.confirmed and leg.seen for leg in seen.legs)
    )
    for _ in range(4):  # openfield holds its first stage for 24 hours, northgate would rise every hour
        harbour.pass_hours(2)
        until(lambda: harbour.tide.releases.one(app, "1.0.0"), lambda seen: all(leg.confirmed for leg in seen.legs))
    north, field = harbour.leg(app, "northgate"), harbour.leg(app, "openfield")
    assert (north.share, field.share) == (0.05, 0.02)
    assert north.waits_to_rise == ["Openfield, which holds 2%"]
    possible = {option.act: option for option in north.acts}
    assert not possible["advance"].possible
    assert "rise in step, and it waits for Openfield, which holds 2%" in possible["finish"].why_not
    assert possible["halt"].possible
    with pytest.raises(ImpossibleAct, match="in step"):
        releases.steer(app, "1.0.0", "advance", reason="quick", store="northgate", share=0.2)
    harbour.pass_hours(30)
    until(lambda: harbour.leg(app, "openfield"), lambda seen: seen.share == 0.1 and seen.confirmed)
    until(lambda: harbour.leg(app, "northgate"), lambda seen: seen.share == 0.2 and seen.confirmed)
    releases.steer(app, "1.0.0", "pause", reason="look", store="openfield")
    harbour.all_confirmed(app)
    harbour.pass_hours(9)
    north = harbour.leg(app, "northgate")
    assert (north.share, north.waits_to_rise) == (0.2, ["Openfield, which holds 10%, paused"])
    with pytest.raises(Invalid, match="does not go to slatehouse"):
        releases.set_pace(app, "1.0.0", "in step", apart=["slatehouse"])
    releases.set_pace(app, "1.0.0", "free")
    until(lambda: harbour.leg(app, "northgate"), lambda seen: seen.share == 0.5 and seen.confirmed)
    halted = harbour.tide.releases.halt_all(reason="enough", app=app)
    assert {(one.place, one.ordered) for one in halted.outcomes} == {("northgate", True), ("openfield", True)}
    harbour.released(app, "1.0.0", lambda seen: all(leg.phase == "halted" and leg.confirmed for leg in seen.legs))


def test_the_others_are_launched_after_the_one_that_leads(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app)
    harbour.tide.releases.change_leg(app, "1.0.0", "northgate", ladder="5@1,20@200,100")
    for unfit in ({"kind": "lead"}, {"kind": "lead", "lead": "northgate", "share": 3}, {"kind": "aside"}):
        with pytest.raises(Invalid):
            harbour.tide.releases.set_pace(app, "1.0.0", **unfit)
    harbour.tide.releases.set_pace(app, "1.0.0", "lead", lead="northgate", share=0.2, steady_hours=0)
    harbour.approve(app)
    until(lambda: harbour.leg(app, "northgate"), lambda seen: seen.phase == "rising" and seen.confirmed)
    field = until(lambda: harbour.leg(app, "openfield"), lambda seen: seen.phase == "approved")
    assert field.waits_for == ["Northgate to hold 20% (now: rising, 5%)"]
    harbour.pass_hours(2)
    until(lambda: harbour.leg(app, "openfield"), lambda seen: seen.phase == "rising" and seen.confirmed)
    assert harbour.leg(app, "northgate").share == 0.2


def test_a_halt_of_a_release_holds_back_what_is_not_launched(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app)
    harbour.approve(app, store="northgate")
    until(lambda: harbour.leg(app, "northgate"), lambda seen: seen.phase == "rising" and seen.confirmed)
    done = harbour.tide.releases.steer(app, "1.0.0", "halt", reason="it crashes")
    assert {one.place: one.why_not for one in done.outcomes} == {
        "northgate": "",
        "openfield": "It is not launched yet; it is not launched now without a person's go-ahead.",
    }
    assert harbour.leg(app, "openfield").waits_for_people
    harbour.all_confirmed(app)


def test_one_word_halts_every_rollout_of_an_app_or_a_platform(harbour: Harbour) -> None:
    one, other = harbour.new_app(), harbour.new_app()
    harbour.risen(one)
    harbour.risen(other, stores=("northgate",))
    halts = harbour.tide.releases
    halts.steer(one, "1.0.0", "finish", reason="it is well", store="northgate")
    harbour.all_confirmed(one)
    with pytest.raises(Invalid, match="name an app, a platform, or both"):
        halts.halt_all(reason="all of it")
    with pytest.raises(Invalid, match="needs a reason"):
        halts.halt_all(reason=" ", app=one)
    with pytest.raises(NotFound, match="No app is for 'toaster'"):
        halts.halt_all(reason="the library leaks", platform="toaster")
    with pytest.raises(NotFound):
        halts.halt_all(reason="the library leaks", app="nothing")
    platform = harbour.leg(one, "openfield").platform
    done = halts.halt_all(reason="the library leaks", app=one, platform=platform)
    assert [(entry.app, entry.place, entry.ordered) for entry in done.outcomes] == [(one, "openfield", True)]
    assert harbour.leg(other, "northgate").phase == "rising"
    with pytest.raises(ImpossibleAct, match="--complete-too halts these"):
        halts.halt_all(reason="the library leaks", app=one, platform=harbour.leg(one, "northgate").platform)
    with pytest.raises(ImpossibleAct, match="withdraw it instead"):
        halts.halt_all(reason="the library leaks", app=one, complete_too=True)
    done = halts.halt_all(reason="the library leaks", platform=harbour.leg(other, "northgate").platform)
    assert (other, "northgate", True) in {(entry.app, entry.place, entry.ordered) for entry in done.outcomes}
    assert (one, "northgate") in {(entry.app, entry.place) for entry in done.left}
    harbour.released(other, "1.0.0", lambda seen: all(leg.phase == "halted" and leg.confirmed for leg in seen.legs))
    with pytest.raises(ImpossibleAct, match="Nothing there can be halted"):
        halts.halt_all(reason="again", app=other)


def test_a_named_ladder_is_set_climbed_changed_half_way_and_dropped(harbour: Harbour) -> None:
    ladders, releases = harbour.tide.ladders, harbour.tide.releases
    before = ladders.every()
    assert (before[0].name, before[0].built_in) == ("usual", True)
    made = ladders.set("careful", "2@1,10@steady12/500,100", reason="for changes of the database")
    assert made.told == "2% (1 h), 10% (steady for 12 h, 500 sessions), 100%"
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",), ladder="careful")
    told = harbour.leg(app, "northgate")
    assert (told.ladder_name, told.ladder_text) == ("careful", "2@1,10@steady12/500,100")
    for unfit, said in (
        ("unknown", "No ladder is called 'unknown'"),
        ("5@x", "cannot be read"),
        ("20,5,100", "must rise"),
    ):
        with pytest.raises(Invalid, match=said):
            releases.change_leg(app, "1.0.0", "northgate", ladder=unfit)
    for name, said in (
        ("5steps", "begins with a letter"),
        ("a%b", "in an address"),
        ("own", "written out for one rollout"),
    ):
        with pytest.raises((Invalid, NotFound), match=said):
            ladders.set(name, "5,100")
    harbour.approve(app)
    until(lambda: harbour.leg(app, "northgate"), lambda seen: seen.phase == "rising" and seen.confirmed)
    harbour.pass_hours(2)
    waits = until(lambda: harbour.leg(app, "northgate"), lambda seen: seen.share == 0.1 and seen.confirmed)
    assert waits.waits_to_rise == ["a guard that watches it; without one a person has to raise it"]
    assert harbour.tide.releases.change_leg(app, "1.0.0", "northgate").legs[0].ladder_name == "careful"
    harbour.pass_hours(13)
    rows = [row for row in harbour.tide.watching.overview().rows if row.app == app]
    assert [call.said for row in rows for call in row.calls] == [
        "1.0.0 waits to rise for a guard that watches it; without one a person has to raise it."
    ]
    with pytest.raises(Conflict, match="1 rollout"):
        ladders.drop("careful", reason="old")
    changed = ladders.set("careful", "2@1,25@1,100", reason="no guard there yet")
    assert [(one.app, one.place, one.share) for one in changed.used_by] == [(app, "northgate", 0.1)]
    told = harbour.leg(app, "northgate")
    assert told.ladder_text == "2@1,10@steady12/500,25@1,100"
    releases.steer(app, "1.0.0", "advance", reason="it looks well")
    until(lambda: harbour.leg(app, "northgate"), lambda seen: seen.share == 0.25 and seen.confirmed)
    releases.steer(app, "1.0.0", "finish", reason="it looks well")
    harbour.all_confirmed(app)
    ladders.drop("careful", reason="nobody uses it")
    with pytest.raises(NotFound):
        ladders.drop("careful", reason="again")
    ladders.set("usual", "1@24,100", reason="this desk is careful")
    try:
        later = harbour.new_app()
        harbour.draft(later, stores=("northgate",))
        assert harbour.leg(later, "northgate").ladder_text == "1@24,100"
    finally:
        ladders.drop("usual", reason="as before")
    assert harbour.leg(later, "northgate").ladder_text == before[0].text


@pytest.fixture
def here(tmp_path: Path) -> Iterator[Shore]:
    with shore(tmp_path, name="slatehouse") as opened:
        yield opened


def test_a_stage_rises_when_its_guards_were_steady_and_not_before(here: Shore) -> None:
    ladder = parse_ladder("2@steady6/500,100")
    setting = guards.Setting("crashes", GuardRule(against=Against.BOUND, bound=0.05), source="collector")
    with here.desk.act("p-ida") as act:
        leg = act.session.get_one(Leg, here.leg_id)
        leg.ladder, leg.launched_at = ladder.model_dump(mode="json"), act.now
        legs.keep_progress(leg, legs.progress_of(leg), act.now)
        guards.set_up(act, "marram", setting)
    start = here.desk.clock.now().replace(minute=0, second=0, microsecond=0) + HOUR

    def hours(first: int, last: int) -> None:
        cell = gauges.Cell("1.0.0", "1", "", "", Counts(people=190, sessions=200, crashed_people=1, first_starts=150))
        with here.desk.act("p-ida") as act:
            several = [gauges.Hour(start + at * HOUR, 1, True, (cell,)) for at in range(first, last)]
            gauges.enter(act, "marram", "slatehouse", "collector", several)
        judging.judge_app(here.desk, "marram")

    here.desk.clock.step(timedelta(hours=5))
    hours(0, 3)
    assert tides.order_due(here.desk) == 0
    here.desk.clock.step(timedelta(hours=20))
    assert tides.order_due(here.desk) == 0, "three counted hours are no six, however late it is"
    with here.desk.look() as session:
        waits = pacing.waits_to_rise(session.get_one(Leg, here.leg_id), here.desk.clock.now())
    assert waits == ["6 hours of counts that are steady (so far 0)"]
    hours(3, 13)
    assert tides.order_due(here.desk) == 1
    assert here.leg().share == 1.0
    assert here.lines()[-1] == "advance"


def test_pace_ladders_and_halts_by_command(harbour: Harbour, tmp_path: Path) -> None:
    tide, app = Terminal(harbour, tmp_path), harbour.new_app()
    harbour.risen(app)
    kept = tide("ladder", "set", "gentle", "5@24,20@steady12/500,100", "--reason", "we trust it")
    assert "gentle: 5% (24 h), 20% (steady for 12 h, 500 sessions), 100%." in kept.stdout
    assert tide("ladder", "set", "gentle", "5@x,100").returncode == 1
    assert "usual (built in)" in tide("ladder", "list").stdout
    changed = tide("release", "change", "1.0.0", "--app", app, "--store", "northgate", "--ladder", "gentle")
    assert "20% (steady for 12 h, 500 sessions)" in changed.stdout
    assert f"{app} 1.0.0 at northgate, 5%" in " ".join(tide("ladder", "list").stdout.split())
    assert tide("ladder", "drop", "gentle", "--reason", "old").returncode == 1

    paced = tide("release", "pace", "1.0.0", "--app", app, "--lead", "openfield", "--share", "10", "--steady", "0")
    assert "openfield leads: the others are launched when it holds 10%" in paced.stdout
    assert "in step" in tide("release", "pace", "1.0.0", "--app", app, "--in-step", "--apart", "openfield").stdout
    assert "pace: in step" in tide("release", "show", "1.0.0", "--app", app).stdout
    for wrong in (
        ["--share", "5"],
        ["--in-step", "--share", "5"],
        ["--free", "--apart", "openfield"],
        ["--lead", "openfield", "--share", "300"],
    ):
        done = tide("release", "pace", "1.0.0", "--app", app, *wrong)
        assert (done.returncode, bool(done.stderr)) == (1, True), wrong
    assert "each store for itself" in tide("release", "pace", "1.0.0", "--app", app, "--free").stdout

    for unfit in (
        ["1.0.0", "--app", app, "--all"],
        ["--all"],
        ["--app", app],
        ["1.0.0", "--app", app, "--platform", "ios"],
    ):
        assert tide("rollout", "halt", *unfit, "--reason", "no").returncode == 1, unfit
    done = tide("rollout", "halt", "--all", "--app", app, "--reason", "the library leaks")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "Northgate   halted at 5%" in done.stdout
    assert "Openfield   halted at 2%" in done.stdout
    assert tide("rollout", "halt", "--all", "--app", app, "--reason", "again").returncode == 1
