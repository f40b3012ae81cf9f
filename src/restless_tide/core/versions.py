"""What a build may be called next, by the rules of the store it goes to.

A version is what people see; a number is what machines compare. Versions are compared as Semantic
Versioning 2.0 compares their three numbers (section 11); shorter ones count as ending in zeros, so
that ``2.4`` and ``2.4.0`` are the same step. A build's number has one part or, on some platforms, up
to three, compared in the same way. A number once seen at a store is used up there, also when the
build was refused.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from restless_tide.core.errors import Finding, Invalid, Level
from restless_tide.core.numbers import BuildNumber
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
    """One build that a store has seen. ``live`` also when its release is complete or still rising.

    ``went_out``: people were offered it once, also when it was withdrawn or superseded since.
    """

    version: str
    number: BuildNumber
    live: bool = False
    in_release: bool = False
    refused: bool = False
    reserved: bool = False
    went_out: bool = False


@dataclass(frozen=True, slots=True)
class Proposal:
    """The version and number that may come next, and each reason in a line."""

    version: str
    number: BuildNumber
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


def version_order(text: str) -> int:
    """A whole number that sorts as versions do (each part below 2^20); what is no version sorts lowest."""
    found = _VERSION.match(text.strip())
    parts = [min(int(part or 0), 0xFFFFF) for part in found.groups()] if found else [0, 0, 0]
    return parts[0] << 40 | parts[1] << 20 | parts[2]


def live_version(held: Sequence[Held]) -> Version | None:
    """The highest live version among what a store holds."""
    return max((parse_version(build.version) for build in held if build.live), default=None)


@dataclass(frozen=True, slots=True)
class Shelf:
    """What one store holds of an app, beside its rules."""

    rules: Rulebook
    held: tuple[Held, ...]


def propose_for_all(shelves: Sequence[Shelf], step: Step = Step.PATCH) -> Proposal:
    """The smallest version and number that every one of these stores will take, explained store by store.

    At each store the version rises by ``step`` from the live one once a release of the newest version
    has gone out; before that only the number rises. The highest of these versions fits everywhere;
    the number is the lowest that is free everywhere under that version. Raises Invalid when there is
    none that every store takes.
    """
    wanted = [_version_at(shelf, step) for shelf in shelves]
    version = max(found for found, _ in wanted)
    reasons = [reason for _, reason in wanted]
    if len({found for found, _ in wanted}) > 1:
        reasons.append(f"The highest of these, {version}, fits every store.")
    parts = min(shelf.rules.numbers.most_parts for shelf in shelves)
    lowest, told = zip(*(_number_at(shelf, version, parts) for shelf in shelves), strict=True)
    number = max(lowest)
    reasons.extend(told)
    if len(shelves) > 1:
        reasons.append(f"{number} is the lowest number that is free at every store.")
    tight = next((shelf.rules for shelf in shelves if max(number.parts) > shelf.rules.numbers.largest_number), None)
    if tight is not None:
        raise Invalid(
            f"{tight.store} takes numbers up to {tight.numbers.largest_number}; the next free one would be {number}.",
            remedy="Raise the version where numbers restart with it, or ask the store.",
            code="numbers-used-up",
        )
    return Proposal(str(version), number, tuple(reasons))


def _version_at(shelf: Shelf, step: Step) -> tuple[Version, str]:
    store, held = shelf.rules.store, shelf.held
    if not held:
        return Version(1, 0, 0), f"{store} holds no build of this app yet: the first version is 1.0.0."
    gone_out = max((parse_version(build.version) for build in held if build.live or build.went_out), default=None)
    newest = max(parse_version(build.version) for build in held)
    if gone_out is None or newest > gone_out:
        reserved = all(build.reserved for build in held if parse_version(build.version) == newest)
        why = "is reserved" if reserved else "has not gone out yet"
        return newest, f"{store}: {newest} {why}, so the version stays and only the number rises."
    stepped = gone_out.stepped(step)
    state = "is live" if gone_out == live_version(held) else "has gone out"
    return stepped, f"{store}: {gone_out} {state}, so the next {step} version is {stepped}."


def _number_at(shelf: Shelf, version: Version, parts: int) -> tuple[BuildNumber, str]:
    store, used = shelf.rules.store, _used(shelf.rules, shelf.held, version)
    highest = _highest(used)
    lowest = highest.raised(parts, shelf.rules.numbers.largest_number)
    if shelf.rules.numbers.numbering is Numbering.RISES_FOR_EVER:
        scope = "numbers rise for ever"
    else:
        scope = f"numbers restart with each version, here {version}"
    if not used:
        return lowest, f"{store}: {scope}; none is used yet, so 1 is free."
    these = [build for build in used if build.number == highest]
    known = [word for word in ("live", "reserved", "refused") if any(getattr(build, word) for build in these)]
    if any(build.in_release for build in these) and "live" not in known:
        known.append("in review")
    told = f" ({', '.join(known)}: used up)" if known else ""
    return lowest, f"{store}: {scope}; {highest}{told} is the highest seen, so {lowest} is free."


def check_number(rules: Rulebook, held: Sequence[Held], version_text: str, number: BuildNumber) -> list[Finding]:
    """What the store's numbering says against this version and number; empty when it fits."""
    version, largest, most_parts = parse_version(version_text), rules.numbers.largest_number, rules.numbers.most_parts
    findings = []
    highest = _highest(_used(rules, held, version))
    if number <= highest:
        scope = "" if rules.numbers.numbering is Numbering.RISES_FOR_EVER else f" of version {version}"
        findings.append(
            Finding(
                code="number-not-rising",
                level=Level.BLOCKER,
                detail=f"Number {number} is not above {highest}, the highest{scope} that {rules.store} has seen.",
                place="number",
                remedy=f"Build again with number {highest.raised(most_parts, largest)} or higher.",
            )
        )
    if len(number.parts) > most_parts:
        wanted = "a whole number without dots" if most_parts == 1 else f"{most_parts} parts at most"
        findings.append(
            Finding(
                code="number-has-parts",
                level=Level.BLOCKER,
                detail=f"Number {number} has {len(number.parts)} parts; {rules.store} takes {wanted}.",
                place="number",
                remedy="Count builds with fewer parts and build again.",
            )
        )
    if max(number.parts) > largest:
        findings.append(
            Finding(
                code="number-too-large",
                level=Level.BLOCKER,
                detail=f"Number {number} is above {largest}, the largest {rules.store} takes.",
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


def _highest(used: Sequence[Held]) -> BuildNumber:
    return max((build.number for build in used), default=BuildNumber(0))


def _used(rules: Rulebook, held: Sequence[Held], version: Version) -> list[Held]:
    """The builds whose numbers count against a new one of this version."""
    if rules.numbers.numbering is Numbering.RISES_FOR_EVER:
        return list(held)
    return [build for build in held if parse_version(build.version) == version]
