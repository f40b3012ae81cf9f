"""What a guard makes of the counts: which rows enter, what they are compared with, and what follows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from restless_tide.core.gauges import COUNTED as COUNTS
from restless_tide.core.gauges import STARS
from restless_tide.core.guard import (
    CLUSTERED,
    COUNTED,
    Against,
    GuardRule,
    Verdict,
    Watched,
    in_words,
    verdict_of,
)
from restless_tide.core.sequential import STARS as STAR_VALUES
from restless_tide.core.sequential import Evidence, Floats, Rows, dispersion_of, rate_evidence, rating_evidence


@dataclass(frozen=True, slots=True)
class Table:
    """Hours of one version at one store: the hour's number, and one column for each count of gauges.py, shape (rows,).

    ``kind`` numbers the platform level and class of device, the same in all tables of one store. Ordered by hour.
    """

    hour: NDArray[np.int64]
    kind: NDArray[np.int64]
    columns: Mapping[str, Floats]

    def __len__(self) -> int:
        return len(self.hour)

    def total(self, column: str) -> int:
        return int(self.columns[column].sum())

    def added_up(self, hours: NDArray[np.int64], column: str) -> Floats:
        """A count in each of these hours, all kinds of devices together; shape (hours,)."""
        return np.bincount(np.searchsorted(hours, self.hour), self.columns[column], len(hours)).astype(float)

    def stars(self, hours: NDArray[np.int64]) -> Floats:
        """The ratings given in each of these hours, by star; shape (hours, 5)."""
        return np.stack([self.added_up(hours, name) for name in STARS], axis=1)


@dataclass(frozen=True, slots=True)
class Source:
    """One store's counts of the version, of what it is compared with, and of that one before the launch.

    ``shares`` and ``reference_shares`` say, by hour, at which share of people each stood; only used to compare at the same
    share. ``blind`` is why this store has nothing to compare with, if so.
    """

    table: Table
    reference: Table
    before_launch: Table
    shares: Mapping[int, float] = field(default_factory=dict)
    reference_shares: Mapping[int, float] = field(default_factory=dict)
    blind: str = ""


@dataclass(frozen=True, slots=True)
class Judgement:
    """What a guard says now. ``exposed`` and ``events`` are those of the version, ``reference_*`` those beside it."""

    verdict: Verdict | None
    blind: str
    said: str
    evidence: Evidence
    people: int
    exposed: int
    events: int
    reference_exposed: int
    reference_events: int
    dispersion: float


def judge(rule: GuardRule, sources: Sequence[Source], reference: str) -> Judgement:
    """Judge the counts of one rollout, of one store or of several together. ``reference`` names what it is compared with.

    The verdict is None while the guard is blind: there is nothing to compare with.
    """
    seeing = [one for one in sources if not one.blind]
    dispersion = _dispersion(rule, seeing)
    if rule.watched is Watched.RATING:
        found, counted = _rated(rule, seeing)
    else:
        rows = [compared(rule, one) for one in seeing]
        found = rate_evidence(
            rows,
            tolerance=rule.accepted,
            error_bound=rule.error_bound,
            dispersion=dispersion,
            bound=rule.bound,
            falls=rule.watched is Watched.UPTAKE,
        )
        counted = _Totals(
            *(_sum(rows, name) for name in ("exposed", "events", "reference_exposed", "reference_events"))
        )
    blind = "" if seeing else next((one.blind for one in sources), "No counts have come yet.")
    if not blind and rule.bound is None and counted.exposed and not counted.reference_exposed:
        blind = f"There are no counts of {reference} in the same hours."
    people = sum(one.table.total("first_starts") for one in sources)
    return Judgement(
        verdict=None if blind else verdict_of(rule, log_now=found.log, log_highest=found.highest, people=people),
        blind=blind,
        said=in_words(
            rule, ratio=found.ratio, low=found.low, high=found.high, exposed=counted.exposed, reference=reference
        ),
        evidence=found,
        people=people,
        dispersion=dispersion,
        **counted._asdict(),
    )


class _Totals(NamedTuple):
    exposed: int
    events: int
    reference_exposed: int
    reference_events: int


def _sum(rows: Sequence[Rows], column: str) -> int:
    return int(sum(getattr(one, column).sum() for one in rows))


def _dispersion(rule: GuardRule, sources: Sequence[Source]) -> float:
    """How far the counts cluster, measured on the reference before the launch; 1 where a person counts once."""
    if rule.watched not in CLUSTERED:
        return 1.0
    event, exposed = COUNTED[rule.watched]
    found = [dispersion_of(*_by_day(one.before_launch, event, exposed)) for one in sources]
    return max(found, default=1.0)  # the stores are tempered alike, by the one that clusters most


def _by_day(table: Table, event: str, exposed: str) -> tuple[Floats, Floats]:
    by_day = Table(table.hour // 24, table.kind, table.columns)
    days = np.unique(by_day.hour)
    return by_day.added_up(days, event), by_day.added_up(days, exposed)


def compared(rule: GuardRule, source: Source) -> Rows:
    """One store's counts beside what they are compared with, hour by hour and kind by kind."""
    event, exposed = COUNTED[rule.watched]
    ours, theirs = source.table, source.reference
    beside = [np.zeros(len(ours)), np.zeros(len(ours))]
    if rule.bound is None and len(theirs):
        hours = theirs.hour
        if rule.against is Against.SAME_SHARE:
            stands_for = counterparts(source.shares, source.reference_shares)
            hours = np.array([stands_for.get(int(hour), -1) for hour in hours], np.int64)
        keys, other_keys = _keys(ours.hour, ours.kind), _keys(hours, theirs.kind)
        order = np.argsort(other_keys, kind="stable")
        at = np.minimum(np.searchsorted(other_keys[order], keys), len(order) - 1)
        there = other_keys[order][at] == keys
        beside = [np.where(there, theirs.columns[name][order][at], 0.0) for name in (event, exposed)]
    return Rows(ours.hour, ours.columns[event], ours.columns[exposed], *beside)


