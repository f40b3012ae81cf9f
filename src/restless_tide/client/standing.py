"""The verbs of the client for stores, steps carried by hand, and notices."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from restless_tide.client.noun import Noun
from restless_tide.wire.notices import DeliveryTold, SubscriptionTold, SubscriptionWanted
from restless_tide.wire.steps import OutcomeWanted, StepTold, UndoWanted
from restless_tide.wire.stores import CarriedWanted, DrillTold, DrillWanted, KeyStepsTold, StoreTold, StoreWanted


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

    def renew_push_secret(self, store: str) -> StoreTold:
        return self._line.post(f"/v1/stores/{store}/push-secret", StoreTold)

    def drill_halt(self, store: str | None = None) -> list[DrillTold]:
        """Send a halt the whole way to the stores, touching no release; look at ``drilled`` for the outcome."""
        return self._line.post("/v1/drills", list[DrillTold], DrillWanted(store=store))

    def drilled(self, orders: Sequence[str]) -> list[DrillTold]:
        return self._line.get("/v1/drills", list[DrillTold], order=list(orders))


class Steps(Noun):
    """What people carry to a store by hand."""

    def waiting(self) -> list[StepTold]:
        return self._line.get("/v1/steps", list[StepTold], state="waiting")

    def settled(self) -> list[StepTold]:
        return self._line.get("/v1/steps", list[StepTold], state="settled")

    def one(self, step: str) -> StepTold:
        return self._line.get(f"/v1/steps/{step}", StepTold)

    def settle(self, step: str, outcome: str, *, said: str = "") -> StepTold:
        """Say what came of it: one of its outcomes. Raises Invalid, ImpossibleAct."""
        return self._line.post(f"/v1/steps/{step}/outcome", StepTold, OutcomeWanted(outcome=outcome, said=said))

    def undo(self, step: str, *, reason: str = "") -> StepTold:
        """Take a mistaken confirmation back. Raises ImpossibleAct."""
        return self._line.post(f"/v1/steps/{step}/undo", StepTold, UndoWanted(reason=reason))

    def fetch(self, sha256: str, to: Path) -> Path:
        """Fetch a file of a step, whole, into ``to``."""
        self._line.fetch(f"/v1/packages/{sha256}/file", to)
        return to


class Notices(Noun):
    """Who is told of what, and what became of each."""

    def subscriptions(self) -> list[SubscriptionTold]:
        return self._line.get("/v1/subscriptions", list[SubscriptionTold])

    def subscribe(
        self, channel: str, address: str, *, kinds: Sequence[str] = (), apps: Sequence[str] = ()
    ) -> SubscriptionTold:
        """``channel``: mail or webhook; no kinds: all, no apps: all. A webhook's secret is in this answer only."""
        given = {"channel": channel, "address": address, "kinds": list(kinds), "apps": list(apps)}
        return self._line.post("/v1/subscriptions", SubscriptionTold, SubscriptionWanted.model_validate(given))

    def end(self, subscription: str) -> None:
        self._line.delete(f"/v1/subscriptions/{subscription}")

    def try_out(self, subscription: str) -> DeliveryTold:
        """Send a notice of no consequence, to see that the way works."""
        return self._line.post(f"/v1/subscriptions/{subscription}/tries", DeliveryTold)

    def deliveries(self) -> list[DeliveryTold]:
        return self._line.get("/v1/deliveries", list[DeliveryTold])

    def send_again(self, delivery: str) -> DeliveryTold:
        return self._line.post(f"/v1/deliveries/{delivery}/again", DeliveryTold)
