"""When an approved leg may launch: any combination of a go-ahead given, an instant reached, other legs approved."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, slots=True)
class Conditions:
    """What a launch waits for. All that are set must hold; none set means at once."""

    needs_go_ahead: bool = False
    not_before: datetime | None = None
    with_other_legs: bool = False


@dataclass(frozen=True, slots=True)
class Standing:
    """What is so: was the go-ahead given, what time is it, which other legs are not approved yet."""

    go_ahead_given: bool
    now: datetime
    unapproved_others: tuple[str, ...] = ()


def unmet(conditions: Conditions, standing: Standing) -> list[str]:
    """What the launch still waits for, in plain words; empty when it may go."""
    missing = []
    if conditions.needs_go_ahead and not standing.go_ahead_given:
        missing.append("the go-ahead to launch")
    if conditions.not_before is not None and standing.now < conditions.not_before:
        missing.append(f"the instant {conditions.not_before.isoformat(timespec='minutes')}")
    if conditions.with_other_legs and standing.unapproved_others:
        missing.append(f"approval at {', '.join(standing.unapproved_others)}")
    return missing