def _keys(hours: NDArray[np.int64], kinds: NDArray[np.int64]) -> NDArray[np.int64]:
    return hours * 1_000 + kinds


def counterparts(shares: Mapping[int, float], reference_shares: Mapping[int, float]) -> dict[int, int]:
    """For each hour of the reference, the hour of the version that it stands beside: at the same share, at the same time
    of day, the first with the first, the second with the second; each is used once.
    """
    ours: dict[tuple[float, int], list[int]] = {}
    for hour, share in sorted(shares.items()):
        ours.setdefault((round(share, 4), hour % 24), []).append(hour)
    found = {}
    for hour, share in sorted(reference_shares.items()):
        waiting = ours.get((round(share, 4), hour % 24))
        if waiting:
            found[hour] = waiting.pop(0)
    return found


def _rated(rule: GuardRule, sources: Sequence[Source]) -> tuple[Evidence, _Totals]:
    """Ratings: stars of the version beside those of the reference, or of a fixed bound. Events are one or two stars."""
    hours = _hours_of([table for one in sources for table in (one.table, one.reference)])
    nothing = np.zeros((len(hours), 5))
    stars = sum((one.table.stars(hours) for one in sources), nothing)
    beside = sum((one.reference.stars(hours) for one in sources), nothing)
    if rule.bound is not None and len(hours):
        beside = nothing
        beside[0] = _as_if_certain(rule.bound)
    found = rating_evidence(hours, stars, beside, tolerance=rule.accepted, error_bound=rule.error_bound)
    low = STAR_VALUES <= 2
    totals = (stars.sum(), stars[:, low].sum(), beside.sum(), beside[:, low].sum())
    return found, _Totals(*map(int, totals))


def _as_if_certain(mean: float) -> Floats:
    """Stars as if so many people had given them that their mean is beyond doubt."""
    low = min(int(mean), 4)
    found = np.zeros(5)
    found[low - 1], found[low] = 1e7 * (low + 1 - mean), 1e7 * (mean - low)
    return found


@dataclass(frozen=True, slots=True)
class Stop:
    """When a guard would have acted: after the hour with this number, with so many exposed until then."""

    hour: int
    exposed: int


def first_breach(rule: GuardRule, sources: Sequence[Source], found: Judgement) -> Stop | None:
    """The first hour after which the guard was sure, with enough people; None: it never was."""
    seeing = [one for one in sources if not one.blind]
    over = found.evidence.hours[found.evidence.logs >= rule.threshold]
    if not seeing or not len(over):
        return None
    tables = [one.table for one in seeing]
    hours = _hours_of(tables)
    enough = hours[_together(tables, hours, ("first_starts",)).cumsum() >= rule.least_people]
    if not len(enough):
        return None
    hour = max(int(over[0]), int(enough[0]))
    exposed = STARS if rule.watched is Watched.RATING else (COUNTED[rule.watched][1],)
    return Stop(hour, int(_together(tables, hours, exposed)[hours <= hour].sum()))


def _hours_of(tables: Sequence[Table]) -> NDArray[np.int64]:
    return np.unique(np.concatenate([np.zeros(0, np.int64), *(table.hour for table in tables)]))


def _together(tables: Sequence[Table], hours: NDArray[np.int64], columns: Sequence[str]) -> Floats:
    found: Floats = sum((one.added_up(hours, name) for one in tables for name in columns), np.zeros(len(hours)))
    return found


def made_up(*, ratio: float, rate: float, people: int, share: float, hours: int, seed: int) -> Source:
    """Made-up counts of a rollout at one share, with day and night in them, to try a guard on.

    ``rate`` is how often a session goes wrong with the version before, ``ratio`` how many times as often with the new one.
    Hours are counted from 0 at the launch; two weeks lie before it.
    """
    dice = np.random.default_rng(seed)
    at = np.arange(-14 * 24, hours)
    busy = 0.06 * (1 + 0.8 * np.sin((at % 24 - 9) / 24 * 2 * np.pi))
    have = np.where(at >= 0, people * share * (1 - np.exp(-(at + 1) / 30)), 0.0)
    wrong = rate * (1.2 + 0.4 * np.cos(at % 24 / 24 * 2 * np.pi))
    tables: list[tuple[NDArray[np.int64], dict[str, Floats]]] = []
    for owners, times in ((have, ratio), (people - have, 1.0)):
        sessions = dice.poisson(owners * busy)
        events = np.minimum(dice.binomial(sessions, np.minimum(wrong * times, 1.0)), sessions).astype(float)
        columns: dict[str, Floats] = {name: np.zeros(len(at)) for name in COUNTS}
        begun: Floats = np.diff(owners, prepend=owners[0]).clip(0).astype(float)
        used: Floats = sessions.astype(float)
        columns |= {"people": used, "sessions": used, "first_starts": begun}
        columns |= {"crashed_people": events, "crashed_sessions": events, "hangs": events}
        tables.append((at, columns))
    ours, theirs = ([_cut(at, columns, at >= 0), _cut(at, columns, at < 0)] for at, columns in tables)
    return Source(ours[0], theirs[0], theirs[1])


def _cut(at: NDArray[np.int64], columns: Mapping[str, Floats], kept: NDArray[np.bool_]) -> Table:
    return Table(at[kept], np.zeros(int(kept.sum()), np.int64), {name: found[kept] for name, found in columns.items()})
