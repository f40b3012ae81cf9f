"""Tests that may be looked at all day: evidence about a rate or a rating that stays valid at every instant.

A test that is made for one look and looked at every hour finds a difference sooner or later, whether there is one or
not. What is here are **e-processes**: running products whose mean under "nothing is wrong" never exceeds 1, so that by
Ville's inequality they reach 1/α at any time at all with a probability of at most α.

**Rates.** In one hour, and on one kind of device, a version had ``c1`` events among ``n1`` exposed, its reference
``c0`` among ``n0``. Given the sum ``m`` of the events, ``c1`` is binomial with ``q(r) = n1 r / (n1 r + n0)``, where ``r``
is the ratio of the two rates, whatever the rate of that hour is: day and night, weekdays and kinds of devices cancel
out. Evidence that ``r`` exceeds a tolerance is the product over hours of the likelihood ratios against the tolerance,
averaged over a fixed set of ratios above it. It holds for every ``r`` below the tolerance too, since the likelihood
ratio is monotone. Evidence of independent stores multiplies, ratio by ratio, before the average: here the
log-likelihoods are added.

**Ratings** are bets on a bounded mean.

Sources: Wald 1945 (sequential tests), Robbins 1970 (mixtures), Howard et al. 2021 (confidence sequences), Ramdas et al.
2023 (safe anytime-valid inference), Waudby-Smith & Ramdas 2020 (prior-posterior ratio) and 2024 (betting).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

ABOVE = np.array([1.15, 1.3, 1.5, 1.75, 2.0, 2.4, 3.0, 4.0, 6.0, 10.0])
"""The ratios that evidence is averaged over, as multiples of the tolerance."""
RATIOS = np.geomspace(1 / 32, 64, 56)
"""The ratios among which the interval is looked for."""
STARS = np.arange(1.0, 6.0)
_BETS = np.array([0.0, 0.02, 0.05, 0.1, 0.2, 0.35, 0.5, 0.7])
"""Shares of the highest bet that cannot lose everything. Of nothing, too: what one bet loses, another has still won."""
_BLOCK = 512
"""So many rows are taken at once, so that what is computed of them stays near the processor."""
_MEANS = np.linspace(1.0, 5.0, 161)
_STEP = float(_MEANS[1] - _MEANS[0])


@dataclass(frozen=True, slots=True)
class Rows:
    """Counts side by side, one row for each hour and kind of device, in the order of the hours; all of shape (rows,).

    ``hour`` is the number of the hour; ``events`` among ``exposed`` of the version, ``reference_events`` among
    ``reference_exposed`` of what it is compared with.
    """

    hour: NDArray[np.int64]
    events: Floats
    exposed: Floats
    reference_events: Floats
    reference_exposed: Floats


@dataclass(frozen=True, slots=True)
class Evidence:
    """What has been gathered. ``hours`` and ``logs`` are the line: the natural logarithm of the evidence after each hour.

    ``ratio`` is the most likely one; ``low`` to ``high`` are those not rejected at the error bound at this instant, valid
    at every instant. None: nothing is known of it yet.
    """

    hours: NDArray[np.int64]
    logs: Floats
    ratio: float | None
    low: float | None
    high: float | None

    @property
    def log(self) -> float:
        """The natural logarithm of the evidence now; 0 when nothing has been counted."""
        return float(self.logs[-1]) if len(self.logs) else 0.0

    @property
    def highest(self) -> float:
        """The most that it ever was."""
        return max(float(self.logs.max()), 0.0) if len(self.logs) else 0.0


def _by_hour(rows: Rows, ratios: Floats, bound: float | None, hours: NDArray[np.int64]) -> Floats:
    """The log-likelihood of each ratio against the ratio 1, added up within each of the hours; shape (hours, ratios)."""
    if not len(rows.hour):
        return np.zeros((len(hours), len(ratios)))
    if bound is not None:  # Poisson, which is on the safe side of the binomial
        terms = np.outer(rows.events, np.log(ratios)) - bound * np.outer(rows.exposed, ratios - 1)
    else:
        both = rows.events + rows.reference_events
        terms = np.outer(rows.events, np.log(ratios)) - both[:, None] * _log_mixed(rows, ratios)
    found = np.zeros((len(hours), len(ratios)))
    present, begins = np.unique(rows.hour, return_index=True)
    found[np.searchsorted(hours, present)] = np.add.reduceat(terms, begins, axis=0)
    return found


def likelihoods(rows: Rows, ratios: Floats, bound: float | None) -> Floats:
    """The log-likelihood of each ratio against the ratio 1 over all rows, for an interval; shape (ratios,).

    The logarithms are taken in single precision, which is several times as fast, and added up in double: the sum is off by less
    than a millionth of itself. The evidence that a guard acts on is in double precision throughout.
    """
    events = float(rows.events.sum())
    if bound is not None:
        return events * np.log(ratios) - bound * float(rows.exposed.sum()) * (ratios - 1)
    part, above = _part(rows).astype(np.float32), (ratios - 1).astype(np.float32)
    both, found = rows.events + rows.reference_events, events * np.log(ratios)
    for begin in range(0, len(part), _BLOCK):
        logs = np.log(np.outer(part[begin : begin + _BLOCK], above) + np.float32(1))
        found -= both[begin : begin + _BLOCK] @ logs.astype(np.float64)
    return found


def _part(rows: Rows) -> Floats:
    """The version's part of all exposed; shape (rows,)."""
    found: Floats = rows.exposed / (rows.exposed + rows.reference_exposed)
    return found


