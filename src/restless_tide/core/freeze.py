"""Freezes: windows in which nothing launches and no share rises. Halts, pauses and withdrawals always go."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import Annotated, Self

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from restless_tide.core.rollout import STOPPED, RolloutEvent, RolloutState
from restless_tide.core.wall_clock import first_at, known_zone, of_our_time, on_the_wall

LONGEST = timedelta(days=120)
"""A window that never ends would be no window."""
MOST_FREEZES, LONGEST_FREEZE_NAME = 100, 60
Named = Annotated[str, Field(max_length=100)]
"""An app or a store."""
RISES = frozenset({RolloutEvent.LAUNCH, RolloutEvent.ADVANCE, RolloutEvent.FINISH})
"""What a freeze holds, whatever the state; a resume only where it offers the build to new people again."""


class Freeze(BaseModel):
    """``begins`` and ``ends`` are wall-clock times of ``zone`` (IANA). ``yearly``: every year on these days; the year does not count.

    No apps: all of them; no stores: all of them.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    name: str = Field(min_length=1, max_length=LONGEST_FREEZE_NAME)
    begins: datetime = Field(description="as the clock on the wall shows it, without a zone: 2026-12-20T18:00")
    ends: datetime
    zone: str = Field(default="UTC", max_length=60, description="such as Europe/Berlin (IANA)")
    yearly: bool = Field(default=False, description="every year on these days; the year does not count")
    apps: tuple[Named, ...] = Field(default=(), max_length=500, description="none: all")
    stores: tuple[Named, ...] = Field(default=(), max_length=100, description="none: all")

    @field_validator("begins", "ends")
    @classmethod
    def _on_the_wall(cls, value: datetime) -> datetime:
        return of_our_time(on_the_wall(value))

    @field_validator("zone")
    @classmethod
    def _is_known(cls, value: str) -> str:
        return known_zone(value)

    @model_validator(mode="after")
    def _ends_after_it_begins(self) -> Self:
        if self.ends <= self.begins:
            raise ValueError("a freeze ends after it begins")
        if self.ends - self.begins > LONGEST:
            raise ValueError(f"a freeze lasts {LONGEST.days} days at most")
        return self

    def window(self, now: datetime) -> tuple[datetime, datetime] | None:
        """The window that an instant lies in, or else the next one (aware UTC); None: there is none any more."""
        for year in (now.year - 1, now.year, now.year + 1) if self.yearly else (self.begins.year,):
            begins = _in_year(self.begins, year)
            window = self._aware(begins), self._aware(begins + (self.ends - self.begins))
            if now < window[1]:
                return window
        return None

    def _aware(self, wall: datetime) -> datetime:
        return first_at(wall, self.zone)

    def holds(self, app: str, store: str, now: datetime) -> datetime | None:
        """When it ends, if it holds this app at this store now."""
        if (self.apps and app not in self.apps) or (self.stores and store not in self.stores):
            return None
        window = self.window(now)
        return window[1] if window is not None and window[0] <= now else None


def _in_year(wall: datetime, year: int) -> datetime:
    """The same day of another year; 29 February is 1 March where there is none."""
    try:
        return wall.replace(year=year)
    except ValueError:
        return wall.replace(year=year, month=3, day=1)


def frozen_until(freezes: Iterable[Freeze], app: str, store: str, now: datetime) -> tuple[str, datetime] | None:
    """The freeze that holds an app at a store now, and until when; one that follows without a gap is added to it."""
    known = tuple(freezes)
    first, until = "", now
    while True:
        ends = [(end, one.name) for one in known if (end := one.holds(app, store, until)) is not None]
        if not ends:
            return (first, until) if first else None
        latest, name = max(ends)
        first, until = first or name, latest


def held(event: RolloutEvent, state: RolloutState) -> bool:
    """Whether a freeze holds this act: it would have new people be offered the build."""
    return event in RISES or (event is RolloutEvent.RESUME and state in STOPPED)
