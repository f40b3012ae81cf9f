"""An answer that many ask for again and again, made once for each state of the records."""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable
from datetime import datetime
from typing import Generic, TypeVar

from restless_tide.desk.desk import Desk

Answer = TypeVar("Answer")


class Remembered(Generic[Answer]):
    """One answer, with what it depends on: the records, the minute, and whatever else its maker names."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._of: Hashable = None
        self._answer: Answer | None = None

    def told(self, desk: Desk, now: datetime, make: Callable[[], Answer], *besides: Hashable) -> Answer:
        """The answer as it was made, or made anew where anything was written since, or the minute is another."""
        with self._lock:  # whoever asks while it is made gets the same
            of = (desk.database.version(), now.replace(second=0, microsecond=0), besides)
            if self._answer is None or of != self._of:
                self._answer, self._of = make(), of
            return self._answer
