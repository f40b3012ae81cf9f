"""An order: a durable instruction to a store, carried out exactly once in effect.

An order that was sent and got no answer stays ``sent``: nobody knows what the store did, so it is
sent again under the same idempotency key until the store says what happened, or until a more
urgent order (a halt) overtakes it. ``refused`` and ``dropped`` are final; ``confirmed`` is, too, but
for a step at a hand-carried store that a person confirmed by mistake and undoes.

``RULES`` has one row for each kind of order: everything that makes one kind different from another
when orders are put in sequence. What is decided with it is in lane.py.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

from restless_tide.core.consignment import ConsignmentEvent
from restless_tide.core.machine import Machine
from restless_tide.core.retry import TO_STORES, URGENT
from restless_tide.core.rollout import RolloutEvent
from restless_tide.core.round import RoundEvent
from restless_tide.core.trial import TrialEvent


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
    RENAME_BERTH = "rename berth"
    OPEN_TRACK = "open track"
    RENAME_TRACK = "rename track"
    CLOSE_TRACK = "close track"
    SEND_BUILD = "send build"
    ANSWER = "answer questions"
    OPEN_TRIAL = "open trial"
    CLOSE_TRIAL = "close trial"
    SEAT = "seat testers"
    UNSEAT = "take testers out"
    SET_AVAILABILITY = "set availability"
    WRITE_TEXTS = "write texts"
    WRITE_PICTURES = "write pictures"
    WRITE_ANSWERS = "write answers"
    WRITE_GOODS = "write goods"
    SUBMIT = "submit"
    RECALL = "recall"
    WRITE_REVIEWER = "write to the reviewer"
    APPEAL = "appeal"
    LAUNCH = "launch"
    SET_SHARE = "set share"
    PAUSE = "pause"
    RESUME = "resume"
    HALT = "halt"
    WITHDRAW = "withdraw"
    DRILL = "halt drill"


class Subject(StrEnum):
    """What an order is about: the table that its subject is a row of."""

    STORE = "store"
    BERTH = "berth"
    CONSIGNMENT = "consignment"
    TRIAL = "trial"
    ROUND = "round"
    LEG = "leg"


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
"""Not settled: the store has not said what became of it."""

LAST_IN_TURN = 9


@dataclass(frozen=True, slots=True)
class OrderRule:
    """One kind of order.

    ``subject`` is what it is about; ``events`` are the events of the subject's machine that people order by it.
    ``turn``: smaller goes first within a lane. ``overtakes``: waiting orders of these kinds lose their meaning.
    ``beside``: it waits for nothing, neither for calls in flight nor for a breaker or a wish of the store.
    ``urgent``: people are being harmed while it waits, so it is tried again soon.
    """

    subject: Subject
    events: tuple[StrEnum, ...] = ()
    turn: int = LAST_IN_TURN
    overtakes: frozenset[OrderKind] = frozenset()
    beside: bool = False
    urgent: bool = False


_K = OrderKind
_STEERED = frozenset({_K.SET_SHARE, _K.PAUSE, _K.RESUME})

RULES: Mapping[OrderKind, OrderRule] = {
    _K.OPEN_BERTH: OrderRule(Subject.BERTH),
    _K.RENAME_BERTH: OrderRule(Subject.BERTH),
    _K.OPEN_TRACK: OrderRule(Subject.BERTH),
    _K.RENAME_TRACK: OrderRule(Subject.BERTH),
    _K.CLOSE_TRACK: OrderRule(Subject.BERTH),
    _K.SET_AVAILABILITY: OrderRule(Subject.BERTH),
    _K.WRITE_TEXTS: OrderRule(Subject.BERTH),
    _K.WRITE_PICTURES: OrderRule(Subject.BERTH),
    _K.WRITE_ANSWERS: OrderRule(Subject.BERTH),
    _K.WRITE_GOODS: OrderRule(Subject.BERTH),
    _K.SEND_BUILD: OrderRule(Subject.CONSIGNMENT, (ConsignmentEvent.ARRIVE,)),
    _K.ANSWER: OrderRule(Subject.CONSIGNMENT, (ConsignmentEvent.ANSWER,)),
    _K.OPEN_TRIAL: OrderRule(Subject.TRIAL, (TrialEvent.HAND_IN,)),
    _K.CLOSE_TRIAL: OrderRule(Subject.TRIAL, (TrialEvent.CLOSE, TrialEvent.REPLACE)),
    _K.SEAT: OrderRule(Subject.TRIAL),
    _K.UNSEAT: OrderRule(Subject.TRIAL),
    _K.SUBMIT: OrderRule(Subject.ROUND),
    _K.RECALL: OrderRule(Subject.ROUND, (RoundEvent.RECALL,)),
    _K.WRITE_REVIEWER: OrderRule(Subject.ROUND),
    _K.APPEAL: OrderRule(Subject.ROUND, (RoundEvent.APPEAL,)),
    _K.LAUNCH: OrderRule(Subject.LEG, (RolloutEvent.LAUNCH,), turn=1),
    _K.SET_SHARE: OrderRule(Subject.LEG, (RolloutEvent.ADVANCE, RolloutEvent.FINISH)),
    # a pause keeps its turn: going before a waiting resume, it would be undone by it
    _K.PAUSE: OrderRule(Subject.LEG, (RolloutEvent.PAUSE,), overtakes=frozenset({_K.SET_SHARE}), urgent=True),
    _K.RESUME: OrderRule(Subject.LEG, (RolloutEvent.RESUME,)),
    _K.HALT: OrderRule(
        Subject.LEG, (RolloutEvent.HALT,), turn=0, overtakes=_STEERED | {_K.LAUNCH}, beside=True, urgent=True
    ),
    _K.WITHDRAW: OrderRule(Subject.LEG, (RolloutEvent.WITHDRAW,), turn=2, overtakes=_STEERED, urgent=True),
    _K.DRILL: OrderRule(Subject.STORE, turn=0, beside=True, urgent=True),
}

ROLLOUT_STEPS = frozenset(kind for kind, rule in RULES.items() if rule.subject is Subject.LEG)
"""What moves a rollout at a store."""


def kind_for(event: StrEnum) -> OrderKind:
    """The order by which an event of a subject's machine is wanted of a store. Raises KeyError when there is none."""
    return _KIND_FOR[event]


_KIND_FOR = {event: kind for kind, rule in RULES.items() for event in rule.events}

FAILING_AFTER_ATTEMPTS = 4
"""From so many unanswered attempts on, an order is called failing and people are told."""


def pause_before_retry_seconds(
    attempts: int, *, urgent: bool = False, asked_seconds: float = 0.0, dice: float = 1.0
) -> float:
    """How long an order waits after its n-th unanswered attempt. What is urgent does not wait for a store's own wish."""
    return (URGENT if urgent else TO_STORES).pause(attempts, asked=asked_seconds, dice=dice)
