"""The manifest and the resource table in the form an app bundle carries them: protocol buffers.

Source: the public message definitions of Android's asset packaging tool (Resources.proto and
Configuration.proto); the field numbers below are theirs.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.bounds import LOOK_THROUGH_STEPS, TOO_MUCH_WORK, Effort
from restless_tide.core.packages.manifest import USUAL_DENSITY, Configured, Element, Given, is_needed
from restless_tide.core.packages.wire_format import Message, Octets

DEPTH_LIMIT = 200

_NODE_ELEMENT = 1
_ELEMENT_NAME, _ELEMENT_ATTRIBUTE, _ELEMENT_CHILD = 3, 4, 5
_ATTRIBUTE_NAME, _ATTRIBUTE_VALUE, _ATTRIBUTE_RESOURCE, _ATTRIBUTE_ITEM = 2, 3, 5, 6
_ITEM_REFERENCE, _ITEM_STRING, _ITEM_RAW_STRING, _ITEM_STYLED, _ITEM_FILE, _ITEM_PRIMITIVE = 1, 2, 3, 4, 5, 7
_REFERENCE_ID = 2
_DECIMAL, _HEXADECIMAL, _BOOLEAN = 6, 7, 8
_TABLE_PACKAGE, _PACKAGE_ID, _PACKAGE_TYPE = 2, 1, 3
_TYPE_ID, _TYPE_ENTRY = 1, 3
_ENTRY_ID, _ENTRY_VALUE = 1, 6
_CONFIGURED_CONFIG, _CONFIGURED_VALUE, _VALUE_ITEM = 1, 2, 4
_CONFIG_LOCALE, _CONFIG_DENSITY, _CONFIG_LEVEL = 3, 18, 24
_ENTRY_ID_START = 0x0A


def proto_elements(
    data: Octets, effort: Effort, needed: Callable[[Sequence[str]], bool] = is_needed
) -> Iterator[Element]:
    """The elements of a manifest that are ``needed``, in document order. Raises PackageUnreadable."""
    root = Message(data, effort).message(_NODE_ELEMENT)
    if root is None:
        raise PackageUnreadable("The bundle's manifest holds no element.", remedy="Build the bundle again.")
    waiting: list[tuple[tuple[str, ...], Message]] = [((), root)]
    while waiting:
        above, element = waiting.pop()
        path = (*above, element.text(_ELEMENT_NAME))
        if len(path) > DEPTH_LIMIT:
            raise PackageUnreadable(f"The manifest nests deeper than {DEPTH_LIMIT} elements.")
        if needed(path):
            yield Element(path, *_attributes(element))
        below = [node.message(_NODE_ELEMENT) for node in element.messages(_ELEMENT_CHILD)]
        waiting.extend((path, child) for child in reversed(below) if child is not None)


def _attributes(element: Message) -> tuple[dict[int, Given], dict[str, Given]]:
    by_id: dict[int, Given] = {}
    by_name: dict[str, Given] = {}
    for attribute in element.messages(_ELEMENT_ATTRIBUTE):
        item = attribute.message(_ATTRIBUTE_ITEM)
        value = _given(item) if item else Given(text=attribute.text(_ATTRIBUTE_VALUE))
        key = attribute.number(_ATTRIBUTE_RESOURCE)
        if key:
            by_id[key] = value
        else:
            by_name[attribute.text(_ATTRIBUTE_NAME)] = value
    return by_id, by_name


def _given(item: Message) -> Given:
    reference = item.message(_ITEM_REFERENCE)
    if reference is not None:
        return Given(reference=reference.number(_REFERENCE_ID))
    for field in (_ITEM_STRING, _ITEM_RAW_STRING, _ITEM_STYLED, _ITEM_FILE):
        found = item.message(field)
        if found is not None:
            return Given(text=found.text(1))
    primitive = item.message(_ITEM_PRIMITIVE)
    if primitive is None:
        return Given()
    if _BOOLEAN in primitive:
        return Given(text="true" if primitive.number(_BOOLEAN) else "false")
    for field in (_DECIMAL, _HEXADECIMAL):
        if field in primitive:
            number = primitive.number(field) & 0xFFFFFFFF
            return Given(text=str(number if number < 1 << 31 else number - (1 << 32)))
    return Given()


@dataclass(frozen=True, slots=True)
class _Config:
    locale: str
    plain: bool
    since: int
    density: int


class ProtoResources:
    """The resource table of one module. Raises PackageUnreadable."""

    def __init__(self, data: Octets, effort: Effort) -> None:
        self._effort = effort
        self._types: dict[tuple[int, int], list[memoryview]] = {}
        self._entries: dict[tuple[int, int], dict[int, memoryview]] = {}
        self._configs: dict[bytes, _Config] = {}
        self._values: dict[int, tuple[Configured, ...]] = {}
        self._looked_through = False
        self.remark = ""
        for package in Message(data, effort).messages(_TABLE_PACKAGE):
            package_id = _id(package.message(_PACKAGE_ID))
            for kind in package.messages(_PACKAGE_TYPE):
                key = (package_id, _id(kind.message(_TYPE_ID)))
                self._types.setdefault(key, []).extend(kind.octets(_TYPE_ENTRY))

    def values(self, resource_id: int) -> Sequence[Configured]:
        known = self._values.get(resource_id)
        if known is None:
            known = self._values[resource_id] = tuple(self._read(resource_id))
        return known

    def locales(self) -> tuple[str, ...]:
        self._look_through()
        return tuple(sorted({config.locale for config in self._configs.values()} - {""}))

    def densities(self) -> tuple[int, ...]:
        self._look_through()
        return tuple(sorted({config.density or USUAL_DENSITY for config in self._configs.values()}))

    def _look_through(self) -> None:
        """Know every configuration for which anything is there."""
        if self._looked_through:
            return
        self._looked_through = True
        effort = Effort(LOOK_THROUGH_STEPS)
        try:
            for entries in self._types.values():
                for entry in entries:
                    for value in Message(entry, effort).octets(_ENTRY_VALUE):
                        self._config(value)
        except PackageUnreadable as wrong:
            if wrong.code != TOO_MUCH_WORK:
                raise
            self.remark = "Its resources are so many that languages and densities were not read to the end."

    def _config(self, value: memoryview) -> _Config:
        """The configuration of a value. It stands first, and the same one stands before very many values."""
        octets = _first_message(value)
        if octets is None:
            found = Message(value, self._effort).octets(_CONFIGURED_CONFIG)
            octets = bytes(found[-1]) if found else b""
        known = self._configs.get(octets)
        if known is None:
            config = Message(octets, self._effort)
            plain = config.fields <= {_CONFIG_LOCALE, _CONFIG_LEVEL}
            level, density = config.number(_CONFIG_LEVEL), config.number(_CONFIG_DENSITY)
            known = self._configs[octets] = _Config(config.text(_CONFIG_LOCALE), plain, level, density)
        return known

    def _read(self, resource_id: int) -> Iterator[Configured]:
        key = (resource_id >> 24, resource_id >> 16 & 0xFF)
        entries = self._entries.get(key)
        if entries is None:
            found = ((self._entry_id(entry), entry) for entry in self._types.get(key, ()))
            entries = self._entries[key] = dict(found)
        entry = entries.get(resource_id & 0xFFFF)
        for value in Message(entry, self._effort).octets(_ENTRY_VALUE) if entry is not None else ():
            config = self._config(value)
            held = Message(value, self._effort).message(_CONFIGURED_VALUE)
            item = held.message(_VALUE_ITEM) if held else None
            if item is not None:
                yield Configured(config.locale, config.plain, _given(item), config.since)

    def _entry_id(self, entry: memoryview) -> int:
        """An entry's number, which stands first."""
        self._effort.spend()
        first = _first_message(entry)
        found = Message(first, self._effort) if first is not None else Message(entry, self._effort).message(_ENTRY_ID)
        return found.number(1) if found is not None else 0


def _first_message(data: memoryview) -> bytes | None:
    """What field 1 holds where it stands first and is short; None: look for it."""
    if len(data) > 2 and data[0] == _ENTRY_ID_START and data[1] < 0x80 and data[1] + 2 <= len(data):
        return bytes(data[2 : 2 + data[1]])
    return None


def _id(message: Message | None) -> int:
    return message.number(1) if message else 0
