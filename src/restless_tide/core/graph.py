"""The prerequisite graph of a rulebook, walked.

Every thing that a store wants is a node: what it opens after, when it locks, how long it usually
takes, from when the rule applies. Readiness, explanations before an act, and planning backwards all
read this one graph.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from datetime import datetime
from graphlib import TopologicalSorter
from typing import TypeVar

from restless_tide.core.rulebook import LocksAt, Thing

P = TypeVar("P")
V = TypeVar("V")


@dataclass(frozen=True, slots=True)
class Standing:
    """What is so at a berth, as far as locks depend on it."""

    first_build_in: bool = False
    first_review_begun: bool = False
    version_in_review: bool = False
    live: bool = False


@dataclass(frozen=True, slots=True)
class Step:
    """One thing still to do on the way to a goal; ``hours`` is what it usually takes."""

    key: str
    title: str
    hours: float
    after: tuple[str, ...]


def applies(thing: Thing, now: datetime) -> bool:
    return thing.applies_from is None or thing.applies_from <= now


def missing_before(things: Mapping[str, Thing], key: str, done: Collection[str], now: datetime) -> list[str]:
    """The titles of what must be done before ``key`` opens; empty when it is open, or no thing of the graph."""
    thing = things.get(key)
    if thing is None:
        return []
    return [things[before].title for before in thing.opens_after if before not in done and applies(things[before], now)]


def way_to(things: Mapping[str, Thing], goal: str, done: Collection[str], now: datetime) -> list[Step]:
    """Everything still to do up to ``goal``, each after what it opens after. Empty for an unknown goal."""
    needed: set[str] = set()
    waiting = [goal] if goal in things else []
    while waiting:
        key = waiting.pop()
        if key not in needed and key not in done and applies(things[key], now):
            needed.add(key)
            waiting.extend(things[key].opens_after)
    order = TopologicalSorter({key: [b for b in things[key].opens_after if b in needed] for key in sorted(needed)})
    return [
        Step(
            key,
            things[key].title,
            things[key].usually_takes_hours,
            tuple(things[before].title for before in things[key].opens_after if before in needed),
        )
        for key in order.static_order()
    ]


def usual_hours(things: Mapping[str, Thing], goal: str, done: Collection[str], now: datetime) -> float:
    """How long the way to ``goal`` usually takes when what can go side by side does: the longest path."""
    ready_at: dict[str, float] = {}
    for step in way_to(things, goal, done, now):
        begun = max((ready_at.get(before, 0.0) for before in things[step.key].opens_after), default=0.0)
        ready_at[step.key] = begun + step.hours
    return ready_at.get(goal, 0.0)


def open_and_locked(
    values: Mapping[P, V], lock: Callable[[P], LocksAt], standing: Standing
) -> tuple[dict[P, V], dict[P, V]]:
    """What may be changed now, and what is kept because it is locked, by place."""
    shut = {place: value for place, value in values.items() if locked("It", lock(place), standing)}
    return {place: value for place, value in values.items() if place not in shut}, shut


def locked_because(thing: Thing, standing: Standing) -> str:
    """Why a thing cannot be changed now, or nothing. ``only downwards once live`` alone is no lock."""
    return locked(thing.title, thing.locks_at, standing)


def locked(title: str, locks_at: LocksAt, standing: Standing) -> str:
    """Why something that locks so cannot be changed now, or nothing."""
    match locks_at:
        case LocksAt.FIRST_BUILD if standing.first_build_in:
            return f"{title} was fixed when the first build was handed in."
        case LocksAt.FIRST_REVIEW if standing.first_review_begun:
            return f"{title} was fixed when the first review began."
        case LocksAt.EACH_VERSION if standing.version_in_review:
            return f"{title} cannot change while a version is under review; it opens again after it."
    return ""


def will_lock(thing: Thing, standing: Standing) -> str:
    """What a person should know before setting a thing: when it locks from here; or nothing."""
    return locks_later(thing.title, thing.locks_at, standing)


def locks_later(title: str, locks_at: LocksAt, standing: Standing) -> str:
    """When something that locks so will no longer be changeable, or nothing."""
    match locks_at:
        case LocksAt.FIRST_BUILD if not standing.first_build_in:
            return f"{title} can be changed until the first build is handed in, then never again."
        case LocksAt.FIRST_REVIEW if not standing.first_review_begun:
            return f"{title} can be changed until the first review begins, then never again."
        case LocksAt.EACH_VERSION:
            return f"{title} is fixed while a version is under review."
        case LocksAt.ONLY_DOWNWARDS:
            return f"{title} can only go down once the app is live."
    return ""
