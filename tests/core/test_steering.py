"""What a store allows: tables of state and rulebook against the acts."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from restless_tide.core.errors import ImpossibleAct, Invalid
from restless_tide.core.ladder import Ladder, Stage, parse_ladder
from restless_tide.core.leg import LastRound, LegPhase, phase_of
from restless_tide.core.order import RULES, OrderKind, pause_before_retry_seconds
from restless_tide.core.rollout import Progress, RolloutEvent, RolloutState, adopted, advanced, options, steered
from restless_tide.core.round import RoundState
from restless_tide.core.rulebook import Rulebook, read_rulebook

RULEBOOKS = Path(__file__).parents[2] / "src/restless_tide/standins/rulebooks"
NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
S, E = RolloutState, RolloutEvent
LADDER = Ladder(name="test", stages=(Stage(share=0.1, dwell_hours=24), Stage(share=1.0)))


def rulebook(name: str) -> Rulebook:
    return read_rulebook((RULEBOOKS / f"{name}.toml").read_text())


@pytest.mark.parametrize(
    ("store", "state", "pauses", "possible"),
    [
        ("northgate", S.WAITING, 0, set()),
        ("northgate", S.RISING, 0, {E.ADVANCE, E.PAUSE, E.HALT, E.FINISH, E.WITHDRAW}),
        ("northgate", S.PAUSED, 9, {E.RESUME, E.HALT, E.FINISH, E.WITHDRAW}),
        ("northgate", S.HALTED, 0, {E.WITHDRAW}),
        ("northgate", S.COMPLETE, 0, {E.WITHDRAW}),
        ("northgate", S.WITHDRAWN, 0, set()),
        ("openfield", S.RISING, 0, {E.PAUSE, E.HALT, E.FINISH, E.WITHDRAW}),
        ("openfield", S.RISING, 2, {E.HALT, E.FINISH, E.WITHDRAW}),
        ("openfield", S.PAUSED, 1, {E.RESUME, E.HALT, E.WITHDRAW}),
        ("openfield", S.HALTED, 0, {E.RESUME, E.WITHDRAW}),
        ("openfield", S.COMPLETE, 0, {E.HALT, E.WITHDRAW}),
    ],
)
def test_each_store_allows_what_its_rulebook_says(
    store: str, state: RolloutState, pauses: int, possible: set[RolloutEvent]
) -> None:
    progress = Progress(
        state=state, stage=0, share=0.1, running_since=NOW if state is S.RISING else None, pauses_used=pauses
    )
    here = options(progress, LADDER, rulebook(store).rollout, "1.0.0")
    assert {act for act, option in here.items() if option.possible} == possible
    assert all(option.why_not for option in here.values() if not option.possible)


def test_a_withdrawal_says_beforehand_what_people_will_see() -> None:
    progress = Progress(state=S.RISING, stage=0, share=0.1, running_since=NOW)
    said = {
        store: options(progress, LADDER, rulebook(store).rollout, "1.9.0")[E.WITHDRAW].consequence
        for store in ("northgate", "openfield")
    }
    assert "offers nothing" in said["northgate"]
    assert "offers 1.9.0 again" in said["openfield"]


def test_a_share_only_rises() -> None:
    progress = Progress(state=S.RISING, stage=0, share=0.1, running_since=NOW)
    assert advanced(progress, LADDER, NOW, 0.3).share == 0.3
    with pytest.raises(ImpossibleAct, match="only rises"):
        advanced(progress, LADDER, NOW, 0.05)


def test_a_complete_release_that_was_halted_is_complete_again_when_resumed() -> None:
    """Found by the state machine in test_machines: it must not rise past everybody."""
    complete = Progress(state=S.COMPLETE, stage=1, share=1.0)
    halted = steered(complete, E.HALT, LADDER, NOW)
    assert steered(halted, E.RESUME, LADDER, NOW) == complete


def test_what_the_store_did_by_itself_is_taken_as_it_is() -> None:
    rising = Progress(state=S.RISING, stage=0, share=0.1, running_since=NOW - timedelta(hours=3))
    assert adopted(rising, S.PAUSED, 0.1, LADDER, NOW).running_since is None
    assert adopted(rising, S.RISING, 0.1, LADDER, NOW).running_since == rising.running_since
    assert adopted(rising, S.COMPLETE, 1.0, LADDER, NOW).stage == 1


@pytest.mark.parametrize(
    ("text", "told"),
    [("5@24,20@48,100", "5% (24 h), 20% (48 h), 100%"), ("100", "100%"), ("1%@12h, 100%", "1% (12 h), 100%")],
)
def test_a_ladder_is_read_from_its_short_form(text: str, told: str) -> None:
    assert parse_ladder(text).told() == told


@pytest.mark.parametrize(
    ("text", "complaint"),
    [
        ("20@1,5@1,100", "must rise"),
        ("5,20", "everybody"),
        ("five,100", "Stage 1"),
        ("5@soon,100", "Stage 1"),
        ("", "Stage 1"),
        ("5,120", "Stage 2"),
    ],
)
def test_a_ladder_that_does_not_work_is_refused_with_its_place(text: str, complaint: str) -> None:
    with pytest.raises(Invalid, match=complaint):
        parse_ladder(text)


@pytest.mark.parametrize(
    ("rollout", "last", "phase"),
    [
        (S.WAITING, None, LegPhase.DRAFT),
        (S.WAITING, LastRound(RoundState.QUEUED, "b1"), LegPhase.UNDER_REVIEW),
        (S.WAITING, LastRound(RoundState.REJECTED, "b1"), LegPhase.REJECTED),
        (S.WAITING, LastRound(RoundState.APPROVED, "b1"), LegPhase.APPROVED),
        (S.WAITING, LastRound(RoundState.APPROVED, "b0"), LegPhase.DRAFT),
        (S.HALTED, LastRound(RoundState.APPROVED, "b1"), LegPhase.HALTED),
    ],
)
def test_an_approval_of_one_build_is_no_approval_of_another(
    rollout: RolloutState, last: LastRound | None, phase: LegPhase
) -> None:
    assert phase_of(rollout, last, "b1") is phase


def test_halts_go_first_and_overtake_what_loses_its_meaning() -> None:
    by_urgency = sorted(
        [OrderKind.SET_SHARE, OrderKind.WITHDRAW, OrderKind.HALT, OrderKind.LAUNCH], key=lambda kind: RULES[kind].turn
    )
    assert by_urgency == [OrderKind.HALT, OrderKind.LAUNCH, OrderKind.WITHDRAW, OrderKind.SET_SHARE]
    assert {OrderKind.SET_SHARE, OrderKind.LAUNCH} <= RULES[OrderKind.HALT].overtakes


def test_a_pause_and_a_resume_keep_their_order() -> None:
    """A storm of kills found it: a pause that goes before a waiting resume is undone by it."""
    assert RULES[OrderKind.PAUSE].turn == RULES[OrderKind.RESUME].turn
    assert OrderKind.RESUME not in RULES[OrderKind.PAUSE].overtakes


def test_pauses_between_tries_grow_to_a_minute_and_stay_short_for_a_halt() -> None:
    pauses = [pause_before_retry_seconds(attempt) for attempt in range(1, 60)]
    assert pauses == sorted(pauses)
    assert pauses[0] == 0.5
    assert pauses[-1] == 60
    assert pause_before_retry_seconds(40, urgent=True) == 2


def test_a_stores_wish_is_honoured_but_never_by_what_is_urgent() -> None:
    assert pause_before_retry_seconds(1, asked_seconds=30) == 30
    assert pause_before_retry_seconds(9, asked_seconds=1, dice=0.0) == 30
    assert pause_before_retry_seconds(1, asked_seconds=10**9) == 3600
    assert pause_before_retry_seconds(3, asked_seconds=30, urgent=True) <= 2


@pytest.mark.parametrize(
    ("broken", "complaint"),
    [("store = ", "not TOML"), ('store = "X"\ncolour = "red"', "colour"), ('store = "X"', "revision")],
)
def test_a_broken_rulebook_is_refused_with_line_or_field(broken: str, complaint: str) -> None:
    with pytest.raises(Invalid, match=complaint):
        read_rulebook(broken)
