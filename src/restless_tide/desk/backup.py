"""Backups: a copy of all that a desk holds, taken while it runs, verified by digest, and put back into an empty folder.

A file is named by its digest and never changes, so files are copied first, then the records in one consistent piece, then the
files that came meanwhile. A backup that is taken into the folder of an earlier one copies only what is new.
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import sqlite3
from contextlib import closing, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from restless_tide import __version__
from restless_tide.core.errors import Conflict, Invalid
from restless_tide.desk.files_kept import NAMED, Told, on_disk, place_of
from restless_tide.desk.settings import Settings
from restless_tide.records.database import migrations
from restless_tide.records.digest_files import digest_of

RECORDS, KEY, MANIFEST = "desk.sqlite", "master.key", "backup.json"
FORMAT = 1
_BLOCK_BYTES = 1024 * 1024


@dataclass(frozen=True)
class Backup:
    """What a backup holds. ``missing`` are files that the records name and that were not there."""

    taken_at: datetime
    release: str
    revision: str
    files: int
    size_bytes: int
    copied: int
    with_key: bool
    missing: tuple[str, ...]


def back_up(settings: Settings, target: Path, *, with_key: bool, told: Told = lambda done, of: None) -> Backup:
    """Copy a desk's data into a folder, while the desk runs or not. Raises Invalid, Conflict.

    The master key is left out unless asked for: with it, whoever has the backup has the stores' keys.
    """
    source = settings.data
    if not (source / RECORDS).is_file():
        raise Invalid(f"{source} holds no desk.", remedy="Name its data by TIDE_DATA.", code="data-unknown")
    if target.resolve().is_relative_to(source.resolve()):
        raise Invalid("A backup does not go into the data it is of.", code="target-unfit")
    if target.exists() and any(target.iterdir()) and not (target / MANIFEST).is_file():
        raise Conflict(
            f"{target} holds something that is no backup.", remedy="Name an empty folder, or an earlier backup.",
            code="target-taken",
        )  # fmt: skip
    target.mkdir(parents=True, exist_ok=True)
    target.chmod(0o700)
    copied = _copy_files(source, target, told)
    records = target / f"{RECORDS}.new"
    _copy_records(source / RECORDS, records)
    named = _named_in(records)
    copied += _copy_files(source, target, told, only=named)
    missing = tuple(
        f"{folder}/{sha256}" for folder, sha256 in sorted(named) if not place_of(target, folder, sha256).exists()
    )
    if with_key and (source / KEY).is_file():
        _copy(source / KEY, target / KEY)
    elif not with_key:
        (target / KEY).unlink(missing_ok=True)
    records.replace(target / RECORDS)
    kept = [one for one in on_disk(target) if (one.folder, one.sha256) in named]
    sizes = {f"{one.folder}/{one.sha256}": one.path.stat().st_size for one in kept}
    manifest = {
        "format": FORMAT,
        "taken_at": datetime.now(UTC).isoformat(timespec="seconds"),
        "release": __version__,
        "revision": _revision_of(target / RECORDS),
        "records": digest_of(target / RECORDS),
        "with_key": (target / KEY).is_file(),
        "files": sizes,
        "missing": missing,
    }
    manifest["seal"] = _seal_of(manifest)
    _write(target / MANIFEST, json.dumps(manifest, indent=1, sort_keys=True).encode())
    for one in list(on_disk(target)):  # last: until the new manifest is there, the earlier backup needs them
        if (one.folder, one.sha256) not in named:
            one.path.unlink()
    return _told(manifest, copied)


def verify(folder: Path, told: Told = lambda done, of: None) -> Backup:
    """Read a backup whole and hold it against its digests. Raises Invalid for one that is cut off, altered, or of a newer
    release."""
    manifest = _manifest(folder)
    if manifest["format"] > FORMAT or manifest["revision"] not in _known_revisions():
        raise Invalid(
            f"The backup was taken by release {manifest['release']}, which is newer than this one ({__version__}).",
            remedy="Restore it with that release, or a newer one.",
            code="backup-newer",
        )
    if manifest["seal"] != _seal_of(manifest):
        raise Invalid(f"{folder / MANIFEST} was altered.", remedy="Use another backup.", code="backup-altered")
    if not (folder / RECORDS).is_file() or digest_of(folder / RECORDS) != manifest["records"]:
        raise Invalid(
            f"{folder / RECORDS} is not as it was written.", remedy="Use another backup.", code="backup-altered"
        )
    wrong = []
    for at, (name, size) in enumerate(manifest["files"].items(), 1):
        kind, _, sha256 = name.partition("/")
        path = place_of(folder, kind, sha256)
        if not path.is_file() or path.stat().st_size != size or digest_of(path) != sha256:
            wrong.append(name)
        told(at, len(manifest["files"]))
    if wrong:
        shown = ", ".join(wrong[:3]) + (f" and {len(wrong) - 3} more" if len(wrong) > 3 else "")
        raise Invalid(
            f"{len(wrong)} files of the backup are missing, cut off or altered: {shown}.",
            remedy="Use another backup.",
            code="backup-altered",
        )
    return _told(manifest, 0)


def restore(settings: Settings, folder: Path, told: Told = lambda done, of: None) -> Backup:
    """Put a backup into an empty data folder, once it was verified. Raises Invalid, Conflict.

    Nothing is there until all of it is. Without a master key in the backup or the environment the desk does not open what
    was sealed: stores have to be connected again.
    """
    target = settings.data
    if target.exists() and any(target.iterdir()):
        raise Conflict(
            f"{target} is not empty.",
            remedy="Restore into an empty folder; move what is there aside.",
            code="data-taken",
        )
    backup = verify(folder, told)
    part = target.with_name(f"{target.name}.restoring")
    shutil.rmtree(part, ignore_errors=True)
    part.mkdir(parents=True, mode=0o700)
    for one in on_disk(folder):
        _copy(one.path, place_of(part, one.folder, one.sha256))
    for name in (RECORDS, KEY):
        if (folder / name).is_file():
            _copy(folder / name, part / name)
    if target.exists():
        target.rmdir()
    part.replace(target)
    return backup


def _copy_files(source: Path, target: Path, told: Told, only: set[tuple[str, str]] | None = None) -> int:
    wanted = [one for one in on_disk(source) if only is None or (one.folder, one.sha256) in only]
    copied = 0
    for at, one in enumerate(wanted, 1):
        place = place_of(target, one.folder, one.sha256)
        with suppress(FileNotFoundError):  # cleared meanwhile: then the records do not name it either
            if not (place.exists() and place.stat().st_size == one.path.stat().st_size):
                found = _copy(one.path, place)
                if found != one.sha256:
                    place.unlink()
                    raise Invalid(
                        f"{one.path} is damaged: its digest is {found}.",
                        remedy="Look at the disk, then: tide desk check",
                        code="file-damaged",
                    )
                copied += 1
        told(at, len(wanted))
    return copied


def _copy(source: Path, place: Path) -> str:
    """Copy a file so that it appears whole or not at all; returns its SHA-256, made on the way."""
    place.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    part, digest = place.with_name(f"{place.name}.part"), hashlib.sha256()
    with source.open("rb") as read, part.open("wb") as written:
        while block := read.read(_BLOCK_BYTES):
            digest.update(block)
            written.write(block)
        written.flush()
        os.fsync(written.fileno())
    part.chmod(0o600)
    part.replace(place)
    return digest.hexdigest()


def _write(path: Path, content: bytes) -> None:
    part = path.with_name(f"{path.name}.part")
    part.unlink(missing_ok=True)
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())
    part.replace(path)


def _copy_records(source: Path, target: Path) -> None:
    """The records as they are at one instant, by SQLite's own online backup; whoever writes meanwhile is not held up."""
    target.unlink(missing_ok=True)
    with closing(sqlite3.connect(source, timeout=30)) as read, closing(sqlite3.connect(target)) as written:
        read.backup(written)
        written.execute("PRAGMA journal_mode=DELETE")
        found = written.execute("PRAGMA integrity_check").fetchone()[0]
    target.chmod(0o600)
    if found != "ok":
        raise Invalid(f"The records are damaged: {found}.", remedy="Use an earlier backup.", code="records-damaged")


