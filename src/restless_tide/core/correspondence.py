"""The correspondence with the reviewer of a round: words both ways, questions that the review waits for, appeals."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum


class MessageKind(StrEnum):
    """Who wrote a message of a round, and what it is."""

    OURS = "ours"
    APPEAL = "appeal"
    STORE = "store"
    QUESTION = "question"


FROM_STORE = frozenset({MessageKind.STORE, MessageKind.QUESTION})
"""What the reviewer wrote."""
MOST_MESSAGES = 200
"""Of one round."""
LONGEST_MESSAGE = 10_000
MOST_FILES = 10
"""With one message, and with one brief."""


def waits_for_answer(kinds: Iterable[MessageKind]) -> bool:
    """Whether the reviewer has asked something since we wrote last. ``kinds`` are those of a round, in their order."""
    asked = False
    for kind in kinds:
        asked = kind is MessageKind.QUESTION or (asked and kind is MessageKind.STORE)
    return asked
