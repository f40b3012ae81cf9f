"""A consignment: a build on its way to a berth.

The store, not the desk, decides most of its steps: the desk only knows that it has begun to send
and that it has answered a question; everything else is heard from the store. Hence two kinds of
events. A refused consignment is over: what comes next is another build with another number.
"""

from __future__ import annotations

from enum import StrEnum

from restless_tide.core.machine import Machine


class ConsignmentState(StrEnum):
    QUEUED = "queued"
    SENDING = "sending"
    PROCESSING = "processing"
    HELD = "held"
    READY = "ready"
    REFUSED = "refused"
    EXPIRED = "expired"


class ConsignmentEvent(StrEnum):
    SEND = "send"
    ARRIVE = "arrive"
    HOLD = "hold"
    ANSWER = "answer"
    CLEAR = "clear"
    REFUSE = "refuse"
    EXPIRE = "expire"


S, E = ConsignmentState, ConsignmentEvent

CONSIGNMENT = Machine(
    noun="The consignment",
    initial=S.QUEUED,
    table={
        (S.QUEUED, E.SEND): S.SENDING,
        (S.QUEUED, E.REFUSE): S.REFUSED,
        (S.SENDING, E.ARRIVE): S.PROCESSING,
        (S.SENDING, E.REFUSE): S.REFUSED,
        (S.PROCESSING, E.HOLD): S.HELD,
        (S.PROCESSING, E.CLEAR): S.READY,
        (S.PROCESSING, E.REFUSE): S.REFUSED,
        (S.HELD, E.ANSWER): S.HELD,
        (S.HELD, E.CLEAR): S.READY,
        (S.HELD, E.REFUSE): S.REFUSED,
        (S.READY, E.EXPIRE): S.EXPIRED,
    },
)
ON_ITS_WAY = frozenset({S.QUEUED, S.SENDING, S.PROCESSING})
"""Nobody need do anything but wait."""
UNDER_WAY = ON_ITS_WAY | {S.HELD}
"""It is not decided yet what becomes of it."""
