"""An Android manifest read into facts, whichever of its two binary forms it came in."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Protocol

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.numbers import BuildNumber, whole_number
from restless_tide.core.packages.facts import number_in

_LABEL = 0x01010001
_ICON = 0x01010002
_NAME = 0x01010003
_DEBUGGABLE = 0x0101000F
_LOWEST_LEVEL = 0x0101020C
_NUMBER = 0x0101021B
_VERSION = 0x0101021C
_TARGET_LEVEL = 0x01010270
_HIGHEST_LEVEL = 0x01010271
_TEST_ONLY = 0x01010272
_GRAPHICS_LEVEL = 0x01010281
_REQUIRED = 0x0101028E
_FEATURE_SPLIT = 0x0101055B
_NUMBER_MAJOR = 0x01010576
_CHAIN_LIMIT = 8
_VALUES_LIMIT = 2_000


@dataclass(frozen=True, slots=True)
class Given:
    """What an attribute or a resource holds: plain text, or the id of a resource that holds it."""

    text: str | None = None
    reference: int | None = None


@dataclass(frozen=True, slots=True)
class Element:
    """An element with its path of names and its attributes: by resource id where they have one, else by name."""

    path: tuple[str, ...]
    by_id: dict[int, Given]
    by_name: dict[str, Given]


@dataclass(frozen=True, slots=True)
class Configured:
    """One value of a resource; ``locale`` is a BCP 47 tag, empty for the default."""

    locale: str
    default: bool
    given: Given


class Resources(Protocol):
    """A package's resources, as far as the manifest refers to them."""

    def values(self, resource_id: int) -> Iterator[Configured]: ...

    def locales(self) -> tuple[str, ...]: ...


class NoResources:
    def values(self, resource_id: int) -> Iterator[Configured]:
        return iter(())

    def locales(self) -> tuple[str, ...]:
        return ()


@dataclass
class Manifest:
    """What a manifest says. ``icons`` are paths inside the package. Raises PackageUnreadable while it is filled."""

    resources: Resources = field(default_factory=NoResources)
    identifier: str | None = None
    version: str | None = None
    number: BuildNumber | None = None
    lowest_platform: str | None = None
    target_platform: str | None = None
    permissions: list[str] = field(default_factory=list)
    limits: dict[str, str] = field(default_factory=dict)
    features: list[str] = field(default_factory=list)
    label: str | None = None
    labels: dict[str, str] = field(default_factory=dict)
    icons: list[str] = field(default_factory=list)
    debuggable: bool = False
    test_only: bool = False
    split: str | None = None
    feature_split: bool = False

    def take(self, element: Element) -> None:
        by_id, by_name = element.by_id, element.by_name
        match element.path:
            case ("manifest",):
                self.identifier = self._text(by_name.get("package"))
                self.version = self._text(by_id.get(_VERSION))
                self.number = self._number(element)
                self.split = self._text(by_name.get("split"))
                self.feature_split = self._yes(by_id.get(_FEATURE_SPLIT) or by_name.get("isFeatureSplit"))
            case ("manifest", "uses-sdk"):
                self.lowest_platform = self._text(by_id.get(_LOWEST_LEVEL))
                self.target_platform = self._text(by_id.get(_TARGET_LEVEL))
            case ("manifest", "uses-permission" | "uses-permission-sdk-23"):
                self._permission(element)
            case ("manifest", "uses-feature"):
                self._feature(element)
            case ("manifest", "application"):
                self._application(element)

    def demand_identity(self) -> tuple[str, str, BuildNumber]:
        """Identifier, version and number. A split may leave the version to its base package."""
        if not self.identifier:
            raise PackageUnreadable("The manifest names no package identifier.")
        if not self.version and not self.split:
            raise PackageUnreadable(
                "The manifest names no version.", remedy="Set the version name in the project and build again."
            )
        if self.number is None:
            raise PackageUnreadable(
                "The manifest names no number.", remedy="Set the version code in the project and build again."
            )
        return self.identifier, self.version or "", self.number

    def _permission(self, element: Element) -> None:
        name = self._text(element.by_id.get(_NAME))
        if not name:
            return
        highest = self._text(element.by_id.get(_HIGHEST_LEVEL))
        if name not in self.permissions and highest:
            self.limits[name] = highest
        elif not highest:
            self.limits.pop(name, None)
        self.permissions.append(name)

    def _feature(self, element: Element) -> None:
        name = self._text(element.by_id.get(_NAME))
        level = self._text(element.by_id.get(_GRAPHICS_LEVEL))
        release = whole_number(level) if level else None
        if not name and release is not None:
            name = f"OpenGL ES {release >> 16}.{release & 0xFFFF}"
        if name:
            required = element.by_id.get(_REQUIRED)
            self.features.append(name if required is None or self._yes(required) else f"{name}?")

    def _application(self, element: Element) -> None:
        label, icon = element.by_id.get(_LABEL), element.by_id.get(_ICON)
        self.label = self._text(label)
        for value in self._every(label):
            if value.locale and value.given.text and value.given.text != self.label:
                self.labels.setdefault(value.locale, value.given.text)
        self.icons = list(dict.fromkeys(value.given.text for value in self._every(icon) if value.given.text))
        self.debuggable = self._yes(element.by_id.get(_DEBUGGABLE))
        self.test_only = self._yes(element.by_id.get(_TEST_ONLY))

    def _number(self, element: Element) -> BuildNumber | None:
        low = self._text(element.by_id.get(_NUMBER))
        if low is None:
            return None
        number = whole_number(low.removeprefix("-"))
        if number is None:
            raise PackageUnreadable(f"The manifest's number, {low[:40]!r}, is no whole number.")
        high = whole_number(self._text(element.by_id.get(_NUMBER_MAJOR)) or "0") or 0
        return number_in((high << 32) + (-number if low.startswith("-") else number), "The manifest")

    def _yes(self, given: Given | None) -> bool:
        return self._text(given) in ("true", "-1", "1")

    def _text(self, given: Given | None) -> str | None:
        """The text for the default configuration, references followed."""
        for _ in range(_CHAIN_LIMIT):
            if given is None or given.reference is None:
                return None if given is None else given.text
            given = self._default(given.reference)
        return None

    def _default(self, resource_id: int) -> Given | None:
        first = None
        for value in self.resources.values(resource_id):
            if value.default:
                return value.given
            first = first or value.given
        return first

    def _every(self, given: Given | None) -> list[Configured]:
        """Every value that ``given`` may take on some device, references followed; bounded."""
        found: list[Configured] = []
        waiting: list[Configured] = [] if given is None else [Configured("", True, given)]
        seen: set[int] = set()
        while waiting and len(found) < _VALUES_LIMIT:
            value = waiting.pop()
            reference = value.given.reference
            if reference is None:
                found.append(value)
            elif reference not in seen:
                seen.add(reference)
                below = self.resources.values(reference)
                waiting.extend(Configured(each.locale or value.locale, each.default, each.given) for each in below)
        return found


def fill(manifest: Manifest, elements: Iterable[Element]) -> Manifest:
    for element in elements:
        manifest.take(element)
    return manifest
