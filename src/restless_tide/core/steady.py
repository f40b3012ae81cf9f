"""A stage that rises when it was steady: what guards have said, for how many counted hours, over how many sessions."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from restless_tide.core.guard import Verdict
from restless_tide.core.ladder import Stage


@dataclass(frozen=True, slots=True)
class Saying:
    """What one guard says of a rollout, and since when; ``verdict`` None: it has not judged yet, or is blind."""

    guard: str
    verdict: Verdict | None
    since: datetime


@dataclass(frozen=True, slots=True)
class Counted:
    """What was counted of the version at one store since the stage began. ``until``: the end of the newest hour, if any."""

    sessions: int = 0
    until: datetime | None = None


def together(counted: Sequence[Counted]) -> Counted:
    """What several sources have counted: as far as the slowest has come, and the most sessions that one of them knows of."""
    ends = [one.until for one in counted if one.until is not None]
    until = min(ends) if ends and len(ends) == len(counted) else None
    return Counted(max((one.sessions for one in counted), default=0), until)


def not_yet(stage: Stage, began: datetime, sayings: Sequence[Saying], counted: Counted, now: datetime) -> list[str]:
    """What a stage that rises when steady still waits for; nothing: it may rise. Empty for every other stage.

    Steady hours are hours with counts: while nothing is counted, no guard can see anything.
    """
    if stage.steady_hours is None:
        return []
    if not sayings:
        return ["a guard that watches it; without one a person has to raise it"]
    waits = []
    for saying in sayings:
        if saying.verdict is not Verdict.STEADY:
            waits.append(f"the guard {saying.guard} to say steady (now: {saying.verdict or 'blind'})")
    needed = timedelta(hours=stage.steady_hours)
    if not waits:
        since = max(began, *(saying.since for saying in sayings))
        so_far = max(min(counted.until or since, now) - since, timedelta())
        if so_far < needed:
            done = int(so_far / timedelta(hours=1))
            waits.append(f"{stage.steady_hours:g} hours of counts that are steady (so far {done})")
    if counted.sessions < stage.least_sessions:
        waits.append(f"{stage.least_sessions:,} sessions in this stage (so far {counted.sessions:,})")
    return waits
