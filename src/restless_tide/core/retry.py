"""How anything that goes out is tried again: after pauses that grow, and what is given up is given up in sight."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Retry:
    """Pauses in seconds: the first, doubled each time, up to the longest.

    The other side's own wish (Retry-After) is followed up to ``longest_asked``.
    """

    first: float
    longest: float
    longest_asked: float

    def pause(self, attempts: int, *, asked: float = 0.0, dice: float = 1.0) -> float:
        """Seconds to wait after the n-th attempt that failed.

        ``dice`` (0 to 1) spreads it over its upper half, so that many do not come back at once; ``asked`` are
        the seconds that the other side asked for, and it is never sooner.
        """
        pause = min(self.first * 2 ** min(max(attempts, 1) - 1, 40), self.longest) * (0.5 + 0.5 * dice)
        return float(max(pause, min(asked, self.longest_asked)))

    def attempts_within(self, seconds: float) -> int:
        """After so many attempts at least so many seconds have gone by, however the dice fell."""
        attempts, gone = 1, 0.0
        while gone < seconds:
            gone += self.pause(attempts, dice=0.0)
            attempts += 1
        return attempts


TO_STORES = Retry(first=0.5, longest=60.0, longest_asked=3600.0)
URGENT = Retry(first=0.5, longest=2.0, longest_asked=0.0)
"""Where a release has to be stopped, nobody waits for long."""
TO_PEOPLE = Retry(first=4.0, longest=2 * 3600.0, longest_asked=24 * 3600.0)
"""Mails, notices and answers."""
LASTS_SECONDS = 24 * 3600.0
MOST_ATTEMPTS = TO_PEOPLE.attempts_within(LASTS_SECONDS)
"""After so many tries what goes to people is given up, and a person may have it sent again."""
