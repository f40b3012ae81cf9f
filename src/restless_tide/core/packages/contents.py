"""What takes up a package: its members gathered by the folder a person would name."""

from __future__ import annotations

from collections import defaultdict

from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.facts import Share

SHOWN = 24
_REST = "everything else"
_NO_FOLDER = "\0"
"""With which no member's name begins."""


def contents_of(archive: Archive, *, strip: str = "") -> tuple[Share, ...]:
    """The largest parts of the archive, packed bytes, largest first; what is small is one last line.

    ``strip`` is a folder that holds all the rest and says nothing, such as the app's own inside an IPA.
    """
    weights: defaultdict[str, int] = defaultdict(int)
    share = folder = _NO_FOLDER
    for member in archive.members:
        name = member.name.removeprefix(strip) if strip else member.name
        if not name.startswith(folder):  # most follow another one of their folder
            first = name.find("/")
            second = name.find("/", first + 1) if first >= 0 else -1
            share, folder = (name[: second + 1],) * 2 if second >= 0 else (name, _NO_FOLDER)
        weights[share] += member.packed_bytes
    largest = sorted(weights.items(), key=lambda one: -one[1])[:SHOWN]
    shares = [Share(name=name, size_bytes=size) for name, size in largest if size]
    rest = sum(weights.values()) - sum(share.size_bytes for share in shares)
    return (*shares, Share(name=_REST, size_bytes=rest)) if rest else tuple(shares)
