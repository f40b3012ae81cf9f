"""What a request expects of the records when its first act begins; it travels with the request, to whichever thread acts."""

from __future__ import annotations

from contextvars import ContextVar
from dataclasses import dataclass


@dataclass
class Expectation:
    """``version`` is the state of the records in which the request's condition was found to hold, if it has one; ``key`` is
    the name under which the act is to be remembered, so that it is not done twice. ``moved`` and ``acted`` say what became
    of them."""

    version: int | None = None
    key: str = ""
    request: str = ""
    moved: bool = False
    acted: bool = False

    def done(self) -> None:
        """The first act is committed; what follows in the same request belongs to it."""
        self.acted = True


expectation: ContextVar[Expectation | None] = ContextVar("expectation", default=None)
