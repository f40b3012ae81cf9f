"""Small files on disk, each under its own digest: pictures, films, symbol files."""

from __future__ import annotations

import hashlib
import os
import secrets
from pathlib import Path


def digest_of(file: Path) -> str:
    """The SHA-256 of a file."""
    with file.open("rb") as source:
        return hashlib.file_digest(source, "sha256").hexdigest()


class DigestFiles:
    """A folder of files. A file appears under its SHA-256 whole or not at all."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def path(self, sha256: str) -> Path:
        return self._folder / sha256[:2] / sha256

    def keep(self, content: bytes) -> str:
        """Write a file; returns its digest."""
        sha256 = hashlib.sha256(content).hexdigest()
        place = self.path(sha256)
        if not place.exists():
            place.parent.mkdir(parents=True, exist_ok=True)
            part = place.with_name(f"{sha256}.{secrets.token_hex(4)}")
            with part.open("wb") as file:
                file.write(content)
                file.flush()
                os.fsync(file.fileno())
            part.replace(place)
        return sha256

    def part(self) -> Path:
        """Where a file is written that is to be kept; ``adopt`` adds it, or whoever writes it removes it."""
        self._folder.mkdir(parents=True, exist_ok=True)
        return self._folder / f"part.{secrets.token_hex(8)}"

    def adopt(self, part: Path) -> str:
        """Add a file that was written at ``part``; returns its digest."""
        sha256 = digest_of(part)
        with part.open("rb") as file:
            os.fsync(file.fileno())
        place = self.path(sha256)
        place.parent.mkdir(parents=True, exist_ok=True)
        part.replace(place)
        return sha256

    def read(self, sha256: str) -> bytes:
        """Raises FileNotFoundError."""
        return self.path(sha256).read_bytes()

    def drop(self, sha256: str) -> None:
        """Overwrite a file with nothing but zeros, then remove it."""
        place = self.path(sha256)
        if not place.exists():
            return
        with place.open("r+b") as file:
            file.write(b"\0" * place.stat().st_size)
            file.flush()
            os.fsync(file.fileno())
        place.unlink()
