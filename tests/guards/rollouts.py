"""Made-up rollouts, hour by hour, with all that misleads a careless guard: day and night, weekends, people who crash
again and again, early adopters who differ, counts that come late.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from restless_tide.core.gauges import COUNTED
from restless_tide.core.guard import GuardRule
from restless_tide.core.guarding import Source, Table, compared, judge
from restless_tide.core.sequential import Evidence, rate_evidence

KINDS = 4
"""Platform levels × classes of device."""
RATE_BY_KIND = np.array([0.6, 0.9, 1.2, 2.6])
SHARE_OF_KIND = np.array([0.35, 0.35, 0.2, 0.1])
DAYS_BEFORE = 14
AGAIN_WITHIN_HOURS = 12
LATE_HOURS = 6
USUAL_SESSIONS = 1.3
"""A person's sessions in an hour in which they use it at all."""


@dataclass(frozen=True)
class Case:
    """One kind of rollout. ``ratio``: the version's crash rate against that of the version before.

    ``crashes``: how often a person crashes who does, on average. ``again_days``: on how many days they do, on average.
    ``early``: those who take it up first have other devices than the rest. ``late``: counts come hours after, crashes last.
    """

    name: str
    ratio: float = 1.0
    share: float = 0.05
    crashes: float = 1.0
    again_days: float = 1.0
    early: bool = False
    late: bool = False
    flat: bool = False
    devices: int = 40_000
    hours: int = 14 * 24
    rate: float = 0.005


@dataclass(frozen=True)
class Played:
    """One rollout as it came out: when it was stopped, after how many sessions or people, and when a test that knows
    everything would have stopped it; None: never.
    """

    stopped_hour: int | None
    stopped_after: float
    knowing_after: float


Columns = dict[str, np.ndarray]


def play(case: Case, rule: GuardRule, seed: int, dispersion: float | None = None) -> Played:
    """Make up one rollout and let the guard look at every hour. ``dispersion`` is believed instead of the measured one."""
    ours, theirs, rates = rollout(case, seed)
    begin = DAYS_BEFORE * 24
    after = np.arange(len(rates)) >= begin
    source = Source(_table(ours, after), _table(theirs, after), _table(theirs, ~after))
    found = judge(rule, [source], "the one before").evidence
    if dispersion is not None:
        found = replace(found, logs=_tempered(rule, source, dispersion))
    if case.late:  # an hour enters when it is complete
        found = replace(found, hours=found.hours + LATE_HOURS)
    return _played(case, rule, found, ours["crashed_people"][begin:], ours["sessions"][begin:], rates[begin:], begin)


def _tempered(rule: GuardRule, source: Source, dispersion: float) -> np.ndarray:
    rows = compared(rule, source)
    return rate_evidence(
        [rows], tolerance=rule.accepted, error_bound=rule.error_bound, dispersion=dispersion, interval=False
    ).logs


def peeked(case: Case, seed: int) -> bool:
    """Whether a careless guard stops it: one that looks every hour at a test made for one look, at 1 in 100."""
    ours, theirs, _ = rollout(case, seed)
    totals = [
        found.sum(axis=1)[DAYS_BEFORE * 24 :].cumsum()
        for one in (ours, theirs)
        for found in (one["crashed_people"], one["sessions"])
    ]
    crashed, sessions, others, other_sessions = totals
    both = (crashed + others) / (sessions + other_sessions)
    spread = np.sqrt(
        np.maximum(both * (1 - both) * (1 / np.maximum(sessions, 1) + 1 / np.maximum(other_sessions, 1)), 1e-12)
    )
    return bool(((crashed / np.maximum(sessions, 1) - others / np.maximum(other_sessions, 1)) / spread > 2.326).any())


def rollout(case: Case, seed: int) -> tuple[Columns, Columns, np.ndarray]:
    """The counts of the version and of the one before, hour by hour and kind by kind, and the rate a session of both."""
    dice = np.random.default_rng(seed)
    begin = DAYS_BEFORE * 24
    hours = begin + case.hours
    busy = _busy(hours, dice, flat=case.flat)
    rates = case.rate * _hourly(hours, flat=case.flat)[:, None] * RATE_BY_KIND
    mix = np.tile(SHARE_OF_KIND, (hours, 1))
    taken = 1 - np.exp(-np.arange(1, case.hours + 1) / 30)
    ours_mix = np.tile(SHARE_OF_KIND, (case.hours, 1))
    if case.early:  # in the first days, those with the oldest devices come last, and the keen use it twice as often
        keen = np.exp(-np.arange(case.hours) / 24)[:, None]
        ours_mix = ours_mix * (1 - keen) + keen * np.array([0.15, 0.2, 0.25, 0.4])
    have = np.zeros(hours)
    have[begin:] = case.devices * case.share * taken
    active = dice.poisson(have[:, None] * busy[:, None] * np.vstack([mix[:begin], ours_mix]))
    others = dice.poisson((case.devices - have)[:, None] * busy[:, None] * mix)
    eager = 1 + (np.exp(-np.maximum(np.arange(hours) - begin, 0) / 24)[:, None] if case.early else 0)
    ours = _counts(dice, active, rates * case.ratio, case, eager)
    theirs = _counts(dice, others, rates, case, np.ones((hours, 1)))
    ours["first_starts"][begin:] = np.diff(have[begin:], prepend=0)[:, None] * ours_mix
    return ours, theirs, rates / USUAL_SESSIONS


