"""How long reviews take: what is usual by one's own times or the rulebook, and figures over many rounds."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as some

from restless_tide.core.round import RoundState
from restless_tide.core.waiting import LEAST_OWN, MOST_OWN, By, RoundTimes, figures, is_long, usual

S = RoundState
MONDAY = datetime(2026, 11, 23, 9, tzinfo=UTC)


def test_before_there_is_history_the_rulebook_says_what_is_usual() -> None:
    known = usual([1.0] * (LEAST_OWN - 1), 12.0)
    assert (known.median_hours, known.rounds) == (12.0, 0)
    assert not is_long(30.0, known)
    assert is_long(37.0, known)


def test_ones_own_times_say_it_from_five_on() -> None:
    known = usual([10.0, 20.0, 30.0, 40.0, 50.0], 500.0)
    assert (known.median_hours, known.rounds) == (30.0, 5)
    assert (known.low_hours, known.high_hours) == (14.0, 46.0)
    assert is_long(47.0, known)
    old = usual([*[1.0] * MOST_OWN, *[900.0] * 50], 5.0)
    assert old.high_hours == 1.0, "only the newest count"


@given(some.lists(some.integers(0, 10**6).map(float), min_size=LEAST_OWN, max_size=60))
def test_a_band_holds_its_median_and_nine_in_ten_stay_under_their_mark(own: list[float]) -> None:
    known = usual(own, 1.0)
    assert known.low_hours <= known.median_hours <= known.high_hours
    assert sum(is_long(one, known) for one in own) <= len(own) * 0.2 + 1


def a_round(store: str, state: S, begun: datetime, waited: float | None, looked: float | None) -> RoundTimes:
    up = begun + timedelta(hours=waited) if waited is not None else None
    end = (up or begun) + timedelta(hours=looked) if looked is not None else None
    return RoundTimes(store, "Marram", state, begun, up, end)


def test_figures_are_gathered_by_store_app_and_weekday() -> None:
    rounds = [
        a_round("northgate", S.APPROVED, MONDAY, 2.0, 4.0),
        a_round("northgate", S.REJECTED, MONDAY + timedelta(days=1), 4.0, 8.0),
        a_round("openfield", S.QUEUED, MONDAY, None, None),
        a_round("openfield", S.APPROVED, MONDAY, None, 5.0),
        a_round("openfield", S.RECALLED, MONDAY, None, None),
    ]
    north, open_ = figures(rounds, By.STORE)
    assert (north.name, north.rounds, north.decided, north.refused, north.refused_share) == ("northgate", 2, 2, 1, 0.5)
    assert (north.waiting_hours, north.deciding_hours, north.whole_hours) == (3.0, 6.0, 9.0)
    assert north.low_hours is None, "two are too few for a band"
    assert (open_.under_review, open_.decided, open_.waiting_hours, open_.whole_hours) == (1, 1, None, 5.0)
    assert [one.name for one in figures(rounds, By.WEEKDAY)] == ["Monday", "Tuesday"]
    assert [one.rounds for one in figures(rounds, By.APP)] == [5]
    assert figures([], By.STORE) == []


@pytest.mark.parametrize("by", By)
def test_a_group_in_which_nothing_was_decided_says_nothing(by: By) -> None:
    (one,) = figures([a_round("northgate", S.QUEUED, MONDAY, None, None)], by)
    assert (one.whole_hours, one.refused_share, one.under_review) == (None, None, 1)
