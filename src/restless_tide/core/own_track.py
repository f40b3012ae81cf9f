"""A track that the team opens at a store for itself."""

from __future__ import annotations

from enum import StrEnum

from restless_tide.core.machine import Machine


class OwnTrackState(StrEnum):
    ORDERED = "ordered"
    OPEN = "open"
    CLOSING = "closing"
    CLOSED = "closed"
    REFUSED = "refused"


class OwnTrackEvent(StrEnum):
    ORDER = "order"
    OPEN = "open"
    CLOSE = "close"
    END = "end"
    STAY = "stay"
    REFUSE = "refuse"


S, E = OwnTrackState, OwnTrackEvent

OWN_TRACK = Machine(
    noun="The track",
    initial=S.ORDERED,
    table={
        (S.ORDERED, E.OPEN): S.OPEN,
        (S.ORDERED, E.REFUSE): S.REFUSED,
        (S.OPEN, E.CLOSE): S.CLOSING,
        (S.OPEN, E.END): S.CLOSED,
        (S.CLOSING, E.END): S.CLOSED,
        (S.CLOSING, E.STAY): S.OPEN,
        (S.CLOSED, E.ORDER): S.ORDERED,
        (S.CLOSED, E.OPEN): S.OPEN,
        (S.REFUSED, E.ORDER): S.ORDERED,
        (S.REFUSED, E.OPEN): S.OPEN,
    },
)
"""``end`` is what the store says of a closing, also of one on its own pages; ``stay``: it refused to close it."""

IN_USE = frozenset({S.OPEN, S.CLOSING})
COUNTED = IN_USE | {S.ORDERED}
"""What a store counts, or will count as soon as it has answered."""
