"""An order: a durable instruction to a store, carried out exactly once in effect.

An order that was sent and got no answer stays ``sent``: nobody knows what the store did, so it is
sent again under the same idempotency key until the store says what happened, or until a more
urgent order (a halt) overtakes it. ``confirmed``, ``refused`` and ``dropped`` are final.
"""

from __future__ import annotations

from enum import StrEnum

from restless_tide.core.machine import Machine


class OrderState(StrEnum):
    QUEUED = "queued"
    SENT = "sent"
    CONFIRMED = "confirmed"
    REFUSED = "refused"
    DROPPED = "dropped"


class OrderEvent(StrEnum):
    SEND = "send"
    CONFIRM = "confirm"
    REFUSE = "refuse"
    DROP = "drop"


class OrderKind(StrEnum):
    OPEN_BERTH = "open berth"
    SEND_BUILD = "send build"
    ANSWER = "answer questions"
    OPEN_TRIAL = "open trial"
    CLOSE_TRIAL = "close trial"
    SEAT = "seat a tester"
    SUBMIT = "submit"
    RECALL = "recall"
    LAUNCH = "launch"
    SET_SHARE = "set share"
    PAUSE = "pause"
    RESUME = "resume"
    HALT = "halt"
    WITHDRAW = "withdraw"


S, E = OrderState, OrderEvent

ORDER = Machine(
    noun="The order",
    initial=S.QUEUED,
    table={
        (S.QUEUED, E.SEND): S.SENT,
        (S.QUEUED, E.REFUSE): S.REFUSED,
        (S.QUEUED, E.DROP): S.DROPPED,
        (S.SENT, E.SEND): S.SENT,
        (S.SENT, E.CONFIRM): S.CONFIRMED,
        (S.SENT, E.REFUSE): S.REFUSED,
        (S.SENT, E.DROP): S.DROPPED,
    },
)

PENDING = frozenset({S.QUEUED, S.SENT})

_URGENCY = {OrderKind.LAUNCH: 0, OrderKind.HALT: 1, OrderKind.WITHDRAW: 2}
_OVERTAKEN_BY = {
    OrderKind.HALT: frozenset({OrderKind.SET_SHARE, OrderKind.PAUSE, OrderKind.RESUME}),
    OrderKind.WITHDRAW: frozenset({OrderKind.SET_SHARE, OrderKind.PAUSE, OrderKind.RESUME}),
    OrderKind.PAUSE: frozenset({OrderKind.SET_SHARE}),
}

FIRST_PAUSE_SECONDS = 0.5
LONGEST_PAUSE_SECONDS = 60.0
LONGEST_URGENT_PAUSE_SECONDS = 2.0


def urgency(kind: OrderKind) -> int:
    """Smaller goes first within a lane. A launch opens its lane, so nothing can go before it; then halts.

    A pause keeps its turn: going before a waiting resume, it would be undone by it.
    """
    return _URGENCY.get(kind, 9)


def overtaken_by(kind: OrderKind) -> frozenset[OrderKind]:
    """The kinds of waiting orders of the same lane that lose their meaning when ``kind`` is ordered."""
    return _OVERTAKEN_BY.get(kind, frozenset())


def pause_before_retry_seconds(attempts: int, *, urgent: bool = False) -> float:
    """How long to wait after the n-th unanswered attempt: doubling, up to a minute, or 2 s when it is urgent."""
    longest = LONGEST_URGENT_PAUSE_SECONDS if urgent else LONGEST_PAUSE_SECONDS
    return float(min(FIRST_PAUSE_SECONDS * 2 ** min(attempts - 1, 20), longest))


def is_urgent(kind: OrderKind) -> bool:
    """Whether people are being harmed while it waits."""
    return kind in (OrderKind.HALT, OrderKind.WITHDRAW, OrderKind.PAUSE)
