"""Launch conditions: a table of cases, what can never hold, how they are written, and the clock against a slow model of it."""

from __future__ import annotations

from datetime import UTC, datetime, time, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from restless_tide.core.condition_text import parse_condition
from restless_tide.core.conditions import (
    CONDITIONS,
    DAYS,
    Condition,
    Facts,
    GoAhead,
    LaunchHours,
    NotBefore,
    SeenLive,
    SeenTrial,
    Source,
    foreseen,
    next_turn,
    reads,
    stands,
    unmet,
)
from restless_tide.core.contradictions import Beside, contradictions
from restless_tide.core.errors import Invalid
from restless_tide.core.wall_clock import first_at, instant_of, last_at

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)  # a Friday
HOUR = timedelta(hours=1)
NAMES = {"p-ida": "Ida Fenwick", "p-tom": "Tom Reed"}


def read(*texts: str, zone: str = "UTC") -> tuple[Condition, ...]:
    return tuple(parse_condition(text, zone) for text in texts)


@pytest.mark.parametrize(
    ("texts", "facts", "missing"),
    [
        ((), Facts(NOW), []),
        (("go-ahead",), Facts(NOW), ["the go-ahead to launch"]),
        (("go-ahead",), Facts(NOW, go_aheads={"p-ida": NOW}), []),
        (("go-ahead 2",), Facts(NOW, go_aheads={"p-ida": NOW}, names=NAMES), ["2 go-aheads (1 of 2 given, by Ida Fenwick)"]),
        (("go-ahead 2",), Facts(NOW, go_aheads={"p-ida": NOW, "p-tom": NOW}), []),
        (("go-ahead of p-tom",), Facts(NOW, go_aheads={"p-ida": NOW}, names=NAMES), ["the go-ahead to launch of Tom Reed"]),
        (("go-ahead 2 of p-ida,p-tom",), Facts(NOW, names=NAMES), ["2 go-aheads of Ida Fenwick or Tom Reed"]),
        (("after 2026-11-20T14:00",), Facts(NOW), ["the instant 2026-11-20T14:00+00:00"]),
        (("after 2026-11-20T12:00",), Facts(NOW), []),
        (("hours mon-fri 08:00-16:00",), Facts(NOW), []),
        (("hours sat,sun 08:00-16:00",), Facts(NOW), ["launch hours (sat,sun 08:00–16:00 UTC), next from 2026-11-21T08:00+00:00"]),
        (("approved",), Facts(NOW), []),
        (("approved",), Facts(NOW, approved={"a": NOW, "b": None}), ["approval at b"]),
        (("approved a",), Facts(NOW, approved={"a": NOW, "b": None}), []),
        (("live a 20%",), Facts(NOW, live={"a": SeenLive(0.05, NOW)}), ["a to be live at 20% (now 5%)"]),
        (("live a 20%",), Facts(NOW, live={"a": SeenLive(0.2, NOW)}), []),
        (("live a 20%",), Facts(NOW), ["a to be live at 20% (now 0%)"]),
        (
            ("trial guests 99.5% 2000",),
            Facts(NOW, trials={"guests": SeenTrial(1000, 2)}),
            ["99.5% of at least 2,000 sessions of guests without a crash (so far 99.8% of 1,000)"],
        ),
        (("trial guests 99.5% 2000",), Facts(NOW, trials={"guests": SeenTrial(2000, 10)}), []),
        (
            ("trial guests 99.5% 2000",),
            Facts(NOW),
            ["99.5% of at least 2,000 sessions of guests without a crash (no trial of this build there)"],
        ),
        (("no-reports crash",), Facts(NOW, open_reports={"crash": 3}), ["no open field report of kind crash (3 are open)"]),
        (("no-reports crash",), Facts(NOW, open_reports={"remark": 3}), []),
        (("no-reports",), Facts(NOW, open_reports={"remark": 3}), ["no open field report (3 are open)"]),
        (
            ("go-ahead or after 2026-11-21T08:00",),
            Facts(NOW),
            ["the go-ahead to launch or the instant 2026-11-21T08:00+00:00"],
        ),
        (("go-ahead or after 2026-11-21T08:00",), Facts(NOW, go_aheads={"p-ida": NOW}), []),
        (
            ("go-ahead", "approved", "after 2026-11-21T12:00"),
            Facts(NOW, go_aheads={"p-ida": NOW}, approved={"a": NOW}),
            ["the instant 2026-11-21T12:00+00:00"],
        ),
    ],
)  # fmt: skip
def test_a_launch_waits_for_every_condition_in_plain_words(
    texts: tuple[str, ...], facts: Facts, missing: list[str]
) -> None:
    conditions = read(*texts)
    assert unmet(conditions, facts) == missing
    assert CONDITIONS.validate_json(CONDITIONS.dump_json(conditions)) == conditions
    assert tuple(parse_condition(one.written()) for one in conditions) == conditions


