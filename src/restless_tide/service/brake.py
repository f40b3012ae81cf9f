"""A brake on pages that anybody can reach: so many attempts in a while from one place, then a pause."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict, deque

WINDOW_SECONDS = 600.0
_PLACES = 10_000
MOST_FAILED_SIGN_INS, MOST_FAILED_IN_ALL = 10, 100
"""Of one account from one place; of one account from anywhere, and from one place for anybody."""


class Brake:
    """Counts attempts by place over the last ten minutes; kept in memory, bounded."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._seen: OrderedDict[str, deque[float]] = OrderedDict()
        self._lock = threading.Lock()

    def holds(self, place: str) -> bool:
        """Whether this attempt is one too many; it counts either way."""
        self.count(place)
        return self.over(place)

    def count(self, place: str) -> None:
        now = time.monotonic()
        with self._lock:
            seen = self._seen.setdefault(place, deque(maxlen=self._most + 1))
            self._seen.move_to_end(place)
            seen.append(now)
            while len(self._seen) > _PLACES:
                self._seen.popitem(last=False)

    def over(self, place: str) -> bool:
        """Whether more attempts were counted in the last while than there may be."""
        now = time.monotonic()
        with self._lock:
            seen = self._seen.get(place, ())
            return sum(now - at <= WINDOW_SECONDS for at in seen) > self._most


class SignInBrake:
    """Counts sign-ins that failed. Whoever keeps guessing is held; the account stays open from other places for long."""

    def __init__(self) -> None:
        self._pairs = Brake(MOST_FAILED_SIGN_INS - 1)
        self._all = Brake(MOST_FAILED_IN_ALL - 1)

    def holds(self, account: str, place: str) -> bool:
        return (
            self._pairs.over(f"{account} {place}")
            or self._all.over(f"account {account}")
            or self._all.over(f"place {place}")
        )

    def failed(self, account: str, place: str) -> None:
        self._pairs.count(f"{account} {place}")
        self._all.count(f"account {account}")
        self._all.count(f"place {place}")
