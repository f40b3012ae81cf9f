"""Acts that may ask for a second person: those by which a release reaches people. What stops one never waits for anyone."""

from __future__ import annotations

from datetime import timedelta
from enum import StrEnum

LIFE = timedelta(hours=24)
"""So long an act waits for a second person; what was asked of an older state of things is not done later."""
MOST_WAITING = 50
"""Of one app."""


class AskedAct(StrEnum):
    """What a second person can be asked to agree to."""

    SUBMIT = "hand in"
    GO_AHEAD = "go-ahead"
    STEER = "steer"
    CHANGE_LEG = "change a leg"
    PACE = "pace"
    SILENCE = "silence a guard"
