"""A stand-in's own clock: it can be stepped, and it can run fast. It survives a restart."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from restless_tide.standins.shelf import Shelf


class StoreClock:
    def __init__(self, shelf: Shelf) -> None:
        self._shelf = shelf
        kept = shelf.setting("clock")
        self._ahead = timedelta(seconds=float(kept["ahead_seconds"])) if kept else timedelta()
        self.speed = float(kept["speed"]) if kept else 1.0
        self._since = datetime.fromisoformat(kept["since"]) if kept else datetime.now(UTC)

    def now(self) -> datetime:
        real = datetime.now(UTC)
        return self._since + (real - self._since) * self.speed + self._ahead

    def step(self, by: timedelta) -> None:
        """Forwards only; a store's clock never goes back."""
        self._ahead += max(by, timedelta())
        self._keep()

    def set(self, instant: datetime) -> None:
        """Show ``instant`` now. Going back is for the beginning of a scenario only."""
        self._ahead += instant - self.now()
        self._keep()

    def run_at(self, speed: float) -> None:
        now = self.now()
        self._since = datetime.now(UTC)
        self._ahead = now - self._since
        self.speed = speed
        self._keep()

    def _keep(self) -> None:
        self._shelf.keep_setting(
            "clock",
            {"ahead_seconds": self._ahead.total_seconds(), "speed": self.speed, "since": self._since.isoformat()},
        )
