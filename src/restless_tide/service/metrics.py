"""The service's own metrics in OpenMetrics form: how deep and how old the queues are, store by store."""

from __future__ import annotations

from collections.abc import Iterator

from prometheus_client import CollectorRegistry, Histogram
from prometheus_client.core import GaugeMetricFamily, Metric
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector

from restless_tide.core.breaker import Breaker, BreakerState
from restless_tide.desk import queues, stores
from restless_tide.desk.desk import Desk

CONTENT_TYPE = CONTENT_TYPE_LATEST
_BUCKETS = (0.005, 0.02, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 10.0)


class Metrics(Collector):
    """One registry for one service over one desk."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._registry = CollectorRegistry()
        self.requests = Histogram(
            "tide_request_seconds",
            "How long requests took",
            ["method", "status"],
            buckets=_BUCKETS,
            registry=self._registry,
        )
        self._registry.register(self)

    def told(self) -> bytes:
        text: bytes = generate_latest(self._registry)  # type: ignore[no-untyped-call]
        return text

    def collect(self) -> Iterator[Metric]:
        """Read the queues as they stand now."""
        now = self._desk.clock.now()
        depth = GaugeMetricFamily("tide_orders_pending", "Orders not confirmed yet", labels=["store"])
        age = GaugeMetricFamily("tide_oldest_order_seconds", "Age of the oldest pending order", labels=["store"])
        retries = GaugeMetricFamily(
            "tide_order_retries", "Attempts beyond the first of pending orders", labels=["store"]
        )
        breaker = GaugeMetricFamily("tide_breaker_state", "1 for the state it is in", labels=["store", "state"])
        lag = GaugeMetricFamily("tide_sighting_lag_seconds", "Since the store was last reached", labels=["store"])
        forged = GaugeMetricFamily("tide_forged_events", "Pushed events refused since the start", labels=["store"])
        with self._desk.look() as session:
            counted = queues.of_stores(session)
            for store in stores.every(session):
                queue = counted.get(store.id, queues.Queue())
                depth.add_metric([store.name], queue.orders)
                age.add_metric([store.name], (now - queue.oldest).total_seconds() if queue.oldest else 0.0)
                retries.add_metric([store.name], max(queue.attempts - queue.orders, 0))
                state = Breaker(store.breaker_failures, store.breaker_rests_until).state(now)
                for known in BreakerState:
                    breaker.add_metric([store.name, known], float(state is known))
                if store.reached_at is not None and store.reached_by_gateway:
                    lag.add_metric([store.name], max((now - store.reached_at).total_seconds(), 0.0))
                forged.add_metric([store.name], self._desk.background.forged[store.id])
            steps, deliveries = queues.steps_of(session), queues.deliveries(session)
        yield from (depth, age, retries, breaker, lag, forged)
        yield GaugeMetricFamily("tide_steps_waiting", "Steps that wait for a person", value=steps)
        yield GaugeMetricFamily("tide_notices_waiting", "Notices not delivered yet", value=deliveries)
