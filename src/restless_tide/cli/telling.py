"""Instants, sizes and shares as people read them."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from restless_tide.wire.cohorts import TrialTold
    from restless_tide.wire.releases import RoundTold

    Seen = TrialTold | RoundTold

_FAR = timedelta(days=300)
_YEARS = (timedelta(days=700), 365.25 * 86400)
_UNITS = ((86400.0, "d"), (3600.0, "h"), (60.0, "min"))


def unconfirmed(told: Seen) -> str:
    """What follows a state that is ordered and not confirmed yet; empty where it is confirmed."""
    if told.confirmed:
        return ""
    seen = f", last seen {told.seen}" if told.seen and told.seen != told.state else ""
    return f" (ordered, not confirmed{seen})"


def moment(instant: datetime | None, now: datetime | None = None) -> str:
    """Such as ``Tue 24 Nov 14:00 CET, in 3 h``."""
    if instant is None:
        return ""
    return f"{on_the_day(instant)}, {distance(instant - (now or datetime.now(UTC)))}"


def on_the_day(instant: datetime) -> str:
    """Such as ``Tue 24 Nov 14:00 CET``, or ``1 Sep 2029`` when it is far away."""
    if abs(instant - datetime.now(UTC)) > _FAR:
        return f"{instant.astimezone():%-d %b %Y}"
    return f"{instant.astimezone():%a %d %b %H:%M %Z}"


def distance(away: timedelta) -> str:
    """How far an instant is: ``in 3 h``, ``2 d ago``, ``now``."""
    seconds = abs(away.total_seconds())
    if abs(away) > _YEARS[0]:
        told = f"{seconds / _YEARS[1]:.0f} y"
        return f"in {told}" if away > timedelta() else f"{told} ago"
    for size, unit in _UNITS:
        if seconds >= size:
            told = f"{seconds / size:.0f} {unit}"
            return f"in {told}" if away > timedelta() else f"{told} ago"
    return "now"


def share(part: float) -> str:
    return f"{part:.0%}" if part >= 0.01 or part == 0 else f"{part:.1%}"
