"""A brake on pages that anybody can reach: so many attempts in a while from one place, then a pause."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict, deque

WINDOW_SECONDS = 600.0
_PLACES = 10_000


class Brake:
    """Counts attempts by place over the last ten minutes; kept in memory, bounded."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._seen: OrderedDict[str, deque[float]] = OrderedDict()
        self._lock = threading.Lock()

    def holds(self, place: str) -> bool:
        """Whether this attempt is one too many; it counts either way."""
        now = time.monotonic()
        with self._lock:
            seen = self._seen.setdefault(place, deque(maxlen=self._most + 1))
            self._seen.move_to_end(place)
            while seen and now - seen[0] > WINDOW_SECONDS:
                seen.popleft()
            seen.append(now)
            while len(self._seen) > _PLACES:
                self._seen.popitem(last=False)
            return len(seen) > self._most
