"""An Android manifest read into facts, whichever of its two binary forms it came in."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, NamedTuple, Protocol

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.numbers import BuildNumber, whole_number
from restless_tide.core.packages.facts import number_in, printable

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
_SANDBOX = 0x0101054C
USUAL_DENSITY = 160
"""Of the screens that what names no density is for, in dots an inch."""
_CHAIN_LIMIT = 8
_VALUES_LIMIT = 500
_UNDER_MANIFEST = frozenset(("uses-sdk", "uses-permission", "uses-permission-sdk-23", "uses-feature", "application"))
_ACTIVITIES = frozenset(("activity", "activity-alias"))
_STARTED_BY = {"action": "android.intent.action.MAIN", "category": "android.intent.category.LAUNCHER"}
"""Both in one filter make an activity one that a tap on the icon starts."""
_STORAGE_WRITE, _STORAGE_READ = "android.permission.WRITE_EXTERNAL_STORAGE", "android.permission.READ_EXTERNAL_STORAGE"
_PHONE_STATE = "android.permission.READ_PHONE_STATE"
_SPLIT_FROM_CONTACTS = {
    "android.permission.READ_CONTACTS": "android.permission.READ_CALL_LOG",
    "android.permission.WRITE_CONTACTS": "android.permission.WRITE_CALL_LOG",
}
_ASKED_FROM, _CALL_LOG_FROM = 4, 16
"""Levels from which on a package that targets them has to ask: for storage and phone state, and for the call log."""


class Given(NamedTuple):
    """What an attribute or a resource holds: plain text, or the id of a resource that holds it."""

    text: str | None = None
    reference: int | None = None


class Element(NamedTuple):
    """An element with its path of names and its attributes: by resource id where they have one, else by name."""

    path: tuple[str, ...]
    by_id: dict[int, Given]
    by_name: dict[str, Given]


class Configured(NamedTuple):
    """One value of a resource; ``locale`` is a BCP 47 tag, empty for the default.

    ``plain``: it asks nothing of a device but its language and a platform level, ``since`` which it is used.
    """

    locale: str
    plain: bool
    given: Given
    since: int = 0


class Resources(Protocol):
    """A package's resources, as far as the manifest refers to them."""

    def values(self, resource_id: int) -> Sequence[Configured]: ...

    def locales(self) -> tuple[str, ...]: ...

    def densities(self) -> tuple[int, ...]: ...

    @property
    def remark(self) -> str: ...


class NoResources:
    def values(self, resource_id: int) -> Sequence[Configured]:
        return ()

    def locales(self) -> tuple[str, ...]:
        return ()

    def densities(self) -> tuple[int, ...]:
        return ()

    remark = ""


def is_needed(path: Sequence[str]) -> bool:
    """Whether the facts need an element at this path; all others are passed over unread."""
    depth = len(path)
    if depth <= 1:
        return True
    if depth == 2:
        return path[1] in _UNDER_MANIFEST
    if path[1] != "application" or path[2] not in _ACTIVITIES:
        return False
    return depth == 3 or (path[3] == "intent-filter" and (depth == 4 or (depth == 5 and path[4] in _STARTED_BY)))


