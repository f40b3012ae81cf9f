"""Stores."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from restless_tide.client.noun import Noun
from restless_tide.wire.retiring import OutlookTold, ReasonWanted
from restless_tide.wire.stores import (
    CarriedWanted,
    DrillTold,
    DrillWanted,
    KeyStepsTold,
    RetriedTold,
    StoreTold,
    StoreWanted,
)


class Stores(Noun):
    def every(self) -> list[StoreTold]:
        return self._line.get("/v1/stores", list[StoreTold])

    def one(self, store: str) -> StoreTold:
        """Raises NotFound."""
        return self._line.get(f"/v1/stores/{store}", StoreTold)

    def connect(self, name: str, connection: Mapping[str, Any]) -> StoreTold:
        """Connect a store with its connection file, tried at once. Raises Invalid, StoreRefused, StoreUnreachable."""
        return self._line.post("/v1/stores", StoreTold, StoreWanted(name=name, connection=dict(connection)))

    def carry(self, name: str, rulebook: str) -> StoreTold:
        """Keep a store without a gateway by its rulebook (TOML). Raises Invalid naming what breaks the schema."""
        return self._line.post("/v1/carried-stores", StoreTold, CarriedWanted(name=name, rulebook=rulebook))

    def key_steps(self) -> list[str]:
        """How a key is made at a store."""
        return self._line.get("/v1/stores/key-steps", KeyStepsTold).steps

    def outlook(self, store: str) -> OutlookTold:
        """What disconnecting a store would meet."""
        return self._line.get(f"/v1/stores/{store}/disconnection", OutlookTold)

    def disconnect(self, store: str, *, reason: str = "") -> StoreTold:
        """Forget a store's key and ask it nothing more. Raises ImpossibleAct with what is under way there."""
        return self._line.put(f"/v1/stores/{store}/disconnection", StoreTold, ReasonWanted(reason=reason))

    def renew_push_secret(self, store: str) -> StoreTold:
        return self._line.post(f"/v1/stores/{store}/push-secret", StoreTold)

    def try_untaken(self, store: str) -> RetriedTold:
        """Have the store's events tried again that the desk could not take, after an update of either side."""
        return self._line.post(f"/v1/stores/{store}/untaken-events", RetriedTold)

    def drill_halt(self, store: str | None = None) -> list[DrillTold]:
        """Send a halt the whole way to the stores, affecting no release; look at ``drilled`` for the outcome."""
        return self._line.post("/v1/drills", list[DrillTold], DrillWanted(store=store))

    def drilled(self, orders: Sequence[str]) -> list[DrillTold]:
        return self._line.get("/v1/drills", list[DrillTold], order=list(orders))
