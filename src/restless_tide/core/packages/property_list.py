"""Property lists, XML or binary, read within bounds."""

from __future__ import annotations

import plistlib
from typing import Any
from xml.parsers.expat import ExpatError

from restless_tide.core.errors import PackageUnreadable

_LIMIT_BYTES = 16 * 1024 * 1024
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


def read_property_list(content: bytes, what: str) -> dict[str, Any]:
    """The dictionary that the list holds. Raises PackageUnreadable naming ``what``."""
    if len(content) > _LIMIT_BYTES:
        raise PackageUnreadable(f"{what} has {len(content)} bytes; no such list is that long.")
    if b"<!ENTITY" in content:
        raise PackageUnreadable(f"{what} declares entities; no property list needs any.", code="manifest-unfit")
    if not content.startswith(b"bplist") and content.count(b"<dict") + content.count(b"<array") > 200_000:
        raise PackageUnreadable(f"{what} nests absurdly.")
    try:
        info = plistlib.loads(content)
    except _BROKEN:
        raise PackageUnreadable(f"{what} is damaged.", remedy="Build the package again.") from None
    if not isinstance(info, dict):
        raise PackageUnreadable(f"{what} is no dictionary.", remedy="Build the package again.")
    return info


def text_of(value: object) -> str | None:
    return value if isinstance(value, str) else str(value) if isinstance(value, int | float) else None


def texts_of(value: object) -> tuple[str, ...]:
    return tuple(entry for entry in value if isinstance(entry, str)) if isinstance(value, list) else ()
