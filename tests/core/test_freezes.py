"""Freezes: windows on the wall's clock, once or every year, one after the other."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from restless_tide.core.freeze import LONGEST, Freeze, frozen_until, held
from restless_tide.core.rollout import RolloutEvent, RolloutState


def freeze(begins: str, ends: str, **more: object) -> Freeze:
    given = {"name": "holidays", "begins": begins, "ends": ends} | more
    return Freeze.model_validate(given)


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


def test_a_window_is_on_the_clock_of_its_zone() -> None:
    here = freeze("2026-12-20T18:00", "2027-01-04T08:00", zone="Europe/Berlin")
    assert here.window(at("2026-12-01T00:00")) == (at("2026-12-20T17:00"), at("2027-01-04T07:00"))
    assert here.holds("marram", "openfield", at("2026-12-20T16:59")) is None
    assert here.holds("marram", "openfield", at("2026-12-20T17:00")) == at("2027-01-04T07:00")
    assert here.holds("marram", "openfield", at("2027-01-04T07:00")) is None
    assert here.window(at("2027-01-05T00:00")) is None


def test_a_yearly_one_comes_again_across_new_year_too() -> None:
    every = freeze("2020-12-20T00:00", "2021-01-04T00:00", yearly=True)
    assert every.holds("a", "s", at("2026-12-31T12:00")) == at("2027-01-04T00:00")
    assert every.holds("a", "s", at("2027-01-02T12:00")) == at("2027-01-04T00:00")
    assert every.window(at("2027-06-01T00:00")) == (at("2027-12-20T00:00"), at("2028-01-04T00:00"))
    leap = freeze("2024-02-29T00:00", "2024-03-02T00:00", yearly=True)
    assert leap.holds("a", "s", at("2026-03-01T12:00")) == at("2026-03-03T00:00")


def test_it_holds_the_apps_and_stores_that_it_names() -> None:
    one = freeze("2026-12-20", "2026-12-24", apps=("marram",), stores=("openfield",))
    now = at("2026-12-21T00:00")
    assert one.holds("marram", "openfield", now)
    assert not one.holds("loam", "openfield", now)
    assert not one.holds("marram", "northgate", now)


def test_freezes_that_follow_each_other_are_one() -> None:
    first = freeze("2026-12-20", "2026-12-24", name="fair")
    second = freeze("2026-12-23", "2026-12-28", name="holidays")
    assert frozen_until([second, first], "a", "s", at("2026-12-21T00:00")) == ("fair", at("2026-12-28T00:00"))
    assert frozen_until([first, second], "a", "s", at("2026-12-28T00:00")) is None
    assert frozen_until([], "a", "s", at("2026-12-21T00:00")) is None


@pytest.mark.parametrize(
    ("given", "told"),
    [
        ({"begins": "2026-12-24T00:00", "ends": "2026-12-20T00:00"}, "ends after it begins"),
        ({"begins": "2026-12-24T00:00", "ends": "2026-12-24T00:00"}, "ends after it begins"),
        ({"begins": "2026-01-01T00:00", "ends": "2026-12-24T00:00"}, "120 days at most"),
        ({"begins": "2026-12-24T00:00Z", "ends": "2026-12-25T00:00"}, "without a zone"),
        ({"begins": "2026-12-24T00:00", "ends": "2026-12-25T00:00", "zone": "Middle/Earth"}, "no time zone"),
        ({"begins": "0001-01-01T00:00", "ends": "2026-12-25T00:00"}, "year"),
    ],
)
def test_a_freeze_that_makes_no_sense_says_why(given: dict[str, str], told: str) -> None:
    with pytest.raises(ValueError, match=told):
        freeze(**given)


def test_what_stops_is_never_held() -> None:
    for state in RolloutState:
        for event in (RolloutEvent.HALT, RolloutEvent.PAUSE, RolloutEvent.WITHDRAW, RolloutEvent.SUPERSEDE):
            assert not held(event, state)
    assert held(RolloutEvent.ADVANCE, RolloutState.RISING)
    assert held(RolloutEvent.RESUME, RolloutState.HALTED)
    assert not held(RolloutEvent.RESUME, RolloutState.PAUSED)


_walls = st.datetimes(datetime(2020, 1, 1), datetime(2030, 1, 1))


@given(
    _walls,
    st.integers(1, int(LONGEST.total_seconds() // 60)),
    st.booleans(),
    st.datetimes(datetime(2019, 1, 1), datetime(2031, 1, 1)),
)
def test_the_end_that_is_told_is_the_end(begins: datetime, minutes: int, yearly: bool, now: datetime) -> None:
    one = Freeze(name="any", begins=begins, ends=begins + timedelta(minutes=minutes), yearly=yearly)
    found = frozen_until([one], "a", "s", now.replace(tzinfo=UTC))
    if found is not None:
        assert found[1] > now.replace(tzinfo=UTC)
        assert one.holds("a", "s", found[1] - timedelta(microseconds=1)) == found[1]
        assert one.holds("a", "s", found[1]) is None
