"""Documents of the records that are read once: equal ones are one value there (``SharedJson``), which nobody changes in place."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Generic, TypeVar

Read = TypeVar("Read")

MOST_KEPT = 1000


class ReadOnce(Generic[Read]):
    """What a document says, by the document itself."""

    def __init__(self, read: Callable[[Any], Read]) -> None:
        self._read = read
        self._known: dict[int, tuple[Any, Read]] = {}

    def __call__(self, document: Any) -> Read:
        known = self._known.get(id(document))
        if known is None or known[0] is not document:
            if len(self._known) >= MOST_KEPT:
                self._known.clear()
            known = self._known[id(document)] = (document, self._read(document))
        return known[1]
