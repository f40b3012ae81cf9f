"""The life cycles as tables: every state is reached, every impossible event is refused by name."""

from __future__ import annotations

import runpy
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import settings
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule
from hypothesis.strategies import floats, sampled_from

from restless_tide.core.consignment import CONSIGNMENT
from restless_tide.core.errors import ImpossibleAct
from restless_tide.core.invitation import INVITATION
from restless_tide.core.ladder import Ladder, Stage
from restless_tide.core.machine import Machine
from restless_tide.core.matter import MATTER
from restless_tide.core.notice import DELIVERY
from restless_tide.core.order import ORDER
from restless_tide.core.own_track import OWN_TRACK
from restless_tide.core.report import REPORT
from restless_tide.core.rollout import (
    ROLLOUT,
    Progress,
    RolloutEvent,
    RolloutState,
    advanced,
    launched,
    stage_ends,
    steered,
)
from restless_tide.core.round import ROUND
from restless_tide.core.step import STEP
from restless_tide.core.trial import TRIAL

MACHINES = [CONSIGNMENT, TRIAL, INVITATION, REPORT, ROUND, ROLLOUT, ORDER, STEP, DELIVERY, OWN_TRACK, MATTER]
BEGIN = datetime(2026, 11, 2, 9, tzinfo=UTC)
LADDER = Ladder(
    name="test", stages=(Stage(share=0.05, dwell_hours=24), Stage(share=0.4, dwell_hours=48), Stage(share=1.0))
)


@pytest.mark.parametrize("machine", MACHINES, ids=lambda machine: machine.noun)
def test_every_state_can_be_reached_from_the_beginning(machine: Machine) -> None:
    reached, waiting = {machine.initial}, [machine.initial]
    while waiting:
        here = waiting.pop()
        fresh = {machine.after(here, event) for event in machine.possible(here)} - reached
        reached |= fresh
        waiting.extend(fresh)
    assert reached == set(type(machine.initial))


@pytest.mark.parametrize("machine", MACHINES, ids=lambda machine: machine.noun)
def test_an_impossible_event_is_refused_with_state_event_and_what_is_possible(machine: Machine) -> None:
    events = {event for _, event in machine.table}
    for state in type(machine.initial):
        for event in events - set(machine.possible(state)):
            with pytest.raises(ImpossibleAct) as refused:
                machine.after(state, event)
            assert str(state) in refused.value.detail
            assert str(event) in refused.value.detail
            assert list(refused.value.possible) == machine.possible(state)


def test_the_diagrams_in_the_documentation_are_drawn_from_the_tables() -> None:
    document = (Path(__file__).parents[2] / "docs" / "architecture.md").read_text(encoding="utf-8")
    for machine in MACHINES:
        assert machine.diagram() in document, f"draw {machine.noun} anew: scripts/diagrams.py"


def test_the_tables_of_the_lane_in_the_documentation_are_made_from_the_code() -> None:
    root = Path(__file__).parents[2]
    document = (root / "docs" / "architecture.md").read_text(encoding="utf-8")
    made = runpy.run_path(str(root / "scripts" / "diagrams.py"), run_name="diagrams")["BETWEEN"]
    assert set(made) == {"lane", "toward", "orders"}
    for name, drawn in made.items():
        assert drawn() in document, f"make {name} anew: scripts/diagrams.py"


class RolloutLife(RuleBasedStateMachine):
    """Whatever is done in whatever order: shares only rise, clocks run only while rising, time held never shrinks."""

    def __init__(self) -> None:
        super().__init__()
        self.now = BEGIN
        self.progress = Progress()
        self.highest = 0.0

    @rule(hours=floats(0, 60))
    def time_passes(self, hours: float) -> None:
        before = self.progress.held(self.now)
        self.now += timedelta(hours=hours)
        grown = self.progress.held(self.now) - before
        assert (
            grown == (timedelta(hours=hours) if self.progress.running_since else timedelta())
            or abs(grown.total_seconds() - hours * 3600) < 1e-3
        )

    @precondition(lambda self: self.progress.state is RolloutState.WAITING)
    @rule()
    def launch(self) -> None:
        self.progress = launched(self.progress, LADDER, self.now)

    @precondition(lambda self: self.progress.state is RolloutState.RISING and self.progress.stage < 2)
    @rule()
    def advance(self) -> None:
        self.progress = advanced(self.progress, LADDER, self.now)

    @rule(
        act=sampled_from(
            [
                RolloutEvent.PAUSE,
                RolloutEvent.RESUME,
                RolloutEvent.HALT,
                RolloutEvent.FINISH,
                RolloutEvent.WITHDRAW,
                RolloutEvent.SUPERSEDE,
            ]
        )
    )
    def steer(self, act: RolloutEvent) -> None:
        if (self.progress.state, act) in ROLLOUT.table:
            self.progress = steered(self.progress, act, LADDER, self.now)
        else:
            with pytest.raises(ImpossibleAct):
                steered(self.progress, act, LADDER, self.now)

    @invariant()
    def the_share_never_falls(self) -> None:
        assert self.progress.share >= self.highest
        self.highest = self.progress.share

    @invariant()
    def the_clock_runs_only_while_rising(self) -> None:
        assert (self.progress.running_since is not None) == (self.progress.state is RolloutState.RISING)

    @invariant()
    def everybody_means_complete_or_stopped(self) -> None:
        if self.progress.state is RolloutState.RISING:
            assert self.progress.share < 1.0
        if self.progress.state is RolloutState.COMPLETE:
            assert self.progress.share == 1.0

    @invariant()
    def a_stage_ends_when_its_dwell_is_held(self) -> None:
        ends = stage_ends(self.progress, LADDER)
        if ends is not None:
            dwell = LADDER.stages[self.progress.stage].dwell
            assert dwell is not None
            assert abs((self.progress.held(ends) - dwell).total_seconds()) < 1e-3 or self.progress.held_before > dwell


TestRolloutLife = RolloutLife.TestCase
TestRolloutLife.settings = settings(max_examples=60, stateful_step_count=30)
