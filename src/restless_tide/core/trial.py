"""A trial: a build handed to a cohort.

A drafted trial waits until the build is ready at the store. Where the store reviews a cohort of this
kind first, the trial waits with the store; where it does not, the store opens it at once. A newer
build for the same cohort replaces the trial: one that is open as soon as the newer one has opened, so
that nobody stands without a build meanwhile, one that is not open at once.
"""

from __future__ import annotations

from enum import StrEnum

from restless_tide.core.machine import Machine


class TrialState(StrEnum):
    DRAFTED = "drafted"
    WITH_STORE = "with the store"
    OPEN = "open"
    CLOSED = "closed"
    REJECTED = "rejected"
    REPLACED = "replaced"
    EXPIRED = "expired"


class TrialEvent(StrEnum):
    HAND_IN = "hand in"
    OPEN = "open"
    REJECT = "reject"
    CLOSE = "close"
    REPLACE = "replace"
    EXPIRE = "expire"


S, E = TrialState, TrialEvent

TRIAL = Machine(
    noun="The trial",
    initial=S.DRAFTED,
    table={
        (S.DRAFTED, E.HAND_IN): S.WITH_STORE,
        (S.DRAFTED, E.CLOSE): S.CLOSED,
        (S.DRAFTED, E.REPLACE): S.REPLACED,
        (S.WITH_STORE, E.OPEN): S.OPEN,
        (S.WITH_STORE, E.REJECT): S.REJECTED,
        (S.WITH_STORE, E.CLOSE): S.CLOSED,
        (S.WITH_STORE, E.REPLACE): S.REPLACED,
        (S.REJECTED, E.HAND_IN): S.WITH_STORE,
        (S.REJECTED, E.CLOSE): S.CLOSED,
        (S.REJECTED, E.REPLACE): S.REPLACED,
        (S.OPEN, E.REJECT): S.REJECTED,
        (S.OPEN, E.CLOSE): S.CLOSED,
        (S.OPEN, E.REPLACE): S.REPLACED,
        (S.OPEN, E.EXPIRE): S.EXPIRED,
    },
)

SEATED = frozenset({S.WITH_STORE, S.OPEN})
"""In these states its people sit at the store."""
BEFORE_PEOPLE = frozenset({S.DRAFTED, S.WITH_STORE})
"""It continues automatically until people have it."""
UNDER_WAY = BEFORE_PEOPLE | {S.REJECTED, S.OPEN}
"""In these states someone who joins the cohort is taken along."""
REOPENS = frozenset({S.CLOSED})
"""Ended by someone's act, so that the same build may be handed to the same people again, as a new trial."""
