"""The conditions that stand in a leg's row, and the go-aheads that people gave for its launch."""

from __future__ import annotations

from datetime import datetime

from restless_tide.core.conditions import CONDITIONS, Condition, Facts, GoAhead
from restless_tide.desk.read_once import ReadOnce
from restless_tide.records.tables import Leg

_conditions = ReadOnce(CONDITIONS.validate_python)


def conditions_of(leg: Leg) -> tuple[Condition, ...]:
    """What the launch of a leg waits for."""
    return _conditions(leg.conditions) if leg.conditions else ()


def keep(leg: Leg, conditions: tuple[Condition, ...]) -> None:
    leg.conditions = CONDITIONS.dump_python(conditions, mode="json")


def given(leg: Leg) -> dict[str, datetime]:
    """Who has given a go-ahead that still counts, and when."""
    return {one.person: one.given_at for one in leg.go_aheads if one.withdrawn_at is None}


def waits_for_people(leg: Leg) -> list[GoAhead]:
    """The go-aheads without which it cannot be launched, whatever else holds, and which are not given yet."""
    asked = [one for one in conditions_of(leg) if isinstance(one, GoAhead)]
    if not asked:
        return []
    counted = Facts(leg.created_at, go_aheads=given(leg))
    return [one for one in asked if not one.stand(counted).holds]


def last_given(leg: Leg) -> datetime | None:
    """When the newest go-ahead was given that still counts."""
    return max(given(leg).values(), default=None)


def hold(leg: Leg, now: datetime) -> None:
    """Have its launch wait for people anew: no go-ahead that was given before counts any more."""
    for one in leg.go_aheads:
        if one.withdrawn_at is None:
            one.withdrawn_at = now
    conditions = conditions_of(leg)
    if not any(isinstance(one, GoAhead) for one in conditions):
        keep(leg, (GoAhead(), *conditions))
