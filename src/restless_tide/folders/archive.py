"""A dossier folder in one file: a ZIP archive, as it goes to a browser and comes from one."""

from __future__ import annotations

import zipfile
import zlib
from pathlib import Path, PurePosixPath

from restless_tide.core.dossier_folder import FOLDER_FILE
from restless_tide.core.errors import Invalid, TooLarge

MOST_FILES, LARGEST_ARCHIVE_BYTES, MOST_UNPACKED_BYTES = 5_000, 400_000_000, 800_000_000
_BLOCK_BYTES, _LONGEST_NAME_BYTES = 1024 * 1024, 200
_UNREADABLE = (
    zipfile.BadZipFile, zipfile.LargeZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError,
    FileExistsError, IsADirectoryError, NotADirectoryError,
)  # fmt: skip
"""Damaged, encrypted or packed in another way; or one name is a file and a folder at once."""
_LAYOUT = "It holds dossier.toml, and beside it texts, pictures, answers.toml, documents, goods and stores; see docs/dossier.md."


def pack(folder: Path, into: Path) -> None:
    """Write a folder to an archive, every file under the name of the folder."""
    with zipfile.ZipFile(into, "w", zipfile.ZIP_DEFLATED) as archive:
        for file in sorted(folder.rglob("*")):
            if file.is_file():
                archive.write(file, (PurePosixPath(folder.name) / file.relative_to(folder).as_posix()).as_posix())


def unpack(archive: Path, into: Path) -> Path:
    """Unpack an archive below ``into``; returns the dossier folder in it.

    Raises Invalid for what is no such archive, TooLarge for more than a dossier has; then whatever was written is left to
    whoever removes ``into``.
    """
    try:
        with zipfile.ZipFile(archive) as opened:
            files = [one for one in opened.infolist() if not one.is_dir() and not _aside(one.filename)]
            if len(files) > MOST_FILES or sum(one.file_size for one in files) > MOST_UNPACKED_BYTES:
                raise TooLarge(f"The folder has more than {MOST_FILES:,} files or {MOST_UNPACKED_BYTES:,} bytes.")
            for one in files:
                _write(opened, one, into)
    except _UNREADABLE:
        raise Invalid("This is no ZIP archive that can be read.", remedy=_LAYOUT, code="folder-unfit") from None
    found = sorted(into.rglob(FOLDER_FILE), key=lambda file: len(file.parts))
    if not found:
        raise Invalid(f"There is no {FOLDER_FILE} in it.", remedy=_LAYOUT, code="folder-unfit")
    return found[0].parent


def _aside(name: str) -> bool:
    """What systems put beside people's files."""
    return any(part.startswith((".", "__MACOSX")) and part not in (".", "..") for part in PurePosixPath(name).parts)


def _write(opened: zipfile.ZipFile, one: zipfile.ZipInfo, into: Path) -> None:
    parts = PurePosixPath(one.filename).parts
    if any(len(part.encode()) > _LONGEST_NAME_BYTES for part in parts):
        raise Invalid(f"The name {one.filename[:80]!r} is too long.", code="folder-unfit")
    if one.filename.startswith("/") or ".." in parts or "\\" in one.filename or ":" in one.filename:
        raise Invalid(f"The archive names {one.filename[:80]!r}, which lies outside it.", code="folder-unfit")
    target = into.joinpath(*parts)
    target.parent.mkdir(parents=True, exist_ok=True)
    with opened.open(one) as source, target.open("wb") as file:
        left = one.file_size
        while block := source.read(min(_BLOCK_BYTES, left + 1)):
            left -= len(block)
            if left < 0:
                raise Invalid(f"{one.filename} is larger than the archive says.", code="folder-unfit")
            file.write(block)
