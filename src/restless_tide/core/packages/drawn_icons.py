"""The icon of an app: a picture, or a drawing that is looked through for the pictures it is made of."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.bounds import ICONS_LOOKED_AT, MANIFEST_LIMIT_BYTES, Effort
from restless_tide.core.packages.facts import Icon
from restless_tide.core.packages.manifest import Element, Resources
from restless_tide.core.packages.pictures import icon_of, largest

_DRAWABLE = 0x01010199
_DRAWINGS = 4
_DRAWING_LIMIT_BYTES = MANIFEST_LIMIT_BYTES // 32

ReadElements = Callable[[bytes, Effort, Callable[[Sequence[str]], bool]], Iterator[Element]]


def icon_of_app(
    archive: Archive, paths: Sequence[str], resources: Resources, read: ReadElements, folder: str = ""
) -> Icon | None:
    """The largest picture behind the icon. Paths may have any name: what is there says what it is."""
    members = [member for member in (folder + path for path in paths) if member in archive][:ICONS_LOOKED_AT]
    pictures = [member for member in members if icon_of(archive, member) is not None]
    if not pictures:
        drawings = [member for member in members if archive.size(member) <= _DRAWING_LIMIT_BYTES][:_DRAWINGS]
        pictures = [folder + path for member in drawings for path in _drawn_from(archive, member, resources, read)]
    return largest(archive, pictures)


def _drawn_from(archive: Archive, member: str, resources: Resources, read: ReadElements) -> list[str]:
    """Paths of what a drawing is put together from, as far as it is one."""
    found: list[str] = []
    try:
        for element in read(archive.read(member), archive.effort, lambda _: True):
            drawable = element.by_id.get(_DRAWABLE)
            if drawable is not None and drawable.reference is not None:
                below = resources.values(drawable.reference)
                found.extend(value.given.text for value in below if value.given.text)
    except PackageUnreadable:
        return found
    return found
