"""A standing check: what a refusal has taught, looked at before every later hand-in of the app.

Some are tested automatically: words that no text may contain, a permission that no build may ask for, how many pictures of
a class must be there. A question is ticked by a person, once for each release.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from restless_tide.core.catalogue import catalogue
from restless_tide.core.errors import Finding, Invalid, Level

MOST_CHECKS, LONGEST_CHECK = 100, 300
CHECK_QUESTION = "check-question"
"""The code of the finding that says a question waits for a yes."""
CHECK_PICTURES = "check-pictures"
"""The code of the finding that says pictures are missing."""


class CheckKind(StrEnum):
    """How a check is made."""

    QUESTION = "question"
    NO_WORDS = "no words"
    NO_PERMISSION = "no permission"
    PICTURES = "pictures"


KINDS: Mapping[CheckKind, str] = {
    CheckKind.QUESTION: "a question that a person answers with yes for each release",
    CheckKind.NO_WORDS: "words that no text and no release notes may contain",
    CheckKind.NO_PERMISSION: "a permission that no build may ask for",
    CheckKind.PICTURES: "a class of pictures and how many must be there in each language, such as phone 3",
}
_MOST_PICTURES = 99


def pictures_wanted(text: str) -> tuple[str, int]:
    """The class and the number that a check of pictures names. Raises Invalid for what is none."""
    name, _, count = text.rpartition(" ")
    classes = catalogue().pictures
    if name not in classes or not count.isdecimal() or not 1 <= int(count) <= _MOST_PICTURES:
        raise Invalid(
            f"{text!r} names no class of pictures and how many must be there.",
            remedy=f"Write it like phone 3, with a class of {', '.join(classes)}.",
            code="check-unfit",
        )
    return name, int(count)


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


@dataclass(frozen=True, slots=True)
class Drawn:
    """A set of pictures that people will see: its class by meaning, how a finding names its place, how many it has."""

    meaning: str
    place: str
    told: str
    count: int


def failed(
    checks: Sequence[Check], texts: Sequence[Readable], permissions: Iterable[str], drawn: Sequence[Drawn] = ()
) -> list[Finding]:
    """The checks that do not hold. ``texts`` are all that people will read, ``drawn`` all sets of pictures that the store takes."""
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
        elif check.kind is CheckKind.PICTURES:
            meaning, wanted = pictures_wanted(check.text)
            for shown in drawn:
                if shown.meaning == meaning and shown.count < wanted:
                    said = f"{shown.told}: {shown.count} of the {wanted} that are wanted since a store has refused this app."
                    advice = "Put in the pictures that are missing and send them there."
                    found.append(Finding(CHECK_PICTURES, Level.BLOCKER, said, shown.place, advice))
    return found
