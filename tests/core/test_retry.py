"""Pauses between tries: they grow, they end, and what the other side asks for counts."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as some

from restless_tide.core.dates import seconds_asked
from restless_tide.core.numbers import whole_number
from restless_tide.core.retry import LASTS_SECONDS, MOST_ATTEMPTS, TO_PEOPLE, TO_STORES, URGENT


@given(some.integers(0, 10**6), some.floats(0, 1), some.floats(0, 10**12))
def test_a_pause_is_within_its_bounds_and_never_sooner_than_asked(attempts: int, dice: float, asked: float) -> None:
    for policy in (TO_PEOPLE, TO_STORES, URGENT):
        pause = policy.pause(attempts, asked=asked, dice=dice)
        assert policy.first / 2 <= pause <= max(policy.longest, policy.longest_asked)
        assert pause >= min(asked, policy.longest_asked)


def test_pauses_grow_and_what_goes_to_people_is_tried_for_a_day_whatever_the_dice() -> None:
    pauses = [TO_PEOPLE.pause(attempt, dice=0.0) for attempt in range(1, MOST_ATTEMPTS)]
    assert pauses == sorted(pauses)
    assert sum(pauses) >= LASTS_SECONDS >= 24 * 3600
    assert sum(pauses[:-1]) < LASTS_SECONDS


def test_retry_after_is_read_as_seconds_and_as_an_instant() -> None:
    assert seconds_asked("600") == 600
    assert seconds_asked("Wed, 21 Oct 2015 07:28:00 GMT") == 0
    assert seconds_asked("Thu, 01 Jan 2999 00:00:00 GMT") > 10**9
    for odd in ("", "²", "-5", "soon", "9" * 30):
        assert seconds_asked(odd) == 0


def test_a_whole_number_has_ascii_digits_and_fits_the_records() -> None:
    assert whole_number(" 42 ") == 42
    assert whole_number("9" * 18) == 10**18 - 1
    for odd in ("²", "٤", "-1", "1.0", "", "9" * 19):
        assert whole_number(odd) is None
