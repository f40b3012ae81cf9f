"""What a picture's header says of it: size and transparency. Sources: the PNG specification; RFC 9649 (WebP)."""

from __future__ import annotations

import hashlib
import struct
from dataclasses import replace

from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.bounds import ICON_LIMIT_BYTES, ICONS_LOOKED_AT
from restless_tide.core.packages.facts import Icon

HEADER_BYTES = 512
_PNG = b"\x89PNG\r\n\x1a\n"
_WITH_ALPHA = (4, 6)


def icon_of(archive: Archive, member: str) -> Icon | None:
    """The icon at ``member``, or None when it is no picture that is understood. Raises PackageUnreadable."""
    return read_header(member, archive.begin(member, HEADER_BYTES))


def largest(archive: Archive, members: list[str]) -> Icon | None:
    """The icon with the most pixels among ``members`` (of the first ICONS_LOOKED_AT)."""
    found = [
        icon for icon in (icon_of(archive, member) for member in members[:ICONS_LOOKED_AT] if member in archive) if icon
    ]
    best = max(found, key=lambda icon: icon.width * icon.height, default=None)
    if best is None or archive.size(best.member) > ICON_LIMIT_BYTES:
        return best
    return replace(best, sha256=hashlib.sha256(archive.read(best.member, ICON_LIMIT_BYTES)).hexdigest())


def read_header(member: str, start: bytes) -> Icon | None:
    """The icon whose first bytes are ``start``."""
    if start.startswith(_PNG) and start[12:16] == b"IHDR" and len(start) >= 33:
        width, height, _, colour = struct.unpack_from(">IIBB", start, 16)
        return Icon(
            member=member,
            width=width,
            height=height,
            transparent=colour in _WITH_ALPHA or b"tRNS" in start,
            media_type="image/png",
        )
    if start.startswith(_PNG) and start[12:16] == b"CgBI" and len(start) >= 49:
        width, height, _, colour = struct.unpack_from(">IIBB", start, 32)
        return Icon(member=member, width=width, height=height, transparent=colour in _WITH_ALPHA, media_type="")
    if start[:4] == b"RIFF" and start[8:12] == b"WEBP" and len(start) >= 30:
        return _webp(member, start)
    return None


def _webp(member: str, start: bytes) -> Icon | None:
    kind = start[12:16]
    if kind == b"VP8X":
        width = int.from_bytes(start[24:27], "little") + 1
        height = int.from_bytes(start[27:30], "little") + 1
        transparent = bool(start[20] & 0x10)
    elif kind == b"VP8L":
        bits = int.from_bytes(start[21:25], "little")
        width, height, transparent = (bits & 0x3FFF) + 1, (bits >> 14 & 0x3FFF) + 1, bool(bits >> 28 & 1)
    elif kind == b"VP8 ":
        width, height = (value & 0x3FFF for value in struct.unpack_from("<HH", start, 26))
        transparent = False
    else:
        return None
    return Icon(member=member, width=width, height=height, transparent=transparent, media_type="image/webp")
