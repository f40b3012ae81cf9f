"""What the exit codes mean; ``tide --help`` prints this table."""

from __future__ import annotations

from enum import IntEnum

from restless_tide.wire.errors import (
    Denied,
    DeskUnreachable,
    SecondPersonNeeded,
    StoreUnreachable,
    TideError,
    Unauthenticated,
)


class Exit(IntEnum):
    DONE = 0
    REFUSED = 1
    USAGE = 2
    NOT_ALLOWED = 3
    UNREACHABLE = 4
    NOT_CONFIRMED = 5
    HELD = 6
    CAUTION = 7


MEANINGS = {
    Exit.DONE: "done",
    Exit.REFUSED: "refused: what was asked does not fit, and the message says why",
    Exit.USAGE: "the command line itself is wrong",
    Exit.NOT_ALLOWED: "not signed in, or not allowed",
    Exit.UNREACHABLE: "the desk or a store does not answer",
    Exit.NOT_CONFIRMED: "ordered, but not confirmed within the time to wait; or asked, and a second person has to agree",
    Exit.HELD: "the store holds the build and waits for an answer",
    Exit.CAUTION: "nothing blocks it, but something needs a look (only of checks)",
}


def exit_of(error: TideError) -> Exit:
    if isinstance(error, Unauthenticated | Denied):
        return Exit.NOT_ALLOWED
    if isinstance(error, SecondPersonNeeded):
        return Exit.NOT_CONFIRMED
    if isinstance(error, DeskUnreachable | StoreUnreachable):
        return Exit.UNREACHABLE
    return Exit.REFUSED
