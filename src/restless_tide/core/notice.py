"""Notices: what people wait for, and how the telling of it goes."""

from __future__ import annotations

from enum import StrEnum

from restless_tide.core.machine import Machine


class NoticeKind(StrEnum):
    """What a subscriber can subscribe to."""

    PROCESSED = "processing ended"
    HELD = "held by a question"
    APPROVED = "approved"
    REJECTED = "rejected"
    REVIEWER_WROTE = "reviewer wrote"
    REVIEW_LONG = "review longer than usual"
    LAUNCH_AHEAD = "launch ahead"
    LAUNCH_STANDS_STILL = "launch stands still"
    BREACH = "breach"
    GUARD_BLIND = "guard blind"
    ORDER_FAILING = "order failing"
    ORDER_REFUSED = "order refused"
    STEP_WAITING = "step waiting"
    CHANGED_AT_STORE = "changed at the store"
    OFFERED_AGAIN = "offered again"
    EVENT_UNTAKEN = "event not taken"
    RULES_CHANGING = "rules changing"
    NOT_MOVED_UP = "not moved up"
    EXPIRING = "key or standing expiring"


class DeliveryState(StrEnum):
    QUEUED = "queued"
    SENT = "sent"
    FAILED = "failed"


class DeliveryEvent(StrEnum):
    SEND = "send"
    GIVE_UP = "give up"
    SEND_AGAIN = "send again"


S, E = DeliveryState, DeliveryEvent

DELIVERY = Machine(
    noun="The delivery",
    initial=S.QUEUED,
    table={
        (S.QUEUED, E.SEND): S.SENT,
        (S.QUEUED, E.GIVE_UP): S.FAILED,
        (S.FAILED, E.SEND_AGAIN): S.QUEUED,
    },
)

EXPIRY_NOTICE_DAYS = (45, 14, 3, 0)
"""How long before a key, a membership or a paper expires people are told."""


def expiry_mark(days_left: float) -> int | None:
    """The notice that is due so many days before something expires: the nearest mark passed; None: not yet."""
    return next((mark for mark in reversed(EXPIRY_NOTICE_DAYS) if days_left <= mark), None)
