"""A standing check: what a refusal has taught, looked at before every later hand-in of the app.

Some are tested automatically: words that no text may contain, a permission that no build may ask for. A question is
ticked by a person, once for each release.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from restless_tide.core.errors import Finding, Level

MOST_CHECKS, LONGEST_CHECK = 100, 300
CHECK_QUESTION = "check-question"
"""The code of the finding that says a question waits for a yes."""


class CheckKind(StrEnum):
    """How a check is made."""

    QUESTION = "question"
    NO_WORDS = "no words"
    NO_PERMISSION = "no permission"


KINDS: Mapping[CheckKind, str] = {
    CheckKind.QUESTION: "a question that a person answers with yes for each release",
    CheckKind.NO_WORDS: "words that no text and no release notes may contain",
    CheckKind.NO_PERMISSION: "a permission that no build may ask for",
}


@dataclass(frozen=True, slots=True)
class Check:
    """``text`` is the question, the words or the permission; ``ticked``: a person has said yes for this release."""

    id: str
    kind: CheckKind
    text: str
    ticked: bool = False


@dataclass(frozen=True, slots=True)
class Readable:
    """A text that people will read: how a finding names its place, and how it is told."""

    place: str
    told: str
    text: str


def failed(checks: Sequence[Check], texts: Sequence[Readable], permissions: Iterable[str]) -> list[Finding]:
    """The checks that do not hold. ``texts`` are all that people will read."""
    asked, found = set(permissions), []
    for check in checks:
        if check.kind is CheckKind.QUESTION and not check.ticked:
            said = f"It waits for a yes: {check.text}"
            found.append(Finding(CHECK_QUESTION, Level.BLOCKER, said, f"check {check.id}", "Look, and tick it."))
        elif check.kind is CheckKind.NO_WORDS:
            pattern = re.compile(rf"(?<!\w){re.escape(check.text)}(?!\w)", re.IGNORECASE)
            for one in texts:
                if pattern.search(one.text):
                    said = f"{one.told} contains {check.text!r}, for which a store has refused this app before."
                    advice = "Write it without these words."
                    found.append(Finding("check-words", Level.BLOCKER, said, one.place, advice, (check.text,)))
        elif check.kind is CheckKind.NO_PERMISSION and check.text in asked:
            said = f"The build asks for {check.text}, for which a store has refused this app before."
            found.append(
                Finding("check-permission", Level.BLOCKER, said, "build", "Send a build that does not ask for it.")
            )
    return found
