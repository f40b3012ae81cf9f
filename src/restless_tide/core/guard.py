"""A guard: a rule that watches one gauge of a rollout, and what it may do when that goes wrong.

A guard says what it watches, what it compares with, which rise it accepts, and how often it may be wrong. The arithmetic
is in sequential.py, what is counted in gauges.py; here stands what the figures mean. A guard never raises a share.
"""

from __future__ import annotations

import math
from datetime import timedelta
from enum import StrEnum
from typing import Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from restless_tide.core.rollout import RolloutEvent


class Watched(StrEnum):
    """What a guard watches."""

    CRASHED_PEOPLE = "people who met a crash"
    CRASHES = "sessions that crashed"
    HANGS = "hangs"
    RATING = "ratings"
    UPTAKE = "uptake"


class Against(StrEnum):
    """What a guard compares with."""

    BEFORE = "the version before"
    SAME_SHARE = "the version before at the same share"
    BOUND = "a fixed bound"


class OnBreach(StrEnum):
    """What a guard does when it is sure."""

    TELL = "tell"
    PAUSE = "pause"
    HALT = "halt"


class Verdict(StrEnum):
    STEADY = "steady"
    WATCH = "watch"
    BREACH = "breach"


ACTS = {OnBreach.PAUSE: RolloutEvent.PAUSE, OnBreach.HALT: RolloutEvent.HALT}
"""How a rollout is steered by a guard; telling people steers nothing."""
COMPARES = {
    Watched.CRASHED_PEOPLE: tuple(Against),
    Watched.CRASHES: tuple(Against),
    Watched.HANGS: tuple(Against),
    Watched.RATING: (Against.BEFORE, Against.BOUND),
    Watched.UPTAKE: (Against.SAME_SHARE,),
}
"""What each gauge can be compared with: uptake means something only beside another rollout at the same share."""
CLUSTERED = frozenset({Watched.CRASHES, Watched.HANGS})
"""Counts in which one person may stand many times; the evidence is tempered by how far they cluster."""
TOLERANCES = {
    Watched.CRASHED_PEOPLE: 1.25,
    Watched.CRASHES: 1.25,
    Watched.HANGS: 1.25,
    Watched.RATING: 0.3,
    Watched.UPTAKE: 2.0,
}
"""The change that is accepted where nobody names another: a ratio of rates, or stars."""
USUAL_ERROR_BOUND = 0.01
USUAL_LEAST_PEOPLE = 200
MOST_GUARDS = 40
HIGHEST_TOLERANCE = 10.0
MOST_STARS_ACCEPTED = 3.0
LONGEST_SILENCE = timedelta(days=30)
LONGEST_GUARD_NAME = 60
COUNTED = {
    Watched.CRASHED_PEOPLE: ("crashed_people", "sessions"),
    Watched.CRASHES: ("crashed_sessions", "sessions"),
    Watched.HANGS: ("hangs", "sessions"),
    Watched.UPTAKE: ("first_starts", "people"),
}
"""Which count of gauges.py a guard watches, among which others. People who met a crash are set beside the sessions, not
beside the people: those who take a version up first use it more often, and meet more crashes for that alone."""
UNITS = {watched: COUNTED[watched][1] if watched in COUNTED else str(watched) for watched in Watched}
"""What is looked at, in words."""
EVENTS = {watched: str(watched) for watched in Watched} | {
    Watched.RATING: "of one or two stars",
    Watched.UPTAKE: "first starts",
}
"""What is counted among it, in words."""
WATCH_PART = 0.5
"""From this part of the way to the threshold on (of the logarithm of the evidence) a guard is on watch."""


