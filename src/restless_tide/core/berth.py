"""A berth: an app's place at a store. It is ordered, and open or refused as soon as the store has answered."""

from __future__ import annotations

from enum import StrEnum


class BerthState(StrEnum):
    ORDERED = "ordered"
    OPEN = "open"
    REFUSED = "refused"


def state_of(store_ref: str | None, refused_because: str | None) -> BerthState:
    """Where a berth stands: by the name that the store gave it, or why the store refused it."""
    if store_ref:
        return BerthState.OPEN
    return BerthState.REFUSED if refused_because else BerthState.ORDERED
