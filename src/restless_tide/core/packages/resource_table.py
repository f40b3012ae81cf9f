"""Android's compiled resource table: what a reference holds in each configuration, and the languages in it."""

from __future__ import annotations

import struct
from collections import defaultdict
from collections.abc import Iterator, Sequence

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.bounds import Effort
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
from restless_tide.core.packages.manifest import USUAL_DENSITY, Configured, Given

WHAT = "The resource table"
_SPARSE = 0x01
_SHORT_OFFSETS = 0x02
_COMPLEX = 0x0001
_COMPACT = 0x0008
_OF = struct.Struct("<8xB11xI")
"""Of a type's chunk: its type, and how many bytes its configuration has, with which that begins."""
_CONFIG = 20
"""Where in the chunk it begins."""
_ENTRIES = struct.Struct("<2xH4xxBxxII")
"""Of a type's chunk: the size of its header, its flags, how many entries it has and where they begin."""
_LANGUAGE, _COUNTRY, _ORIENTATION, _DENSITY, _LEVEL = 8, 10, 12, 14, 24
_SCRIPT, _VARIANT, _SCRIPT_COMPUTED, _NUMBERING = 36, 40, 52, 53
_LONGEST_CONFIG = 64
"""Places in a configuration, in bytes from its beginning, which is its own size."""
_ANY = (slice(8, 12), slice(24, 26), slice(36, 48), slice(52, 61))
"""Language, platform level, script, variant and numbering: what does not make a configuration special."""


class _Config:
    """What a value is for."""

    __slots__ = ("_octets", "locale")

    def __init__(self, octets: bytes) -> None:
        self._octets = octets
        self.locale = _locale_of(octets)

    @property
    def plain(self) -> bool:
        special = bytearray(self._octets[4:])
        for part in _ANY:
            special[part.start - 4 : part.stop - 4] = bytes(part.stop - part.start)
        return not any(special)

    @property
    def since(self) -> int:
        return int.from_bytes(self._octets[_LEVEL : _LEVEL + 2], "little")


