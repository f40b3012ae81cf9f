"""A round: one attempt of a leg at the store's review.

A round comes back from a verdict by an appeal alone, where the store takes one. Whatever else follows a rejection (another
build, corrected texts) is the next round of the same leg. A recall may come too late: then the store's verdict stands,
although the round was called back here.
"""

from __future__ import annotations

from enum import StrEnum

from restless_tide.core.machine import Machine


class RoundState(StrEnum):
    QUEUED = "queued"
    IN_HAND = "in hand"
    APPROVED = "approved"
    REJECTED = "rejected"
    RECALLED = "recalled"


class RoundEvent(StrEnum):
    TAKE_UP = "take up"
    APPROVE = "approve"
    REJECT = "reject"
    RECALL = "recall"
    APPEAL = "appeal"


S, E = RoundState, RoundEvent

ROUND = Machine(
    noun="The round",
    initial=S.QUEUED,
    table={
        (S.QUEUED, E.TAKE_UP): S.IN_HAND,
        (S.QUEUED, E.APPROVE): S.APPROVED,
        (S.QUEUED, E.REJECT): S.REJECTED,
        (S.QUEUED, E.RECALL): S.RECALLED,
        (S.IN_HAND, E.APPROVE): S.APPROVED,
        (S.IN_HAND, E.REJECT): S.REJECTED,
        (S.IN_HAND, E.RECALL): S.RECALLED,
        (S.REJECTED, E.APPEAL): S.QUEUED,
        (S.RECALLED, E.APPROVE): S.APPROVED,
        (S.RECALLED, E.REJECT): S.REJECTED,
    },
)

UNDER_REVIEW = frozenset({S.QUEUED, S.IN_HAND})
