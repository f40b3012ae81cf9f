"""An invitation of a tester to a trial.

It goes out by mail, and what comes of it is told by the tester on the desk's page, by the mail server
(a bounce), and by the store that sees someone accept or install; whoever speaks first moves it on,
and none of them can move it back. A brake keeps anybody from being flooded.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from enum import StrEnum

from restless_tide.core.errors import Conflict
from restless_tide.core.machine import Machine


class InvitationState(StrEnum):
    QUEUED = "queued"
    SENT = "sent"
    ACCEPTED = "accepted"
    INSTALLED = "installed"
    BOUNCED = "bounced"
    DECLINED = "declined"
    REMOVED = "removed"


class InvitationEvent(StrEnum):
    SEND = "send"
    SEND_AGAIN = "send again"
    ACCEPT = "accept"
    DECLINE = "decline"
    INSTALL = "install"
    BOUNCE = "bounce"
    REMOVE = "remove"
    INVITE = "invite"


S, E = InvitationState, InvitationEvent

INVITATION = Machine(
    noun="The invitation",
    initial=S.QUEUED,
    table={
        (S.QUEUED, E.SEND): S.SENT,
        (S.QUEUED, E.BOUNCE): S.BOUNCED,
        (S.QUEUED, E.ACCEPT): S.ACCEPTED,
        (S.QUEUED, E.INSTALL): S.INSTALLED,
        (S.QUEUED, E.DECLINE): S.DECLINED,
        (S.QUEUED, E.REMOVE): S.REMOVED,
        (S.SENT, E.SEND_AGAIN): S.QUEUED,
        (S.SENT, E.ACCEPT): S.ACCEPTED,
        (S.SENT, E.INSTALL): S.INSTALLED,
        (S.SENT, E.DECLINE): S.DECLINED,
        (S.SENT, E.BOUNCE): S.BOUNCED,
        (S.SENT, E.REMOVE): S.REMOVED,
        (S.BOUNCED, E.SEND_AGAIN): S.QUEUED,
        (S.BOUNCED, E.ACCEPT): S.ACCEPTED,
        (S.BOUNCED, E.INSTALL): S.INSTALLED,
        (S.BOUNCED, E.DECLINE): S.DECLINED,
        (S.BOUNCED, E.REMOVE): S.REMOVED,
        (S.ACCEPTED, E.INSTALL): S.INSTALLED,
        (S.ACCEPTED, E.DECLINE): S.DECLINED,
        (S.ACCEPTED, E.REMOVE): S.REMOVED,
        (S.INSTALLED, E.DECLINE): S.DECLINED,
        (S.INSTALLED, E.REMOVE): S.REMOVED,
        (S.DECLINED, E.ACCEPT): S.ACCEPTED,
        (S.DECLINED, E.REMOVE): S.REMOVED,
        (S.REMOVED, E.INVITE): S.QUEUED,
    },
)

UNANSWERED = frozenset({S.QUEUED, S.SENT, S.BOUNCED})
TAKES_PART = frozenset({S.ACCEPTED, S.INSTALLED})
OF_MEMBERS = frozenset(S) - {S.REMOVED}
SITS = frozenset(S) - {S.DECLINED, S.REMOVED}
"""In these states someone sits at the store while the trial runs."""

_FURTHER = (S.REMOVED, S.DECLINED, S.BOUNCED, S.QUEUED, S.SENT, S.ACCEPTED, S.INSTALLED)

AGAIN_AFTER_HOURS = 24
MOST_MAILS = 4
MOST_MAILS_A_DAY = 3
"""To one person, over all trials; what is more waits for the next day."""


def demand_again(mails: int, last_mail_at: datetime | None, now: datetime) -> None:
    """Raise Conflict where a mail more would be a nuisance: too soon after the last one, or one too many."""
    if mails >= MOST_MAILS:
        raise Conflict(
            f"{mails} mails went out for this invitation already.",
            remedy="Ask the tester in another way, or take them out.",
            code="mails-used-up",
        )
    if last_mail_at is not None and now - last_mail_at < timedelta(hours=AGAIN_AFTER_HOURS):
        free = last_mail_at + timedelta(hours=AGAIN_AFTER_HOURS)
        raise Conflict(
            f"The last mail went out less than {AGAIN_AFTER_HOURS} hours ago.",
            remedy=f"It may be sent again from {free:%d %b %H:%M} UTC on.",
            code="mail-too-soon",
        )


def furthest(states: Iterable[InvitationState]) -> InvitationState:
    """Of several invitations of one person the state that got furthest towards the build on a device."""
    return max(states, key=_FURTHER.index)


def of_the_last_day(mailed: Iterable[datetime], now: datetime) -> list[datetime]:
    return sorted(at for at in mailed if now - at < timedelta(days=1))


def may_be_mailed_from(mailed: Sequence[datetime], now: datetime) -> datetime | None:
    """When someone may be mailed again who has had enough for a day; None: at once."""
    recent = of_the_last_day(mailed, now)
    return recent[-MOST_MAILS_A_DAY] + timedelta(days=1) if len(recent) >= MOST_MAILS_A_DAY else None