class ResourceTable:
    """A resource table over the bytes of ``resources.arsc``. Raises PackageUnreadable."""

    def __init__(self, data: Octets, effort: Effort) -> None:
        self._data = data
        self._effort = effort
        self._types: defaultdict[int, list[tuple[int, int, bytes]]] = defaultdict(list)
        """By package and type, as a reference begins with them: where each chunk of that type begins and ends, and its
        configuration as it stands there."""
        self._configs: dict[bytes, _Config] = {}
        self._values: dict[int, tuple[Configured, ...]] = {}
        try:
            self._pool = self._index()
        except struct.error:
            raise PackageUnreadable(f"{WHAT} is damaged.") from None
        self._used = {octets for chunks_of in self._types.values() for _, _, octets in chunks_of}
        """The configurations for which anything is there."""

    remark = ""

    def values(self, resource_id: int) -> Sequence[Configured]:
        """The values of a resource, in the order of the table. Raises PackageUnreadable."""
        known = self._values.get(resource_id)
        if known is None:
            try:
                known = self._values[resource_id] = tuple(self._read(resource_id))
            except struct.error:
                raise PackageUnreadable(f"{WHAT} is damaged.") from None
        return known

    def locales(self) -> tuple[str, ...]:
        """The BCP 47 tags for which anything is there besides the default. Raises PackageUnreadable."""
        named = {octets[_LANGUAGE:_ORIENTATION] + octets[_SCRIPT:_LONGEST_CONFIG]: octets for octets in self._used}
        return tuple(sorted({_locale_of(_whole(octets)) for octets in named.values()} - {""}))

    def densities(self) -> tuple[int, ...]:
        """The screen densities for which anything is there, in dots an inch; what names none is for the usual one."""
        stated = {octets[_DENSITY : _DENSITY + 2] for octets in self._used}
        return tuple(sorted({int.from_bytes(density, "little") or USUAL_DENSITY for density in stated}))

    def _read(self, resource_id: int) -> Iterator[Configured]:
        data, entry, spend, unpack = self._data, resource_id & 0xFFFF, self._effort.spend, _ENTRIES.unpack_from
        for start, end, octets in self._types.get(resource_id >> 16, ()):
            spend()
            header_bytes, flags, count, entries_start = unpack(data, start)
            offset = self._offset(start + header_bytes, end, entry, count, flags)
            value = None if offset is None else self._entry(start + entries_start + offset)
            if value is not None:
                config = self._config(octets)
                yield Configured(config.locale, config.plain, value, config.since)

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
                self._index_package(chunk)
        if pool is None:
            raise PackageUnreadable(f"{WHAT} holds no strings.")
        return pool

    def _index_package(self, package: Chunk) -> None:
        data, types, spend, unpack = self._data, self._types, self._effort.spend, _OF.unpack_from
        (package_id,) = struct.unpack_from("<I", data, package.start + 8)
        for kind, start, _, end in chunks(data, package.start + package.header_bytes, package.end, WHAT):
            spend()
            if kind == TABLE_TYPE:
                of, config_bytes = unpack(data, start)
                config_end = start + _CONFIG + (config_bytes if config_bytes < _LONGEST_CONFIG else _LONGEST_CONFIG)
                octets = bytes(data[start + _CONFIG : config_end if config_end < end else end])
                types[package_id << 8 | of].append((start, end, octets))

    def _config(self, octets: bytes) -> _Config:
        known = self._configs.get(octets)
        if known is None:
            known = self._configs[octets] = _Config(_whole(octets))
        return known

    def _entry(self, at: int) -> Given | None:
        key_or_size, entry_flags, data_or_key = struct.unpack_from("<HHI", self._data, at)
        if entry_flags & _COMPACT:
            return given(entry_flags >> 8, data_or_key, self._pool)
        if entry_flags & _COMPLEX:
            return None
        _, _, kind, content = struct.unpack_from("<HBBI", self._data, at + key_or_size)
        return given(kind, content, self._pool)

    def _offset(self, table: int, end: int, entry: int, count: int, flags: int) -> int | None:
        """Where the entry lies after the chunk's entries begin; None when this configuration lacks it."""
        if flags & _SPARSE:
            low, high = 0, min(count, (end - table) // 4)  # they lie in the sequence of their numbers
            while low < high:
                middle = (low + high) // 2
                index, quarter = struct.unpack_from("<HH", self._data, table + 4 * middle)
                if index == entry:
                    return int(quarter) * 4
                low, high = (middle + 1, high) if index < entry else (low, middle)
            return None
        if entry >= count:
            return None
        if flags & _SHORT_OFFSETS:
            (quarter,) = struct.unpack_from("<H", self._data, table + 2 * entry)
            return None if quarter == 0xFFFF else int(quarter) * 4
        (offset,) = struct.unpack_from("<I", self._data, table + 4 * entry)
        return None if offset == 0xFFFFFFFF else int(offset)


def _whole(config: bytes) -> bytes:
    """All that is known of a configuration; an older one has less."""
    return config[:_LONGEST_CONFIG].ljust(_LONGEST_CONFIG, b"\0")


def _locale_of(config: bytes) -> str:
    """The configuration's language tag; two letters stand as they are, three are packed into five bits each."""
    language = _letters(config[_LANGUAGE : _LANGUAGE + 2], ord("a"))
    if not language:
        return ""
    script = "" if config[_SCRIPT_COMPUTED] else _ascii(config[_SCRIPT : _SCRIPT + 4])
    country = _letters(config[_COUNTRY : _COUNTRY + 2], ord("0"))
    variant, numbering = _ascii(config[_VARIANT : _VARIANT + 8]), _ascii(config[_NUMBERING : _NUMBERING + 8])
    return "-".join(part for part in (language, script, country, variant, numbering and f"u-nu-{numbering}") if part)


def _ascii(octets: bytes) -> str:
    return octets.rstrip(b"\0").decode("ascii", "replace")


def _letters(packed: bytes, base: int) -> str:
    if len(packed) < 2 or packed == b"\0\0":
        return ""
    if packed[0] & 0x80:
        first, second = packed[1] & 0x1F, (packed[1] >> 5) + ((packed[0] & 0x03) << 3)
        return "".join(chr(base + letter) for letter in (first, second, packed[0] >> 2 & 0x1F))
    return packed.decode("ascii", "replace")