def _busy(hours: int, dice: np.random.Generator, *, flat: bool) -> np.ndarray:
    """The part of the people who are active in an hour: by day more, at the weekend more, and no two days alike."""
    if flat:
        return np.full(hours, 0.06)
    at = np.arange(hours)
    day = 0.06 * (1 + 0.8 * np.sin((at % 24 - 9) / 24 * 2 * np.pi))
    weekend = np.where(at // 24 % 7 >= 5, 1.4, 1.0)
    return day * weekend * np.repeat(dice.lognormal(0, 0.1, hours // 24 + 1), 24)[:hours]


def _hourly(hours: int, *, flat: bool) -> np.ndarray:
    """How the crash rate differs by the hour: at night, when much runs in the background, it is twice as high."""
    at = np.arange(hours)
    return np.ones(hours) if flat else 1.3 + 0.7 * np.cos(at % 24 / 24 * 2 * np.pi) + 0.2 * (at // 24 % 7 >= 5)


def _counts(
    dice: np.random.Generator, people: np.ndarray, rates: np.ndarray, case: Case, eager: np.ndarray
) -> dict[str, np.ndarray]:
    use = (
        eager + USUAL_SESSIONS - 1
    ) / USUAL_SESSIONS  # crashes come in sessions, so who uses it more meets more of them
    crashed = dice.binomial(people, np.minimum(rates * use, 0.5) / case.again_days)
    if case.again_days > 1:  # who crashed crashes on the next days too, at about the same time
        stays = 1 - 1 / case.again_days
        for hour in range(24, len(crashed)):
            crashed[hour] = np.minimum(crashed[hour] + dice.binomial(crashed[hour - 24], stays), people[hour])
    sessions = people + dice.poisson(people * (eager + USUAL_SESSIONS - 2))
    again = crashed.copy()
    if case.crashes > 1:  # further crashes of the same people, spread over the next hours
        more = dice.negative_binomial(np.maximum(crashed, 1e-9), 1 / case.crashes) * (crashed > 0)
        when = dice.integers(0, AGAIN_WITHIN_HOURS, more.sum())
        rows, kinds = np.nonzero(more)
        counted = np.repeat(np.arange(len(rows)), more[rows, kinds])
        at = np.minimum(rows[counted] + when, len(crashed) - 1)
        np.add.at(again, (at, kinds[counted]), 1)
        sessions = np.maximum(sessions, again)
    shape = crashed.shape
    return {
        **{name: np.zeros(shape) for name in COUNTED},
        "people": people.astype(float),
        "sessions": sessions.astype(float),
        "crashed_people": crashed.astype(float),
        "crashed_sessions": again.astype(float),
    }


def _table(counts: dict[str, np.ndarray], rows: np.ndarray) -> Table:
    at = np.flatnonzero(rows)
    return Table(
        np.repeat(at, KINDS),
        np.tile(np.arange(KINDS), len(at)),
        {name: found[at].ravel() for name, found in counts.items()},
    )


def _played(
    case: Case,
    rule: GuardRule,
    evidence: Evidence,
    events: np.ndarray,
    exposed: np.ndarray,
    rates: np.ndarray,
    begin: int,
) -> Played:
    over = np.flatnonzero(evidence.logs >= rule.threshold)
    hour = int(evidence.hours[over[0]]) - begin if len(over) else None
    seen = exposed.sum(axis=1).cumsum()
    return Played(
        hour,
        float(seen[min(hour, len(seen) - 1)]) if hour is not None else np.inf,
        _knowing(case, rule, events, exposed, rates, seen),
    )


def _knowing(
    case: Case, rule: GuardRule, events: np.ndarray, exposed: np.ndarray, rates: np.ndarray, seen: np.ndarray
) -> float:
    """Sessions until Wald's test stops it that is told the rate of each hour and kind, and the very ratio to look for."""
    if case.ratio <= rule.accepted:
        return np.inf
    steps = events * np.log(case.ratio / rule.accepted) - rates * exposed * (case.ratio - rule.accepted)
    over = np.flatnonzero(steps.sum(axis=1).cumsum() >= rule.threshold)
    return float(seen[over[0]]) if len(over) else np.inf


CASES = (
    Case("no change"),
    Case("no change, without day and night", flat=True),
    Case("at the tolerance", ratio=1.25),
    Case("no change, people crash three times", crashes=3.0),
    Case("at the tolerance, people crash three times", ratio=1.25, crashes=3.0),
    Case("no change, early adopters differ", early=True),
    Case("at the tolerance, early adopters differ", ratio=1.25, early=True),
    Case("no change, late counts", late=True),
    Case("at the tolerance, late counts", ratio=1.25, late=True),
    Case("no change, the same people on the next days", again_days=2.0),
    Case("no change, at 20 % of people", share=0.2),
    Case("at the tolerance, at 20 % of people", share=0.2, ratio=1.25),
)
"""Nothing may be stopped here, but for 1 in 100."""
BAD = tuple(
    Case(f"{ratio:g} times, at {share:.0%}", ratio=ratio, share=share)
    for ratio in (2.0, 3.0, 5.0)
    for share in (0.01, 0.05)
)
"""These are to be stopped, soon."""