def test_since_when_a_condition_holds_is_said() -> None:
    early, late = NOW - 3 * HOUR, NOW - HOUR
    facts = Facts(
        NOW,
        go_aheads={"p-ida": early, "p-tom": late},
        approved={"a": early, "b": late},
        live={"a": SeenLive(0.5, late)},
    )
    since = [
        one.since
        for one in stands(
            read(
                "go-ahead", "go-ahead 2", "approved", "live a 20%", "hours fri 10:00-14:00", "go-ahead 2 or live a 5%"
            ),
            facts,
        )
    ]
    assert since == [early, late, late, late, NOW - 2 * HOUR, late]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "none of the forms"),
        ("launch", "none of the forms"),
        ("go-ahead 0", "greater than or equal to 1"),
        ("go-ahead 3 of p-ida,p-tom", "3 people have to give the go-ahead, and 2 may"),
        ("go-ahead of p-ida,p-ida", "named twice"),
        ("after noon", "noon"),
        ("after 2026-11-21T08:00 Mars/Sea", "no time zone"),
        ("hours mon-fri 25:00-26:00", "hour must be in 0..23"),
        ("hours someday 08:00-09:00", "'someday' is no day"),
        ("live a 0%", "greater than 0"),
        ("live a 101%", "less than or equal to 1"),
        ("trial guests 99% 0", "greater than or equal to 1"),
        ("no-reports wish", "wish"),
        ("go-ahead or", "none of the forms"),
        (" or ".join(["go-ahead"] * 9), "at most 5"),
        ("approved " + "a" * 600, "500 characters at most"),
    ],
)
def test_what_cannot_be_read_is_refused_with_the_reason_and_the_forms(text: str, said: str) -> None:
    with pytest.raises(Invalid, match=said) as wrong:
        parse_condition(text)
    assert wrong.value.code == "condition-unfit"


@pytest.mark.parametrize(
    ("legs", "said"),
    [
        ({"a": ("live b 5%",), "b": ("approved",)}, {}),
        ({"a": ("live b 5%",), "b": ("live a 5%",)}, {"a": "waits until b is live", "b": "waits until a is live"}),
        ({"a": ("live b 5% or go-ahead",), "b": ("live a 5%",)}, {}),
        ({"a": ("live a 5%",)}, {"a": "cannot wait for itself"}),
        ({"a": ("approved c",)}, {"a": "does not go to c; it goes to a"}),
        ({"a": ("hours mon 08:00-09:00", "hours tue 08:00-09:00")}, {"a": "no instant at which these hold together"}),
        ({"a": ("hours mon 08:00-12:00", "hours mon 11:00-14:00")}, {}),
        ({"a": ("hours mon 08:00-09:00 UTC", "hours mon 12:00-13:00 Europe/Berlin")}, {"a": "no instant"}),
        ({"a": ("hours mon 08:00-09:00 UTC", "hours mon 09:00-10:00 Europe/Berlin")}, {}),
        ({"a": ("hours mon 08:00-09:00 UTC", "hours mon 10:00-11:00 Europe/Berlin")}, {}),  # in summer
        ({"a": ("after 2150-01-01T00:00", "hours mon 08:00-09:00")}, {}),
        ({"a": ("hours mon 08:00-09:00", "hours tue 08:00-09:00 or go-ahead")}, {}),
        ({"a": ("go-ahead of p-gone",)}, {"a": "Too few of the people"}),
        ({"a": ("go-ahead 2 of p-gone,p-ida",)}, {"a": "Too few of the people"}),
        ({"a": ("go-ahead of p-gone or after 2026-12-01T00:00",)}, {}),
        ({"a": ("live b 5%",), "b": ("go-ahead of p-gone",)}, {"a": "waits until b is live", "b": "Too few"}),
    ],
)
def test_conditions_that_can_never_hold_together_are_found(
    legs: dict[str, tuple[str, ...]], said: dict[str, str]
) -> None:
    beside = [Beside(place, read(*texts)) for place, texts in legs.items()]
    found = contradictions(beside, NOW, frozenset({"p-gone"}))
    assert found.keys() == said.keys()
    assert all(said[place] in found[place] for place in said)


def test_a_leg_that_was_launched_lets_those_behind_it_launch() -> None:
    legs = [Beside("a", read("live b 5%")), Beside("b", read("live a 5%"), launched=True)]
    assert contradictions(legs, NOW) == {}


def test_only_what_a_condition_reads_makes_it_worth_looking_again() -> None:
    assert reads(read("go-ahead", "trial guests 99% 5")) == {Source.GO_AHEADS, Source.TRIALS}
    assert reads(read("no-reports or live a 5%")) == {Source.REPORTS, Source.ROLLOUTS}
    assert next_turn(read("go-ahead", "approved"), NOW) is None
    assert next_turn(read("hours mon 08:00-16:00", "after 2026-11-21T06:00"), NOW) == datetime(
        2026, 11, 21, 6, tzinfo=UTC
    )


