"""What takes up a package: its members gathered by the folder a person would name."""

from __future__ import annotations

from collections import Counter

from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.facts import Share

SHOWN = 24
_REST = "everything else"


def contents_of(archive: Archive, *, strip: str = "") -> tuple[Share, ...]:
    """The largest parts of the archive, packed bytes, largest first; what is small is one last line.

    ``strip`` is a folder that holds all the rest and says nothing, such as the app's own inside an IPA.
    """
    weights: Counter[str] = Counter()
    for member in archive.members:
        name = member.name.removeprefix(strip)
        folders = name.split("/")
        weights[name if len(folders) < 3 else "/".join(folders[:2]) + "/"] += member.packed_bytes
    shares = [Share(name=name, size_bytes=size) for name, size in weights.most_common(SHOWN) if size]
    rest = sum(weights.values()) - sum(share.size_bytes for share in shares)
    return (*shares, Share(name=_REST, size_bytes=rest)) if rest else tuple(shares)