class GuardRule(BaseModel):
    """What a guard watches and how sure it must be.

    ``tolerance``: a ratio of rates above 1, or for ratings the stars below. ``bound``: with a fixed bound the rate (0 to 1)
    or the stars (1 to 5). ``error_bound``: the chance, at most, that a rollout with nothing wrong is ever stopped.
    ``least_people``: so many people have the version before the guard acts.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    watched: Watched = Watched.CRASHED_PEOPLE
    against: Against = Against.BEFORE
    bound: float | None = Field(default=None, gt=0, le=5)
    tolerance: float | None = Field(
        default=None, gt=0, le=HIGHEST_TOLERANCE, description="none: the usual one of what is watched"
    )
    error_bound: float = Field(default=USUAL_ERROR_BOUND, ge=0.0001, le=0.2)
    least_people: int = Field(default=USUAL_LEAST_PEOPLE, ge=1, le=10_000_000)

    @model_validator(mode="after")
    def _makes_sense(self) -> Self:
        if self.against not in COMPARES[self.watched]:
            can = " or ".join(COMPARES[self.watched])
            raise ValueError(f"{self.watched} can only be compared with {can}")
        if (self.bound is not None) != (self.against is Against.BOUND):
            raise ValueError("a bound goes with 'a fixed bound', and only with it")
        rated = self.watched is Watched.RATING
        if self.bound is not None and not rated and self.bound > 1:
            raise ValueError("a bound of a rate lies between 0 and 1, such as 0.01 for 1 in 100")
        if self.bound is not None and rated and self.bound < 1:
            raise ValueError("a bound of ratings lies between 1 and 5 stars")
        if self.tolerance is not None and not rated and self.tolerance < 1:
            raise ValueError("a tolerance of a rate is at least 1: 1.25 accepts a quarter more")
        if self.tolerance is not None and rated and self.tolerance > MOST_STARS_ACCEPTED:
            raise ValueError(f"a tolerance of ratings is at most {MOST_STARS_ACCEPTED:g} stars")
        return self

    @property
    def accepted(self) -> float:
        """The change that is accepted."""
        return TOLERANCES[self.watched] if self.tolerance is None else self.tolerance

    @property
    def threshold(self) -> float:
        """The natural logarithm of the evidence from which it is a breach."""
        return -math.log(self.error_bound)

    def told(self) -> str:
        """The rule in one sentence, for people who do not read statistics."""
        one_in = round(1 / self.error_bound)
        sure = f"At most 1 in {one_in:,} rollouts with nothing wrong is ever stopped, however often it looks."
        return f"Acts when {self._wrong()}. {sure}"

    def _wrong(self) -> str:
        """What has to be so clearly."""
        accepted = f"{self.accepted:g}"
        if self.watched is Watched.RATING:
            if self.bound is not None:
                return f"the rating is clearly below {self.bound - self.accepted:g} stars"
            return f"the rating is clearly more than {accepted} stars lower than with the version before"
        if self.watched is Watched.UPTAKE:
            return f"people take it up clearly less than 1 / {accepted} as fast as the version before at the same share"
        what = _HAPPENS[self.watched]
        if self.bound is not None:
            return f"{what} in clearly more than {self.accepted * self.bound:.2%} of the sessions"
        when = "in the same hours" if self.against is Against.BEFORE else "when that had the same share"
        return f"{what} clearly more than {accepted} times as often as with the version before, {when}"


_HAPPENS = {
    Watched.CRASHED_PEOPLE: "people meet a crash",
    Watched.CRASHES: "sessions crash",
    Watched.HANGS: "sessions hang",
}


def verdict_of(rule: GuardRule, *, log_now: float, log_highest: float, people: int) -> Verdict:
    """What the evidence says. ``log_highest`` is the most it ever was: who once was sure stays sure."""
    if log_highest >= rule.threshold and people >= rule.least_people:
        return Verdict.BREACH
    return Verdict.WATCH if log_now >= rule.threshold * WATCH_PART else Verdict.STEADY


def part_of_way(rule: GuardRule, log: float) -> float:
    """How far the evidence has come towards the threshold: 0 to 1."""
    return min(max(log / rule.threshold, 0.0), 1.0)


_SAID = {
    Watched.CRASHED_PEOPLE: "{} times as many people meet a crash as with {}",
    Watched.CRASHES: "{} times the crashes of {}",
    Watched.HANGS: "{} times the hangs of {}",
    Watched.UPTAKE: "taken up {} times as fast as {}",
}


def in_words(
    rule: GuardRule, *, ratio: float | None, low: float | None, high: float | None, exposed: int, reference: str
) -> str:
    """What was found, such as ``2.1 times the crashes of 2.3.0 (1.6 to 2.8), 4,200 sessions``."""
    if rule.watched is Watched.RATING:
        if ratio is None or low is None or high is None:
            return f"no ratings to compare with {reference} yet"
        way = "below" if ratio >= 0 else "above"
        return f"{abs(ratio):.1f} stars {way} {reference} ({_below(low)} to {_below(high)}), {exposed:,} ratings"
    unit = UNITS[rule.watched]
    if ratio is None or low is None or high is None:
        return f"nothing to compare with {reference} yet, {exposed:,} {unit}"
    said = _SAID[rule.watched].format(_times(ratio), reference)
    return f"{said} ({_times(low)} to {_times(high)}), {exposed:,} {unit}"


def _below(stars: float) -> str:
    return f"{stars:.1f}" if stars >= 0 else f"{-stars:.1f} above"


def _times(ratio: float) -> str:
    return f"{ratio:.1f}" if 0.95 <= ratio < 20 else f"{ratio:.2f}" if ratio < 0.95 else f"{ratio:.0f}"
