"""Android's compiled resource table: enough of it to follow a reference to its default value."""

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
)
from restless_tide.core.packages.values import REFERENCE, Value

WHAT = "The resource table"
_SPARSE = 0x01
_SHORT_OFFSETS = 0x02
_COMPLEX = 0x0001
_COMPACT = 0x0008
_CHAIN_LIMIT = 8


class ResourceTable:
    """A resource table over the bytes of ``resources.arsc``."""

    def __init__(self, data: Octets) -> None:
        self._data = data
        table = next(chunks(data, 0, len(data), WHAT), None)
        if table is None or table.kind != RESOURCE_TABLE:
            raise PackageUnreadable(f"{WHAT} does not begin as one.")
        self._packages: list[tuple[int, Chunk]] = []
        pool = None
        for chunk in chunks(data, table.start + table.header_bytes, table.end, WHAT):
            if chunk.kind == STRING_POOL and pool is None:
                pool = StringPool(data, chunk)
            elif chunk.kind == TABLE_PACKAGE:
                (package_id,) = struct.unpack_from("<I", data, chunk.start + 8)
                self._packages.append((package_id, chunk))
        if pool is None:
            raise PackageUnreadable(f"{WHAT} holds no strings.")
        self._pool = pool

    def text(self, value: Value | None) -> str | None:
        """The text of a value, references followed to their default; None where there is none."""
        for _ in range(_CHAIN_LIMIT):
            if value is None or value.kind != REFERENCE:
                return None if value is None else value.text
            value = self._default(value.data)
        return None

    def _default(self, resource_id: int) -> Value | None:
        """The value of a resource for the default configuration, else of the first that has one."""
        first = None
        try:
            for is_default, value in self._values(resource_id):
                if is_default:
                    return value
                first = first or value
        except struct.error:
            raise PackageUnreadable(f"{WHAT} is damaged.") from None
        return first

    def _values(self, resource_id: int) -> Iterator[tuple[bool, Value]]:
        package_id, type_id, entry = resource_id >> 24, resource_id >> 16 & 0xFF, resource_id & 0xFFFF
        data = self._data
        for known_id, package in self._packages:
            if known_id != package_id:
                continue
            for chunk in chunks(data, package.start + package.header_bytes, package.end, WHAT):
                if chunk.kind == TABLE_TYPE and data[chunk.start + 8] == type_id:
                    value = self._entry(chunk, entry)
                    if value is not None:
                        yield self._is_default(chunk), value

    def _is_default(self, chunk: Chunk) -> bool:
        (config_bytes,) = struct.unpack_from("<I", self._data, chunk.start + 20)
        return not any(self._data[chunk.start + 24 : chunk.start + 20 + config_bytes])

    def _entry(self, chunk: Chunk, entry: int) -> Value | None:
        flags = self._data[chunk.start + 9]
        count, entries_start = struct.unpack_from("<II", self._data, chunk.start + 12)
        offset = self._offset(chunk, entry, count, flags)
        if offset is None:
            return None
        at = chunk.start + entries_start + offset
        key_or_size, entry_flags, data_or_key = struct.unpack_from("<HHI", self._data, at)
        if entry_flags & _COMPACT:
            return Value(entry_flags >> 8, data_or_key, self._pool)
        if entry_flags & _COMPLEX:
            return None
        _, _, kind, content = struct.unpack_from("<HBBI", self._data, at + key_or_size)
        return Value(kind, content, self._pool)

    def _offset(self, chunk: Chunk, entry: int, count: int, flags: int) -> int | None:
        """Where the entry lies after the chunk's entries begin; None when this configuration lacks it."""
        table = chunk.start + chunk.header_bytes
        if flags & _SPARSE:
            for place in range(count):
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
