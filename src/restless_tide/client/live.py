"""What was live where, by the client."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from urllib.parse import urlencode

from restless_tide.client.noun import Noun
from restless_tide.wire.strips import LiveTold, StripTold


class Live(Noun):
    """What stores offer new people, now and before; and pictures of rollouts."""

    def at(self, *, app: str | None = None, at: datetime | None = None, country: str | None = None) -> list[LiveTold]:
        """What every store offers, of one app or of all; ``at`` aware, now unless said. Raises Invalid, NotFound."""
        return self._line.get("/v1/offered", list[LiveTold], app=app, at=_told(at), country=country)

    def strip(self, app: str, *, since: datetime | None = None, until: datetime | None = None) -> StripTold:
        """What was offered over a time, stretch by stretch; the last 180 days unless said. Raises Invalid, NotFound."""
        return self._line.get(f"/v1/apps/{app}/strip", StripTold, since=_told(since), until=_told(until))

    def export_strip(
        self,
        app: str,
        to: Path,
        *,
        form: str,
        since: datetime | None = None,
        until: datetime | None = None,
        zone: str = "UTC",
    ) -> None:
        """Write the strip to a file; ``form``: csv or png, for which ``zone`` (IANA) is that of the times in it."""
        asked = {"since": _told(since), "until": _told(until), "zone": zone if form == "png" else None}
        self._fetch(f"/v1/apps/{app}/strip/{form}", to, asked)

    def picture(self, app: str, version: str, to: Path, *, zone: str = "UTC") -> None:
        """Write the course of a release's rollout as PNG. Raises NotFound."""
        self._fetch(f"/v1/apps/{app}/releases/{version}/picture", to, {"zone": zone})

    def _fetch(self, path: str, to: Path, asked: dict[str, str | None]) -> None:
        self._line.fetch(f"{path}?{urlencode({name: value for name, value in asked.items() if value is not None})}", to)


def _told(instant: datetime | None) -> str | None:
    return instant.isoformat() if instant is not None else None
