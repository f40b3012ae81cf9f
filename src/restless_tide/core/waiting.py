"""How long reviews take: whether a wait is usual, and figures over many rounds.

A team's own times at a store say it, from ``LEAST_OWN`` decided rounds on; before, the rulebook's figure stands in, and it is
said that it does.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum
from statistics import median, quantiles

from restless_tide.core.round import UNDER_REVIEW, RoundState

LEAST_OWN = 5
"""So many of one's own decided rounds say more than a rulebook."""
MOST_OWN = 400
"""The newest of them; stores change their ways."""
LONGER_THAN_USUAL = 3.0
"""By how much a rulebook's figure is exceeded before a wait is called long; it does not say how its times spread."""
DECIDED = frozenset({RoundState.APPROVED, RoundState.REJECTED})
WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


@dataclass(frozen=True, slots=True)
class Usual:
    """What is usual, in hours: the median, the band in which eight of ten lie, and what nine in ten stay under.

    ``rounds`` are one's own that say it; 0: the rulebook's figure, which has no band.
    """

    median_hours: float
    low_hours: float
    high_hours: float
    nine_in_ten_hours: float
    rounds: int


def usual(own_hours: Sequence[float], rulebook_hours: float) -> Usual:
    """What is usual by one's own times, the newest first, or by the rulebook while these are few."""
    own = sorted(own_hours[:MOST_OWN])
    if len(own) < LEAST_OWN:
        return Usual(rulebook_hours, rulebook_hours, rulebook_hours, rulebook_hours * LONGER_THAN_USUAL, 0)
    tenths = quantiles(own, n=10, method="inclusive")
    return Usual(median(own), tenths[0], tenths[8], tenths[8], len(own))


def is_long(hours: float, known: Usual) -> bool:
    """Whether a wait is longer than nine in ten."""
    return hours > known.nine_in_ten_hours


@dataclass(frozen=True, slots=True)
class RoundTimes:
    """One round as figures need it. ``taken_up_at`` None: the store did not say when it began to look."""

    store: str
    app: str
    state: RoundState
    submitted_at: datetime
    taken_up_at: datetime | None
    decided_at: datetime | None

    @property
    def hours(self) -> float | None:
        return None if self.decided_at is None else _hours(self.decided_at - self.submitted_at)


def _hours(span: timedelta) -> float:
    return span.total_seconds() / 3600


class By(StrEnum):
    """What figures are gathered by."""

    STORE = "store"
    APP = "app"
    WEEKDAY = "weekday"


_KEY: dict[By, Callable[[RoundTimes], str]] = {
    By.STORE: lambda one: one.store,
    By.APP: lambda one: one.app,
    By.WEEKDAY: lambda one: WEEKDAYS[one.submitted_at.weekday()],
}


@dataclass(frozen=True, slots=True)
class Figures:
    """Over some rounds: how many, how many are under review, decided and refused, and hours in the median.

    ``waiting`` is until the store began to look, ``deciding`` from there on, ``whole`` all of it; None: nothing is known.
    """

    name: str
    rounds: int
    under_review: int
    decided: int
    refused: int
    waiting_hours: float | None
    deciding_hours: float | None
    whole_hours: float | None
    low_hours: float | None
    high_hours: float | None

    @property
    def refused_share(self) -> float | None:
        return self.refused / self.decided if self.decided else None


def figures(rounds: Iterable[RoundTimes], by: By) -> list[Figures]:
    """The figures of each group; weekdays in their sequence, stores and apps by name."""
    groups: dict[str, list[RoundTimes]] = defaultdict(list)
    for one in rounds:
        groups[_KEY[by](one)].append(one)
    names = [day for day in WEEKDAYS if day in groups] if by is By.WEEKDAY else sorted(groups)
    return [_of(name, groups[name]) for name in names]


def _of(name: str, rounds: Sequence[RoundTimes]) -> Figures:
    decided = [one for one in rounds if one.state in DECIDED and one.hours is not None]
    whole = sorted(one.hours for one in decided if one.hours is not None)
    parts = [(one.submitted_at, one.taken_up_at, one.decided_at) for one in decided]
    waited = [_hours(up - begun) for begun, up, _ in parts if up is not None]
    looked = [_hours(end - up) for _, up, end in parts if up is not None and end is not None]
    tenths = quantiles(whole, n=10, method="inclusive") if len(whole) >= LEAST_OWN else None
    return Figures(
        name=name,
        rounds=len(rounds),
        under_review=sum(one.state in UNDER_REVIEW for one in rounds),
        decided=len(decided),
        refused=sum(one.state is RoundState.REJECTED for one in decided),
        waiting_hours=median(waited) if waited else None,
        deciding_hours=median(looked) if looked else None,
        whole_hours=median(whole) if whole else None,
        low_hours=tenths[0] if tenths else None,
        high_hours=tenths[8] if tenths else None,
    )
