"""Package files on disk, each under its own digest."""

from __future__ import annotations

import hashlib
import os
import tempfile
from pathlib import Path
from typing import BinaryIO

from restless_tide.core.errors import Invalid, TooLarge

_BLOCK_BYTES = 1024 * 1024


class PackageFiles:
    """A folder of package files. A file appears under its digest whole or not at all."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._arriving = folder / "arriving"
        self._arriving.mkdir(parents=True, exist_ok=True)
        for left_over in self._arriving.iterdir():
            left_over.unlink()

    def path(self, sha256: str) -> Path:
        return self._folder / sha256[:2] / sha256

    def holds(self, sha256: str) -> bool:
        return self.path(sha256).exists()

    def arriving(self, expected_sha256: str, limit_bytes: int) -> ArrivingFile:
        return ArrivingFile(self, self._arriving, expected_sha256, limit_bytes)


class ArrivingFile:
    """A file on its way in: written block by block, digested on the way, kept only if the digest is the promised one."""

    def __init__(self, files: PackageFiles, folder: Path, expected_sha256: str, limit_bytes: int) -> None:
        self._files = files
        self._expected = expected_sha256
        self._limit_bytes = limit_bytes
        self._digest = hashlib.sha256()
        self._size_bytes = 0
        handle, name = tempfile.mkstemp(dir=folder)
        self._path = Path(name)
        self._file: BinaryIO = os.fdopen(handle, "w+b", buffering=_BLOCK_BYTES)

    def write(self, block: bytes) -> None:
        """Raises TooLarge past the limit."""
        self._size_bytes += len(block)
        if self._size_bytes > self._limit_bytes:
            raise TooLarge(
                f"The package is larger than {self._limit_bytes} bytes, the most this desk takes.",
                remedy="Make it smaller, or have the operator raise TIDE_LARGEST_PACKAGE.",
            )
        self._digest.update(block)
        self._file.write(block)

    def verified(self) -> BinaryIO:
        """The whole file, open for reading, once its digest is the promised one. Raises Invalid."""
        found = self._digest.hexdigest()
        if found != self._expected:
            raise Invalid(
                f"The bytes that arrived have the digest {found}, not {self._expected}.",
                remedy="Push the file again; it was damaged on the way or changed meanwhile.",
                code="checksum-differs",
            )
        self._file.flush()
        self._file.seek(0)
        return self._file

    def keep(self) -> None:
        """Put the file in its place for good."""
        self._file.flush()
        os.fsync(self._file.fileno())
        self._file.close()
        place = self._files.path(self._expected)
        place.parent.mkdir(exist_ok=True)
        self._path.replace(place)

    def discard(self) -> None:
        """Drop what has not been kept; harmless afterwards."""
        self._file.close()
        self._path.unlink(missing_ok=True)