@pytest.mark.parametrize(
    ("texts", "facts", "at"),
    [
        (("after 2026-11-21T06:00", "hours mon-fri 08:00-16:00"), Facts(NOW), datetime(2026, 11, 23, 8, tzinfo=UTC)),
        (("hours fri 10:00-14:00",), Facts(NOW), NOW),
        (("go-ahead", "hours mon 10:00-14:00"), Facts(NOW), None),
        (("go-ahead or hours mon 10:00-14:00",), Facts(NOW), datetime(2026, 11, 23, 10, tzinfo=UTC)),
        (("go-ahead or hours mon 10:00-14:00",), Facts(NOW, go_aheads={"p-ida": NOW}), NOW),
        (("approved",), Facts(NOW, approved={"b": None}), None),
    ],
)
def test_it_is_foreseen_when_a_launch_comes_if_nothing_but_time_passes(
    texts: tuple[str, ...], facts: Facts, at: datetime | None
) -> None:
    assert foreseen(read(*texts), facts) == at


def test_a_wall_clock_time_that_is_skipped_or_doubled_is_not_guessed() -> None:
    berlin = "Europe/Berlin"
    with pytest.raises(Invalid, match="does not exist in Europe/Berlin") as skipped:
        instant_of(datetime(2027, 3, 28, 2, 30), berlin)
    assert "2027-03-28T03:00" in skipped.value.remedy
    with pytest.raises(Invalid, match="comes twice in Europe/Berlin") as doubled:
        instant_of(datetime(2027, 10, 31, 2, 30), berlin)
    assert "2027-10-31T02:30+02:00 or 2027-10-31T02:30+01:00" in doubled.value.remedy
    said = parse_condition("after 2027-10-31T02:30+01:00 Europe/Berlin")
    assert isinstance(said, NotBefore)
    assert said.instant == datetime(2027, 10, 31, 1, 30, tzinfo=UTC)
    change = datetime(2027, 3, 28, 1, tzinfo=UTC)
    assert first_at(datetime(2027, 3, 28, 2, 30), berlin) == change == last_at(datetime(2027, 3, 28, 2, 30), berlin)
    twice = datetime(2027, 10, 31, 2, 30)
    assert last_at(twice, berlin) - first_at(twice, berlin) == HOUR


_times = some.builds(time, some.integers(0, 23), some.sampled_from([0, 30]))
_zones = some.sampled_from(["UTC", "Europe/Berlin", "America/St_Johns", "Australia/Lord_Howe", "Pacific/Apia"])
_hours = some.builds(
    LaunchHours,
    days=some.sets(some.sampled_from(DAYS), min_size=1).map(tuple),
    begins=_times,
    ends=_times,
    zone=_zones,
)
_near = some.integers(0, 14 * 48).map(lambda half: NOW.replace(month=10, day=20) + half * HOUR / 2)
_afters = some.builds(NotBefore, instant=_near, zone=_zones)


def _open_on_the_wall(hours: LaunchHours, at: datetime) -> bool:
    """Whether the clock on the wall stands within the hours: what a person would say who looks at it."""
    wall = at.astimezone(ZoneInfo(hours.zone))
    today, yesterday = DAYS[wall.weekday()] in hours.days, DAYS[wall.weekday() - 1] in hours.days
    if hours.ends > hours.begins:
        return today and hours.begins <= wall.time() < hours.ends
    return (today and wall.time() >= hours.begins) or (yesterday and wall.time() < hours.ends)


@settings(max_examples=150)
@given(_hours, _near)
def test_launch_hours_hold_when_the_clock_on_the_wall_says_so(hours: LaunchHours, at: datetime) -> None:
    """But for the two hours around a change of the clocks, where one reading of the wall is two instants."""
    around = {
        (at + shift).astimezone(ZoneInfo(hours.zone)).utcoffset() for shift in (-30 * HOUR, timedelta(), 30 * HOUR)
    }
    if len(around) == 1:
        assert hours.stand(Facts(at)).holds == _open_on_the_wall(hours, at)
    assert parse_condition(hours.written()) == hours


@settings(max_examples=25)
@given(some.lists(_hours | _afters, min_size=1, max_size=3), _near, some.booleans())
def test_looking_at_its_turns_alone_never_misses_a_launch(
    timed: list[LaunchHours | NotBefore], at: datetime, given_ahead: bool
) -> None:
    """Stepping from turn to turn launches in the same half hour as looking all the time does."""
    conditions: list[Condition] = [*timed, GoAhead()]
    go_aheads = {"p-ida": at} if given_ahead else {}

    def ready(now: datetime) -> bool:
        return not unmet(conditions, Facts(now, go_aheads=go_aheads))

    until = at + timedelta(days=8)
    slow = next((now for now in (at + step * HOUR / 2 for step in range(8 * 48)) if ready(now)), None)
    now: datetime | None = at
    while now is not None and now <= until and not ready(now):
        now = next_turn(conditions, now)
    fast = now if now is not None and now <= until else None
    if slow is not None:
        assert fast is not None
        assert slow - HOUR / 2 < fast <= slow
    expected = foreseen(conditions, Facts(at, go_aheads=go_aheads))
    assert expected == fast or (fast is None and (expected is None or expected > until))
