"""Reading an IPA: the property list of the app inside ``Payload/``, XML or binary."""

from __future__ import annotations

import plistlib
import re
from typing import Any
from xml.parsers.expat import ExpatError

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.facts import Facts

_INFO = re.compile(r"Payload/[^/]+\.app/Info\.plist")
_REASON = re.compile(r"NS\w+UsageDescription")
_BROKEN = (
    plistlib.InvalidFileException,
    ExpatError,
    ValueError,
    KeyError,
    IndexError,
    OverflowError,
    RecursionError,
    TypeError,
    AttributeError,
    MemoryError,
)


def is_ipa(archive: Archive) -> bool:
    return any(_INFO.fullmatch(name) or name.startswith("Payload/") for name in archive.names)


def read_ipa(archive: Archive, size_bytes: int, sha256: str) -> Facts:
    """The facts of an IPA; ``permissions`` are the accesses it gives a reason for. Raises PackageUnreadable."""
    places = [name for name in archive.names if _INFO.fullmatch(name)]
    if len(places) != 1:
        raise PackageUnreadable(
            f"An IPA holds one app with a property list; this one holds {len(places)}.",
            remedy="Export the archive again.",
        )
    info = _property_list(archive.read(places[0]))
    return Facts(
        format="ipa",
        identifier=_needed(info, "CFBundleIdentifier"),
        version=_needed(info, "CFBundleShortVersionString"),
        number=_number(_needed(info, "CFBundleVersion")),
        lowest_platform=_text(info.get("MinimumOSVersion")),
        target_platform=_text(info.get("DTPlatformVersion")),
        permissions=tuple(sorted(key for key in info if isinstance(key, str) and _REASON.fullmatch(key))),
        label=_text(info.get("CFBundleDisplayName")) or _text(info.get("CFBundleName")),
        size_bytes=size_bytes,
        sha256=sha256,
    )


def _property_list(content: bytes) -> dict[str, Any]:
    try:
        info = plistlib.loads(content)
    except _BROKEN:
        raise PackageUnreadable("The app's property list is damaged.", remedy="Export the archive again.") from None
    if not isinstance(info, dict):
        raise PackageUnreadable("The app's property list is no dictionary.", remedy="Export the archive again.")
    return info


def _needed(info: dict[str, Any], key: str) -> str:
    text = _text(info.get(key))
    if not text:
        raise PackageUnreadable(
            f"The app's property list lacks {key}.", remedy=f"Set {key} in the project and build again."
        )
    return text


def _text(value: object) -> str | None:
    return value if isinstance(value, str) else str(value) if isinstance(value, int | float) else None


def _number(text: str) -> int:
    if not text.isascii() or not text.isdigit():
        raise PackageUnreadable(
            f"CFBundleVersion is {text!r}; the desk compares whole numbers.",
            remedy="Count builds with whole numbers (1, 2, 3 …) and keep the dotted version for people.",
        )
    return int(text)