@dataclass
class Manifest:
    """What a manifest says. ``icons`` are paths inside the package. Raises PackageUnreadable while it is filled."""

    resources: Resources = field(default_factory=NoResources)
    identifier: str | None = None
    version: str | None = None
    number: BuildNumber | None = None
    lowest_platform: str | None = None
    target_platform: str | None = None
    highest_platform: str | None = None
    permissions: dict[str, None] = field(default_factory=dict)
    limits: dict[str, str] = field(default_factory=dict)
    features: dict[str, None] = field(default_factory=dict)
    label: str | None = None
    labels: dict[str, str] = field(default_factory=dict)
    icons: list[str] = field(default_factory=list)
    launchable: str | None = None
    debuggable: bool = False
    test_only: bool = False
    split: str | None = None
    feature_split: bool = False
    sandbox: int = 1
    _unlimited: set[str] = field(default_factory=set)
    _activity: str = ""
    _started_by: set[str] = field(default_factory=set)
    _plain: dict[int, dict[str, Configured]] = field(default_factory=dict)

    @cached_property
    def _locales(self) -> tuple[str, ...]:
        return self.resources.locales()

    def take(self, element: Element) -> None:
        by_id, by_name = element.by_id, element.by_name
        match element.path:
            case ("manifest",):
                self.identifier = self._text(by_name.get("package"))
                self.version = self._text(by_id.get(_VERSION))
                self.number = self._number(element)
                self.split = self._text(by_name.get("split"))
                self.feature_split = self._yes(by_id.get(_FEATURE_SPLIT) or by_name.get("isFeatureSplit"))
                self.sandbox = whole_number(self._text(by_id.get(_SANDBOX)) or "") or 1
            case ("manifest", "uses-sdk"):
                self.lowest_platform = self._text(by_id.get(_LOWEST_LEVEL))
                self.target_platform = self._text(by_id.get(_TARGET_LEVEL))
                self.highest_platform = self._text(by_id.get(_HIGHEST_LEVEL))
            case ("manifest", "uses-permission" | "uses-permission-sdk-23"):
                self._permission(element)
            case ("manifest", "uses-feature"):
                self._feature(element)
            case ("manifest", "application"):
                self._application(element)
            case ("manifest", "application", "activity" | "activity-alias"):
                self._activity = self._text(by_id.get(_NAME)) or ""
            case (_, _, _, "intent-filter"):
                self._started_by = set()
            case (_, _, _, "intent-filter", kind):
                self._filter(kind, element)

    def demand_identifier(self) -> str:
        if not self.identifier:
            raise PackageUnreadable("The manifest names no package identifier.")
        return self.identifier

    @property
    def lacking(self) -> tuple[str, ...]:
        """What is left out of version and number. A split may leave the version to its base package."""
        given = {"version": self.version or self.split, "number": self.number is not None}
        return tuple(name for name, there in given.items() if not there)

    @property
    def target(self) -> int:
        """The level that devices take for the target: one that is not given is the lowest, and that is 1 if not given."""
        target, lowest = _level(self.target_platform), _level(self.lowest_platform)
        return lowest if target is None and lowest is not None else 1 if target is None else target

    @property
    def lowest(self) -> int:
        return _level(self.lowest_platform) or 1

    def implied(self) -> dict[str, str]:
        """What devices grant beside what is asked for, each with the reason."""
        found: dict[str, str] = {}
        if self.target < _ASKED_FROM:
            because = f"its target level is below {_ASKED_FROM}, where every app had it"
            found |= dict.fromkeys((_STORAGE_WRITE, _PHONE_STATE), because)
        if _STORAGE_WRITE in self.permissions or _STORAGE_WRITE in found:
            found[_STORAGE_READ] = "it may write to storage, and who writes may read"
        if self.target < _CALL_LOG_FROM:
            for asked, granted in _SPLIT_FROM_CONTACTS.items():
                if asked in self.permissions:
                    found[granted] = f"its target level is below {_CALL_LOG_FROM}, where {asked} covered it"
        return {name: why for name, why in found.items() if name not in self.permissions}

    def facts(self) -> dict[str, Any]:
        """What a package's facts take from its manifest as it is, by their names."""
        return {
            "version": self.version or "",
            "number": self.number if self.number is not None else BuildNumber(0),
            "lacking": self.lacking,
            "lowest_platform": self.lowest_platform,
            "target_platform": self.target_platform,
            "highest_platform": self.highest_platform,
            "permissions": tuple(self.permissions),
            "permission_limits": self.limits,
            "implied_permissions": self.implied(),
            "features": tuple(self.features),
            "label": self.label,
            "labels": self.labels,
            "locales": self._locales,
            "launchable": self.launchable,
            "densities": self.resources.densities(),
            "debuggable": self.debuggable,
            "test_only": self.test_only,
        }

    def _permission(self, element: Element) -> None:
        name = self._text(element.by_id.get(_NAME))
        if not name:
            return
        self.permissions[name] = None
        highest = self._text(element.by_id.get(_HIGHEST_LEVEL))
        if not highest:
            self._unlimited.add(name)
            self.limits.pop(name, None)
        elif name not in self._unlimited:
            before = self.limits.get(name)
            if before is None or (_level(highest) or 0) > (_level(before) or 0):
                self.limits[name] = highest

    def _feature(self, element: Element) -> None:
        name = self._text(element.by_id.get(_NAME))
        level = self._text(element.by_id.get(_GRAPHICS_LEVEL))
        release = whole_number(level) if level else None
        if not name and release is not None:
            name = f"OpenGL ES {release >> 16}.{release & 0xFFFF}"
        if name:
            required = element.by_id.get(_REQUIRED)
            self.features[name if required is None or self._yes(required) else f"{name}?"] = None

    def _application(self, element: Element) -> None:
        label, icon = element.by_id.get(_LABEL), element.by_id.get(_ICON)
        self.label = self._text(label)
        if label is not None and label.reference is not None:
            for locale in self._locales:
                text = self._text(label, locale)
                if text and text != self.label:
                    self.labels[locale] = text
        self.icons = list(dict.fromkeys(given.text for given in self._every(icon) if given.text))
        self.debuggable = any(_is_yes(given.text) for given in self._every(element.by_id.get(_DEBUGGABLE)))
        self.test_only = self._yes(element.by_id.get(_TEST_ONLY))

    def _filter(self, kind: str, element: Element) -> None:
        if self.launchable is None and self._text(element.by_id.get(_NAME)) == _STARTED_BY.get(kind):
            self._started_by.add(kind)
            if len(self._started_by) == len(_STARTED_BY) and self._activity:
                self.launchable = _whole_name(self._activity, self.identifier or "")

    def _number(self, element: Element) -> BuildNumber | None:
        low = self._text(element.by_id.get(_NUMBER))
        if low is None:
            return None
        number = whole_number(low.removeprefix("-"))
        if number is None or number > _LARGEST_PART:
            raise PackageUnreadable(f"The manifest's number, {printable(low[:40])!r}, is no whole number of 32 bits.")
        high = whole_number(self._text(element.by_id.get(_NUMBER_MAJOR)) or "0") or 0
        return number_in(
            (min(high, _LARGEST_PART) << 32) + (-number if low.startswith("-") else number), "The manifest"
        )

    def _yes(self, given: Given | None) -> bool:
        return _is_yes(self._text(given))

    def _text(self, given: Given | None, locale: str = "") -> str | None:
        """The text for a plain device in a language, references followed."""
        for _ in range(_CHAIN_LIMIT):
            if given is None or given.reference is None:
                return None if given is None else given.text
            given = self._best(given.reference, locale)
        return None

    def _best(self, resource_id: int, locale: str) -> Given | None:
        """What a device takes that asks for nothing special: its language, else a wider one, else the default."""
        plain = self._plain_of(resource_id)
        while locale not in plain:
            if not locale:
                values = self.resources.values(resource_id)
                return values[0].given if values else None
            locale = locale.rpartition("-")[0]
        return plain[locale].given

    def _plain_of(self, resource_id: int) -> dict[str, Configured]:
        """A resource's value in each language, of those that ask nothing else: the one for the highest platform level."""
        known = self._plain.get(resource_id)
        if known is None:
            known = self._plain[resource_id] = {}
            for value in self.resources.values(resource_id):
                if value.plain and (value.locale not in known or value.since > known[value.locale].since):
                    known[value.locale] = value
        return known

    def _every(self, given: Given | None) -> list[Given]:
        """Every value that ``given`` may take on some device, references followed; bounded."""
        found: list[Given] = []
        waiting = [] if given is None else [given]
        seen: set[int] = set()
        while waiting and len(found) + len(seen) < _VALUES_LIMIT:
            value = waiting.pop(0)
            reference = value.reference
            if reference is None:
                found.append(value)
            elif reference not in seen:
                seen.add(reference)
                waiting.extend(below.given for below in self.resources.values(reference)[:_VALUES_LIMIT])
        return found


_LARGEST_PART = 0xFFFFFFFF


def fill(manifest: Manifest, elements: Iterable[Element]) -> Manifest:
    for element in elements:
        manifest.take(element)
    return manifest


def _is_yes(text: str | None) -> bool:
    return text in ("true", "-1", "1")


def _level(text: str | None) -> int | None:
    """A platform level; a name of one that is not out yet counts as the newest."""
    if not text:
        return None
    return whole_number(text) if text[0] in "-0123456789" else UNRELEASED


UNRELEASED = 10_000
"""Stands for a platform level that has a name instead of a number yet."""


def _whole_name(name: str, identifier: str) -> str:
    """An activity's class: one that begins with a dot, or has none, lies in the package's own name."""
    return identifier + name if name.startswith(".") else name if "." in name else f"{identifier}.{name}"
