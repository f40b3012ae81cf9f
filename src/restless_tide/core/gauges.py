"""Gauges: what a store or a crash collector counts by the hour, and what is wrong with such counts.

An hour's document is whole: a later revision replaces the earlier one. It tells, for each version, platform level and
class of device, how many people were active, how many sessions they had, and what went wrong in them.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, fields
from datetime import UTC, datetime, timedelta
from typing import Self

HOUR = timedelta(hours=1)
MOST_COUNTED = 10**12
"""Of one thing in one hour; years of such hours add up within 64 bits."""
MOST_CELLS = 500
"""Of one hour: versions × platform levels × classes of device."""
KEPT_BY_THE_HOUR = timedelta(days=60)
"""After that, hours are added up to days."""
AHEAD = timedelta(minutes=10)
"""How far a store's clock may be ahead of the desk's before an hour counts as one in the future."""


@dataclass(frozen=True, slots=True)
class Counts:
    """What was counted in one hour. All are whole numbers, at least 0.

    ``people`` were active in the hour. ``crashed_people`` met a crash, each counted at most once a day, in the hour of the
    first. ``first_starts`` began this version for the first time. ``stars_1`` to ``stars_5`` are ratings given.
    """

    people: int = 0
    sessions: int = 0
    crashed_sessions: int = 0
    crashed_people: int = 0
    hangs: int = 0
    first_starts: int = 0
    stars_1: int = 0
    stars_2: int = 0
    stars_3: int = 0
    stars_4: int = 0
    stars_5: int = 0

    @classmethod
    def of(cls, told: object) -> Self:
        """Made of what has counts under the same names."""
        return cls(**{field.name: getattr(told, field.name) for field in fields(cls)})


COUNTED = tuple(field.name for field in fields(Counts))
COUNT_WORDS = {name: name.replace("_", " ") for name in COUNTED} | {
    "people": "people active in the hour",
    "crashed_sessions": "sessions that ended in a crash",
    "crashed_people": "people who met a crash",
    "first_starts": "people who began this version",
    **{f"stars_{star}": f"ratings of {star} stars" for star in range(1, 6)},
}
"""What each count is of, in words."""
STARS = tuple(name for name in COUNTED if name.startswith("stars_"))


def hour_number(at: datetime) -> int:
    """The number of the hour that an instant lies in, counted from 1970 (UTC)."""
    return int(at.astimezone(UTC).timestamp() // 3600)


def hour_of(number: int) -> datetime:
    """When the hour with this number begins."""
    return datetime.fromtimestamp(number * 3600, UTC)


def what_is_wrong(at: datetime, cells: Iterable[tuple[str, Counts]], now: datetime) -> list[str]:
    """Why an hour cannot be taken: nothing, or one sentence for each thing that cannot be so.

    ``cells`` are the counts with the name of what they are of, such as ``2.4.0 (58)``.
    """
    if at.tzinfo is None:
        return [f"{at.isoformat()} has no zone."]
    found = []
    if at.timestamp() % HOUR.total_seconds():
        found.append(f"{at.isoformat()} is not the beginning of an hour (UTC).")
    if at > now + AHEAD:
        found.append(f"{at:%Y-%m-%d %H:%M} lies in the future.")
    for name, counts in cells:
        for part, whole in _WITHIN:
            if not getattr(counts, whole) and (part, whole) in _MAY_BE_LEFT_OUT:
                continue
            if getattr(counts, part) > getattr(counts, whole):
                found.append(
                    f"{name}: {getattr(counts, part):,} {_TOLD[part]} are more than {getattr(counts, whole):,} {_TOLD[whole]}."
                )
    return found


_WITHIN = (
    ("crashed_sessions", "sessions"),
    ("crashed_people", "people"),
    ("crashed_people", "crashed_sessions"),
    ("first_starts", "people"),
    ("people", "sessions"),
)
"""What cannot be more than what."""
_MAY_BE_LEFT_OUT = {("crashed_people", "crashed_sessions"), ("people", "sessions")}
"""Where the second is not counted at all, nothing can be said."""
_TOLD = {
    "people": "people",
    "sessions": "sessions",
    "crashed_sessions": "sessions that crashed",
    "crashed_people": "people who met a crash",
    "first_starts": "first starts",
}
