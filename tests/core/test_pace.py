"""Stores in step, one that leads, and stages that rise when steady."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule
from pydantic import ValidationError

from restless_tide.core.errors import Invalid
from restless_tide.core.guard import Verdict
from restless_tide.core.ladder import Ladder, Stage, continued, parse_ladder
from restless_tide.core.leg import LegPhase
from restless_tide.core.pace import FREE, Beside, Pace, PaceKind, holds_launch, holds_rise
from restless_tide.core.rollout import (
    GONE,
    ROLLOUT,
    Progress,
    RolloutEvent,
    RolloutState,
    advanced,
    launched,
    stage_ends,
    steered,
)
from restless_tide.core.rulebook import RolloutRules
from restless_tide.core.steady import Counted, Saying, not_yet, together

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
IN_STEP = Pace(kind=PaceKind.IN_STEP)
LEAD = Pace(kind=PaceKind.LEAD, lead="north", share=0.1, steady_hours=12)
LADDERS = {
    "north": parse_ladder("5@24,20@48,50@48,100"),
    "open": parse_ladder("2@24,10@48,35@72,100"),
    "slate": parse_ladder("25,100"),
}


def beside(store: str, share: float, phase: LegPhase = LegPhase.RISING, *, confirmed: bool = True) -> Beside:
    return Beside(store, store.title(), phase, share, confirmed)


@pytest.mark.parametrize(
    ("stage", "slowest", "waits"),
    [
        (1, 0.0, ["Open, which is not launched (approved)"]),
        (1, 0.02, ["Open, which holds 2%"]),
        (1, 0.05, []),
        (2, 0.1, ["Open, which holds 10%"]),
        (2, 0.35, []),
        (3, 0.35, ["Open, which holds 35%"]),
        (3, 1.0, []),
        (0, 0.0, []),
    ],
)
def test_in_step_no_store_is_more_than_one_stage_of_its_ladder_ahead(
    stage: int, slowest: float, waits: list[str]
) -> None:
    others = [beside("north", 0.05), beside("open", slowest, LegPhase.RISING if slowest else LegPhase.APPROVED)]
    assert holds_rise(IN_STEP, "north", LADDERS["north"], stage, others) == waits
    assert holds_rise(FREE, "north", LADDERS["north"], stage, others) == []
    apart = Pace(kind=PaceKind.IN_STEP, apart=("open",))
    assert holds_rise(apart, "north", LADDERS["north"], stage, others) == []
    assert holds_rise(apart, "open", LADDERS["open"], 3, others) == []


def test_what_holds_others_is_told_with_its_state() -> None:
    ladder = LADDERS["north"]
    halted = [beside("open", 0.02, LegPhase.HALTED), beside("slate", 0.0, LegPhase.REJECTED)]
    assert holds_rise(IN_STEP, "north", ladder, 1, halted) == [
        "Open, which holds 2%, halted",
        "Slate, which is not launched (rejected)",
    ]
    unseen = [beside("open", 0.0, confirmed=False)]
    assert holds_rise(IN_STEP, "north", ladder, 1, unseen) == ["Open, whose launch is not confirmed yet"]
    away = [beside("open", 0.02, confirmed=False)]
    assert holds_rise(IN_STEP, "north", ladder, 1, away) == ["Open, which holds 2%, not confirmed yet"]
    for phase in (LegPhase.WITHDRAWN, LegPhase.SUPERSEDED):
        assert holds_rise(IN_STEP, "north", ladder, 3, [beside("open", 0.02, phase)]) == []


@pytest.mark.parametrize(
    ("lead", "unsteady", "waits"),
    [
        (beside("north", 0.05), [], ["North to hold 10% (now: rising, 5%)"]),
        (beside("north", 0.0, LegPhase.UNDER_REVIEW), [], ["North to hold 10% (now: under review, 0%)"]),
        (beside("north", 0.2, LegPhase.HALTED), [], ["North to hold 10% (now: halted, 20%)"]),
        (beside("north", 0.1), ["12 hours"], ["North, which leads: 12 hours"]),
        (beside("north", 0.1), [], []),
        (beside("north", 1.0, LegPhase.COMPLETE), [], []),
    ],
)
def test_after_one_that_leads_the_others_are_launched(lead: Beside, unsteady: list[str], waits: list[str]) -> None:
    others = [lead, beside("open", 0.0, LegPhase.APPROVED)]
    assert holds_launch(LEAD, "open", others, unsteady) == waits
    assert holds_launch(LEAD, "north", others, unsteady) == []
    assert holds_launch(Pace(**LEAD.model_dump(exclude={"apart"}), apart=("open",)), "open", others, unsteady) == []
    assert holds_launch(IN_STEP, "open", others, unsteady) == []


def test_a_lead_that_is_gone_from_the_release_is_told() -> None:
    assert holds_launch(LEAD, "open", [beside("open", 0.0)], []) == ["north to lead; it is not in this release"]


@pytest.mark.parametrize(
    "wrong",
    [
        {"kind": "lead"},
        {"kind": "in step", "lead": "north"},
        {"kind": "lead", "lead": "north", "apart": ["north"]},
        {"kind": "lead", "lead": "north", "share": 0},
        {"kind": "lead", "lead": "north", "share": 1.5},
        {"kind": "lead", "lead": "north", "steady_hours": -1},
        {"kind": "sideways"},
    ],
)
def test_a_pace_that_does_not_fit_together_is_refused(wrong: dict[str, object]) -> None:
    with pytest.raises(ValidationError):
        Pace.model_validate(wrong)


STEADY = Stage(share=0.05, steady_hours=12, least_sessions=2000)


def saying(verdict: Verdict | None = Verdict.STEADY, hours: float = 20) -> Saying:
    return Saying("crashes", verdict, NOW - timedelta(hours=hours))


@pytest.mark.parametrize(
    ("sayings", "sessions", "counted", "waits"),
    [
        ([], 5000, 0, "a guard that watches it"),
        ([saying(None)], 5000, 0, "now: blind"),
        ([saying(Verdict.WATCH)], 5000, 0, "now: watch"),
        ([saying(Verdict.BREACH)], 5000, 0, "now: breach"),
        ([saying(), saying(Verdict.WATCH)], 5000, 0, "now: watch"),
        ([saying(hours=5)], 5000, 0, "12 hours of counts that are steady (so far 5)"),
        ([saying()], 5000, 9, "12 hours of counts that are steady (so far 7)"),
        ([saying()], 5000, None, "12 hours of counts that are steady (so far 0)"),
        ([saying()], 1999, 0, "2,000 sessions in this stage (so far 1,999)"),
        ([saying()], 2000, 3, ""),
    ],
)
def test_a_stage_rises_when_it_was_steady(
    sayings: list[Saying], sessions: int, counted: float | None, waits: str
) -> None:
    """``counted``: how many hours ago the newest counted hour ended. The stage began 16 hours ago."""
    until = None if counted is None else NOW - timedelta(hours=counted)
    found = not_yet(STEADY, NOW - timedelta(hours=16), sayings, Counted(sessions, until), NOW)
    assert (waits in found[0]) if waits else not found


def test_of_several_sources_the_slowest_and_the_most_sessions_count() -> None:
    fast, slow = Counted(900, NOW), Counted(1000, NOW - timedelta(hours=3))
    assert together([fast, slow]) == Counted(1000, NOW - timedelta(hours=3))
    assert together([fast, Counted(5)]) == Counted(900, None)
    assert together([]) == Counted()


def test_a_stage_by_the_clock_needs_no_guard() -> None:
    assert not_yet(Stage(share=0.05, dwell_hours=24), NOW, [], Counted(), NOW) == []


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("5@24,100", "5% (24 h), 100%"),
        ("5@steady12,100", "5% (steady for 12 h), 100%"),
        ("5@steady12/2000,20@24+steady6,100", "5% (steady for 12 h, 2,000 sessions), 20% (24 h, steady for 6 h), 100%"),
        ("0.5@steady1.5h/10,100", "0.5% (steady for 1.5 h, 10 sessions), 100%"),
        ("5 , 100%", "5%, 100%"),
    ],
)
def test_a_ladder_is_read_written_and_told(text: str, told: str) -> None:
    ladder = parse_ladder(text)
    assert ladder.told() == told
    assert parse_ladder(ladder.written()) == ladder


@pytest.mark.parametrize(
    "text",
    ["5@steady,100", "5@steady0,100", "5@steady12/x,100", "5@steady12/-4,100", "5@nan,100", "5@24+,100", "20@1,5@1,100", "5@24",
     "5@steadyinf,100", "x" * 301, "5@-1,100", "nan,100"],
)  # fmt: skip
def test_a_ladder_that_cannot_be_is_refused_with_the_stage(text: str) -> None:
    with pytest.raises(Invalid, match=r"[Ll]adder"):
        parse_ladder(text)


def test_the_hours_of_a_stage_are_the_longer_of_both() -> None:
    ladder = parse_ladder("5@6+steady12,100")
    begun = launched(Progress(), ladder, NOW)
    assert stage_ends(begun, ladder) == NOW + timedelta(hours=12)
    assert stage_ends(launched(Progress(), parse_ladder("5,100"), NOW), parse_ladder("5,100")) is None


def test_a_named_ladder_that_is_changed_half_way_changes_the_rest() -> None:
    changed = parse_ladder("2@1,10@1,40@steady12,100", "careful")
    rest = continued(parse_ladder("5@24,20@48,50,100"), 0.2, changed)
    assert rest.written() == "5@24,20@48,40@steady12,100"
    assert rest.name == "careful"


def test_a_store_dictates_no_steadiness() -> None:
    with pytest.raises(ValidationError, match="guards say"):
        RolloutRules(dictated_ladder=parse_ladder("5@steady12,100"))


class Convoy(RuleBasedStateMachine):
    """Three stores in step on unlike ladders; each rises only where its pace lets it, and a halt is always possible."""

    @initialize(apart=st.sampled_from([(), ("slate",)]))
    def begin(self, apart: tuple[str, ...]) -> None:
        self.pace = Pace(kind=PaceKind.IN_STEP, apart=apart)
        self.now = NOW
        self.stores = dict.fromkeys(LADDERS, Progress())
        self.raised: tuple[str, int, list[float]] | None = None

    def others(self) -> list[Beside]:
        return [
            beside(
                name, one.share, LegPhase.APPROVED if one.state is RolloutState.WAITING else LegPhase(one.state.value)
            )
            for name, one in self.stores.items()
        ]

    def _raise(self, store: str, stage: int, after: Progress) -> None:
        if holds_rise(self.pace, store, LADDERS[store], stage, self.others()):
            return
        slowest = [
            LADDERS[store].stage_of(one.share)
            for name, one in self.stores.items()
            if name not in (store, *self.pace.apart) and one.state not in GONE and store not in self.pace.apart
        ]
        self.stores[store] = after
        self.raised = (store, after.stage, [float(one) for one in slowest])

    @rule(store=st.sampled_from(sorted(LADDERS)))
    def launch(self, store: str) -> None:
        if self.stores[store].state is RolloutState.WAITING:
            self._raise(store, 0, launched(self.stores[store], LADDERS[store], self.now))

    @rule(store=st.sampled_from(sorted(LADDERS)))
    def advance(self, store: str) -> None:
        one, ladder = self.stores[store], LADDERS[store]
        if one.state is RolloutState.RISING and one.stage + 1 < len(ladder.stages):
            self._raise(store, one.stage + 1, advanced(one, ladder, self.now))

    @rule(store=st.sampled_from(sorted(LADDERS)))
    def finish(self, store: str) -> None:
        one, ladder = self.stores[store], LADDERS[store]
        if ROLLOUT.allows(one.state, RolloutEvent.FINISH):
            self._raise(store, len(ladder.stages) - 1, steered(one, RolloutEvent.FINISH, ladder, self.now))

    @rule(
        store=st.sampled_from(sorted(LADDERS)),
        act=st.sampled_from([RolloutEvent.PAUSE, RolloutEvent.RESUME, RolloutEvent.HALT, RolloutEvent.WITHDRAW]),
    )
    def steer(self, store: str, act: RolloutEvent) -> None:
        one = self.stores[store]
        if ROLLOUT.allows(one.state, act):
            self.stores[store] = steered(one, act, LADDERS[store], self.now)

    @invariant()
    def no_act_raises_a_store_more_than_one_stage_ahead(self) -> None:
        raised = getattr(self, "raised", None)
        if raised is not None:
            store, stage, slowest = raised
            assert all(stage <= other + 1 for other in slowest), (store, stage, slowest)
            self.raised = None

    @invariant()
    def a_halt_is_always_possible(self) -> None:
        for one in getattr(self, "stores", {}).values():
            if one.state in (RolloutState.RISING, RolloutState.PAUSED, RolloutState.COMPLETE):
                assert ROLLOUT.allows(one.state, RolloutEvent.HALT)


TestConvoy = Convoy.TestCase


def test_what_holds_a_rise_looks_at_the_stage_that_is_to_be_reached() -> None:
    ladder: Ladder = LADDERS["north"]
    assert holds_rise(IN_STEP, "north", ladder, 3, [beside("open", 0.1)])
    assert not holds_rise(IN_STEP, "north", ladder, ladder.stage_of(0.1) + 1, [beside("open", 0.1)])
