"""A circuit breaker per store: when a store has failed often, it is left alone for a while.

After ``FAILURES_TO_OPEN`` failures in a row it opens; when its rest is over, one call is let through
to try, and its outcome closes the breaker or opens it for twice as long. A halt passes through an
open breaker: people are being harmed while it waits, and one call more harms no store.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

FAILURES_TO_OPEN = 5
FIRST_REST_SECONDS = 5.0
LONGEST_REST_SECONDS = 120.0


class BreakerState(StrEnum):
    CLOSED = "closed"
    OPEN = "open"
    TRYING = "trying"


@dataclass(frozen=True, slots=True)
class Breaker:
    """``failures`` in a row; ``rests_until`` is set while it is, or was last, open."""

    failures: int = 0
    rests_until: datetime | None = None

    def state(self, now: datetime) -> BreakerState:
        if self.rests_until is None:
            return BreakerState.CLOSED
        return BreakerState.OPEN if now < self.rests_until else BreakerState.TRYING

    def after_success(self) -> Breaker:
        return Breaker()

    def after_failure(self, now: datetime) -> Breaker:
        """One failure more; opens at the limit, and for twice as long at each one after it."""
        failures = self.failures + 1
        if failures < FAILURES_TO_OPEN:
            return Breaker(failures, None)
        rest = min(FIRST_REST_SECONDS * 2 ** min(failures - FAILURES_TO_OPEN, 20), LONGEST_REST_SECONDS)
        return Breaker(failures, now + timedelta(seconds=rest))
