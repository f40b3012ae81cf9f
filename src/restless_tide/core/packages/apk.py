"""Reading an APK: the binary manifest, and the resource table where the manifest refers to it."""

from __future__ import annotations

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.binary_xml import Element, elements
from restless_tide.core.packages.facts import Facts
from restless_tide.core.packages.resource_table import ResourceTable
from restless_tide.core.packages.values import REFERENCE, Value

MANIFEST = "AndroidManifest.xml"
RESOURCES = "resources.arsc"

_LABEL = 0x01010001
_NAME = 0x01010003
_DEBUGGABLE = 0x0101000F
_LOWEST_LEVEL = 0x0101020C
_NUMBER = 0x0101021B
_VERSION = 0x0101021C
_TARGET_LEVEL = 0x01010270
_NUMBER_MAJOR = 0x01010576


def is_apk(archive: Archive) -> bool:
    return MANIFEST in archive


def read_apk(archive: Archive, size_bytes: int, sha256: str) -> Facts:
    """The facts of an APK. Raises PackageUnreadable."""
    reading = _Reading(archive)
    for element in elements(archive.read(MANIFEST)):
        reading.take(element)
    if not reading.identifier:
        raise PackageUnreadable("The manifest names no package identifier.")
    if not reading.version:
        raise PackageUnreadable(
            "The manifest names no version.", remedy="Set the version name in the project and build again."
        )
    if reading.number is None:
        raise PackageUnreadable(
            "The manifest names no number.", remedy="Set the version code in the project and build again."
        )
    return Facts(
        format="apk",
        identifier=reading.identifier,
        version=reading.version,
        number=reading.number,
        lowest_platform=reading.lowest_platform,
        target_platform=reading.target_platform,
        permissions=tuple(dict.fromkeys(reading.permissions)),
        label=reading.label,
        debuggable=reading.debuggable,
        size_bytes=size_bytes,
        sha256=sha256,
    )


class _Reading:
    """What has been gathered on the way through the manifest."""

    def __init__(self, archive: Archive) -> None:
        self._archive = archive
        self._table: ResourceTable | None = None
        self.identifier: str | None = None
        self.version: str | None = None
        self.number: int | None = None
        self.lowest_platform: str | None = None
        self.target_platform: str | None = None
        self.permissions: list[str] = []
        self.label: str | None = None
        self.debuggable = False

    def take(self, element: Element) -> None:
        match element.path:
            case ("manifest",):
                self.identifier = self._text(element.by_name.get("package"))
                self.version = self._text(element.by_id.get(_VERSION))
                self.number = self._number(element)
            case ("manifest", "uses-sdk"):
                self.lowest_platform = self._text(element.by_id.get(_LOWEST_LEVEL))
                self.target_platform = self._text(element.by_id.get(_TARGET_LEVEL))
            case ("manifest", "uses-permission" | "uses-permission-sdk-23"):
                name = self._text(element.by_id.get(_NAME))
                if name:
                    self.permissions.append(name)
            case ("manifest", "application"):
                self.label = self._text(element.by_id.get(_LABEL))
                self.debuggable = self._text(element.by_id.get(_DEBUGGABLE)) == "true"

    def _number(self, element: Element) -> int | None:
        low = self._text(element.by_id.get(_NUMBER))
        if low is None:
            return None
        if not low.lstrip("-").isdigit():
            raise PackageUnreadable(f"The manifest's number, {low!r}, is no whole number.")
        high = self._text(element.by_id.get(_NUMBER_MAJOR)) or "0"
        return (int(high) << 32) + int(low) if high.isdigit() else int(low)

    def _text(self, value: Value | None) -> str | None:
        if value is None or value.kind != REFERENCE:
            return None if value is None else value.text
        if self._table is None:
            if RESOURCES not in self._archive:
                return None
            self._table = ResourceTable(self._archive.view(RESOURCES))
        return self._table.text(value)
