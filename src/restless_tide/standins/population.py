"""The people of a simulated store: they take a release up over time, use it, crash with it, rate it.

Everything is seeded and computed for whole hours by the store's own clock, so the same store at the same instant always
tells the same figures. What misleads a careless reader is in them: day and night, weekends, people who crash again and
again, keen people with newer devices who take a version up first, and counts that come in hours after the hour.
"""

from __future__ import annotations

import math
import zlib
from collections.abc import Container, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
from numpy.typing import NDArray

DEVICES = 40_000
UPTAKE_HOURS = 30.0
"""Of those offered a release, so many hours until about two thirds have it."""
USUAL_CRASH_RATE, BAD_CRASH_RATE = 0.004, 0.06
"""Crashes a session."""
SESSIONS_A_DAY = 2.3
"""Of a person who tests."""
LONGEST_HOURS = 24 * 120
KINDS = (("old", "phone"), ("old", "tablet"), ("new", "phone"), ("new", "tablet"))
"""Platform levels and classes of devices."""
PART_OF_KIND = np.array([0.25, 0.05, 0.6, 0.1])
PART_OF_KEEN = np.array([0.1, 0.02, 0.76, 0.12])
"""Who takes a version up first has newer devices."""
RATE_OF_KIND = np.array([1.8, 1.5, 0.8, 0.7])
HANG_PART = 0.5
"""Hangs for one crash."""
AGAIN_HOURS = (0.5, 0.3, 0.2)
"""How many further crashes follow a person's first, in the same hour and the two after it."""
STARS = {False: np.array([0.03, 0.03, 0.09, 0.25, 0.6]), True: np.array([0.35, 0.2, 0.2, 0.15, 0.1])}
RATED_PART = 0.01
"""Ratings a session."""
FIRST_TOLD, COMPLETE_AFTER_HOURS, CORRECTED_AFTER_HOURS = 0.6, 3, 30
"""An hour is told at once in part, whole three hours later, and now and then corrected a day later."""
CORRECTED_PART = 0.05
Numbers = NDArray[np.int64]


@dataclass(frozen=True)
class Offered:
    """What share of the people was offered a version from an instant on; 0: nobody new gets it."""

    since: datetime
    share: float


@dataclass(frozen=True)
class OnOffer:
    """A version that is or was offered, and to whom."""

    version: str
    number: str
    offers: tuple[Offered, ...]
    bad: bool


@dataclass(frozen=True)
class _Told:
    """That an hour is told at an instant, for the first, second or third time."""

    at: datetime
    hour: int
    revision: int

    @property
    def cursor(self) -> str:
        return f"{int(self.at.timestamp() * 1e6):017d}-{self.hour}"


def on_offer(rollouts: Sequence[dict[str, Any]], bad: Container[str]) -> list[OnOffer]:
    """The versions at a berth in the order in which they were first offered."""
    found = []
    for rollout in rollouts:
        offers = tuple(Offered(datetime.fromisoformat(at), share) for at, share in rollout.get("offers", []))
        number = str(rollout.get("number", 0))
        if offers:
            found.append(OnOffer(rollout["version"], number, offers, number in bad))
    return sorted(found, key=lambda one: one.offers[0].since)


def counts_of(
    seed: int, berth: str, versions: Sequence[OnOffer], now: datetime, after: str, most: int
) -> tuple[list[dict[str, Any]], str, bool]:
    """What was told of a berth's hours after a cursor, in the order of telling; at most so many hours.

    Returns the hours, the cursor from which to go on, and whether there is more.
    """
    told = [one for one in _tellings(seed, berth, versions, now) if one.cursor > after]
    page = told[:most]
    if not page:
        return [], after, False
    have = _have(versions, now)
    found = [_hour(seed, berth, versions, have, one) for one in page]
    return found, page[-1].cursor, len(told) > len(page)


def _first_hour(versions: Sequence[OnOffer], now: datetime) -> int:
    begin = min((one.offers[0].since for one in versions), default=now)
    return _number(max(begin, now - timedelta(hours=LONGEST_HOURS)))


