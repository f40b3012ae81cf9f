"""The course of a rollout: its share, its people and what went wrong over time, beside the version before."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.gauges import Counts, hour_number, hour_of
from restless_tide.core.guarding import Table
from restless_tide.core.rollout import OFFERED
from restless_tide.core.rulebook import PRODUCTION
from restless_tide.desk import find, gauges, legs, logbook
from restless_tide.records.tables import Leg, LogbookLine, Release

MOST_POINTS = 240
SMOOTHED, ENOUGH_SESSIONS = 24, 400
"""A rate in a picture is of a 24th of the way at least, and of so many sessions, if so many were counted at all."""
LONGEST = timedelta(days=60)
"""Hours are kept so long."""


@dataclass(frozen=True)
class Point:
    """What was so at the end of one stretch of time: ``people`` have begun the version until then; the counts are of it.

    The rates are of people who met a crash among sessions, over this stretch and so many before it that they say something.
    """

    at: datetime
    share: float
    people: int
    sessions: int
    crashed_people: int
    reference_sessions: int
    reference_crashed_people: int
    rate: float | None = None
    reference_rate: float | None = None


@dataclass(frozen=True)
class Mark:
    """An act or a verdict on the way."""

    at: datetime
    act: str
    who: str
    reason: str
    share: float | None


@dataclass(frozen=True)
class LegCourse:
    leg: Leg
    place: str
    title: str
    reference: str | None
    points: list[Point]
    marks: list[Mark]


def of_release(session: Session, release: Release, now: datetime) -> list[LegCourse]:
    """The course of every leg that was launched."""
    return [
        _of_leg(session, leg, now) for leg in release.legs if leg.launched_at is not None and leg.track == PRODUCTION
    ]


def _of_leg(session: Session, leg: Leg, now: datetime) -> LegCourse:
    launched = leg.launched_at
    assert launched is not None
    ahead = gauges.ahead_of(leg.berth, "")
    since, until = max(launched, now - LONGEST), min(leg.ended_at or now, now)
    lines = _lines(session, leg)
    marks = _marks(session, lines)
    reference = legs.previous_version(session, leg)
    version = leg.release.version
    kinds: dict[tuple[str, str], int] = {}
    first, last = hour_number(since + ahead), hour_number(until + ahead) + 1
    ours = gauges.table(session, leg.berth_id, "", version, kinds, first, last)
    theirs = gauges.table(session, leg.berth_id, "", reference, kinds, first, last) if reference else None
    step = max(-(-(last - first) // MOST_POINTS), 1)
    points, people = [], 0
    for begin in range(first, last, step):
        end = min(begin + step, last)
        counts, beside = _within(ours, begin, end), _within(theirs, begin, end)
        people += counts.first_starts
        at = hour_of(end) - ahead
        share = _share_at(lines, min(at, now))
        points.append(
            Point(at, share, people, counts.sessions, counts.crashed_people, beside.sessions, beside.crashed_people)
        )
    return LegCourse(leg, str(find.place_of(leg)), legs.place_title(leg), reference, _with_rates(points), marks)


def _with_rates(points: list[Point]) -> list[Point]:
    ours = _rates([(one.crashed_people, one.sessions) for one in points])
    theirs = _rates([(one.reference_crashed_people, one.reference_sessions) for one in points])
    return [
        replace(point, rate=rate, reference_rate=reference)
        for point, rate, reference in zip(points, ours, theirs, strict=True)
    ]


def _rates(counted: list[tuple[int, int]]) -> list[float | None]:
    """The rate at each point, of the stretches up to it: a 24th of the way, and more where too little was counted there."""
    wide = max(1, round(len(counted) / SMOOTHED))
    found: list[float | None] = []
    for place in range(len(counted)):
        events = exposed = 0
        for at in range(place, -1, -1):
            if place - at >= wide and exposed >= ENOUGH_SESSIONS:
                break
            events, exposed = events + counted[at][0], exposed + counted[at][1]
        found.append(events / exposed if exposed else None)
    return found


def _within(table: Table | None, begin: int, end: int) -> Counts:
    if table is None:
        return Counts()
    kept = (table.hour >= begin) & (table.hour < end)
    return Counts(**{name: int(column[kept].sum()) for name, column in table.columns.items()})


def _lines(session: Session, leg: Leg) -> list[LogbookLine]:
    """What was done with a leg, and said of its whole release, oldest first."""
    subjects = (legs.leg_subject(leg), f"release {leg.release.version}")
    about = select(LogbookLine).where(LogbookLine.app == leg.release.app.name, LogbookLine.subject.in_(subjects))
    return list(session.scalars(about.order_by(LogbookLine.id)))


def _share_at(lines: list[LogbookLine], at: datetime) -> float:
    """The share of people who were offered it: nobody new once it was stopped."""
    share = 0.0
    for line in lines:
        if line.at <= at and line.after is not None and "share" in line.after:
            share = float(line.after["share"]) if line.after.get("state") in OFFERED else 0.0
    return share


def _marks(session: Session, lines: list[LogbookLine]) -> list[Mark]:
    shown = [line for line in lines if line.after is not None and ("share" in line.after or "verdict" in line.after)]
    names = logbook.names(session, shown)
    return [Mark(line.at, line.act, names[line.person], line.reason, (line.after or {}).get("share")) for line in shown]
