"""What is so, what changes, and who did what."""

from __future__ import annotations

import time
from collections.abc import Iterator
from datetime import datetime
from itertools import islice
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from httpx_sse import EventSource, SSEError

from restless_tide.client.noun import Noun
from restless_tide.wire.errors import DeskUnreachable
from restless_tide.wire.watching import (
    ChangeTold,
    ClockTold,
    ClockWanted,
    FoundTold,
    HealthTold,
    LineTold,
    OverviewTold,
    ReadyTold,
    VerificationTold,
)

_FIRST_PAUSE_SECONDS, _LONGEST_PAUSE_SECONDS = 0.5, 15.0


class Watching(Noun):
    """What is so, what needs a person, and what was done."""

    def ready(self) -> ReadyTold:
        """Whether the service can do its work. Raises DeskUnreachable when nothing answers."""
        return self._line.get("/readyz", ReadyTold)

    def health(self) -> HealthTold:
        return self._line.get("/healthz", HealthTold)

    def overview(self) -> OverviewTold:
        return self._line.get("/v1/overview", OverviewTold)

    def logbook(
        self,
        *,
        app: str | None = None,
        by: str | None = None,
        act: str | None = None,
        find: str | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
        limit: int | None = None,
    ) -> Iterator[LineTold]:
        """The logbook's lines, newest first, page by page as they are asked for.

        ``by`` is part of a name or address, the desk or a store; ``act`` part of what was done; ``find`` words of the
        object, the act or the reason.
        """
        wish = _told(app=app, by=by, act=act, find=find, since=since, until=until)
        each = self._line.each("/v1/logbook", LineTold, **wish, limit=min(limit, 500) if limit else None)
        return islice(each, limit)

    def export_logbook(self, to: Path, **wish: Any) -> None:
        """Write the lines that fit as CSV, newest first; ``wish`` as for ``logbook``."""
        self._line.fetch(f"/v1/logbook/export?{urlencode(_told(**wish))}", to)

    def search(self, text: str) -> list[FoundTold]:
        """Apps, releases, builds, cohorts, testers and stores that hold every word; a few of each kind."""
        return self._line.get("/v1/search", list[FoundTold], text=text)

    def verify_logbook(self) -> VerificationTold:
        return self._line.get("/v1/logbook/verification", VerificationTold)

    def follow(self, *, after: int | None = None) -> Iterator[ChangeTold]:
        """Everything that changes, as it changes, without end; a cut line is taken up where it broke.

        Raises DeskUnreachable only when the desk does not answer at the very beginning.
        """
        position, pause, begun = after, _FIRST_PAUSE_SECONDS, False
        while True:
            headers = {"Accept": "text/event-stream"} | (
                {"Last-Event-ID": str(position)} if position is not None else {}
            )
            try:
                with self._line.stream("/v1/live", headers) as answer:
                    begun, pause = True, _FIRST_PAUSE_SECONDS
                    for event in EventSource(answer).iter_sse():
                        if event.event == "change":
                            change = ChangeTold.model_validate_json(event.data)
                            position = change.id
                            yield change
            except (DeskUnreachable, SSEError):
                if not begun:
                    raise
            time.sleep(pause)
            pause = min(pause * 2, _LONGEST_PAUSE_SECONDS)

    def clock(self) -> ClockTold:
        return self._line.get("/v1/clock", ClockTold)

    def move_clock(self, *, step_hours: float = 0.0, show: datetime | None = None) -> ClockTold:
        """Move the clock of a throw-away desk. Raises Denied on every other."""
        return self._line.post("/v1/clock", ClockTold, ClockWanted(step_hours=step_hours, show=show))

    def contract(self) -> dict[str, Any]:
        """The service's OpenAPI document."""
        document: dict[str, Any] = self._line.send("GET", "/v1/openapi.json").json()
        return document


def _told(**wish: Any) -> dict[str, str]:
    """What is asked for, as it goes into an address."""
    return {
        name: value.isoformat() if isinstance(value, datetime) else str(value)
        for name, value in wish.items()
        if value is not None
    }
