"""Package files on disk, each under its own digest, and those that are still arriving."""

from __future__ import annotations

import hashlib
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, BinaryIO

from restless_tide.core.errors import Conflict, Invalid

_BLOCK_BYTES = 1024 * 1024


class PackageFiles:
    """A folder of package files. A file appears under its digest whole or not at all.

    What is arriving survives the end of the process: it goes on from the size that the file has.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._arriving = folder / "arriving"
        self._arriving.mkdir(parents=True, exist_ok=True)
        self._digests: dict[str, tuple[int, Any]] = {}
        self._busy: set[str] = set()
        self._lock = threading.Lock()

    def path(self, sha256: str) -> Path:
        return self._folder / sha256[:2] / sha256

    def holds(self, sha256: str) -> bool:
        return self.path(sha256).exists()

    def clear(self, sha256: str) -> int:
        """Remove a package file; returns the bytes that are free now."""
        try:
            size = self.path(sha256).stat().st_size
            self.path(sha256).unlink()
        except FileNotFoundError:
            return 0
        return size

    def arrived_bytes(self, upload: str) -> int:
        """How much of an upload is here."""
        try:
            return self._place(upload).stat().st_size
        except FileNotFoundError:
            return 0

    def drop(self, upload: str) -> None:
        self._digests.pop(upload, None)
        self._place(upload).unlink(missing_ok=True)

    def arriving(self) -> set[str]:
        """The uploads of which anything is here."""
        return {path.name for path in self._arriving.iterdir()}

    @contextmanager
    def writing(self, upload: str, offset: int) -> Iterator[ArrivingFile]:
        """The upload's file, open at ``offset`` for one writer at a time. Raises Conflict."""
        with self._lock:
            if upload in self._busy:
                raise Conflict("This upload is being written already.", remedy="Wait for it.", code="upload-busy")
            self._busy.add(upload)
        try:
            arrived = self.arrived_bytes(upload)
            if offset != arrived:
                raise Conflict(f"This upload stands at {arrived} bytes, not at {offset}.", code="offset-differs")
            known = self._digests.pop(upload, None)
            digest = known[1] if known and known[0] == offset else None
            with ArrivingFile(self._place(upload), offset, digest) as file:
                yield file
            if file.digest is not None:
                self._digests[upload] = (file.size_bytes, file.digest)
        finally:
            self._busy.discard(upload)

    def whole(self, upload: str, sha256: str) -> Path:
        """The upload's file once its digest is the promised one. Raises Invalid, and drops it, when it is not."""
        place, found = self._place(upload), self.digest(upload)
        if found != sha256:
            self.drop(upload)
            raise Invalid(
                f"The bytes that arrived have the digest {found}, not {sha256}.",
                remedy="Push the file again; it was damaged on the way or changed meanwhile.",
                code="checksum-differs",
            )
        return place

    def digest(self, upload: str) -> str:
        """The SHA-256 of what has arrived; it was made on the way where the file was written from its start."""
        place = self._place(upload)
        known = self._digests.get(upload)
        if known and known[0] == place.stat().st_size:
            return str(known[1].hexdigest())
        with place.open("rb") as file:
            return hashlib.file_digest(file, "sha256").hexdigest()

    def settle(self, upload: str) -> None:
        """Have the disk hold every byte of an upload."""
        with self._place(upload).open("rb") as file:
            os.fsync(file.fileno())

    def keep(self, upload: str, sha256: str) -> None:
        """Put a settled upload in its place for good."""
        place = self.path(sha256)
        place.parent.mkdir(exist_ok=True)
        self._place(upload).replace(place)
        self._digests.pop(upload, None)

    def _place(self, upload: str) -> Path:
        return self._arriving / upload


class ArrivingFile:
    """A file on its way in, appended block by block and digested on the way when it is written from its start."""

    def __init__(self, path: Path, offset: int, digest: Any) -> None:
        self._file: BinaryIO = path.open("r+b" if offset else "wb", buffering=_BLOCK_BYTES)
        self._file.seek(offset)
        self.begun_at = self.size_bytes = offset
        self.digest = hashlib.sha256() if offset == 0 else digest

    def __enter__(self) -> ArrivingFile:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def write(self, block: bytes) -> None:
        self._file.write(block)
        self.size_bytes += len(block)
        if self.digest is not None:
            self.digest.update(block)

    def take_back(self) -> None:
        """Forget what was written since it was opened."""
        self._file.flush()
        self._file.truncate(self.begun_at)
        self._file.seek(self.begun_at)
        self.size_bytes, self.digest = self.begun_at, None
