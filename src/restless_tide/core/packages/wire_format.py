"""The protocol buffers wire format, read without a schema.

Source: the public encoding document of Protocol Buffers. A message becomes a map of field number to
the values in their order; nested messages are read when they are asked for, so no depth is walked
that nobody wants. ``protoc --decode_raw`` reads the same.
"""

from __future__ import annotations

from collections.abc import Iterator

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.bounds import Effort

Octets = bytes | memoryview
_VARINT, _EIGHT, _BYTES, _FOUR = 0, 1, 2, 5


class Message:
    """One message; values are whole numbers or octets. Raises PackageUnreadable when it is damaged."""

    def __init__(self, data: Octets, effort: Effort) -> None:
        self._fields: dict[int, list[int | memoryview]] = {}
        self._effort = effort
        for number, value in _values(memoryview(data), effort):
            self._fields.setdefault(number, []).append(value)

    @property
    def empty(self) -> bool:
        return not self._fields

    @property
    def fields(self) -> set[int]:
        return set(self._fields)

    def __contains__(self, field: int) -> bool:
        return field in self._fields

    def octets(self, field: int) -> list[memoryview]:
        """What every value of a field that is no number holds, unread."""
        return [value for value in self._fields.get(field, ()) if isinstance(value, memoryview)]

    def messages(self, field: int) -> Iterator[Message]:
        for value in self.octets(field):
            yield Message(value, self._effort)

    def message(self, field: int) -> Message | None:
        """The last one given, as the encoding says."""
        found = self.octets(field)
        return Message(found[-1], self._effort) if found else None

    def text(self, field: int) -> str:
        return next(self.texts(field), "")

    def texts(self, field: int) -> Iterator[str]:
        for value in self.octets(field):
            yield bytes(value).decode("utf-8", "replace")

    def number(self, field: int) -> int:
        found = [value for value in self._fields.get(field, ()) if isinstance(value, int)]
        return found[-1] if found else 0


def _values(data: memoryview, effort: Effort) -> Iterator[tuple[int, int | memoryview]]:
    at = 0
    while at < len(data):
        effort.spend()
        key, at = _varint(data, at)
        kind = key & 7
        if kind == _VARINT:
            value, at = _varint(data, at)
            yield key >> 3, value
            continue
        if kind == _BYTES:
            size, at = _varint(data, at)
        elif kind in (_EIGHT, _FOUR):
            size = 8 if kind == _EIGHT else 4
        else:
            raise PackageUnreadable("A message inside the package is damaged.", remedy="Build the package again.")
        if at + size > len(data):
            raise PackageUnreadable("A message inside the package is cut off.", remedy="Build the package again.")
        yield key >> 3, data[at : at + size] if kind == _BYTES else int.from_bytes(data[at : at + size], "little")
        at += size


def _varint(data: memoryview, at: int) -> tuple[int, int]:
    value = shift = 0
    while at < len(data) and shift < 70:
        octet = data[at]
        value |= (octet & 0x7F) << shift
        at, shift = at + 1, shift + 7
        if octet < 0x80:
            return value & 0xFFFFFFFFFFFFFFFF, at
    raise PackageUnreadable("A message inside the package is cut off.", remedy="Build the package again.")
