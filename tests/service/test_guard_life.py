"""Any sequence of counts, looks, silences, freezes, resumes and hours at one desk and one store: what always holds."""

from __future__ import annotations

import tempfile
from contextlib import ExitStack
from datetime import timedelta
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from restless_tide.core.errors import ImpossibleAct
from restless_tide.core.freeze import Freeze
from restless_tide.core.gauges import HOUR, Counts
from restless_tide.core.guard import Against, GuardRule, OnBreach, Verdict
from restless_tide.core.ladder import parse_ladder
from restless_tide.core.rollout import OFFERED, RolloutEvent, RolloutState
from restless_tide.desk import freezes, gauges, guards, judging, legs, options
from restless_tide.engine import tides
from restless_tide.records.tables import GuardWatch, Leg, LogbookLine
from tests.shore import Shore, shore

GOOD = Counts(people=190, sessions=200, crashed_people=1, crashed_sessions=1, first_starts=150)
BAD = Counts(people=190, sessions=200, crashed_people=40, crashed_sessions=40, first_starts=150)


def begin_watch(here: Shore) -> None:
    """A guard halts the shore's leg, which climbs a ladder of short stages."""
    setting = guards.Setting("crashes", GuardRule(against=Against.BOUND, bound=0.02), OnBreach.HALT, source="collector")
    with here.desk.act("p-ida") as act:
        guards.set_up(act, "marram", setting)
        leg = act.session.get_one(Leg, here.leg_id)
        leg.ladder = parse_ladder("2@2,3@2,4@2,5@2,6@2,8@2,10,100").model_dump(mode="json")
        leg.launched_at = act.now
        legs.keep_progress(leg, legs.progress_of(leg), act.now)


def count_hour(here: Shore, counts: Counts, revision: int) -> None:
    """An hour passes, and the collector reports what was counted in it."""
    at = here.desk.clock.now().replace(minute=0, second=0, microsecond=0)
    here.desk.clock.step(HOUR)
    cell = gauges.Cell("1.0.0", "1", "", "", counts)
    with here.desk.act("p-ida") as act:
        gauges.enter(act, "marram", "slatehouse", "collector", [gauges.Hour(at, revision, True, (cell,))])


class Watch(RuleBasedStateMachine):
    """A guard halts one leg that climbs a ladder of short stages; people and freezes come between."""

    @initialize()
    def begin(self) -> None:
        self.open = ExitStack()
        folder = Path(self.open.enter_context(tempfile.TemporaryDirectory(prefix="tide-watch-")))
        self.here: Shore = self.open.enter_context(shore(folder, name="slatehouse"))
        begin_watch(self.here)
        self.frozen = self.silent = False
        self.hour = 1

    def teardown(self) -> None:
        if hasattr(self, "open"):
            self.open.close()

    @rule(counts=st.sampled_from([GOOD, GOOD, BAD]))
    def an_hour_is_counted(self, counts: Counts) -> None:
        self.hour += 1
        count_hour(self.here, counts, self.hour)

    @rule()
    def the_guard_looks(self) -> None:
        judging.judge_app(self.here.desk, "marram")

    @rule()
    def what_is_due_is_ordered(self) -> None:
        before = self.here.leg()
        tides.order_due(self.here.desk)
        after = self.here.leg()
        if self.frozen or before.state is not RolloutState.RISING:
            assert after.share == before.share

    @rule()
    def the_store_answers(self) -> None:
        self.here.settle()

    @rule(act=st.sampled_from(["pause", "resume", "advance", "halt"]))
    def a_person_acts(self, act: str) -> None:
        before = self.here.leg()
        try:
            self.here.steer(act)
        except ImpossibleAct:
            assert act != "halt" or before.state not in OFFERED, "a halt is always possible"
        else:
            assert not self.frozen or act in ("pause", "halt") or (act, before.state) == ("resume", RolloutState.PAUSED)

    @rule(on=st.booleans())
    def silence(self, on: bool) -> None:
        until = self.here.desk.clock.now() + timedelta(hours=5) if on else None
        judging.judge_app(self.here.desk, "marram")  # there is something to silence
        with self.here.desk.act("p-ida") as act:
            guards.silence(act, "marram", "1.0.0", "crashes", until, "we look ourselves")
        if not on:
            judging.judge_app(self.here.desk, "marram")

    @rule()
    def freeze_or_thaw(self) -> None:
        wall = self.here.desk.clock.now().replace(tzinfo=None)
        with self.here.desk.act("p-ida") as act:
            if self.frozen:
                freezes.end(act, "fair", "it is over")
            else:
                freezes.set_freeze(act, Freeze(name="fair", begins=wall - HOUR, ends=wall + timedelta(days=60)), "")
        self.frozen = not self.frozen

    @invariant()
    def a_breach_is_acted_on_once(self) -> None:
        if not hasattr(self, "here"):
            return
        with self.here.desk.look() as session:
            lines = session.query(LogbookLine).filter(LogbookLine.person.like("guard:%")).all()
            breaches = sum(line.act == "guard: breach" for line in lines)
            halts = sum(line.act == "halt" for line in lines)
            assert halts <= breaches
            watch = session.query(GuardWatch).one_or_none()
            leg = session.get_one(Leg, self.here.leg_id)
            if (
                watch is not None
                and watch.verdict is Verdict.BREACH
                and not judging.silent(watch, self.here.desk.clock.now())
            ):
                acted = bool(watch.acted) or watch.silent_until is not None
                assert acted, "a breach that is not silenced is acted on in the same transaction"
            if leg.state in OFFERED:
                possible = options.possible(leg, acts=(RolloutEvent.HALT,), now=self.here.desk.clock.now())
                assert possible[RolloutEvent.HALT].possible


TestWatch = Watch.TestCase
TestWatch.settings = settings(
    max_examples=8, stateful_step_count=25, deadline=None, suppress_health_check=list(HealthCheck)
)


@pytest.mark.parametrize("afterwards", ["the next stage", "everybody"])
def test_hours_since_the_resume_count_though_the_guard_looks_only_after_the_next_stage(
    tmp_path: Path, afterwards: str
) -> None:
    with shore(tmp_path, name="slatehouse") as here:
        begin_watch(here)
        count_hour(here, BAD, 2)
        count_hour(here, BAD, 3)
        judging.judge_app(here.desk, "marram")
        here.settle()
        assert here.leg().state is RolloutState.HALTED
        here.desk.clock.step(HOUR)
        here.steer("resume")
        here.settle()
        for hour in range(4, 9):
            count_hour(here, BAD, hour)
        if afterwards == "everybody":
            here.steer("finish")
        else:
            tides.order_due(here.desk)
        here.settle()
        share = here.leg().share
        assert share == 1.0 if afterwards == "everybody" else share > 0.02
        judging.judge_app(here.desk, "marram")
        assert here.leg().state is RolloutState.HALTED
