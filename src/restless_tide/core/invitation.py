"""An invitation of a tester to a trial. It may be sent again from any state but the last ones."""

from __future__ import annotations

from enum import StrEnum

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


S, E = InvitationState, InvitationEvent

INVITATION = Machine(
    noun="The invitation",
    initial=S.QUEUED,
    table={
        (S.QUEUED, E.SEND): S.SENT,
        (S.QUEUED, E.BOUNCE): S.BOUNCED,
        (S.QUEUED, E.REMOVE): S.REMOVED,
        (S.SENT, E.SEND_AGAIN): S.QUEUED,
        (S.SENT, E.ACCEPT): S.ACCEPTED,
        (S.SENT, E.DECLINE): S.DECLINED,
        (S.SENT, E.BOUNCE): S.BOUNCED,
        (S.SENT, E.REMOVE): S.REMOVED,
        (S.BOUNCED, E.SEND_AGAIN): S.QUEUED,
        (S.BOUNCED, E.REMOVE): S.REMOVED,
        (S.ACCEPTED, E.INSTALL): S.INSTALLED,
        (S.ACCEPTED, E.DECLINE): S.DECLINED,
        (S.ACCEPTED, E.REMOVE): S.REMOVED,
        (S.INSTALLED, E.DECLINE): S.DECLINED,
        (S.INSTALLED, E.REMOVE): S.REMOVED,
        (S.DECLINED, E.ACCEPT): S.ACCEPTED,
    },
)
