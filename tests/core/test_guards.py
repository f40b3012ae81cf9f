"""The guard's arithmetic: valid at every look, soon when something is wrong, and in words that say what was found."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from restless_tide.core import sequential
from restless_tide.core.gauges import COUNTED, Counts, hour_number, hour_of, what_is_wrong
from restless_tide.core.guard import Against, GuardRule, Verdict, Watched, in_words, verdict_of
from restless_tide.core.guarding import Source, Table, counterparts, judge
from restless_tide.core.sequential import Evidence, Rows, dispersion_of, rate_evidence, rating_evidence
from tests.guards.rollouts import Case, peeked, play

Counted = Sequence[float] | np.ndarray
NOW = datetime(2026, 11, 2, 12, 30, tzinfo=UTC)
counts = st.integers(0, 400)


def rows(*found: tuple[int, int, int, int]) -> Rows:
    table = np.array(found, float).reshape(-1, 4)
    return Rows(np.arange(len(found)), table[:, 0], table[:, 1], table[:, 2], table[:, 3])


def rated(ours: Counted, theirs: Counted, tolerance: float = 0.3, error_bound: float = 0.01) -> Evidence:
    """Ratings of one hour, or of several (shape (hours, 5))."""
    stars, beside = np.atleast_2d(np.array(ours, float)), np.atleast_2d(np.array(theirs, float))
    return rating_evidence(np.arange(len(stars)), stars, beside, tolerance=tolerance, error_bound=error_bound)


def evidence(*found: tuple[int, int, int, int], **more: float):
    return rate_evidence([rows(*found)], tolerance=1.25, error_bound=0.01, **more)


@pytest.mark.parametrize(
    "case",
    [
        Case("at the tolerance", ratio=1.25),
        Case("people crash three times", ratio=1.25, crashes=3.0),
        Case("early adopters differ", ratio=1.25, early=True),
        Case("late counts", ratio=1.25, late=True),
    ],
    ids=lambda case: case.name,
)
def test_a_rollout_within_the_tolerance_is_left_alone(case: Case) -> None:
    stopped = [play(case, GuardRule(), seed).stopped_hour is not None for seed in range(60)]
    assert sum(stopped) <= 3  # more than 3 of 60 has a chance of 3 in 1,000 where 1 in 100 is stopped


def test_a_guard_that_looks_every_hour_at_a_test_made_for_one_look_is_caught_by_the_same_rollouts() -> None:
    stopped = [peeked(Case("no change"), seed) for seed in range(60)]
    assert sum(stopped) > 6


def test_clustered_crashes_would_stop_good_rollouts_if_they_were_not_tempered() -> None:
    case = Case("six crashes a person", ratio=1.25, crashes=6.0)
    rule = GuardRule(watched=Watched.CRASHES)
    tempered = [play(case, rule, seed).stopped_hour is not None for seed in range(40)]
    naive = [play(case, rule, seed, dispersion=1.0).stopped_hour is not None for seed in range(40)]
    assert sum(tempered) <= 2
    assert sum(naive) > 4  # of 40, where 1 in 100 is promised


def test_a_doubled_rate_is_stopped_soon() -> None:
    found = [play(Case("doubled", ratio=2.0), GuardRule(), seed) for seed in range(40)]
    assert all(one.stopped_hour is not None for one in found)
    assert np.median([one.stopped_after for one in found]) <= 1.6 * np.median([one.knowing_after for one in found])


def test_the_mean_of_the_evidence_is_one_when_nothing_is_wrong() -> None:
    """At the edge of what is accepted, whatever was counted before: the property from which all else follows."""
    ours, theirs, both = 30.0, 70.0, 3
    part = ours * 1.25 / (ours * 1.25 + theirs)
    mean = 0.0
    for crashed in range(both + 1):
        chance = math.comb(both, crashed) * part**crashed * (1 - part) ** (both - crashed)
        mean += chance * math.exp(evidence((crashed, 30, both - crashed, 70)).log)
    assert mean == pytest.approx(1.0)


@given(st.lists(st.tuples(counts, counts, counts, counts), max_size=8))
def test_no_counts_make_the_arithmetic_fail(found: list[tuple[int, int, int, int]]) -> None:
    told = evidence(*found)
    assert math.isfinite(told.log)
    if told.ratio is not None:
        assert told.low is not None
        assert told.high is not None
        assert told.low <= told.high


@given(st.permutations(range(6)))
def test_the_order_in_which_hours_come_in_changes_nothing_of_the_whole(order: list[int]) -> None:
    hours = [(3, 100, 20, 900), (0, 50, 8, 400), (7, 120, 11, 1000), (1, 10, 1, 100), (2, 60, 9, 500), (4, 80, 7, 700)]
    assert evidence(*[hours[at] for at in order]).log == pytest.approx(evidence(*hours).log)


def test_evidence_of_two_stores_adds_up() -> None:
    store = rows((9, 400, 20, 3000), (8, 400, 22, 3000))
    alone = rate_evidence([store], tolerance=1.25, error_bound=0.01)
    together = rate_evidence([store, store], tolerance=1.25, error_bound=0.01)
    assert alone.log < -math.log(0.01) < together.log
    assert together.low > alone.low


def test_an_hour_without_a_reference_says_nothing() -> None:
    assert evidence((50, 100, 0, 0)).log == 0.0


def test_a_fixed_bound_needs_no_reference() -> None:
    told = evidence((30, 1000, 0, 0), bound=0.01)
    assert told.ratio == pytest.approx(3.0, rel=0.05)
    assert told.log > -math.log(0.01)
    assert evidence((10, 1000, 0, 0), bound=0.01).log < 0


def test_uptake_that_does_not_come_is_found_from_the_other_side() -> None:
    slow = evidence((20, 1000, 100, 1000), falls=True)
    assert slow.log > -math.log(0.01)
    assert evidence((100, 1000, 100, 1000), falls=True).log < 0


def test_ratings_are_compared_as_bets_on_their_mean() -> None:
    good, bad = np.array([5.0, 5, 10, 30, 50]), np.array([40.0, 30, 10, 10, 10])
    assert rated(bad, good * 10).log > -math.log(0.01)
    same = rated(good, good * 10)
    assert same.log < 0
    assert same.low < 0 < same.high
    bound = rated(good * 10, [0, 0, 0, 1e7, 0])  # as certain as can be
    assert -0.4 < bound.low < bound.ratio < bound.high < 0.2
    assert rated(np.zeros(5), good).ratio is None


def test_ratings_that_do_not_differ_are_seldom_called_worse_however_often_one_looks() -> None:
    dice, stopped = np.random.default_rng(5), 0
    chances = [0.1, 0.05, 0.1, 0.25, 0.5]
    for _ in range(60):
        found = rated(dice.multinomial(10, chances, 200), dice.multinomial(40, chances, 200), 0.0, 0.05)
        stopped += found.highest >= -math.log(0.05)
    assert stopped <= 8  # more than 8 of 60 has a chance of 3 in 1,000 where 1 in 20 is stopped


def test_the_evidence_of_ratings_is_told_hour_by_hour() -> None:
    bad, good = [4, 3, 1, 1, 1], [1, 1, 1, 2, 15]
    found = rated([good, bad, bad, bad], [good] * 4)
    assert list(found.hours) == [0, 1, 2, 3]
    assert found.logs[0] < found.logs[1] < found.logs[2] < found.logs[3]
    ours, theirs = table([5, 6, 6], stars_1=[0, 3, 4], stars_5=[9, 0, 0]), table([5, 7], stars_5=[90, 90])
    told = judge(GuardRule(watched=Watched.RATING, least_people=1), [Source(ours, theirs, theirs)], "2.3.0")
    assert list(told.evidence.hours) == [5, 6, 7]
    assert (told.exposed, told.events, told.reference_exposed) == (16, 7, 180)
    fixed = GuardRule(watched=Watched.RATING, against=Against.BOUND, bound=4.5)
    assert judge(fixed, [Source(ours, table([]), table([]))], "4.5 stars").events == 7
    assert judge(fixed, [], "4.5 stars").verdict is None


def test_dispersion_is_measured_by_day_and_never_below_one() -> None:
    dice = np.random.default_rng(1)
    exposed = np.full(28, 10_000.0)
    assert dispersion_of(dice.poisson(50.0, 28) * 1.0, exposed) < 2.2
    assert dispersion_of(dice.poisson(10.0, 28) * 5.0, exposed) > 4
    assert dispersion_of(np.array([50.0, 50.0]), np.array([1e4, 1e4])) == 5.0
    assert dispersion_of(np.full(28, 50.0), exposed) == 1.0


def test_hours_at_the_same_share_stand_side_by_side_each_once() -> None:
    ours = {100: 0.05, 101: 0.05, 124: 0.05, 125: 0.2}
    theirs = {4: 0.05, 28: 0.05, 52: 0.05, 29: 0.2, 6: 0.5}
    assert counterparts(ours, theirs) == {4: 100, 28: 124, 29: 125}


@pytest.mark.parametrize(
    ("wish", "told"),
    [
        ({"watched": "uptake"}, "can only be compared"),
        ({"watched": "ratings", "against": "the version before at the same share"}, "can only be compared"),
        ({"against": "a fixed bound"}, "a bound goes with"),
        ({"bound": 0.01}, "a bound goes with"),
        ({"against": "a fixed bound", "bound": 2.0}, "between 0 and 1"),
        ({"watched": "ratings", "against": "a fixed bound", "bound": 0.5}, "between 1 and 5"),
        ({"tolerance": 0.5}, "at least 1"),
        ({"watched": "ratings", "tolerance": 4.0}, "at most 3 stars"),
    ],
)
def test_a_rule_that_makes_no_sense_says_why(wish: dict[str, object], told: str) -> None:
    with pytest.raises(ValueError, match=told):
        GuardRule.model_validate(wish)


def test_a_guard_says_in_words_what_it_found() -> None:
    rule = GuardRule()
    said = in_words(rule, ratio=2.11, low=1.6, high=2.8, exposed=4200, reference="2.3.0")
    assert said == "2.1 times as many people meet a crash as with 2.3.0 (1.6 to 2.8), 4,200 sessions"
    assert "1.25 times" in rule.told()
    assert "1 in 100" in rule.told()


def test_verdicts_follow_from_the_evidence() -> None:
    rule = GuardRule()
    enough = rule.least_people
    assert verdict_of(rule, log_now=0, log_highest=0, people=enough) is Verdict.STEADY
    assert verdict_of(rule, log_now=3, log_highest=3, people=enough) is Verdict.WATCH
    assert verdict_of(rule, log_now=0, log_highest=5, people=enough) is Verdict.BREACH  # who was sure stays sure
    assert verdict_of(rule, log_now=5, log_highest=5, people=enough - 1) is Verdict.WATCH  # too few people to act


def table(hours: list[int], **columns: list[int]) -> Table:
    found = {name: np.array(columns.get(name, [0] * len(hours)), float) for name in COUNTED}
    return Table(np.array(hours), np.zeros(len(hours), int), found)


def test_a_guard_without_a_reference_is_blind_and_says_so() -> None:
    ours = table([1, 2], sessions=[500, 500], crashed_people=[20, 20], first_starts=[300, 0])
    nothing = table([])
    assert judge(GuardRule(), [Source(ours, nothing, nothing)], "2.3.0").verdict is None
    assert "no counts of 2.3.0" in judge(GuardRule(), [Source(ours, nothing, nothing)], "2.3.0").blind
    told = judge(GuardRule(), [Source(ours, nothing, nothing, blind="There is no version before it.")], "")
    assert told.blind == "There is no version before it."
    beside = table([1, 2], sessions=[9000, 9000], crashed_people=[20, 20])
    assert judge(GuardRule(), [Source(ours, beside, nothing)], "2.3.0").verdict is Verdict.BREACH


@pytest.mark.parametrize(
    ("at", "found", "told"),
    [
        (NOW, Counts(), "not the beginning of an hour"),
        (datetime.fromisoformat("2026-11-02T11:00+05:30"), Counts(), "not the beginning of an hour"),
        (datetime(2026, 11, 2, 11), Counts(), "has no zone"),
        (NOW.replace(minute=0) + timedelta(hours=3), Counts(), "in the future"),
        (
            NOW.replace(minute=0),
            Counts(people=5, sessions=5, crashed_sessions=6),
            "sessions that crashed are more than",
        ),
        (
            NOW.replace(minute=0),
            Counts(people=5, sessions=9, crashed_sessions=9, crashed_people=6),
            "more than 5 people",
        ),
        (NOW.replace(minute=0), Counts(people=5, sessions=9, first_starts=6), "first starts are more than"),
        (NOW.replace(minute=0), Counts(people=9, sessions=5), "9 people are more than 5 sessions"),
    ],
)
def test_counts_that_cannot_be_are_told(at: datetime, found: Counts, told: str) -> None:
    assert told in " ".join(what_is_wrong(at, [("2.4.0", found)], NOW))
    assert not what_is_wrong(NOW.replace(minute=0), [("2.4.0", Counts(people=5, sessions=6))], NOW)


@settings(max_examples=30)
@given(st.datetimes(datetime(1990, 1, 1), datetime(2100, 1, 1), timezones=st.just(UTC)))
def test_hours_are_numbered_from_1970(at: datetime) -> None:
    assert hour_of(hour_number(at)) <= at < hour_of(hour_number(at) + 1)


def test_the_same_share_is_compared_hour_by_hour() -> None:
    ours = table([100, 101], people=[500, 500], sessions=[500, 500], first_starts=[5, 5])
    theirs = table([4, 5], people=[500, 500], sessions=[500, 500], first_starts=[60, 60])
    rule = GuardRule(watched=Watched.UPTAKE, against=Against.SAME_SHARE, least_people=1)
    source = Source(ours, theirs, theirs, {100: 0.05, 101: 0.05}, {4: 0.05, 5: 0.05})
    assert judge(rule, [source], "2.3.0").verdict is Verdict.BREACH
    assert judge(rule, [Source(ours, theirs, theirs, {100: 0.2}, {4: 0.05})], "2.3.0").verdict is None


def test_single_precision_moves_the_likelihoods_of_an_interval_by_less_than_a_millionth() -> None:
    dice, count = np.random.default_rng(3), 4000
    ours, theirs = dice.integers(1, 400, count).astype(float), dice.integers(1, 9000, count).astype(float)
    found = Rows(np.arange(count), dice.poisson(ours * 0.01) * 1.0, ours, dice.poisson(theirs * 0.004) * 1.0, theirs)
    mixed = np.log(np.outer(ours / (ours + theirs), sequential.RATIOS - 1) + 1)
    double = found.events.sum() * np.log(sequential.RATIOS) - (found.events + found.reference_events) @ mixed
    single = sequential.likelihoods(found, sequential.RATIOS, None)
    assert np.abs(single - double).max() < 1e-6 * np.abs(double).max()
