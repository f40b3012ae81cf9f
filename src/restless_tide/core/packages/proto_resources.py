"""The manifest and the resource table in the form an app bundle carries them: protocol buffers.

Source: the public message definitions of Android's asset packaging tool (Resources.proto and
Configuration.proto); the field numbers below are theirs.
"""

from __future__ import annotations

from collections.abc import Iterator

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.manifest import Configured, Element, Given
from restless_tide.core.packages.wire_format import Message, Octets

DEPTH_LIMIT = 200

_NODE_ELEMENT = 1
_ELEMENT_NAME, _ELEMENT_ATTRIBUTE, _ELEMENT_CHILD = 3, 4, 5
_ATTRIBUTE_NAME, _ATTRIBUTE_VALUE, _ATTRIBUTE_RESOURCE, _ATTRIBUTE_ITEM = 2, 3, 5, 6
_ITEM_REFERENCE, _ITEM_STRING, _ITEM_RAW_STRING, _ITEM_FILE, _ITEM_PRIMITIVE = 1, 2, 3, 5, 7
_REFERENCE_ID = 2
_DECIMAL, _HEXADECIMAL, _BOOLEAN = 6, 7, 8
_TABLE_PACKAGE, _PACKAGE_ID, _PACKAGE_TYPE = 2, 1, 3
_TYPE_ID, _TYPE_ENTRY = 1, 3
_ENTRY_ID, _ENTRY_VALUE = 1, 6
_CONFIGURED_CONFIG, _CONFIGURED_VALUE, _CONFIG_LOCALE, _VALUE_ITEM = 1, 2, 3, 4


def proto_elements(data: Octets) -> Iterator[Element]:
    """Every element of a manifest in document order. Raises PackageUnreadable."""
    root = Message(data).message(_NODE_ELEMENT)
    if root is None:
        raise PackageUnreadable("The bundle's manifest holds no element.", remedy="Build the bundle again.")
    waiting: list[tuple[tuple[str, ...], Message]] = [((), root)]
    while waiting:
        above, element = waiting.pop()
        path = (*above, element.text(_ELEMENT_NAME))
        if len(path) > DEPTH_LIMIT:
            raise PackageUnreadable(f"The manifest nests deeper than {DEPTH_LIMIT} elements.")
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
    for field in (_ITEM_STRING, _ITEM_RAW_STRING, _ITEM_FILE):
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


class ProtoResources:
    """The resource table of one module. Raises PackageUnreadable."""

    def __init__(self, data: Octets) -> None:
        self._entries: dict[tuple[int, int], Message] = {}
        for package in Message(data).messages(_TABLE_PACKAGE):
            package_id = _id(package.message(_PACKAGE_ID))
            for kind in package.messages(_PACKAGE_TYPE):
                self._entries.setdefault((package_id, _id(kind.message(_TYPE_ID))), kind)

    def values(self, resource_id: int) -> Iterator[Configured]:
        kind = self._entries.get((resource_id >> 24, resource_id >> 16 & 0xFF))
        for entry in kind.messages(_TYPE_ENTRY) if kind else ():
            if _id(entry.message(_ENTRY_ID)) == resource_id & 0xFFFF:
                yield from self._configured(entry)

    def locales(self) -> tuple[str, ...]:
        found = set()
        for kind in self._entries.values():
            for entry in kind.messages(_TYPE_ENTRY):
                for value in entry.messages(_ENTRY_VALUE):
                    config = value.message(_CONFIGURED_CONFIG)
                    found.add(config.text(_CONFIG_LOCALE) if config else "")
        return tuple(sorted(found - {""}))

    def _configured(self, entry: Message) -> Iterator[Configured]:
        for value in entry.messages(_ENTRY_VALUE):
            config, held = value.message(_CONFIGURED_CONFIG), value.message(_CONFIGURED_VALUE)
            item = held.message(_VALUE_ITEM) if held else None
            if item is not None:
                locale = config.text(_CONFIG_LOCALE) if config else ""
                yield Configured(locale, config is None or config.empty, _given(item))


def _id(message: Message | None) -> int:
    return message.number(1) if message else 0
