"""Android's compiled resource table: what a reference holds in each configuration, and the languages in it."""

from __future__ import annotations

import struct
from collections.abc import Iterator

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.chunks import (
    RESOURCE_TABLE,
    STRING_POOL,
    TABLE_PACKAGE,
    TABLE_TYPE,
    Chunk,
    Octets,
    StringPool,
    chunks,
    given,
)
from restless_tide.core.packages.manifest import Configured, Given

WHAT = "The resource table"
_SPARSE = 0x01
_SHORT_OFFSETS = 0x02
_COMPLEX = 0x0001
_COMPACT = 0x0008
_LANGUAGE, _COUNTRY, _SCRIPT, _VARIANT = 28, 30, 56, 60


class ResourceTable:
    """A resource table over the bytes of ``resources.arsc``."""

    def __init__(self, data: Octets) -> None:
        self._data = data
        self._types: dict[tuple[int, int], list[Chunk]] = {}
        try:
            self._pool = self._index()
        except struct.error:
            raise PackageUnreadable(f"{WHAT} is damaged.") from None

    def values(self, resource_id: int) -> Iterator[Configured]:
        """The values of a resource, in the order of the table. Raises PackageUnreadable."""
        entry = resource_id & 0xFFFF
        try:
            for chunk in self._types.get((resource_id >> 24, resource_id >> 16 & 0xFF), ()):
                value = self._entry(chunk, entry)
                if value is not None:
                    yield Configured(self._locale(chunk), self._is_default(chunk), value)
        except struct.error:
            raise PackageUnreadable(f"{WHAT} is damaged.") from None

    def locales(self) -> tuple[str, ...]:
        """The BCP 47 tags for which anything is there besides the default. Raises PackageUnreadable."""
        try:
            found = {self._locale(chunk) for chunks_of_type in self._types.values() for chunk in chunks_of_type}
        except struct.error:
            raise PackageUnreadable(f"{WHAT} is damaged.") from None
        return tuple(sorted(found - {""}))

    def _index(self) -> StringPool:
        data = self._data
        table = next(chunks(data, 0, len(data), WHAT), None)
        if table is None or table.kind != RESOURCE_TABLE:
            raise PackageUnreadable(f"{WHAT} does not begin as one.")
        pool = None
        for chunk in chunks(data, table.start + table.header_bytes, table.end, WHAT):
            if chunk.kind == STRING_POOL and pool is None:
                pool = StringPool(data, chunk)
            elif chunk.kind == TABLE_PACKAGE:
                (package_id,) = struct.unpack_from("<I", data, chunk.start + 8)
                for inner in chunks(data, chunk.start + chunk.header_bytes, chunk.end, WHAT):
                    if inner.kind == TABLE_TYPE:
                        self._types.setdefault((package_id, data[inner.start + 8]), []).append(inner)
        if pool is None:
            raise PackageUnreadable(f"{WHAT} holds no strings.")
        return pool

    def _is_default(self, chunk: Chunk) -> bool:
        (config_bytes,) = struct.unpack_from("<I", self._data, chunk.start + 20)
        return not any(self._data[chunk.start + 24 : min(chunk.start + 20 + config_bytes, chunk.end)])

    def _locale(self, chunk: Chunk) -> str:
        """The configuration's language tag; two letters stand as they are, three are packed into five bits each."""
        language = _letters(self._octets(chunk, _LANGUAGE, 2), ord("a"))
        if not language:
            return ""
        script = self._octets(chunk, _SCRIPT, 4).rstrip(b"\0").decode("ascii", "replace")
        country = _letters(self._octets(chunk, _COUNTRY, 2), ord("0"))
        variant = self._octets(chunk, _VARIANT, 8).rstrip(b"\0").decode("ascii", "replace")
        return "-".join(part for part in (language, script, country, variant) if part)

    def _octets(self, chunk: Chunk, offset: int, size: int) -> bytes:
        (config_bytes,) = struct.unpack_from("<I", self._data, chunk.start + 20)
        if offset + size > 20 + config_bytes:
            return b""
        return bytes(self._data[chunk.start + offset : chunk.start + offset + size])

    def _entry(self, chunk: Chunk, entry: int) -> Given | None:
        flags = self._data[chunk.start + 9]
        count, entries_start = struct.unpack_from("<II", self._data, chunk.start + 12)
        offset = self._offset(chunk, entry, count, flags)
        if offset is None:
            return None
        at = chunk.start + entries_start + offset
        key_or_size, entry_flags, data_or_key = struct.unpack_from("<HHI", self._data, at)
        if entry_flags & _COMPACT:
            return given(entry_flags >> 8, data_or_key, self._pool)
        if entry_flags & _COMPLEX:
            return None
        _, _, kind, content = struct.unpack_from("<HBBI", self._data, at + key_or_size)
        return given(kind, content, self._pool)

    def _offset(self, chunk: Chunk, entry: int, count: int, flags: int) -> int | None:
        """Where the entry lies after the chunk's entries begin; None when this configuration lacks it."""
        table = chunk.start + chunk.header_bytes
        if flags & _SPARSE:
            for place in range(min(count, (chunk.end - table) // 4)):
                index, quarter = struct.unpack_from("<HH", self._data, table + 4 * place)
                if index == entry:
                    return int(quarter) * 4
            return None
        if entry >= count:
            return None
        if flags & _SHORT_OFFSETS:
            (quarter,) = struct.unpack_from("<H", self._data, table + 2 * entry)
            return None if quarter == 0xFFFF else int(quarter) * 4
        (offset,) = struct.unpack_from("<I", self._data, table + 4 * entry)
        return None if offset == 0xFFFFFFFF else int(offset)


def _letters(packed: bytes, base: int) -> str:
    if len(packed) < 2 or packed == b"\0\0":
        return ""
    if packed[0] & 0x80:
        first, second = packed[1] & 0x1F, (packed[1] >> 5) + ((packed[0] & 0x03) << 3)
        return "".join(chr(base + letter) for letter in (first, second, packed[0] >> 2 & 0x1F))
    return packed.decode("ascii", "replace")