def _log_mixed(rows: Rows, ratios: Floats) -> Floats:
    """The logarithm of ``(n1 r + n0) / (n1 + n0)``; shape (rows, ratios)."""
    return np.log(np.outer(_part(rows), ratios - 1) + 1)


def rate_evidence(
    sources: list[Rows],
    *,
    tolerance: float,
    error_bound: float,
    dispersion: float = 1.0,
    bound: float | None = None,
    falls: bool = False,
    interval: bool = True,
) -> Evidence:
    """Evidence that a version's rate is more than ``tolerance`` times that of its reference.

    ``sources`` are independent of each other, such as stores. ``dispersion`` tempers counts that come in clusters, at
    least 1. ``bound`` compares with a fixed rate instead of the rows' reference. ``falls``: that it is *less* than the
    tolerance's part of it. ``error_bound``: the chance, at most, of ever reaching ``1 / error_bound`` without cause.
    """
    edge = np.array([1 / tolerance if falls else tolerance])
    beyond = edge / ABOVE if falls else edge * ABOVE
    ratios = np.concatenate([edge, beyond])
    counted = [_counting(rows, bound) for rows in sources]
    hours = np.unique(np.concatenate([rows.hour for rows in counted])) if counted else np.zeros(0, np.int64)
    total = sum((_by_hour(rows, ratios, bound, hours) for rows in counted), np.zeros((len(hours), len(ratios))))
    line = np.cumsum(total, axis=0) / dispersion
    logs = _log_mean(line[:, 1:] - line[:, :1])
    if not interval:
        return Evidence(hours, logs, None, None, None)
    likely = sum((likelihoods(rows, RATIOS, bound) for rows in counted), np.zeros(len(RATIOS)))
    return Evidence(hours, logs, *_interval(likely / dispersion, error_bound))


def _counting(rows: Rows, bound: float | None) -> Rows:
    """The rows that tell anything: those with both sides and an event, or all of them against a fixed bound."""
    kept = rows.exposed > 0
    if bound is None:
        kept &= (rows.reference_exposed > 0) & (rows.events + rows.reference_events > 0)
    return Rows(
        rows.hour[kept],
        rows.events[kept],
        rows.exposed[kept],
        rows.reference_events[kept],
        rows.reference_exposed[kept],
    )


def _log_mean(logs: Floats) -> Floats:
    """The logarithm of the mean over the last axis, without overflow."""
    highest = logs.max(axis=-1, keepdims=True, initial=-np.inf)
    found: Floats = np.log(np.mean(np.exp(logs - highest), axis=-1)) + highest[..., 0]
    return found


def _interval(likely: Floats, error_bound: float) -> tuple[float | None, float | None, float | None]:
    """The most likely ratio, and the lowest and highest not rejected: those whose likelihood is at least α times the mean
    over all (a prior-posterior ratio, with equal weights on a logarithmic scale).
    """
    if not likely.any():
        return None, None, None
    scale = np.log(RATIOS)
    fine = np.linspace(scale[0], scale[-1], 1200)
    smooth = np.interp(fine, scale, likely)
    kept = np.flatnonzero(smooth >= np.log(error_bound) + float(_log_mean(likely[None, :])[0]))
    low, high = float(np.exp(fine[kept[0]])), float(np.exp(fine[kept[-1]]))
    return _summit(scale, likely), low, high


