"""Reading an MSIX package: the identity in its manifest, by the Open Packaging rules (ECMA-376, part 2)."""

from __future__ import annotations

import re
from xml.etree import ElementTree
from xml.parsers.expat import ExpatError

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.facts import Facts

_MANIFEST = "AppxManifest.xml"
_BLOCK_MAP = "AppxBlockMap.xml"
_FOUNDATION = "{http://schemas.microsoft.com/appx/manifest/foundation/windows10}"
_VERSION = re.compile(r"(\d{1,5})\.(\d{1,5})\.(\d{1,5})\.(\d{1,5})")
_LARGEST_PART = 65_535


def is_msix(archive: Archive) -> bool:
    return _MANIFEST in archive


def read_msix(archive: Archive, size_bytes: int, sha256: str) -> Facts:
    """The facts of an MSIX package; the fourth part of its version is the number. Raises PackageUnreadable."""
    root = _tree(archive.read(_MANIFEST))
    identity = root.find(f"{_FOUNDATION}Identity")
    if identity is None or not identity.get("Name"):
        raise PackageUnreadable("The package's manifest has no identity.", remedy="Build the package again.")
    if _BLOCK_MAP not in archive:
        raise PackageUnreadable("The package has no block map, so its content cannot be checked by anybody.")
    version, number = _version(identity.get("Version", ""))
    family = root.find(f"{_FOUNDATION}Dependencies/{_FOUNDATION}TargetDeviceFamily")
    label = root.find(f"{_FOUNDATION}Properties/{_FOUNDATION}DisplayName")
    capabilities = root.find(f"{_FOUNDATION}Capabilities")
    processor = identity.get("ProcessorArchitecture")
    return Facts(
        format="msix",
        identifier=identity.get("Name", ""),
        version=version,
        number=number,
        lowest_platform=None if family is None else family.get("MinVersion"),
        target_platform=None if family is None else family.get("MaxVersionTested"),
        permissions=tuple(sorted(entry.get("Name", "") for entry in capabilities or ())),
        label=None if label is None else label.text,
        processors=(processor,) if processor else (),
        publisher=identity.get("Publisher"),
        size_bytes=size_bytes,
        sha256=sha256,
    )


def _tree(content: bytes) -> ElementTree.Element:
    if b"<!DOCTYPE" in content or b"<!ENTITY" in content:
        raise PackageUnreadable(
            "The package's manifest declares entities; no manifest needs any.", code="manifest-unfit"
        )
    try:
        return ElementTree.fromstring(content)  # noqa: S314  (no entities: refused above)
    except (ElementTree.ParseError, ExpatError, ValueError, LookupError):
        raise PackageUnreadable("The package's manifest is damaged.", remedy="Build the package again.") from None


def _version(text: str) -> tuple[str, int]:
    found = _VERSION.fullmatch(text)
    parts = [int(part) for part in found.groups()] if found else []
    if not parts or max(parts) > _LARGEST_PART:
        raise PackageUnreadable(
            f"The package's version is {text!r}; it needs four parts up to {_LARGEST_PART}.",
            remedy="Write it like 2.4.0.7.",
        )
    return ".".join(map(str, parts[:3])), parts[3]
