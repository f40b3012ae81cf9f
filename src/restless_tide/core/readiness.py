"""What a store's rules say about packages, and about what goes to its review with them. Read by evidence.py."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime

from restless_tide.core.changes import measured
from restless_tide.core.errors import Finding, Invalid, Level, NotReady
from restless_tide.core.numbers import whole_number
from restless_tide.core.packages.facts import Facts
from restless_tide.core.packages.levels import lowest_of, narrower, release_of, told
from restless_tide.core.questions import foreseen
from restless_tide.core.rulebook import Numbering, Rulebook
from restless_tide.core.signing import NOTHING_EXPECTED, Expected, check_signing
from restless_tide.core.versions import Held, check_number, parse_version

NOTES = "notes"
"""How the place of a finding about release notes begins; the locale follows."""


def check_push(
    rules: Rulebook,
    held: Sequence[Held],
    facts: Sequence[Facts],
    identifier: str,
    now: datetime,
    expected: Expected = NOTHING_EXPECTED,
) -> list[Finding]:
    """Findings for sending the packages of one build to a store where the app is ``identifier``."""
    first = base_of(facts)
    findings = check_packages(rules, facts, identifier)
    findings.extend(check_signing(rules, facts, identifier, expected, now))
    findings.extend(_check_declared(facts, expected))
    if first.version:
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
    return findings + _check_devices(first)


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
    for name, wanted in rules.packages.processors_required.items():
        missing = [kind for kind in wanted if kind not in kinds]
        if missing and facts[0].format == name:
            findings.append(
                _blocker(
                    "processor-missing",
                    f"{rules.store} wants a package for {', '.join(missing)}; these are for {', '.join(kinds) or 'any'}.",
                    "packages",
                    f"Build for {', '.join(missing)}, too, and hand the packages in together.",
                )
            )
    if any(package.split for package in facts) and not any(package.split is None for package in facts):
        findings.append(
            _blocker(
                "base-missing",
                "These are splits without the package they belong to.",
                "packages",
                "Hand them in together with the base package.",
            )
        )
    for package in facts:
        findings.extend(_check_package(rules, package, identifier))
        findings.extend(_check_icon(rules, package))
    first = base_of(facts)
    if rules.numbers.numbering is Numbering.FOURTH_PART and first.version:
        detail = f"{rules.store} will show {first.version}.{first.number}; the version inside is {first.version}."
        findings.append(Finding("label-differs", Level.NOTE, detail, "version"))
    return findings


def base_of(facts: Sequence[Facts]) -> Facts:
    """The package that speaks for the build: not a split."""
    return next((package for package in facts if package.split is None), facts[0])


def _check_icon(rules: Rulebook, package: Facts) -> list[Finding]:
    wanted, icon = rules.packages, package.icon
    if package.split or (wanted.smallest_icon_pixels is None and not wanted.icon_opaque):
        return []
    if icon is None:
        detail = f"No icon was found in the package as a picture; {rules.store} looks at it."
        return [Finding("icon-not-found", Level.CAUTION, detail, "icon", "Look at the icon yourself.")]
    findings = []
    shorter = min(icon.width, icon.height)
    if wanted.smallest_icon_pixels is not None and shorter < wanted.smallest_icon_pixels:
        detail = (
            f"The icon is {icon.width} × {icon.height}; {rules.store} wants {wanted.smallest_icon_pixels} at least."
        )
        findings.append(_blocker("icon-too-small", detail, "icon", "Draw it larger and build again."))
    if wanted.icon_opaque and icon.transparent:
        detail = f"The icon has transparency; {rules.store} takes none."
        findings.append(_blocker("icon-transparent", detail, "icon", "Give it a background and build again."))
    return findings


def _check_declared(facts: Sequence[Facts], expected: Expected) -> list[Finding]:
    if expected.declared is None:
        return []
    used = dict.fromkeys(name for package in facts for name in (*package.permissions, *package.capabilities))
    new = [name for name in used if name not in expected.declared]
    if not new:
        return []
    return [
        Finding(
            "not-declared",
            Level.CAUTION,
            f"The package asks for {', '.join(new)}, which nobody declared for this app.",
            "permissions",
            "Find out what brought it in. If it is meant, declare it on the Signing page or with: tide signing declare",
        )
    ]


def check_handing_in(
    rules: Rulebook, version: str, build_version: str, notes: Mapping[str, str] | None, label: str
) -> list[Finding]:
    """Findings on what goes to the store's review with a build; ``notes`` by locale, None where its track shows none."""
    findings: list[Finding] = []
    if parse_version(build_version) != parse_version(version):
        findings.append(
            _blocker(
                "version-differs",
                f"{label} carries version {build_version}; the release is {version}.",
                "build",
                "Choose a build of this version.",
            )
        )
    if notes is None:
        return findings
    for locale in rules.review.notes_locales_required:
        if not notes.get(locale, "").strip():
            findings.append(
                _blocker(
                    "notes-missing",
                    f"{rules.store} wants release notes in {locale}.",
                    f"{NOTES}.{locale}",
                    f"Write the notes for {locale}.",
                )
            )
    limit = rules.review.notes_limit_characters
    for locale, text in notes.items():
        length = measured(text, rules.review.notes_counted_in)
        if length > limit:
            findings.append(
                _blocker(
                    "notes-too-long",
                    f"The notes in {locale} have {length} {rules.review.notes_counted_in}; {rules.store} takes {limit}.",
                    f"{NOTES}.{locale}",
                    f"Shorten them by {length - limit}.",
                )
            )
    return findings


