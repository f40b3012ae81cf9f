"""The one family of errors: what is wrong, where, and how to fix it.

Every error that a person can meet is one of these. The service maps the family once to RFC 9457
problem documents; the client raises the same family again from them; the command line prints
``detail`` and ``remedy``.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum


class Level(StrEnum):
    """How much a finding weighs."""

    BLOCKER = "blocker"
    CAUTION = "caution"
    NOTE = "note"


@dataclass(frozen=True, slots=True)
class Finding:
    """One line of a readiness sheet: ``code`` is stable, ``place`` says where, ``remedy`` how to fix it; ``words`` are those
    of a text that it is about, or the item of a submission."""

    code: str
    level: Level
    detail: str
    place: str = ""
    remedy: str = ""
    words: tuple[str, ...] = ()


class TideError(Exception):
    """The root of the family. ``code`` is stable and meant for programs; the rest is meant for people."""

    code = "error"
    title = "Something is wrong"

    def __init__(
        self,
        detail: str,
        *,
        remedy: str = "",
        code: str | None = None,
        findings: Sequence[Finding] = (),
    ) -> None:
        super().__init__(detail)
        self.detail = detail
        self.remedy = remedy
        self.findings = tuple(findings)
        if code is not None:
            self.code = code


class TooOften(TideError):
    """So many attempts that a pause is due."""

    code = "too-often"
    title = "Too many attempts"


class Invalid(TideError):
    """What was handed in is not what is needed."""

    code = "invalid"
    title = "That cannot be used"


class PackageUnreadable(Invalid):
    """The file is no package, or a broken one."""

    code = "package-unreadable"
    title = "The package cannot be read"


class NotFound(TideError):
    """Nothing of that name is here."""

    code = "not-found"
    title = "Not found"


class Conflict(TideError):
    """It contradicts what is already there."""

    code = "conflict"
    title = "That contradicts what is there"


class ImpossibleAct(Conflict):
    """A life cycle has no such step from where it stands; ``possible`` names the steps it has."""

    code = "impossible-act"
    title = "Not possible now"

    def __init__(self, detail: str, *, possible: Iterable[str] = (), remedy: str = "", code: str | None = None) -> None:
        self.possible = tuple(possible)
        said = ", ".join(self.possible) or "nothing"
        super().__init__(detail, remedy=remedy or f"Possible now: {said}.", code=code)


class SecondPersonNeeded(Conflict):
    """It was asked, and waits for a second person to agree."""

    code = "second-person-needed"
    title = "A second person has to agree"


class NotReady(Conflict):
    """Findings block it; they are attached."""

    code = "not-ready"
    title = "Something blocks it"


class Unauthenticated(TideError):
    """Nobody is signed in, or the token is unknown, expired or revoked."""

    code = "unauthenticated"
    title = "Sign in first"


class Denied(TideError):
    """The person may not do this."""

    code = "denied"
    title = "Not allowed"


class UnknownMedia(TideError):
    """A body of a kind that is not taken here."""

    code = "unknown-media"
    title = "Not accepted in this form"


class NoLength(TideError):
    """A body whose length was not announced."""

    code = "length-missing"
    title = "The length is missing"


class TooLarge(TideError):
    """More bytes than are taken."""

    code = "too-large"
    title = "Too large"


class StaleView(TideError):
    """Someone else changed it since it was read (RFC 9110, If-Match)."""

    code = "stale-view"
    title = "Changed meanwhile"


class NotDrawn(TideError):
    """A picture could not be drawn, or not in time; what it shows stands in tables as well."""

    code = "picture-not-drawn"
    title = "The picture could not be drawn"


class StoreUnreachable(TideError):
    """The store did not answer, or not in time; asking again may help."""

    code = "store-unreachable"
    title = "The store does not answer"
    wait_seconds = 0.0
    """How long the store asked to be left alone (Retry-After)."""


class StoreRefused(TideError):
    """The store answered no; asking again in the same words will not help."""

    code = "store-refused"
    title = "The store said no"


class LostLease(TideError):
    """Another engine works on this database now; whatever this one still held is not written."""

    code = "lost-lease"
    title = "Another engine works here now"


class DeskUnreachable(TideError):
    """The desk's own service does not answer."""

    code = "desk-unreachable"
    title = "The desk does not answer"


def family() -> dict[str, type[TideError]]:
    """Every class of the family by its default code."""
    found: dict[str, type[TideError]] = {}
    waiting: list[type[TideError]] = [TideError]
    while waiting:
        kind = waiting.pop()
        found[kind.code] = kind
        waiting.extend(kind.__subclasses__())
    return found
