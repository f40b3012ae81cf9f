"""What stands in the way of a push or of a submission, before the first byte leaves."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime

from restless_tide.core.errors import Finding, Level, NotReady
from restless_tide.core.packages.facts import Facts
from restless_tide.core.questions import foreseen
from restless_tide.core.rulebook import Rulebook
from restless_tide.core.versions import Held, check_number, parse_version


def check_push(
    rules: Rulebook, held: Sequence[Held], facts: Sequence[Facts], identifier: str, now: datetime
) -> list[Finding]:
    """Findings for sending the packages of one build to a store where the app is ``identifier``."""
    first = facts[0]
    findings = check_packages(rules, facts, identifier)
    findings.extend(check_number(rules, held, first.version, first.number))
    findings.extend(
        Finding("will-be-asked", Level.NOTE, f"{rules.store} will ask: {question.text}", question.code, question.help)
        for question in foreseen(rules, facts, now)
    )
    if rules.packages.first_build_by_hand and not held:
        findings.append(
            Finding(
                "first-build-by-hand",
                Level.NOTE,
                f"{rules.store} takes the very first build only on its own pages.",
                "build",
                "A step for a person will be prepared; the desk recognises when it is done.",
            )
        )
    return findings


def check_packages(rules: Rulebook, facts: Sequence[Facts], identifier: str) -> list[Finding]:
    """Findings on the packages themselves, whatever the store holds already."""
    findings: list[Finding] = []
    if len(facts) > rules.packages.most_packages:
        findings.append(
            _blocker(
                "too-many-packages",
                f"{rules.store} takes {rules.packages.most_packages} package(s) per build, this has {len(facts)}.",
                "packages",
            )
        )
    kinds = [processor for package in facts for processor in package.processors]
    if rules.packages.one_per_processor and len(facts) > 1 and not len(set(kinds)) == len(kinds) == len(facts):
        findings.append(
            _blocker(
                "processors-overlap",
                f"{rules.store} takes one package per processor kind; these are for {', '.join(kinds) or 'any'}.",
                "packages",
                "Hand in one package for each processor kind.",
            )
        )
    for package in facts:
        findings.extend(_check_package(rules, package, identifier))
    return findings


def check_submission(
    rules: Rulebook, version: str, build_version: str, build_ready: bool, notes: Mapping[str, str], label: str
) -> list[Finding]:
    """Findings for handing a leg to the store's review."""
    findings: list[Finding] = []
    if not build_ready:
        findings.append(
            _blocker(
                "build-not-ready",
                f"{label} is not ready at {rules.store}.",
                "build",
                "Push it there and wait until the store has processed it.",
            )
        )
    if parse_version(build_version) != parse_version(version):
        findings.append(
            _blocker(
                "version-differs",
                f"{label} carries version {build_version}; the release is {version}.",
                "build",
                "Choose a build of this version.",
            )
        )
    for locale in rules.review.notes_locales_required:
        if not notes.get(locale, "").strip():
            findings.append(
                _blocker(
                    "notes-missing",
                    f"{rules.store} wants release notes in {locale}.",
                    f"notes.{locale}",
                    f"Write the notes for {locale}.",
                )
            )
    limit = rules.review.notes_limit_characters
    for locale, text in notes.items():
        if len(text) > limit:
            findings.append(
                _blocker(
                    "notes-too-long",
                    f"The notes in {locale} have {len(text)} characters; {rules.store} takes {limit}.",
                    f"notes.{locale}",
                    f"Shorten them by {len(text) - limit}.",
                )
            )
    return findings


def demand_ready(findings: Sequence[Finding], act: str) -> None:
    """Raise NotReady with all findings when one of them blocks ``act``."""
    blockers = [finding for finding in findings if finding.level is Level.BLOCKER]
    if blockers:
        raise NotReady(
            f"{act} is not possible: {' '.join(finding.detail for finding in blockers)}",
            remedy=" ".join(dict.fromkeys(finding.remedy for finding in blockers if finding.remedy)),
            code=blockers[0].code,
            findings=findings,
        )


def _check_package(rules: Rulebook, package: Facts, identifier: str) -> list[Finding]:
    findings = []
    if package.format not in rules.packages.formats:
        findings.append(
            _blocker(
                "format-not-taken",
                f"{rules.store} takes {', '.join(rules.packages.formats)}; this is {package.format}.",
                "package",
                "Build the package in a format this store takes.",
            )
        )
    if package.identifier != identifier:
        findings.append(
            _blocker(
                "identifier-differs",
                f"The package says it is {package.identifier}; the app is {identifier}.",
                "identifier",
                "Hand in the package of the right app, or correct the identifier in the project.",
            )
        )
    if package.size_bytes > rules.packages.largest_bytes:
        findings.append(
            _blocker(
                "package-too-large",
                f"The package has {package.size_bytes} bytes; {rules.store} takes {rules.packages.largest_bytes}.",
                "package",
                "Make the package smaller.",
            )
        )
    needed = rules.packages.lowest_target_platform
    if needed is not None and package.format == "apk" and (_whole(package.target_platform) or 0) < needed:
        findings.append(
            _blocker(
                "target-too-low",
                f"The package targets platform level {package.target_platform or 'none'}; {rules.store} wants {needed}.",
                "target platform",
                f"Raise the target level to {needed} and build again.",
            )
        )
    return findings


def _whole(level: str | None) -> int | None:
    return int(level) if level and level.isdigit() else None


def _blocker(code: str, detail: str, place: str, remedy: str = "") -> Finding:
    return Finding(code, Level.BLOCKER, detail, place, remedy)
