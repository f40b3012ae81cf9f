"""What was live where: layers, stretches, marks and instants, held against a plain reading of the same events."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from restless_tide.core.availability import Availability
from restless_tide.core.rollout import RolloutState as S
from restless_tide.core.strip import (
    Layer,
    OfferShown,
    Shown,
    at_instant,
    layers,
    marks,
    offered_in,
    stretches,
    told,
    told_where,
)

START = datetime(2026, 1, 1, tzinfo=UTC)


def at(hours: float) -> datetime:
    return START + timedelta(hours=hours)


def parts(held: list[tuple[str, S, float]], *, brings_back: bool = False) -> dict[str, float]:
    return {layer.version: round(layer.part, 6) for layer in layers(held, brings_back=brings_back)}


@pytest.mark.parametrize(
    ("held", "brings_back", "offered"),
    [
        ([], False, {}),
        ([("1", S.COMPLETE, 1.0)], False, {"1": 1.0}),
        ([("2", S.RISING, 0.1), ("1", S.COMPLETE, 1.0)], False, {"2": 0.1, "1": 0.9}),
        ([("2", S.PAUSED, 0.5), ("1", S.COMPLETE, 1.0)], False, {"2": 0.5, "1": 0.5}),
        ([("2", S.HALTED, 0.1), ("1", S.COMPLETE, 1.0)], False, {"1": 1.0}),
        ([("2", S.HALTED, 1.0), ("1", S.COMPLETE, 1.0)], False, {}),
        ([("2", S.WITHDRAWN, 0.1), ("1", S.COMPLETE, 1.0)], False, {}),
        ([("2", S.WITHDRAWN, 0.1), ("1", S.COMPLETE, 1.0)], True, {"1": 1.0}),
        ([("2", S.WITHDRAWN, 1.0), ("1", S.SUPERSEDED, 1.0), ("0", S.COMPLETE, 1.0)], True, {"0": 1.0}),
        ([("3", S.RISING, 0.2), ("2", S.HALTED, 0.1), ("1", S.COMPLETE, 1.0)], False, {"3": 0.2, "1": 0.8}),
        ([("3", S.RISING, 0.2), ("2", S.RISING, 0.5), ("1", S.COMPLETE, 1.0)], False, {"3": 0.2, "1": 0.8}),
        ([("2", S.COMPLETE, 1.0), ("1", S.COMPLETE, 1.0)], False, {"2": 1.0}),
        ([("1", S.RISING, 0.1)], False, {"1": 0.1}),
    ],
)
def test_what_new_people_are_offered(
    held: list[tuple[str, S, float]], brings_back: bool, offered: dict[str, float]
) -> None:
    assert parts(held, brings_back=brings_back) == offered


SHOWN = [
    Shown(at(0), "1", S.COMPLETE, 1.0),
    Shown(at(10), "2", S.RISING, 0.1),
    Shown(at(20), "2", S.RISING, 0.1),
    Shown(at(30), "2", S.HALTED, 0.1),
    Shown(at(40), "2", S.RISING, 0.1),
    Shown(at(50), "2", S.COMPLETE, 1.0),
    Shown(at(60), "2", S.WITHDRAWN, 1.0),
]


def test_a_strip_tells_stretch_by_stretch_and_joins_what_is_alike() -> None:
    found = stretches(SHOWN, [], at(5), at(70), brings_back=False)
    parts_of = [(part.since, part.until, {layer.version: layer.part for layer in part.layers}) for part in found]
    assert parts_of == [
        (at(5), at(10), {"1": 1.0}),
        (at(10), at(30), {"2": 0.1, "1": 0.9}),
        (at(30), at(40), {"1": 1.0}),
        (at(40), at(50), {"2": 0.1, "1": 0.9}),
        (at(50), at(60), {"2": 1.0}),
        (at(60), at(70), {}),
    ]


def test_what_is_offered_breaks_a_stretch_and_closes_it() -> None:
    offers = [
        OfferShown(at(-1), Availability()),
        OfferShown(at(3), Availability(countries=("de", "at"))),
        OfferShown(at(6), Availability(closed=True)),
    ]
    found = stretches(SHOWN[:1], offers, at(0), at(9), brings_back=False)
    assert [(part.since, len(part.layers), part.offer and part.offer.countries) for part in found] == [
        (at(0), 1, ()),
        (at(3), 1, ("AT", "DE")),
        (at(6), 0, ()),
    ]
    now, offer = at_instant(SHOWN[:1], offers, at(4), brings_back=False)
    assert (now, offered_in("de", offer), offered_in("FR", offer)) == ((Layer("1", S.COMPLETE, 1.0),), True, False)
    assert not offered_in("DE", Availability(closed=True))
    assert offered_in("DE", None)


def test_launches_halts_withdrawals_and_returns_are_marked() -> None:
    assert [(mark.at, mark.version, mark.state) for mark in marks(SHOWN, at(0), at(99))] == [
        (at(0), "1", S.COMPLETE),
        (at(10), "2", S.RISING),
        (at(30), "2", S.HALTED),
        (at(40), "2", S.RISING),
        (at(50), "2", S.COMPLETE),
        (at(60), "2", S.WITHDRAWN),
    ]
    assert [mark.at for mark in marks(SHOWN, at(30), at(40))] == [at(30)]


def test_what_is_offered_is_told_in_words() -> None:
    several = (Layer("2", S.RISING, 0.0025), Layer("1", S.COMPLETE, 0.9975))
    assert told(several, None) == "2 to 0.25%, 1 to 99.75%"
    assert told((Layer("1", S.COMPLETE, 1.0),), Availability(countries=("DE",))) == "1"
    assert (told((), None), told((), None, known=False)) == ("nothing", "not seen yet")
    assert told(several, Availability(closed=True)) == told_where(Availability(closed=True)) == "closed to new people"
    assert (told_where(None), told_where(Availability(countries=("no", "de")))) == ("everywhere", "DE NO")


_EVENTS = st.lists(
    st.tuples(
        st.integers(0, 100),
        st.sampled_from("1234"),
        st.sampled_from([S.RISING, S.PAUSED, S.COMPLETE, S.HALTED, S.WITHDRAWN, S.SUPERSEDED, S.WAITING]),
        st.sampled_from([0.05, 0.2, 0.5]),
    ),
    max_size=25,
)


@given(_EVENTS, st.booleans(), st.floats(0, 110, allow_nan=False), st.integers(0, 60), st.integers(61, 110))
def test_a_strip_and_an_instant_agree_and_nothing_is_offered_twice(
    events: list[tuple[int, str, S, float]], brings_back: bool, moment: float, since: int, until: int
) -> None:
    shown = [
        Shown(at(hour), version, state, 1.0 if state is S.COMPLETE else share)
        for hour, version, state, share in sorted(events, key=lambda event: event[0])
    ]
    found = stretches(shown, [], at(since), at(until), brings_back=brings_back)
    for part in found:
        assert part.since < part.until
        assert sum(layer.part for layer in part.layers) <= 1 + 1e-9
        assert all(0 < layer.part <= 1 for layer in part.layers)
        assert len({layer.version for layer in part.layers}) == len(part.layers)
    for earlier, later in pairwise(found):
        assert earlier.until == later.since
        assert earlier.layers != later.layers
    now, _ = at_instant(shown, [], at(moment), brings_back=brings_back)
    here = [part for part in found if part.since <= at(moment) < part.until]
    if here:
        assert here[0].layers == now
    elif since <= moment < until:
        assert now == ()
