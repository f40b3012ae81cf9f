"""Links by which someone chooses a password: an invitation to the desk, or a new password for one that was forgotten."""

from __future__ import annotations

from datetime import timedelta
from enum import StrEnum
from types import MappingProxyType


class LinkKind(StrEnum):
    """What a link is for."""

    WELCOME = "welcome"
    RESET = "reset"


LIFE: MappingProxyType[LinkKind, timedelta] = MappingProxyType(
    {LinkKind.WELCOME: timedelta(days=7), LinkKind.RESET: timedelta(hours=1)}
)
MOST_AT_ONCE = 5
"""So many links of one person may be valid together; further ones are not made, so that no one's mailbox is flooded."""
