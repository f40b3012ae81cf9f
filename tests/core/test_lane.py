"""The lane: every interleaving within bounds, long lives at random, and what its rules are there for."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest

from restless_tide.core import lane as lanes
from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.lane import (
    Accepted,
    Answered,
    Ask,
    Began,
    Cause,
    Entry,
    Happening,
    Held,
    Keep,
    Lane,
    Level,
    Moment,
    Outcome,
    Placed,
    Refused,
    Repeat,
    Settle,
    Sighted,
    Silent,
    Wait,
)
from restless_tide.core.order import FAILING_AFTER_ATTEMPTS, RULES, OrderKind, OrderState, Subject
from restless_tide.core.rollout import RolloutState
from restless_tide.core.round import RoundState
from restless_tide.core.trial import TrialState
from tests.core.lane_exploration import explore, wander

K, R = OrderKind, RolloutState
NOW = datetime(2026, 11, 25, 12, tzinfo=UTC)
RISING = Held(R.RISING, 0.1)
HALTED = Held(R.HALTED, 0.1)


def leg(wanted: Held = RISING, seen: Held | None = RISING, **level: object) -> Lane:
    return Lane(Level("leg", Subject.LEG, wanted, seen, 7)._replace(**level), heard=7)


def tell(lane: Lane, *happened: Happening) -> tuple[Lane, list[Outcome]]:
    """The lane after all of this, and what it said of the last."""
    out: list[Outcome] = []
    for what in happened:
        lane, out = lanes.step(lane, what, Moment(NOW, "again"))
    return lane, out


def entry(key: str, kind: OrderKind, subject: str = "leg", share: float = 0.0) -> Entry:
    return Entry(key, kind, subject, Held("", share))


# every interleaving


def test_every_interleaving_of_four_orders_and_a_fault_keeps_every_promise() -> None:
    found = explore(4, 1)
    assert found.trouble == []
    assert found.states > 50_000, "fewer situations than there are: something is not explored any more"


def test_every_interleaving_with_stores_restored_from_backups_comes_to_rest_as_wanted() -> None:
    found = explore(2, 1, restores=True)
    assert found.trouble == []
    assert found.states > 1_000


@pytest.mark.parametrize("seed", [777, 2026])
def test_long_lanes_at_random_keep_every_promise(seed: int) -> None:
    found = wander(20_000, seed)
    assert found.trouble == []
    assert found.states > 100


# what the rules are there for: each of them taken away is noticed


def _nothing_again(patch: pytest.MonkeyPatch) -> None:
    patch.setattr(lanes, "_repeat", lambda lane, moment, out: lane)


def _halt_waits_its_turn(patch: pytest.MonkeyPatch) -> None:
    patch.setitem(RULES, K.HALT, replace(RULES[K.HALT], turn=9, beside=False))  # type: ignore[arg-type]


def _halt_overtakes_nothing(patch: pytest.MonkeyPatch) -> None:
    patch.setitem(RULES, K.HALT, replace(RULES[K.HALT], overtakes=frozenset()))  # type: ignore[arg-type]


def _sequence_forgotten(patch: pytest.MonkeyPatch) -> None:
    sight = lanes._sight

    def forgetful(lane: Lane, held: Held, sequence: int, ours: bool, out: list[Outcome]) -> Lane:
        return sight(lane._replace(level=lane.level._replace(sequence=0)), held, sequence, ours, out)

    patch.setattr(lanes, "_sight", forgetful)


def _refusal_changes_nothing_wanted(patch: pytest.MonkeyPatch) -> None:
    patch.setattr(lanes, "_refused", lambda lane, key, out: lanes._settled(lane, key, OrderState.REFUSED, "", out))


def _whose_act_it_was_is_ignored(patch: pytest.MonkeyPatch) -> None:
    sight = lanes._sight
    patch.setattr(lanes, "_sight", lambda lane, held, sequence, ours, out: sight(lane, held, sequence, False, out))


def _calls_at_once(patch: pytest.MonkeyPatch) -> None:
    call = lanes.next_call
    patch.setattr(lanes, "next_call", lambda lane, now: call(lane._replace(calls=frozenset()), now))


@pytest.mark.parametrize(
    "mutation",
    [
        _nothing_again,
        _halt_waits_its_turn,
        _halt_overtakes_nothing,
        _sequence_forgotten,
        _refusal_changes_nothing_wanted,
        _whose_act_it_was_is_ignored,
        _calls_at_once,
    ],
    ids=lambda mutation: mutation.__name__.strip("_").replace("_", " "),
)
def test_a_rule_taken_away_is_noticed(
    monkeypatch: pytest.MonkeyPatch, mutation: Callable[[pytest.MonkeyPatch], None]
) -> None:
    mutation(monkeypatch)
    assert any(explore(orders, faults, most_found=1).trouble for orders, faults in ((2, 1), (3, 1)))


# one by one


def test_a_halt_goes_beside_what_is_in_flight_past_a_wait_and_a_store_left_alone() -> None:
    lane, _ = tell(leg(), Placed(entry("r", K.SET_SHARE, share=0.2)), Began("r"))
    lane, out = tell(lane, Placed(entry("h", K.HALT)))
    assert Settle("r", OrderState.DROPPED, "overtaken by halt") in out
    assert lane.level.wanted == HALTED, "the raise was not seen, so its share is not wanted any more"
    assert lanes.next_call(lane, NOW) == lanes.next_call(lane, NOW, alone=True) == "h"
    waiting, _ = tell(leg(), Placed(entry("p", K.PAUSE)), Began("p"), Silent("p", asked_seconds=600.0))
    lane, _ = tell(waiting, Placed(entry("h", K.HALT)))
    assert lanes.next_call(lane, NOW) == "h"


def test_a_step_that_reaches_the_store_after_the_halt_is_halted_again() -> None:
    lane, _ = tell(leg(Held(R.PAUSED, 0.1), Held(R.PAUSED, 0.1)), Placed(entry("r", K.RESUME)), Began("r"))
    lane, _ = tell(lane, Placed(entry("h", K.HALT)), Began("h"), Answered("h", HALTED, 8))
    assert lane.level.seen == HALTED
    lane, out = tell(lane, Answered("r", RISING, 9))
    (again,) = [outcome for outcome in out if isinstance(outcome, Repeat)]
    assert (again.entry.kind, again.entry.again) == (K.HALT, True)
    lane, out = tell(lane, Sighted(RISING, 9, "r"))
    assert not any(isinstance(outcome, Repeat) for outcome in out), "once for each sighting"
    lane, _ = tell(lane, Began("again"), Answered("again", HALTED, 10))
    assert (lane.level.wanted, lane.level.seen, lane.orders) == (HALTED, HALTED, ())


def test_what_somebody_does_at_the_store_is_taken_as_wanted_but_never_against_a_stop() -> None:
    lane, out = tell(leg(), Sighted(Held(R.PAUSED, 0.1), 8))
    assert out == [Keep(Held(R.PAUSED, 0.1), Cause.STRANGER)]
    lane, out = tell(leg(HALTED, HALTED), Sighted(RISING, 8))
    assert out == [Ask()]
    assert (lane.level.wanted, lane.level.asked) == (HALTED, True)
    again, _ = tell(lane, Placed(entry("h", K.HALT)))
    assert (lanes.next_call(again, NOW), again.level.asked) == ("h", False)
    taken, out = tell(lane, Accepted())
    assert (taken.level.wanted, taken.level.asked, out) == (RISING, False, [Keep(RISING, Cause.STRANGER)])
    calmed, _ = tell(lane, Sighted(HALTED, 9))
    assert not calmed.level.asked


def test_a_repeated_halt_that_the_store_refuses_stays_wanted_and_a_person_is_asked() -> None:
    lane, _ = tell(leg(HALTED, HALTED), Sighted(RISING, 8, "late"))
    lane, out = tell(lane, Began("again"), Refused("again"))
    assert out[:2] == [Ask(), Settle("again", OrderState.REFUSED)]
    assert (lane.level.wanted, lane.level.asked) == (HALTED, True)


def test_a_halt_that_comes_when_an_earlier_one_has_stopped_the_release_is_dropped_and_not_refused() -> None:
    first, second = entry("h", K.HALT), entry("h2", K.HALT)
    lane, _ = tell(leg(), Placed(first), Placed(entry("r", K.RESUME)), Placed(second))
    assert [one.key for one in lane.orders] == ["h", "h2"]
    lane, _ = tell(lane, Began("h"), Answered("h", HALTED, 8), Began("h2"))
    lane, out = tell(lane, Refused("h2"))
    assert out == [Settle("h2", OrderState.DROPPED, "it had stopped already")]
    assert (lane.level.wanted, lane.orders) == (HALTED, ())
    alone, out = tell(leg(), Placed(first), Began("h"), Refused("h"))
    assert Settle("h", OrderState.REFUSED) in out
    assert alone.level.wanted == RISING, "the store goes on offering it, and people are told"


def test_a_refused_step_leaves_what_the_store_holds_with_what_still_waits_on_top() -> None:
    lane, _ = tell(leg(), Placed(entry("r", K.SET_SHARE, share=0.2)), Began("r"), Placed(entry("w", K.WITHDRAW)))
    assert [one.key for one in lane.orders] == ["w"]
    lane, _ = tell(leg(), Placed(entry("p", K.PAUSE)), Began("p"), Placed(entry("r", K.RESUME)))
    lane, out = tell(lane, Refused("p"))
    assert (lane.level.wanted, [one.key for one in lane.orders]) == (RISING, ["r"])
    assert Settle("p", OrderState.REFUSED) in out


def test_a_halt_before_the_launch_leaves_it_unlaunched_and_stops_a_launch_that_arrives_late() -> None:
    lane, _ = tell(leg(Held(R.WAITING), None), Placed(entry("l", K.LAUNCH, share=0.1)), Began("l"))
    lane, _ = tell(lane, Placed(entry("h", K.HALT)), Began("h"), Refused("h"))
    assert lane.level.wanted == Held(R.WAITING)
    lane, out = tell(lane, Sighted(RISING, 8, "l"))
    assert Keep(HALTED, Cause.LATE) in out
    assert [one.kind for one in lane.orders] == [K.HALT]


def test_a_store_that_says_done_and_does_nothing_is_asked_again_with_growing_pauses_and_people_are_told() -> None:
    lane, out = tell(leg(HALTED, HALTED), Sighted(RISING, 8, "late"))
    repeats = [outcome for outcome in out if isinstance(outcome, Repeat)]
    for sequence in range(9, 16):
        lane, out = tell(lane, Began("again"), Answered("again", RISING, sequence))
        repeats += [outcome for outcome in out if isinstance(outcome, Repeat)]
    assert len(repeats) == 8
    assert repeats[0].entry.try_after is None
    waits = [again.entry.try_after - NOW for again in repeats[1:] if again.entry.try_after]
    assert waits == sorted(waits)
    assert max(waits) == timedelta(seconds=2), "a halt never waits long"
    assert [again.failing for again in repeats].index(True) == FAILING_AFTER_ATTEMPTS - 1


def test_silence_waits_longer_each_time_and_a_clock_that_was_put_back_keeps_nobody_waiting() -> None:
    lane, out = tell(leg(), Placed(entry("r", K.SET_SHARE, share=0.2)), Began("r"), Silent("r", 60.0, 0.5))
    assert [type(outcome) for outcome in out] == [Wait]
    until = lane.orders[0].try_after
    assert until == NOW + timedelta(seconds=60)
    assert lanes.next_call(lane, NOW) is None
    assert lanes.next_call(lane, until) == "r"
    assert lanes.next_call(lane, NOW - timedelta(days=1)) == "r"
    failing = []
    for _ in range(FAILING_AFTER_ATTEMPTS + 1):
        lane, out = tell(lane, Began("r"), Silent("r"))
        failing += [outcome.failing for outcome in out if isinstance(outcome, Wait)]
    assert failing.count(True) == 1


def test_an_older_sighting_is_known_already_whichever_way_it_comes() -> None:
    lane, _ = tell(leg(), Placed(entry("p", K.PAUSE)), Began("p"), Answered("p", Held(R.PAUSED, 0.1), 9))
    after, out = tell(lane, Sighted(RISING, 8, None), Sighted(Held(R.PAUSED, 0.1), 9, "p"))
    assert out == []
    assert (after.level.seen, after.level.wanted) == (Held(R.PAUSED, 0.1), Held(R.PAUSED, 0.1))


def test_a_closed_trial_that_the_store_goes_on_showing_by_a_call_of_ours_is_closed_again() -> None:
    lane = Lane(Level("t", Subject.TRIAL, Held(TrialState.CLOSED), Held(TrialState.CLOSED), 5), heard=5)
    lane, out = tell(lane, Sighted(Held(TrialState.OPEN), 6, "late"))
    assert [outcome.entry.kind for outcome in out if isinstance(outcome, Repeat)] == [K.CLOSE_TRIAL]
    assert lane.level.wanted == Held(TrialState.CLOSED)


def test_what_a_store_tells_of_a_build_moves_it_along_its_table_and_no_other_way() -> None:
    lane = Lane(Level("c", Subject.CONSIGNMENT, Held(ConsignmentState.PROCESSING), None), heard=0)
    lane, out = tell(lane, Sighted(Held(ConsignmentState.READY), 1))
    assert out == [Keep(Held(ConsignmentState.READY), Cause.MOVED)]
    lane, out = tell(lane, Sighted(Held(ConsignmentState.PROCESSING), 2))
    assert (out, lane.level.wanted, lane.level.seen) == ([], Held("ready"), Held("processing"))


def test_a_recall_that_comes_too_late_gives_way_to_the_verdict() -> None:
    lane = Lane(Level("ro", Subject.ROUND, Held(RoundState.RECALLED), Held(RoundState.IN_HAND), 3), (entry("x", K.RECALL, "ro"),), heard=3)  # fmt: skip
    refused, out = tell(lane, Began("x"), Refused("x"))
    assert Keep(Held(RoundState.IN_HAND), Cause.REFUSED) in out
    _, out = tell(refused, Sighted(Held(RoundState.APPROVED), 4))
    assert out == [Keep(Held(RoundState.APPROVED), Cause.MOVED)]
    assert tell(lane, Sighted(Held(RoundState.APPROVED), 4))[0].level.wanted == Held(RoundState.APPROVED)


def test_an_offer_changed_at_the_store_is_taken_and_one_undone_by_a_late_call_is_ordered_again() -> None:
    free, paid = Held('{"price": null}'), Held('{"price": "2.00"}')
    lane = Lane(Level("be", Subject.BERTH, free, free, 3), heard=3)
    assert tell(lane, Sighted(paid, 4))[1] == [Keep(paid, Cause.STRANGER)]
    _, out = tell(lane, Sighted(paid, 4, "late"))
    assert [outcome.entry.asks for outcome in out if isinstance(outcome, Repeat)] == [free]
