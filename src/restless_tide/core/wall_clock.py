"""Times as the clock on the wall shows them in a zone (IANA), also in the nights in which clocks are changed."""

from __future__ import annotations

from datetime import UTC, datetime, time, timedelta
from typing import TypeVar
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from restless_tide.core.errors import Invalid

Shown = TypeVar("Shown", datetime, time)
FIRST_YEAR, LAST_YEAR = 1971, 2199
_SECOND = timedelta(seconds=1)


def known_zone(name: str) -> str:
    """The name of a time zone (IANA). Raises ValueError for one that is unknown."""
    try:
        ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise ValueError(f"{name!r} is no time zone; write one such as Europe/Berlin") from None
    return name


def of_our_time(value: datetime) -> datetime:
    """Raises ValueError for a year that no plan is made for."""
    if not FIRST_YEAR <= value.year <= LAST_YEAR:
        raise ValueError(f"its year lies between {FIRST_YEAR} and {LAST_YEAR}")
    return value


def on_the_wall(value: Shown) -> Shown:
    """Raises ValueError for a time that carries a zone of its own."""
    if value.tzinfo is not None:
        raise ValueError("write it as the clock on the wall shows it, without a zone; the zone is said apart")
    return value


def _instants(wall: datetime, zone: str) -> tuple[datetime, datetime]:
    """What a wall-clock time means before and after a change of the clocks (aware UTC); usually twice the same."""
    at = wall.replace(tzinfo=ZoneInfo(zone), fold=0)
    return at.astimezone(UTC), at.replace(fold=1).astimezone(UTC)


def first_at(wall: datetime, zone: str) -> datetime:
    """The first instant (aware UTC) at which the clock shows this time, or a later one where it skips this time."""
    early, late = _instants(wall, zone)
    if late >= early:
        return early
    return _change(late, early, zone)


def last_at(wall: datetime, zone: str) -> datetime:
    """The last instant at which the clock shows this time; where it skips this time, the instant of the change."""
    early, late = _instants(wall, zone)
    if late >= early:
        return late
    return _change(late, early, zone)


def _change(low: datetime, high: datetime, zone: str) -> datetime:
    """The instant between two others at which the clocks are put forward."""
    at = ZoneInfo(zone)
    before = low.astimezone(at).utcoffset()
    while high - low > _SECOND:
        middle = low + (high - low) // 2
        low, high = (middle, high) if middle.astimezone(at).utcoffset() == before else (low, middle)
    return high.replace(microsecond=0)


def instant_of(wall: datetime, zone: str) -> datetime:
    """The one instant (aware UTC) that a wall-clock time means. Raises Invalid where the clocks skip it or show it twice."""
    early, late = _instants(wall, zone)
    if late == early:
        return early
    said = f"{wall:%Y-%m-%d %H:%M}"
    if late < early:
        after = _change(late, early, zone).astimezone(ZoneInfo(zone))
        raise Invalid(
            f"{said} does not exist in {zone}: the clocks are put forward, and it is {after:%H:%M} at once.",
            remedy=f"Say {after:%Y-%m-%dT%H:%M}, or another time.",
            code="time-skipped",
        )
    first, second = (one.astimezone(ZoneInfo(zone)).isoformat(timespec="minutes") for one in (early, late))
    raise Invalid(
        f"{said} comes twice in {zone}: the clocks are put back.",
        remedy=f"Say which one: {first} or {second}.",
        code="time-doubled",
    )
