"""Ladders that are kept under a name, by the client."""

from __future__ import annotations

from restless_tide.client.noun import Noun
from restless_tide.wire.ladders import LadderTold, LadderWanted


class Ladders(Noun):
    """Named ladders, and what climbs by them."""

    def every(self) -> list[LadderTold]:
        """The usual one first."""
        return self._line.get("/v1/ladders", list[LadderTold])

    def set(self, name: str, stages: str, *, reason: str = "") -> LadderTold:
        """``stages`` such as ``5@24,20@steady12/2000,100``. What climbs by it climbs the rest as it is now. Raises Invalid."""
        return self._line.put(f"/v1/ladders/{name}", LadderTold, LadderWanted(stages=stages, reason=reason))

    def drop(self, name: str, *, reason: str) -> None:
        """Raises Conflict while something climbs by it."""
        self._line.send("POST", f"/v1/ladders/{name}/drop", json={"reason": reason})
