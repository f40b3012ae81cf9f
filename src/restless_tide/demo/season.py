"""Fast time for a scenario: the desk's clock and the stores' clocks are stepped together, from one due thing to the next."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx

from restless_tide.client import Tide
from restless_tide.demo.processes import HOST, STORES, Ports

_QUIET_SECONDS = 0.35
_POLL_SECONDS = 0.05
_PATIENCE_SECONDS = 30.0
_AFTERWARDS = timedelta(minutes=2)


class Season:
    """A stretch of time that a scenario is played in, from ``begin`` on."""

    def __init__(self, tide: Tide, ports: Ports, begin: datetime) -> None:
        self._tide = tide
        self._ports = ports
        self._http = httpx.Client(timeout=10, trust_env=False, verify=False)  # noqa: S501  (loopback)
        self.now = begin
        self._show()

    def control(self, store: str, path: str, body: dict[str, Any] | None = None) -> Any:
        """Ask a stand-in's control; a body makes it a change."""
        method = "GET" if body is None else "POST"
        url = f"http://{HOST}:{self._ports.stores[store]}/control/{path}"
        return self._http.request(method, url, json=body).raise_for_status().json()

    def hand_in(self, store: str, identifier: str, file: Path) -> None:
        """Someone hands a package in on the store's own pages."""
        url = f"http://{HOST}:{self._ports.stores[store]}/control/hand-in"
        self._http.post(url, params={"identifier": identifier}, content=file.read_bytes()).raise_for_status()

    def mail_mood(self, **mood: Any) -> None:
        """How the mail server behaves from now on."""
        self._http.post(f"http://{HOST}:{self._ports.mail}/mood", json=mood).raise_for_status()

    def mails(self) -> Any:
        return self._http.get(f"http://{HOST}:{self._ports.mail}/mails").raise_for_status().json()

    def until(self, instant: datetime) -> None:
        """Let time pass, stopping at everything that becomes due on the way."""
        while self.now < instant:
            self.now = min([instant, *(due + _AFTERWARDS for due in self._due() if due + _AFTERWARDS > self.now)])
            self._show()
            self.settle()

    def pass_hours(self, hours: float) -> None:
        self.until(self.now + timedelta(hours=hours))

    def settle(self) -> None:
        """Wait until nothing is ordered any more and nothing new has happened for a moment."""
        quiet_since = time.monotonic()
        last = -1
        deadline = quiet_since + _PATIENCE_SECONDS
        while time.monotonic() < deadline:
            lines = next((line.id for line in self._tide.watching.logbook(limit=1)), 0)
            if lines != last:
                quiet_since, last = time.monotonic(), lines
            elif time.monotonic() - quiet_since > _QUIET_SECONDS:
                if not any(store.pending_orders for store in self._tide.stores.every()):
                    return
                quiet_since = time.monotonic()
            time.sleep(_POLL_SECONDS)
        raise TimeoutError("the scenario does not come to rest")

    def wait_for(self, settled: Callable[[], bool]) -> None:
        """Wait for a moment that must come without time passing."""
        deadline = time.monotonic() + _PATIENCE_SECONDS
        while not settled():
            if time.monotonic() > deadline:
                raise TimeoutError("the scenario waits in vain")
            time.sleep(_POLL_SECONDS)

    def _due(self) -> list[datetime]:
        stages = [row.stage_ends_at for row in self._tide.watching.overview().rows if row.stage_ends_at]
        stores = [self.control(store, "state")["next_due"] for store in STORES]
        return stages + [datetime.fromisoformat(due) for due in stores if due]

    def _show(self) -> None:
        """The desk reaches the instant first, so that whatever it hears while the stores follow is dated no earlier
        than it was there; a stage that it asks for too early meanwhile is asked for again at once."""
        self._tide.watching.move_clock(show=self.now)
        for store in STORES:
            self.control(store, "clock", {"set_to": self.now.isoformat()})

    def come_to_now(self) -> None:
        """End the season: every clock shows real time."""
        self.until(datetime.now(UTC))
        self.now = datetime.now(UTC)
        self._show()
