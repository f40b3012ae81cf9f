"""Freezes, by the client."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from restless_tide.client.noun import Noun
from restless_tide.wire.freezes import FreezeTold, FreezeWanted, OverrideTold, OverrideWanted


class Freezes(Noun):
    """Windows in which nothing launches and no share rises, and what two people agree in spite of one."""

    def every(self) -> list[FreezeTold]:
        return self._line.get("/v1/freezes", list[FreezeTold])

    def set(
        self,
        name: str,
        begins: datetime,
        ends: datetime,
        *,
        zone: str = "UTC",
        yearly: bool = False,
        apps: Sequence[str] = (),
        stores: Sequence[str] = (),
        reason: str = "",
    ) -> FreezeTold:
        """``begins`` and ``ends`` as the clock on the wall shows them in ``zone``. Raises Invalid, Conflict."""
        wanted = FreezeWanted(
            name=name, begins=begins, ends=ends, zone=zone, yearly=yearly, apps=tuple(apps), stores=tuple(stores), reason=reason
        )  # fmt: skip
        return self._line.post("/v1/freezes", FreezeTold, wanted)

    def end(self, name: str, *, reason: str) -> None:
        self._line.send("POST", f"/v1/freezes/{name}/end", json={"reason": reason})

    def overrides(self) -> list[OverrideTold]:
        """Releases that are to rise in spite of a freeze."""
        return self._line.get("/v1/freeze-overrides", list[OverrideTold])

    def ask(self, app: str, version: str, *, reason: str) -> OverrideTold:
        """Ask that a release rise in spite of a freeze. Raises Invalid, ImpossibleAct."""
        wanted = OverrideWanted(reason=reason)
        return self._line.post(f"/v1/apps/{app}/releases/{version}/freeze-overrides", OverrideTold, wanted)

    def agree(self, override: str) -> OverrideTold:
        """Agree as the second person. Raises Denied for the one who asked."""
        return self._line.post(f"/v1/freeze-overrides/{override}/agreement", OverrideTold)