def _named_in(records: Path) -> set[tuple[str, str]]:
    with closing(sqlite3.connect(records)) as read:
        return {
            (folder, sha256)
            for folder, asked in NAMED.items()
            for one in asked
            for (sha256,) in read.execute(str(one.compile(compile_kwargs={"literal_binds": True})))
        }


def is_of_this_release(records: Path) -> bool:
    """Whether the tables have this release's form."""
    return _revision_of(records) == migrations().get_current_head()


def _revision_of(records: Path) -> str:
    try:
        with closing(sqlite3.connect(records)) as read:
            return str(read.execute("SELECT version_num FROM alembic_version").fetchone()[0])
    except (sqlite3.DatabaseError, TypeError):
        raise Invalid(
            f"{records} is no desk's records, or is damaged.", remedy="Restore a backup: tide desk restore FOLDER",
            code="records-damaged",
        ) from None  # fmt: skip


def _known_revisions() -> set[str]:
    return {script.revision for script in migrations().walk_revisions()}


def _manifest(folder: Path) -> dict[str, Any]:
    try:
        found = json.loads((folder / MANIFEST).read_text(encoding="utf-8"))
        if (
            not isinstance(found, dict)
            or not {"format", "revision", "records", "files", "seal", "release"} <= found.keys()
        ):
            raise ValueError
    except (OSError, ValueError):
        raise Invalid(
            f"{folder} is no whole backup: {MANIFEST} is missing or cut off.",
            remedy="A backup that was broken off is completed by taking it again into the same folder.",
            code="backup-cut-off",
        ) from None
    return found


def _seal_of(manifest: dict[str, Any]) -> str:
    told = {name: value for name, value in manifest.items() if name != "seal"}
    return hashlib.sha256(json.dumps(told, sort_keys=True).encode()).hexdigest()


def _told(manifest: dict[str, Any], copied: int) -> Backup:
    return Backup(
        taken_at=datetime.fromisoformat(manifest["taken_at"]),
        release=manifest["release"],
        revision=manifest["revision"],
        files=len(manifest["files"]),
        size_bytes=sum(manifest["files"].values()),
        copied=copied,
        with_key=manifest["with_key"],
        missing=tuple(manifest["missing"]),
    )
