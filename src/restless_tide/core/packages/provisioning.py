"""A provisioning profile: a property list as signed data, which says who may run the app where, until when."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any, Literal

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.certificates import certificates_of
from restless_tide.core.packages.cms import read_signed
from restless_tide.core.packages.facts import Profile, Signature
from restless_tide.core.packages.property_list import read_property_list, text_of, texts_of

WHAT = "The provisioning profile"
_CERTIFICATES_LIMIT = 100


def read_profile(content: bytes) -> tuple[Profile, Signature, tuple[str, ...]]:
    """The profile, its signature verified, and the rights it grants. Raises PackageUnreadable."""
    signed = read_signed(content, WHAT)
    info = read_property_list(signed.content, WHAT)
    rights = info.get("Entitlements")
    rights = rights if isinstance(rights, dict) else {}
    ends = info.get("ExpirationDate")
    if not isinstance(ends, datetime):
        raise PackageUnreadable(f"{WHAT} names no end date.", remedy="Make it anew and build the package again.")
    raw = info.get("DeveloperCertificates")
    certificates = [entry for entry in raw if isinstance(entry, bytes)] if isinstance(raw, list) else []
    teams = texts_of(info.get("TeamIdentifier"))
    profile = Profile(
        name=text_of(info.get("Name")) or "",
        identifier=text_of(rights.get("application-identifier")) or "",
        team=teams[0] if teams else "",
        team_name=text_of(info.get("TeamName")) or "",
        kind=_kind(info, rights),
        devices=texts_of(info.get("ProvisionedDevices")),
        expires_at=ends.replace(tzinfo=UTC),
        certificates=certificates_of(certificates[:_CERTIFICATES_LIMIT]),
    )
    trouble = signed.trouble()
    signature = Signature(
        scheme="profile", verified=not trouble, trouble=trouble, signers=certificates_of(signed.signers)
    )
    return profile, signature, tuple(sorted(key for key, value in rights.items() if value is not False))


def _kind(
    info: dict[str, Any], rights: dict[str, Any]
) -> Literal["store", "named devices", "development", "any device"]:
    if rights.get("get-task-allow") is True:
        return "development"
    if info.get("ProvisionsAllDevices") is True:
        return "any device"
    return "named devices" if "ProvisionedDevices" in info else "store"
