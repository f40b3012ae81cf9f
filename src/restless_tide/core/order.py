"""An order: a durable instruction to a store, carried out exactly once in effect.

An order that was sent and got no answer stays ``sent``: nobody knows what the store did, so it is
sent again under the same idempotency key until the store says what happened, or until a more
urgent order (a halt) overtakes it. ``refused`` and ``dropped`` are final; ``confirmed`` is, too, but
for a step at a hand-carried store that a person confirmed by mistake and undoes.
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
    UNDO = "undo"


class OrderKind(StrEnum):
    OPEN_BERTH = "open berth"
    SEND_BUILD = "send build"
    ANSWER = "answer questions"
    OPEN_TRIAL = "open trial"
    CLOSE_TRIAL = "close trial"
    SEAT = "seat testers"
    UNSEAT = "take testers out"
    SET_AVAILABILITY = "set availability"
    SUBMIT = "submit"
    RECALL = "recall"
    LAUNCH = "launch"
    SET_SHARE = "set share"
    PAUSE = "pause"
    RESUME = "resume"
    HALT = "halt"
    WITHDRAW = "withdraw"
    DRILL = "halt drill"


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
        (S.CONFIRMED, E.UNDO): S.SENT,
    },
)

PENDING = frozenset({S.QUEUED, S.SENT})

ROLLOUT_STEPS = frozenset(
    {OrderKind.LAUNCH, OrderKind.SET_SHARE, OrderKind.PAUSE, OrderKind.RESUME, OrderKind.HALT, OrderKind.WITHDRAW}
)
"""What moves a rollout at a store."""

_URGENCY = {OrderKind.HALT: 0, OrderKind.DRILL: 0, OrderKind.LAUNCH: 1, OrderKind.WITHDRAW: 2}
_OVERTAKEN_BY = {
    OrderKind.HALT: frozenset({OrderKind.LAUNCH, OrderKind.SET_SHARE, OrderKind.PAUSE, OrderKind.RESUME}),
    OrderKind.WITHDRAW: frozenset({OrderKind.SET_SHARE, OrderKind.PAUSE, OrderKind.RESUME}),
    OrderKind.PAUSE: frozenset({OrderKind.SET_SHARE}),
}

FIRST_PAUSE_SECONDS = 0.5
LONGEST_PAUSE_SECONDS = 60.0
LONGEST_URGENT_PAUSE_SECONDS = 2.0
LONGEST_ASKED_SECONDS = 3600.0
FAILING_AFTER_ATTEMPTS = 4
"""From so many unanswered attempts on, an order is called failing and people are told."""


def urgency(kind: OrderKind) -> int:
    """Smaller goes first within a lane. Halts go first, also before a launch that may or may not have arrived.

    A pause keeps its turn: going before a waiting resume, it would be undone by it.
    """
    return _URGENCY.get(kind, 9)


def overtaken_by(kind: OrderKind) -> frozenset[OrderKind]:
    """The kinds of waiting orders of the same lane that lose their meaning when ``kind`` is ordered."""
    return _OVERTAKEN_BY.get(kind, frozenset())


def pause_before_retry_seconds(
    attempts: int, *, urgent: bool = False, asked_seconds: float = 0.0, dice: float = 1.0
) -> float:
    """How long to wait after the n-th unanswered attempt: doubling, up to a minute, or 2 s when it is urgent.

    ``dice`` (0 to 1) spreads it over its upper half, so that many orders do not come back at once.
    ``asked_seconds`` is the store's own wish (Retry-After); what is urgent does not wait for it.
    """
    longest = LONGEST_URGENT_PAUSE_SECONDS if urgent else LONGEST_PAUSE_SECONDS
    pause = min(FIRST_PAUSE_SECONDS * 2 ** min(attempts - 1, 20), longest) * (0.5 + 0.5 * dice)
    return float(pause if urgent else max(pause, min(asked_seconds, LONGEST_ASKED_SECONDS)))


def goes_first(kind: OrderKind) -> bool:
    """Whether it goes beside whatever is in flight, waits for no breaker and for no wish of the store."""
    return kind in (OrderKind.HALT, OrderKind.DRILL)


def is_urgent(kind: OrderKind) -> bool:
    """Whether people are being harmed while it waits."""
    return kind in (OrderKind.HALT, OrderKind.DRILL, OrderKind.WITHDRAW, OrderKind.PAUSE)
