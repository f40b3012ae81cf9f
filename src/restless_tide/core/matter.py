"""A matter: one reason of a store's refusal, as work.

It keeps the store's words. While a matter is open the release is not handed in again; what was done about it is said to
the reviewer with the next round. An approval settles what is left; a reason that comes again opens its matter again.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from enum import StrEnum

from restless_tide.core.errors import Finding, Level
from restless_tide.core.machine import Machine

MATTER_OPEN = "matter-open"
"""The code of the finding that says one is."""
MOST_MATTERS = 200
"""Of one leg, over all its rounds."""
_WORDS_SHOWN = 160


class MatterState(StrEnum):
    OPEN = "open"
    ANSWERED = "answered"
    FIXED = "fixed"
    DISPUTED = "disputed"
    SETTLED = "settled"


class MatterEvent(StrEnum):
    ANSWER = "answer"
    FIX = "fix"
    DISPUTE = "dispute"
    SETTLE = "settle"
    REOPEN = "reopen"


S, E = MatterState, MatterEvent

MATTER = Machine(
    noun="The matter",
    initial=S.OPEN,
    table={
        (S.OPEN, E.ANSWER): S.ANSWERED,
        (S.OPEN, E.FIX): S.FIXED,
        (S.OPEN, E.DISPUTE): S.DISPUTED,
        (S.OPEN, E.SETTLE): S.SETTLED,
        (S.ANSWERED, E.FIX): S.FIXED,
        (S.ANSWERED, E.SETTLE): S.SETTLED,
        (S.ANSWERED, E.REOPEN): S.OPEN,
        (S.FIXED, E.SETTLE): S.SETTLED,
        (S.FIXED, E.REOPEN): S.OPEN,
        (S.DISPUTED, E.ANSWER): S.ANSWERED,
        (S.DISPUTED, E.FIX): S.FIXED,
        (S.DISPUTED, E.SETTLE): S.SETTLED,
        (S.DISPUTED, E.REOPEN): S.OPEN,
        (S.SETTLED, E.REOPEN): S.OPEN,
    },
)

IN_THE_WAY = frozenset({S.OPEN})
"""With one of these the release is not handed in again, unless a person says why."""
BY_PEOPLE = frozenset({E.ANSWER, E.FIX, E.DISPUTE, E.REOPEN})
"""A store's approval settles; what people do is this."""
_DONE = {S.ANSWERED: "Answered", S.FIXED: "Fixed", S.DISPUTED: "We think otherwise"}


@dataclass(frozen=True, slots=True)
class MatterKnown:
    """A matter as far as handing in needs it. ``said``: what was done about it; ``version``: the release that left it, if that
    is another one.
    """

    number: int
    words: str
    state: MatterState
    said: str = ""
    item: str | None = None
    version: str = ""


def same_words(one: str, other: str) -> bool:
    """Whether two reasons say the same, regardless of spacing and capitals."""
    return told_shortly(one).casefold() == told_shortly(other).casefold()


def told_shortly(words: str) -> str:
    """In one line."""
    return " ".join(words.split())


def check_matters(matters: Sequence[MatterKnown]) -> list[Finding]:
    """What stands against handing in again: every open matter."""
    return [
        Finding(
            MATTER_OPEN,
            Level.BLOCKER,
            f"Matter {one.number}{f' of {one.version}' if one.version else ''} is open: {_shown(one.words)}",
            f"matter {one.number}",
            "Answer it, fix it or dispute it, and say what was done; or say why it is handed in in spite of it.",
            (one.item,) if one.item else (),
        )
        for one in matters
        if one.state in IN_THE_WAY
    ]


def in_the_way(found: Sequence[Finding], without: Collection[str]) -> list[Finding]:
    """Findings without the matters of items that are kept back."""
    return [one for one in found if one.code != MATTER_OPEN or not one.words or one.words[0] not in without]


def _shown(words: str) -> str:
    line = told_shortly(words)
    return line if len(line) <= _WORDS_SHOWN else f"{line[:_WORDS_SHOWN]}…"


def note_for_reviewer(matters: Sequence[MatterKnown], other_build: str = "") -> str:
    """What the next round says to the reviewer: what was done about each reason since the last one; empty: nothing."""
    lines = [
        f"{at}. {told_shortly(one.words)}\n   {_DONE[one.state]}{f': {one.said.strip()}' if one.said.strip() else '.'}"
        for at, one in enumerate((one for one in matters if one.state in _DONE), 1)
    ]
    if other_build:
        lines.append(f"This is another build: {other_build}.")
    return "\n".join(["Since the last review:", *lines]) if lines else ""
