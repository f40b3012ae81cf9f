"""Which files on the disk the records name: for a backup, a check, and to drop what nothing names any more."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import Select, select
from sqlalchemy.orm import Session

from restless_tide.desk.desk import Desk
from restless_tide.records.tables import Document, MadePicture, Package, PictureFile, ReportPicture, SymbolFile

Told = Callable[[int, int], None]
"""How many files of how many are done."""
_DIGEST = re.compile(r"[0-9a-f]{64}")
OLD_SECONDS = 3600.0
"""A file that nothing names is left alone so long: its act may be under way."""

NAMED: dict[str, tuple[Select[Any], ...]] = {
    "packages": (select(Package.sha256).where(Package.cleared_at.is_(None)),),
    "pictures": (select(ReportPicture.sha256),),
    "dossier-files": (
        select(PictureFile.sha256),
        select(MadePicture.sha256).where(MadePicture.sha256 != ""),
        select(Document.sha256),
    ),
    "symbols": (select(SymbolFile.sha256),),
}
"""By the folder under the data, what the records name there. Each file lies under its SHA-256."""


@dataclass(frozen=True)
class KeptFile:
    """A file under its digest; ``folder`` is that of its kind."""

    folder: str
    sha256: str
    path: Path


def place_of(data: Path, folder: str, sha256: str) -> Path:
    """Where a file lies."""
    return data / folder / sha256[:2] / sha256


def named(session: Session, folders: Collection[str] = NAMED.keys()) -> Iterator[tuple[str, str]]:
    """The folder and digest of each file that the records name."""
    for folder in folders:
        seen: set[str] = set()
        for one in NAMED[folder]:
            seen.update(session.scalars(one))
        yield from ((folder, sha256) for sha256 in sorted(seen))


def on_disk(data: Path, folders: Collection[str] = NAMED.keys()) -> Iterator[KeptFile]:
    """Every file that lies under a digest; what was derived from one and lies beside it is not told."""
    for folder in folders:
        for path in (data / folder).glob("??/*"):
            if _DIGEST.fullmatch(path.name) and path.is_file():
                yield KeptFile(folder, path.name, path)


def drop_unnamed(desk: Desk) -> int:
    """Drop report pictures and symbol files that nothing names, such as of a report that was refused; returns how many.

    Dossier files have their own rule (making.py), and packages theirs (clearing).
    """
    limit = time.time() - OLD_SECONDS
    swept = {"pictures": desk.pictures, "symbols": desk.symbols}
    old = [one for one in on_disk(desk.settings.data, swept.keys()) if one.path.stat().st_mtime < limit]
    with desk.look() as session:  # after the disk: what an act has named meanwhile is known
        known = set(named(session, swept.keys()))
    unnamed = [one for one in old if (one.folder, one.sha256) not in known]
    for one in unnamed:
        swept[one.folder].drop(one.sha256)
        for derived in one.path.parent.glob(f"{one.sha256}.*"):
            derived.unlink(missing_ok=True)
    return len(unnamed)
