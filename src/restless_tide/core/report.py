"""A field report: what someone who tests sends back, and what becomes of it.

A report that says the same as another follows that one; closing needs no reason, and everything can be
opened again.
"""

from __future__ import annotations

from enum import StrEnum

from restless_tide.core.machine import Machine


class ReportKind(StrEnum):
    REMARK = "remark"
    CRASH = "crash"


class ReportState(StrEnum):
    NEW = "new"
    ACCEPTED = "accepted"
    DUPLICATE = "duplicate of"
    FIXED = "fixed in"
    CLOSED = "closed"


class ReportEvent(StrEnum):
    ACCEPT = "accept"
    DUPLICATE = "duplicate"
    FIX = "fix"
    CLOSE = "close"
    REOPEN = "reopen"


S, E = ReportState, ReportEvent

REPORT = Machine(
    noun="The report",
    initial=S.NEW,
    table={
        (S.NEW, E.ACCEPT): S.ACCEPTED,
        (S.NEW, E.DUPLICATE): S.DUPLICATE,
        (S.NEW, E.FIX): S.FIXED,
        (S.NEW, E.CLOSE): S.CLOSED,
        (S.ACCEPTED, E.DUPLICATE): S.DUPLICATE,
        (S.ACCEPTED, E.FIX): S.FIXED,
        (S.ACCEPTED, E.CLOSE): S.CLOSED,
        (S.DUPLICATE, E.REOPEN): S.ACCEPTED,
        (S.FIXED, E.REOPEN): S.ACCEPTED,
        (S.FIXED, E.CLOSE): S.CLOSED,
        (S.CLOSED, E.REOPEN): S.ACCEPTED,
    },
)

OPEN = frozenset({S.NEW, S.ACCEPTED})
"""Someone has yet to do something about these."""
