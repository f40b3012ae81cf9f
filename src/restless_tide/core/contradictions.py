"""Launch conditions that can never hold together: said when they are set, not found out on the day."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

from restless_tide.core.conditions import AnyOf, Approved, Condition, GoAhead, LiveAt, Single, first_together, singles
from restless_tide.core.words import listed


@dataclass(frozen=True, slots=True)
class Beside:
    """A leg of the release as far as conditions of others need it: its conditions, and whether it was launched."""

    place: str
    conditions: tuple[Condition, ...]
    launched: bool = False


def contradictions(legs: Sequence[Beside], now: datetime, gone: frozenset[str] = frozenset()) -> dict[str, str]:
    """The legs that can never launch, by place, each with the reason in a sentence.

    A leg can when times hold together at some instant, people who have to give the go-ahead are still there, and what it
    waits for at other legs can come: legs that wait for each other to be live never do.
    """
    places = {leg.place for leg in legs}
    found = {leg.place: said for leg in legs if not leg.launched and (said := _alone(leg, places, now, gone))}
    able = {leg.place for leg in legs if leg.launched}
    while True:
        more = {
            leg.place
            for leg in legs
            if leg.place not in able and leg.place not in found and _able(leg.conditions, able, gone)
        }
        if not more:
            break
        able |= more
    for leg in legs:
        if leg.place not in able and leg.place not in found:
            waits = [one.place for one in singles(leg.conditions) if isinstance(one, LiveAt) and one.place not in able]
            found[leg.place] = (
                f"{leg.place} waits until {listed(sorted(set(waits)))} is live, which in turn can never be launched before it."
            )
    return found


def _alone(leg: Beside, places: set[str], now: datetime, gone: frozenset[str]) -> str:
    """Why one leg can never launch whatever the others do, or nothing."""
    for one in singles(leg.conditions):
        named = one.places if isinstance(one, Approved) else (one.place,) if isinstance(one, LiveAt) else ()
        unknown = [place for place in named if place not in places]
        if unknown:
            return f"The release does not go to {listed(unknown)}; it goes to {listed(sorted(places))}."
        if leg.place in named:
            return f"{leg.place} cannot wait for itself."
    for condition in leg.conditions:
        parts = condition.of if isinstance(condition, AnyOf) else (condition,)
        if all(isinstance(one, GoAhead) and not _may_come(one, gone) for one in parts):
            return "Too few of the people who have to give the go-ahead are still at this desk."
    timed = [one for one in leg.conditions if all(part.by_clock() for part in singles([one]))]
    if timed and first_together(timed, now) is None:
        return f"There is no instant at which these hold together: {'; '.join(one.written() for one in timed)}."
    return ""


def _may_come(condition: GoAhead, gone: frozenset[str]) -> bool:
    return not condition.people or len(set(condition.people) - gone) >= condition.count


def _able(conditions: Iterable[Condition], able: set[str], gone: frozenset[str]) -> bool:
    """Whether every condition can come to hold when these other legs can be launched."""

    def may(one: Single) -> bool:
        if isinstance(one, LiveAt):
            return one.place in able
        return not isinstance(one, GoAhead) or _may_come(one, gone)

    return all(any(may(part) for part in singles([one])) for one in conditions)
