"""Whose signature is expected, and what stands against the one that came.

The first build that reaches a store sets the expected certificate; another one is taken only after
someone has said so, with a reason. A key that follows the expected one by a proven line is expected, too.
"""

from __future__ import annotations

import fnmatch
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from restless_tide.core.errors import Finding, Level
from restless_tide.core.packages.facts import Facts
from restless_tide.core.rulebook import Rulebook

EXPIRES_SOON_DAYS = 45


class KeyHolder(StrEnum):
    """Who holds the key that people's devices know the app by."""

    TEAM = "team"
    STORE = "store"


@dataclass(frozen=True, slots=True)
class Expected:
    """What is expected of an app's packages on one platform.

    ``certificates`` are SHA-256 digests, empty before the first build; ``at_store`` are those that the
    store itself has seen first; ``declared`` are the permissions and rights that are meant; None: never said.
    """

    certificates: tuple[str, ...] = ()
    at_store: tuple[str, ...] = ()
    declared: tuple[str, ...] | None = None


NOTHING_EXPECTED = Expected()


def check_signing(
    rules: Rulebook, facts: Sequence[Facts], identifier: str, expected: Expected, now: datetime
) -> list[Finding]:
    """Findings on signatures, certificates and profiles."""
    findings: list[Finding] = []
    for package in facts:
        findings.extend(_check_signatures(rules, package, expected))
        findings.extend(_check_certificates(package, now))
        findings.extend(_check_profile(rules, package, identifier, now))
    return list(dict.fromkeys(findings))


def _check_signatures(rules: Rulebook, package: Facts, expected: Expected) -> list[Finding]:
    broken = [signature for signature in package.signatures if signature.verified is False]
    if broken:
        return [
            _blocker(
                "signature-broken",
                f"The {signature.scheme} signature does not hold: {signature.trouble}.",
                "signature",
                "Take the package as the build made it, or sign it again.",
            )
            for signature in broken
        ]
    signers = {certificate.sha256: certificate.subject for certificate in package.signers}
    if not signers:
        level = Level.BLOCKER if rules.packages.signature_required else Level.NOTE
        return [Finding("signature-missing", level, "Nobody signed the package.", "signature", "Sign it.")]
    proven = {*signers, *(entry.sha256 for signature in package.signatures for entry in signature.lineage)}
    told = ", ".join(f"{subject} ({digest[:12]}…)" for digest, subject in signers.items())
    if rules.packages.certificate_stays and expected.at_store and not set(expected.at_store) <= proven:
        detail = f"{rules.store} has seen this app signed with {_short(expected.at_store)}; this is signed by {told}."
        remedy = "Sign it with the key of the first build, or replace a lost key: tide signing replace"
        return [_blocker("certificate-not-taken", detail, "signature", remedy)]
    if not expected.certificates:
        return [Finding("certificate-first", Level.NOTE, f"This build sets whose signature is expected: {told}.")]
    if proven.isdisjoint(expected.certificates):
        detail = f"Expected is {_short(expected.certificates)}; this is signed by {told}."
        remedy = "Sign it with the expected key. If the change is meant: tide signing expect"
        return [_blocker("certificate-differs", detail, "signature", remedy)]
    return []


def _check_certificates(package: Facts, now: datetime) -> list[Finding]:
    findings = []
    for certificate in package.signers:
        days = (certificate.valid_until - now).total_seconds() / 86_400
        if days <= 0:
            detail = f"The certificate {certificate.subject} expired on {certificate.valid_until:%Y-%m-%d}."
            findings.append(_blocker("certificate-expired", detail, "signature", "Sign with one that is in date."))
        elif days <= EXPIRES_SOON_DAYS:
            detail = f"The certificate {certificate.subject} expires in {days:.0f} days."
            findings.append(Finding("certificate-expiring", Level.CAUTION, detail, "signature", "Renew it in time."))
    return findings


def _check_profile(rules: Rulebook, package: Facts, identifier: str, now: datetime) -> list[Finding]:
    kinds, profile = rules.packages.profile_kinds, package.profile
    if profile is None:
        if not kinds or package.format != "ipa":
            return []
        detail = f"The package carries no profile; {rules.store} takes {' or '.join(kinds)} profiles."
        return [_blocker("profile-missing", detail, "profile", "Export it with a profile for stores.")]
    findings = []
    if kinds and profile.kind not in kinds:
        detail = f"The profile is for {profile.kind}; {rules.store} takes {' or '.join(kinds)} profiles."
        findings.append(_blocker("profile-kind", detail, "profile", "Export it with a profile for stores."))
    days = (profile.expires_at - now).total_seconds() / 86_400
    if days <= 0:
        detail = f"The profile {profile.name} expired on {profile.expires_at:%Y-%m-%d}."
        findings.append(_blocker("profile-expired", detail, "profile", "Renew the profile and export again."))
    elif days <= EXPIRES_SOON_DAYS:
        detail = f"The profile {profile.name} expires in {days:.0f} days; nobody can start the build after that."
        findings.append(Finding("profile-expiring", Level.CAUTION, detail, "profile", "Renew the profile."))
    made_for = profile.identifier.partition(".")[2]
    if made_for and not fnmatch.fnmatchcase(identifier, made_for):
        detail = f"The profile is made for {made_for}; the app is {identifier}."
        findings.append(_blocker("profile-differs", detail, "profile", "Export it with the profile of this app."))
    return findings


def _short(digests: Sequence[str]) -> str:
    return ", ".join(f"{digest[:12]}…" for digest in digests)


def _blocker(code: str, detail: str, place: str, remedy: str) -> Finding:
    return Finding(code, Level.BLOCKER, detail, place, remedy)
