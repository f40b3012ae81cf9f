"""Guards and what they watch, as the service shows them."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy.orm import Session

from restless_tide.core.gauges import HOUR, hour_of
from restless_tide.desk import find, gauges, guards, judging, people
from restless_tide.desk.trying import Tried
from restless_tide.records.tables import Guard, GuardWatch, Release
from restless_tide.wire.guards import (
    BreachTold,
    EvidencePoint,
    Found,
    GuardTold,
    GuardTrialTold,
    WatchTold,
)


def guard(row: Guard) -> GuardTold:
    rule = guards.rule_of(row)
    return GuardTold.of(
        row,
        watched=rule.watched,
        against=rule.against,
        bound=rule.bound,
        tolerance=rule.accepted,
        error_bound=rule.error_bound,
        least_people=rule.least_people,
        said=rule.told(),
    )


def watch(session: Session, row: GuardWatch, now: datetime, *, with_line: bool) -> WatchTold:
    """What a guard says of a rollout; its line is computed anew from the counts, where it is asked for."""
    points: list[EvidencePoint] = []
    if with_line and row.judged_at is not None:
        rule = guards.rule_of(row.guard)
        launched = judging.launched_legs(row.release, row.guard.stores)
        chosen = [leg for leg in launched if row.leg_id in (None, leg.id)]
        seen = judging.look(session, gauges.Tables(), rule, row.guard.source, chosen, row.counts_since)
        points = _points(judging.line(rule, seen))
    return WatchTold.of(
        row,
        guard=guard(row.guard),
        place=str(find.place_of(row.leg)) if row.leg is not None else None,
        found=_found(row.found) if row.found else None,
        line=points,
        breach=_breach(row.breach) if row.breached_at is not None and row.breach else None,
        silent=judging.silent(row, now),
        silent_by=people.names(session, {row.silent_by}).get(row.silent_by, "") if row.silent_by else "",
    )


def watches(session: Session, release: Release, now: datetime) -> list[WatchTold]:
    return [watch(session, row, now, with_line=False) for row in guards.watches(session, release)]


def _found(figures: dict[str, Any]) -> Found:
    return Found.model_validate(figures | {"begins_at": hour_of(figures["begins"])})


def _points(line: Iterable[tuple[int, float]]) -> list[EvidencePoint]:
    return [EvidencePoint(at=hour_of(hour) + HOUR, way=way) for hour, way in line]


def _breach(kept: dict[str, Any]) -> BreachTold:
    return BreachTold(said=kept["said"], found=_found(kept), line=_points(kept["line"]))


def trial(wanted: guards.Setting, found: Tried, *, made_up: bool) -> GuardTrialTold:
    rule = wanted.rule
    points = judging.line(rule, found.seen)
    figures = judging.figures(rule, found.seen)
    line = _points(points)
    if made_up and found.stopped_at is not None and found.after_hours is not None:
        launched = found.stopped_at - timedelta(hours=found.after_hours)
        line = [EvidencePoint(at=launched + (hour + 1) * HOUR, way=way) for hour, way in points]
    return GuardTrialTold.of(found, rule=rule.told(), found=_found(figures), line=line)