def _number(at: datetime) -> int:
    return int(at.timestamp() // 3600)


def _tellings(seed: int, berth: str, versions: Sequence[OnOffer], now: datetime) -> list[_Told]:
    """Every telling of an hour until now, in order."""
    if not versions:
        return []
    name = zlib.crc32(berth.encode())
    found = []
    for hour in range(_first_hour(versions, now), _number(now)):
        ends = datetime.fromtimestamp((hour + 1) * 3600, UTC)
        dice = (hour * 2_654_435_761 + name + seed) % 10_000 / 10_000
        found.append(_Told(ends, hour, 1))
        found.append(_Told(ends + timedelta(hours=COMPLETE_AFTER_HOURS, minutes=50 * dice), hour, 2))
        if dice < CORRECTED_PART:
            found.append(_Told(ends + timedelta(hours=CORRECTED_AFTER_HOURS, minutes=50 * dice), hour, 3))
    return sorted((one for one in found if one.at <= now), key=lambda one: one.cursor)


def _have(versions: Sequence[OnOffer], now: datetime) -> dict[int, tuple[NDArray[np.float64], NDArray[np.float64]]]:
    """By hour, how many people have each version, and how many took it up in that hour; shape (versions,) each."""
    found = {}
    have, still = np.zeros(len(versions)), 1 - math.exp(-1 / UPTAKE_HOURS)
    for hour in range(_first_hour(versions, now), _number(now)):
        at = datetime.fromtimestamp((hour + 1) * 3600, UTC)
        new = np.zeros(len(versions))
        for place, one in enumerate(versions):
            share = next((offer.share for offer in reversed(one.offers) if offer.since <= at), 0.0)
            wanting = max(DEVICES * share - have[place:].sum(), 0.0)
            new[place] = wanting * still
            older = have[:place].sum()
            if older > 0:
                have[:place] *= max(1 - new[place] * min(older / DEVICES, 1.0) / older, 0.0)
            have[place] += new[place]
        found[hour] = (have.copy(), new)
    return found


def _busy(hour: int) -> float:
    """The part of the people who are active in an hour: by day more, at the weekend more."""
    at = datetime.fromtimestamp(hour * 3600, UTC)
    day = 0.05 * (1 + 0.8 * math.sin((at.hour - 9) / 24 * 2 * math.pi))
    return day * (1.4 if at.weekday() >= 5 else 1.0)


def _hour(
    seed: int,
    berth: str,
    versions: Sequence[OnOffer],
    have: dict[int, tuple[NDArray[np.float64], NDArray[np.float64]]],
    told: _Told,
) -> dict[str, Any]:
    cells = []
    for place, one in enumerate(versions):
        if have[told.hour][0][place] < 1:
            continue
        counted = _cells(seed, berth, one, place, have, told)
        for kind, (level, device) in enumerate(KINDS):
            cells.append(
                {
                    "version": one.version,
                    "number": one.number,
                    "level": level,
                    "device": device,
                    **{name: int(found[kind]) for name, found in counted.items()},
                }
            )
    at = datetime.fromtimestamp(told.hour * 3600, UTC).isoformat()
    return {"at": at, "revision": told.revision, "complete": told.revision > 1, "cells": cells}


def _cells(
    seed: int,
    berth: str,
    one: OnOffer,
    place: int,
    have: dict[int, tuple[NDArray[np.float64], NDArray[np.float64]]],
    told: _Told,
) -> dict[str, Numbers]:
    """One version's counts of an hour by kind of device, as they are told for the first, second or third time."""
    people, sessions, crashed, new, dice = _drawn(seed, berth, one, place, have, told.hour)
    again = crashed.copy()
    for back, mean in enumerate(AGAIN_HOURS):
        if told.hour - back in have:
            again += np.round(_drawn(seed, berth, one, place, have, told.hour - back)[2] * mean).astype(np.int64)
    again = np.minimum(again, sessions)
    hangs = dice.binomial(sessions, min(HANG_PART * _rate(one), 1.0))
    stars = dice.multinomial(dice.binomial(sessions, RATED_PART), STARS[one.bad])
    counted = {
        "people": people,
        "sessions": sessions,
        "crashed_sessions": again,
        "crashed_people": np.minimum(crashed, again),
        "hangs": hangs,
        "first_starts": np.minimum(new, people),
        **{f"stars_{star + 1}": stars[:, star] for star in range(5)},
    }
    if told.revision == 1:  # sessions come in first, crashes later
        counted = {name: (found * FIRST_TOLD).astype(np.int64) for name, found in counted.items()}
        for name in ("crashed_sessions", "crashed_people"):
            counted[name] = counted[name] // 2
    if told.revision == 3:
        counted["sessions"] = counted["sessions"] + counted["sessions"] // 50
    return counted


def _drawn(
    seed: int,
    berth: str,
    one: OnOffer,
    place: int,
    have: dict[int, tuple[NDArray[np.float64], NDArray[np.float64]]],
    hour: int,
) -> tuple[Numbers, Numbers, Numbers, Numbers, np.random.Generator]:
    """Active people, sessions, those who meet their first crash of the day, first starts; by kind of device."""
    owners, new = have[hour][0][place], have[hour][1][place]
    dice = np.random.default_rng([seed, zlib.crc32(f"{berth}/{one.version}/{one.number}".encode()), hour])
    age = hour - _number(one.offers[0].since)
    keen = math.exp(-max(age, 0) / 48)
    mix = PART_OF_KEEN * keen + PART_OF_KIND * (1 - keen)
    first = np.minimum(dice.poisson(new * mix), 10**9)
    people = dice.poisson(owners * _busy(hour) * mix) + first
    sessions = people + dice.poisson(people * (0.3 + 0.7 * keen))
    crashed = np.minimum(dice.binomial(sessions, np.minimum(_rate(one) * RATE_OF_KIND / 2, 1.0)), people)
    return people, sessions, crashed, first, dice


def _rate(one: OnOffer) -> float:
    return BAD_CRASH_RATE if one.bad else USUAL_CRASH_RATE
