"""The desk's clock: the machine's, or for demos and tests one that can be stepped."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Protocol

from restless_tide.core.errors import Denied


class Clock(Protocol):
    def now(self) -> datetime:
        """The present instant, aware, in UTC."""
        ...

    def step(self, by: timedelta) -> None:
        """Go forwards. Raises Denied for a clock that shows real time."""
        ...

    def show(self, instant: datetime) -> None:
        """Show ``instant`` now. Raises Denied for a clock that shows real time."""
        ...


class RealClock:
    def now(self) -> datetime:
        return datetime.now(UTC)

    def step(self, by: timedelta) -> None:
        raise _real()

    def show(self, instant: datetime) -> None:
        raise _real()


class SteppableClock:
    """Runs at the real pace, ahead of or behind real time by what it was stepped."""

    def __init__(self) -> None:
        self._ahead = timedelta()

    def now(self) -> datetime:
        return datetime.now(UTC) + self._ahead

    def step(self, by: timedelta) -> None:
        self._ahead += by

    def show(self, instant: datetime) -> None:
        self._ahead = instant - datetime.now(UTC)


def _real() -> Denied:
    return Denied(
        "This desk runs by real time; its clock cannot be moved.",
        remedy="Only a throw-away desk started with TIDE_STEPPABLE_CLOCK=yes has a clock that can be moved.",
    )
