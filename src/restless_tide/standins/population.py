"""The people of a simulated store: they take a release up over time, use it, crash with it, rate it.

Everything is seeded and computed for whole hours by the store's own clock, so the same store at the
same instant always tells the same figures.
"""

from __future__ import annotations

import math
import random
from collections.abc import Container, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

DEVICES = 40_000
UPTAKE_HOURS = 30.0
"""Of those offered a release, so many hours until about two thirds have it."""
SESSIONS_A_DAY = 2.3
USUAL_CRASH_RATE, BAD_CRASH_RATE = 0.004, 0.06
USUAL_RATING, BAD_RATING = 4.4, 2.6
LONGEST_HOURS = 24 * 21


@dataclass(frozen=True)
class Offered:
    """What share of the people was offered a version from an instant on."""

    since: datetime
    share: float


def gauges_of(
    seed: int,
    berth: str,
    version: str,
    number: str,
    offers: Sequence[Offered],
    now: datetime,
    bad: Container[str],
) -> list[dict[str, Any]]:
    """The health series of one version at one berth, by the hour, oldest first."""
    if not offers:
        return []
    begin = max(offers[0].since, now - timedelta(hours=LONGEST_HOURS))
    hours = max(int((now - begin).total_seconds() // 3600), 0)
    is_bad = number in bad
    series: dict[str, list[dict[str, Any]]] = {name: [] for name in _UNITS}
    people = 0.0
    for hour in range(hours):
        at = begin + timedelta(hours=hour + 1)
        dice = random.Random(f"{seed}/{berth}/{version}/{number}/{at.date()}/{at.hour}")
        share = next((offer.share for offer in reversed(offers) if offer.since <= at), 0.0)
        people += max(DEVICES * share - people, 0.0) * (1 - math.exp(-1 / UPTAKE_HOURS))
        sessions = _about(dice, people * SESSIONS_A_DAY / 24)
        crashed = min(_about(dice, sessions * (BAD_CRASH_RATE if is_bad else USUAL_CRASH_RATE)), sessions)
        found = {"people": float(round(people)), "sessions": float(sessions)}
        if sessions:
            found["crash-free share"] = 1 - crashed / sessions
        if sessions > 50:
            found["rating"] = min(max(dice.gauss(BAD_RATING if is_bad else USUAL_RATING, 0.15), 1.0), 5.0)
        for name, value in found.items():
            series[name].append({"at": at.isoformat(), "value": round(value, 4)})
    return [{"name": name, "version": version, "unit": unit, "points": series[name]} for name, unit in _UNITS.items()]


_UNITS = {"people": "people", "sessions": "sessions an hour", "crash-free share": "share", "rating": "stars"}


def _about(dice: random.Random, expected: float) -> int:
    """A count around what is expected, spread as independent events spread."""
    return max(round(dice.gauss(expected, math.sqrt(expected))), 0) if expected > 0 else 0
