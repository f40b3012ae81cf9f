"""The chunks that Android's binary XML and resource table are both made of.

Every chunk begins with type (u16), header size (u16) and size (u32), little endian; a string pool
is one of them. Source: the public headers of the platform's resource format (ResourceTypes.h).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import NamedTuple

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.manifest import Given

STRING_POOL = 0x0001
RESOURCE_TABLE = 0x0002
BINARY_XML = 0x0003
START_ELEMENT = 0x0102
END_ELEMENT = 0x0103
RESOURCE_MAP = 0x0180
TABLE_PACKAGE = 0x0200
TABLE_TYPE = 0x0201

NO_INDEX = 0xFFFFFFFF
Octets = bytes | memoryview
MOST_KEPT = 5_000
"""Strings of a pool that are kept decoded."""
LONGEST_STRING = 0x7FFF
"""Signs of a string; what is stored in UTF-8 cannot be longer."""
_UTF8 = 1 << 8
_BEGINNING = struct.Struct("<HHI")
"""Of a chunk: its kind, the bytes of its header, and its own."""


class Chunk(NamedTuple):
    kind: int
    start: int
    header_bytes: int
    end: int


def chunks(data: Octets, start: int, end: int, what: str) -> Iterator[Chunk]:
    """The chunks that follow one another in ``data[start:end]``. Raises PackageUnreadable."""
    new, unpack = tuple.__new__, _BEGINNING.unpack_from
    while start < end:
        if start + 8 > end:
            raise PackageUnreadable(f"{what} ends in the middle of a chunk.")
        kind, header_bytes, size = unpack(data, start)
        if size < 8 or header_bytes < 8 or header_bytes > size or start + size > end:
            raise PackageUnreadable(f"{what} holds a chunk whose size does not fit.")
        yield new(Chunk, (kind, start, header_bytes, start + size))
        start += size


class StringPool:
    """A string pool, its strings decoded when they are asked for."""

    def __init__(self, data: Octets, chunk: Chunk) -> None:
        self._data = data
        self._known: dict[int, str] = {}
        self._end = chunk.end
        count, _, flags, strings_start = struct.unpack_from("<IIII", data, chunk.start + 8)
        first = chunk.start + chunk.header_bytes
        if first + 4 * count > chunk.end:
            raise PackageUnreadable("A string pool promises more strings than it holds.")
        self._offsets = memoryview(data)[first : first + 4 * count]
        self._base = chunk.start + strings_start
        self._utf8 = bool(flags & _UTF8)
        self._count = count

    def __getitem__(self, index: int) -> str:
        known = self._known.get(index)
        if known is not None:
            return known
        if not 0 <= index < self._count:
            raise PackageUnreadable(f"String {index} is asked for, the pool holds {self._count}.")
        (offset,) = struct.unpack_from("<I", self._offsets, 4 * index)
        at = self._base + offset
        text = self._read_utf8(at) if self._utf8 else self._read_utf16(at)
        if len(self._known) < MOST_KEPT:
            self._known[index] = text
        return text

    def _read_utf8(self, at: int) -> str:
        """Some tools write signs beyond 16 bits as the two halves that UTF-16 has for them."""
        _, at = self._length(at, 1)
        length, at = self._length(at, 1)
        octets = bytes(self._data[at : min(at + length, self._end)])
        try:
            return octets.decode("utf-8")
        except UnicodeDecodeError:
            try:
                halves = octets.decode("utf-8", "surrogatepass")
            except UnicodeDecodeError:
                return octets.decode("utf-8", "replace")
            return halves.encode("utf-16-le", "surrogatepass").decode("utf-16-le", "replace")

    def _read_utf16(self, at: int) -> str:
        length, at = self._length(at, 2)
        length = min(length, LONGEST_STRING)
        return bytes(self._data[at : min(at + 2 * length, self._end)]).decode("utf-16-le", "replace")

    def _length(self, at: int, width: int) -> tuple[int, int]:
        """A length of one or two units of ``width`` bytes; the top bit of the first says which."""
        high_bit = 1 << (8 * width - 1)
        first = int.from_bytes(self._data[at : at + width], "little")
        if not first & high_bit:
            return first, at + width
        second = int.from_bytes(self._data[at + width : at + 2 * width], "little")
        return ((first & ~high_bit) << (8 * width)) | second, at + 2 * width


REFERENCE = 0x01
STRING = 0x03
DECIMAL = 0x10
HEXADECIMAL = 0x11
BOOLEAN = 0x12


def given(kind: int, data: int, pool: StringPool) -> Given:
    """A typed value (Res_value in ResourceTypes.h): ``kind`` is its tag, ``data`` its 32 bits."""
    if kind == REFERENCE:
        return Given(reference=data)
    if kind == STRING:
        return Given(text=pool[data])
    if kind in (DECIMAL, HEXADECIMAL):
        return Given(text=str(data if data < 1 << 31 else data - (1 << 32)))
    if kind == BOOLEAN:
        return Given(text="true" if data else "false")
    return Given()
