"""Property lists, XML or binary, read within bounds.

Source of the binary form's layout: the public reader in Python's standard library (plistlib), which reads both here,
once the objects of a binary list are known to lie apart and to hold no more than the list has bytes for.
"""

from __future__ import annotations

import plistlib
import struct
from typing import Any
from xml.parsers.expat import ExpatError

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.bounds import PROPERTY_LIST_LIMIT_BYTES, Effort

_BINARY = b"bplist"
_TRAILER = struct.Struct(">6xBBQQQ")
_LARGEST = 1 << 64
_SIZE_FOLLOWS = 0x0F
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
    LookupError,
)


def read_property_list(content: bytes, what: str, effort: Effort | None = None) -> dict[str, Any]:
    """The dictionary that the list holds. Raises PackageUnreadable naming ``what``."""
    effort = effort or Effort()
    if len(content) > PROPERTY_LIST_LIMIT_BYTES:
        raise PackageUnreadable(f"{what} has {len(content)} bytes; no such list is that long.")
    if content.startswith(_BINARY):
        _demand_apart(content, what, effort)
    else:
        effort.spend(content.count(b"<"))
    if b"<!ENTITY" in content:
        raise PackageUnreadable(f"{what} declares entities; no property list needs any.", code="manifest-unfit")
    try:
        info = plistlib.loads(content)
    except _BROKEN:
        raise PackageUnreadable(f"{what} is damaged.", remedy="Build the package again.") from None
    if not isinstance(info, dict):
        raise PackageUnreadable(f"{what} is no dictionary.", remedy="Build the package again.")
    return info


def _demand_apart(content: bytes, what: str, effort: Effort) -> None:
    """The objects of a binary list share no bytes, so that all of them together are no larger than the list."""
    damaged = PackageUnreadable(f"{what} is damaged.", remedy="Build the package again.")
    if len(content) < 8 + _TRAILER.size:
        raise damaged
    offset_bytes, reference_bytes, count, _, table_at = _TRAILER.unpack_from(content, len(content) - _TRAILER.size)
    effort.spend(2 * count)
    ends = len(content) - _TRAILER.size
    if not 1 <= offset_bytes <= 8 or not 1 <= reference_bytes <= 8 or table_at + count * offset_bytes > ends:
        raise damaged
    table = content[table_at : table_at + count * offset_bytes]
    places = sorted(int.from_bytes(table[at : at + offset_bytes], "big") for at in range(0, len(table), offset_bytes))
    end = 8
    for place in places:
        if place < end or place >= table_at:
            raise PackageUnreadable(
                f"{what} holds objects that share bytes; two readers would read two lists.", code="manifest-unfit"
            )
        end = place + _object_bytes(content, place, reference_bytes)
        if end > table_at:
            raise damaged


def _object_bytes(content: bytes, at: int, reference_bytes: int) -> int:
    """How many bytes an object takes by its own account."""
    kind, low = content[at] >> 4, content[at] & 0x0F
    if kind in (0x0, 0x8):
        return 1 + (low + 1 if kind == 0x8 else 0)
    if kind in (0x1, 0x2, 0x3):
        return 1 + (1 << low)
    head = 1
    if low == _SIZE_FOLLOWS:
        width = 1 << (content[at + 1] & 0x0F) if at + 1 < len(content) else 0
        low = int.from_bytes(content[at + 2 : at + 2 + width], "big")
        head = 2 + width
    each = {0x4: 1, 0x5: 1, 0x6: 2, 0x7: 1, 0xA: reference_bytes, 0xC: reference_bytes, 0xD: 2 * reference_bytes}
    return head + low * each.get(kind, 1)


def text_of(value: object) -> str | None:
    """What a person would write: a text as it is, a number in digits as far as any format keeps such numbers."""
    if isinstance(value, str):
        return value
    if isinstance(value, bool) or not isinstance(value, int | float):
        return None
    return None if abs(value) >= _LARGEST else str(value)


def texts_of(value: object) -> tuple[str, ...]:
    return tuple(entry for entry in value if isinstance(entry, str)) if isinstance(value, list) else ()