def demand_name(rules: Rulebook, name: str) -> None:
    """Raise Invalid for a name that the store does not take."""
    if len(name) > rules.name.longest:
        raise Invalid(
            f"{rules.store} takes names of {rules.name.longest} characters at most; this one has {len(name)}.",
            remedy="Shorten it.",
            code="name-too-long",
        )


def of_stores(sheets: Iterable[tuple[str, Sequence[Finding]]]) -> list[Finding]:
    """The findings of several stores as one list; what several share stands in it once, with all their names."""
    sharing: dict[Finding, list[str]] = {}
    for store, findings in sheets:
        for found in findings:
            sharing.setdefault(found, []).append(store)
    return [replace(found, detail=f"{', '.join(stores)}: {found.detail}") for found, stores in sharing.items()]


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


def check_identity(package: Facts) -> list[Finding]:
    """Findings on what a package leaves out of what it is called by."""
    return [
        _blocker(
            f"{what}-missing",
            f"The package names no {what}; devices take that as {taken}.",
            what,
            f"Set the {what} in the project and build again.",
        )
        for what, taken in (("version", "an empty one"), ("number", "0"))
        if what in package.lacking
    ]


def _check_devices(package: Facts) -> list[Finding]:
    """What a package's facts mean for people: where it installs, and what it is granted without asking."""
    findings = []
    if narrower(package):
        findings.append(
            Finding(
                "installs-not-everywhere",
                Level.CAUTION,
                f"It asks for {release_of(lowest_of(package))} or later, but by its signatures it installs on {told(package.installs)} only.",
                "signatures",
                "Sign it for every level it asks for, or raise the lowest level.",
            )
        )
    elif package.installs:
        findings.append(Finding("installs-on", Level.NOTE, f"It installs on {told(package.installs)}.", "platform"))
    findings += [
        Finding(
            "permission-implied",
            Level.CAUTION,
            f"Devices grant {name} without its being asked for: {why}.",
            "permissions",
            "Raise the target level, or ask for it, so that people are told.",
        )
        for name, why in package.implied_permissions.items()
    ]
    return findings


def _check_package(rules: Rulebook, package: Facts, identifier: str) -> list[Finding]:
    findings = check_identity(package)
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
    for wrong, code, detail in (
        (package.debuggable, "debug-build", "This is a debug build: anybody could look into it on a person's device."),
        (package.test_only, "test-only", "The package is marked as for tests only; devices refuse to install it."),
        (package.simulator, "simulator-build", "This is built for a simulator; no device can start it."),
    ):
        if wrong:
            findings.append(_blocker(code, detail, "package", "Build the release variant."))
    silent = [name for name, reason in package.reasons.items() if not reason.strip()]
    if silent:
        level = Level.BLOCKER if rules.packages.reasons_required else Level.CAUTION
        detail = f"Nothing tells people why {', '.join(silent)} is asked for."
        findings.append(Finding("reason-missing", level, detail, "reasons", "Write a sentence in the project."))
    findings.extend(Finding("remark", Level.CAUTION, remark, "package") for remark in package.remarks)
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
    return whole_number(level) if level else None


def _blocker(code: str, detail: str, place: str, remedy: str = "") -> Finding:
    return Finding(code, Level.BLOCKER, detail, place, remedy)
