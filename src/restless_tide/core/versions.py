"""What a build may be called next, by the rules of the store it goes to.

A version is what people see; a number is what machines compare. Versions are compared as Semantic
Versioning 2.0 compares their three numbers (section 11); shorter ones count as ending in zeros, so
that ``2.4`` and ``2.4.0`` are the same step. A number once seen at a store is used up there, also
when the build was refused.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from restless_tide.core.errors import Finding, Invalid, Level
from restless_tide.core.rulebook import Numbering, Rulebook

_VERSION = re.compile(r"(0|[1-9]\d*)(?:\.(0|[1-9]\d*))?(?:\.(0|[1-9]\d*))?")


class Step(StrEnum):
    PATCH = "patch"
    MINOR = "minor"
    MAJOR = "major"


@dataclass(frozen=True, slots=True, order=True)
class Version:
    """A version of three numbers."""

    major: int
    minor: int
    patch: int

    def __str__(self) -> str:
        return f"{self.major}.{self.minor}.{self.patch}"

    def stepped(self, step: Step) -> Version:
        if step is Step.MAJOR:
            return Version(self.major + 1, 0, 0)
        if step is Step.MINOR:
            return Version(self.major, self.minor + 1, 0)
        return Version(self.major, self.minor, self.patch + 1)


@dataclass(frozen=True, slots=True)
class Held:
    """One build that a store has seen. ``live`` also when its release is complete or still rising."""

    version: str
    number: int
    live: bool = False
    in_release: bool = False
    refused: bool = False


@dataclass(frozen=True, slots=True)
class Proposal:
    """The version and number that may come next, and each reason in a line."""

    version: str
    number: int
    reasons: tuple[str, ...]


def parse_version(text: str) -> Version:
    """Read one to three dotted numbers. Raises Invalid."""
    found = _VERSION.fullmatch(text.strip())
    if not found:
        raise Invalid(
            f"{text!r} is no version.",
            remedy="Write up to three numbers with dots, such as 2.4.1.",
            code="version-unreadable",
        )
    return Version(*(int(part or 0) for part in found.groups()))


def live_version(held: Sequence[Held]) -> Version | None:
    """The highest live version among what a store holds."""
    return max((parse_version(build.version) for build in held if build.live), default=None)


def propose_next(rules: Rulebook, held: Sequence[Held], step: Step = Step.PATCH) -> Proposal:
    """The smallest version and number that the store will take, explained.

    The version rises by ``step`` from the live one once a release of the newest version has gone
    out; before that only the number rises.
    """
    store, numbering = rules.store, rules.numbers.numbering
    if not held:
        return Proposal("1.0.0", 1, (f"{store} holds no build of this app yet: the first is 1.0.0 with number 1.",))
    reasons = []
    live = live_version(held)
    newest = max(parse_version(build.version) for build in held)
    if live is None or newest > live:
        version = newest
        reasons.append(f"{store} holds {newest}, which has not gone out yet: the version stays, only the number rises.")
    else:
        version = live.stepped(step)
        reasons.append(f"{live} is live at {store}: the next {step} version is {version}.")
    number = _lowest_free(rules, held, version)
    if numbering is Numbering.RISES_FOR_EVER:
        used = max(build.number for build in held)
        reasons.append(f"Numbers at {store} rise for ever: the highest seen there is {used}, so {number} comes next.")
    else:
        reasons.append(
            f"Numbers at {store} restart with each version: for {version} "
            + (
                f"the highest seen is {number - 1}, so {number} comes next."
                if number > 1
                else "none is used yet, so it starts at 1."
            )
        )
    refused = sorted({build.number for build in held if build.refused})
    if refused:
        reasons.append(f"Used up although refused: {', '.join(map(str, refused))}.")
    return Proposal(str(version), number, tuple(reasons))


def check_number(rules: Rulebook, held: Sequence[Held], version_text: str, number: int) -> list[Finding]:
    """What the store's numbering says against this version and number; empty when it fits."""
    version = parse_version(version_text)
    findings = []
    lowest = _lowest_free(rules, held, version)
    if number < lowest:
        scope = "" if rules.numbers.numbering is Numbering.RISES_FOR_EVER else f" of version {version}"
        findings.append(
            Finding(
                code="number-not-rising",
                level=Level.BLOCKER,
                detail=f"Number {number} is not above {lowest - 1}, the highest{scope} that {rules.store} has seen.",
                place="number",
                remedy=f"Build again with number {lowest} or higher.",
            )
        )
    if number > rules.numbers.largest_number:
        findings.append(
            Finding(
                code="number-too-large",
                level=Level.BLOCKER,
                detail=f"Number {number} is above {rules.numbers.largest_number}, the largest {rules.store} takes.",
                place="number",
                remedy="Choose a smaller number: it can never be lowered again.",
            )
        )
    live = live_version(held)
    if rules.numbers.version_must_exceed_live and live is not None and version <= live:
        findings.append(
            Finding(
                code="version-not-above-live",
                level=Level.BLOCKER,
                detail=f"Version {version} is not above {live}, which is live at {rules.store}.",
                place="version",
                remedy=f"Raise the version to {live.stepped(Step.PATCH)} or higher.",
            )
        )
    return findings


def _lowest_free(rules: Rulebook, held: Sequence[Held], version: Version) -> int:
    if rules.numbers.numbering is Numbering.RISES_FOR_EVER:
        used = [build.number for build in held]
    else:
        used = [build.number for build in held if parse_version(build.version) == version]
    return max(used, default=0) + 1
