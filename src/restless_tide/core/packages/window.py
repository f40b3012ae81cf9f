"""A part of a file, read as if it were a file of its own: a package inside a bundle, read in place."""

from __future__ import annotations

import io
from typing import Any, BinaryIO, cast


class Window(io.RawIOBase):
    """``size`` bytes of ``source`` from ``begin`` on; reading only."""

    def __init__(self, source: BinaryIO, begin: int, size: int) -> None:
        self._source, self._begin, self._size, self._at = source, begin, size, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._size}[whence]
        if base + offset < 0:
            raise ValueError("a place before the beginning")
        self._at = base + offset
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: Any) -> int:
        wanted = max(0, min(len(buffer), self._size - self._at))
        self._source.seek(self._begin + self._at)
        found = self._source.read(wanted)
        buffer[: len(found)] = found
        self._at += len(found)
        return len(found)


def window(source: BinaryIO, begin: int, size: int) -> BinaryIO:
    """A file over a part of ``source``."""
    return cast(BinaryIO, Window(source, begin, size))
