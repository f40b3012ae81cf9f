"""Who is told of what."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import islice

from restless_tide.client.noun import Noun
from restless_tide.wire.notices import DeliveryTold, SubscriptionTold, SubscriptionWanted


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

    def deliveries(self, limit: int | None = 100) -> list[DeliveryTold]:
        """Newest first, at most ``limit``; None: all that the desk has."""
        each = self._line.each("/v1/deliveries", DeliveryTold, limit=min(limit or 500, 500))
        return list(islice(each, limit))

    def send_again(self, delivery: str) -> DeliveryTold:
        return self._line.post(f"/v1/deliveries/{delivery}/again", DeliveryTold)