def _summit(scale: Floats, likely: Floats) -> float:
    """The ratio of the highest likelihood, by the parabola through the three points around it."""
    at = int(np.clip(np.argmax(likely), 1, len(scale) - 2))
    before, here, after = likely[at - 1 : at + 2]
    bend = before - 2 * here + after
    shift = 0.5 * (before - after) / bend if bend < 0 else 0.0
    return float(np.exp(scale[at] + np.clip(shift, -1, 1) * (scale[1] - scale[0])))


def dispersion_of(events: Floats, exposed: Floats, *, least_days: int = 7, otherwise: float = 5.0) -> float:
    """How much more than independent events a version's daily counts vary, at least 1; shape (days,) each.

    Pearson's statistic by day, raised to the upper end of what so few days leave open (nine in ten, after Wilson &
    Hilferty 1931). ``otherwise`` is told where there are fewer than ``least_days`` with enough events.
    """
    kept = exposed > 0
    events, exposed = events[kept], exposed[kept]
    free = len(events) - 1
    if free + 1 < least_days or events.sum() < least_days:
        return otherwise
    expected = exposed * (events.sum() / exposed.sum())
    statistic = float(((events - expected) ** 2 / expected).sum())
    low_quantile = free * (1 - 2 / (9 * free) - 1.2816 * np.sqrt(2 / (9 * free))) ** 3
    return max(statistic / float(low_quantile), 1.0)


def rating_evidence(
    hours: NDArray[np.int64], stars: Floats, reference: Floats, *, tolerance: float, error_bound: float
) -> Evidence:
    """Evidence that the mean rating is more than ``tolerance`` stars below the reference's.

    ``stars`` and ``reference`` are counts by star given in each of the ``hours``, shape (hours, 5). For every mean that the
    reference may have, a bet that the version's is not within the tolerance of it is multiplied by bets that the
    reference's is another one; the least of these products is evidence against all of them. ``ratio``, ``low`` and
    ``high`` are of the difference, reference less version, in stars.
    """
    so_far, theirs_so_far = stars.cumsum(axis=0), reference.cumsum(axis=0)
    ours, theirs = _bets(so_far), _bets(theirs_so_far)
    known = (so_far.sum(axis=1) > 0) & (theirs_so_far.sum(axis=1) > 0)
    logs = np.where(known, _less_than(ours[0], _either(theirs), np.array([tolerance]))[:, 0], 0.0)
    if not known.any():
        return Evidence(hours, logs, None, None, None)
    now = [tuple(side[-1:] for side in one) for one in (ours, theirs)]
    threshold, steps = np.log(2 / error_bound), np.arange(1 - len(_MEANS), len(_MEANS))
    apart: Floats = np.array(steps * _STEP, float)
    above = _less_than(now[0][0], _either(now[1]), apart)[0]
    below = _less_than(now[1][0], _either(now[0]), -apart)[0]
    kept = apart[(above < threshold) & (below < threshold)]
    means = [float((counts[-1] * STARS).sum() / counts[-1].sum()) for counts in (theirs_so_far, so_far)]
    return Evidence(hours, logs, means[0] - means[1], float(kept.min()), float(kept.max()))


def _bets(stars: Floats) -> tuple[Floats, Floats]:
    """Log-capital of bets that the mean is below, and above, each of the means; shape (hours, means) each."""
    found = []
    for sign in (-1.0, 1.0):
        room = np.maximum(_MEANS - 1.0 if sign > 0 else 5.0 - _MEANS, _STEP)
        won = 1 + sign * (_BETS[None, :, None] / room[:, None, None]) * (STARS[None, None, :] - _MEANS[:, None, None])
        found.append(_log_mean(np.einsum("mbs,hs->hmb", np.log(won), stars)))
    return found[0], found[1]


def _either(bets: tuple[Floats, ...]) -> Floats:
    """Half of the money on each of two bets."""
    found: Floats = np.logaddexp(*bets) - np.log(2)
    return found


def _less_than(below: Floats, other: Floats, by: Floats) -> Floats:
    """The least evidence, over all means of the other, that the first's mean is more than each of ``by`` below it; shape
    (hours, by)."""
    at = (_MEANS - by[:, None] - _MEANS[0]) / _STEP
    last = len(_MEANS) - 1
    lower = np.clip(np.floor(at), 0, last - 1).astype(int)
    part = np.clip(at - lower, 0.0, 1.0)
    shifted = below[:, lower] * (1 - part) + below[:, lower + 1] * part
    found: Floats = np.min(np.where(at > last + 1e-9, np.inf, shifted) + other[:, None, :], axis=2)
    return found
