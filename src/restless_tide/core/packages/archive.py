"""Reading members of a package archive in place, within stated bounds.

Only the directory and the members asked for are read, so memory stays flat whatever the size of the package.
What makes two readers see two packages is refused before anything is read (see directory.py): so are doubled
names, names that leave the archive, and what unpacks to far more than it weighs.
"""

from __future__ import annotations

import io
import mmap
import os
import zlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from operator import itemgetter
from typing import BinaryIO, TypeVar

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.bounds import (
    LONGEST_NAME,
    MEMBER_LIMIT_BYTES,
    UNPACKED_ALLOWANCE_BYTES,
    UNPACKED_PER_BYTE,
    Effort,
)
from restless_tide.core.packages.directory import STORED, Member, ReadAt, directory_without, read_directory, shown

Place = TypeVar("Place")
Found = TypeVar("Found")

_NAME, _SIZE, _PACKED = (itemgetter(Member._fields.index(one)) for one in ("name", "size_bytes", "packed_bytes"))
BLOCK_BYTES = 1024 * 1024
THREADS = min(os.cpu_count() or 1, 4)
WORTH_A_THREAD_BYTES = 4 * 1024**2
"""Of a file; a smaller one is read before a second thread has begun."""


class Archive:
    """An open package archive. Raises PackageUnreadable."""

    def __init__(self, source: BinaryIO, *, verify: bool = True, effort: Effort | None = None) -> None:
        self.source = source
        self.effort = effort or Effort()
        """What reading it may still take; a package within a package takes of the same."""
        self.size_bytes = source.seek(0, io.SEEK_END)
        self.read_at, self.apart = _reader(source)
        """How bytes are read from a place, and whether several threads may."""
        self.verify = verify
        """Whether what is signed is held against its signatures; that reads the whole file."""
        found = self._directory = read_directory(self.read_at, self.size_bytes)
        self.members = found.members
        self.names: list[str] = list(map(_NAME, found.members))
        self.directory_at, self.end_at, self.end, self.content_end = (
            found.directory_at, found.end_at, found.end, found.content_end
        )  # fmt: skip
        self._by_name: dict[str, Member] = dict(zip(self.names, found.members, strict=True))
        self._demand_bounds()

    def __contains__(self, name: str) -> bool:
        return name in self._by_name

    def __getitem__(self, name: str) -> Member:
        """Raises PackageUnreadable when it is missing."""
        found = self._by_name.get(name)
        if found is None:
            raise PackageUnreadable(f"{shown(name)} is missing from the package.", remedy="Build the package again.")
        return found

    def size(self, name: str) -> int:
        """The unpacked size, in bytes; reading it gives no more."""
        return self[name].size_bytes

    def read(self, name: str, limit_bytes: int = MEMBER_LIMIT_BYTES) -> bytes:
        """The whole member. Raises PackageUnreadable when it is missing, broken or larger than ``limit_bytes``."""
        if self.size(name) > limit_bytes:
            raise PackageUnreadable(
                f"{shown(name)} inside the package unpacks to more than {limit_bytes} bytes.", code="unpacks-too-large"
            )
        return b"".join(self.blocks(name))

    def blocks(self, name: str, block_bytes: int = BLOCK_BYTES) -> Iterator[bytes]:
        """The member block by block, its checksum held against it at the end. Raises PackageUnreadable."""
        member = self[name]
        crc = found = 0
        for block in _stored(self.read_at, member, block_bytes) if member.method == STORED else self._unpacked(member, block_bytes):  # fmt: skip
            crc, found = zlib.crc32(block, crc), found + len(block)
            yield block
        if found != member.size_bytes or crc != member.crc:
            raise _damaged(name)

    def _unpacked(self, member: Member, block_bytes: int) -> Iterator[bytes]:
        """Never more than the size that the directory states."""
        unpacker, at, left = zlib.decompressobj(-zlib.MAX_WBITS), member.data_at, member.packed_bytes
        kept, held, size = b"", bytearray(), 0
        while not unpacker.eof:
            if not kept:
                kept = self.read_at(min(left, block_bytes), at)
                at, left = at + len(kept), left - len(kept)
            try:
                got = unpacker.decompress(kept, block_bytes - len(held))
            except zlib.error:
                raise _damaged(member.name) from None
            size, kept = size + len(got), unpacker.unconsumed_tail
            held += got
            if size > member.size_bytes or not (got or kept or left or unpacker.eof):
                raise _damaged(member.name)
            if len(held) >= block_bytes:
                yield bytes(held)
                held.clear()
        if held:
            yield bytes(held)

    def directory_without(self, name: str) -> bytes:
        """The directory and end records as they were before the last member, of that name, was added."""
        return directory_without(self.read_at, self._directory, name)

    def side_by_side(self, work: Callable[[Place], Found], places: Sequence[Place]) -> Iterable[Found]:
        """What ``work`` makes of each place, in their sequence; several at once where the file is a real one."""
        if not self.apart or self.size_bytes < WORTH_A_THREAD_BYTES:
            return map(work, places)
        from concurrent.futures import ThreadPoolExecutor  # not loaded for a small file

        with ThreadPoolExecutor(THREADS) as threads:
            return list(threads.map(work, places))

    def begin(self, name: str, size_bytes: int) -> bytes:
        """The first bytes of a member. Raises PackageUnreadable."""
        member = self[name]
        if member.method == STORED:
            return self.read_at(min(size_bytes, member.size_bytes), member.data_at)
        packed = self.read_at(min(member.packed_bytes, 2 * size_bytes + 1024), member.data_at)
        try:
            return zlib.decompressobj(-zlib.MAX_WBITS).decompress(packed, size_bytes)
        except zlib.error:
            raise _damaged(name) from None

    def span(self, name: str) -> tuple[int, int] | None:
        """Where a member that is stored as it is lies in the file, as offset and size; None when it is packed."""
        member = self[name]
        return (member.data_at, member.size_bytes) if member.method == STORED else None

    def view(self, name: str, limit_bytes: int = MEMBER_LIMIT_BYTES) -> bytes | memoryview:
        """The member as bytes that need not be in memory: a member stored as it is, in a real file, is mapped.

        Raises PackageUnreadable.
        """
        span = self.span(name)
        if span is None or span[1] > limit_bytes:
            return self.read(name, limit_bytes)
        begin = span[0] - span[0] % mmap.ALLOCATIONGRANULARITY
        try:
            mapped = mmap.mmap(self.source.fileno(), sum(span) - begin, access=mmap.ACCESS_READ, offset=begin)
        except (OSError, ValueError):
            return self.read(name, limit_bytes)
        return memoryview(mapped)[span[0] - begin :]

    def _demand_bounds(self) -> None:
        doubled = len(self.names) - len(self._by_name)
        if doubled:
            raise PackageUnreadable(
                f"The archive lists {doubled} member(s) twice; which of them counts cannot be known.",
                remedy="Build the package again.",
            )
        leaving = None if _all_stay(self.names) else next((name for name in self.names if _leaves(name)), None)
        if leaving is not None:
            raise PackageUnreadable(
                f"The archive names a member {shown(leaving[:80])!r}, a path that leads out of the package.",
                code="path-unfit",
            )
        unpacked, packed = sum(map(_SIZE, self.members)), sum(map(_PACKED, self.members))
        if unpacked > UNPACKED_PER_BYTE * packed + UNPACKED_ALLOWANCE_BYTES:
            raise PackageUnreadable(
                f"The archive of {packed} bytes unpacks to {unpacked}; no package does that.", code="unpacks-too-large"
            )


def _all_stay(names: Sequence[str]) -> bool:
    """Whether no name holds anything that ``_leaves`` looks for, found out over all of them at once."""
    if not names:
        return True
    told = "\0" + "\0".join(names) + "\0"
    plain = told.count("\0") == len(names) + 1 and not any(sign in told for sign in ("\0\0", "\0/", "\\", ":", ".."))
    return plain and max(map(len, names)) <= LONGEST_NAME


def _leaves(name: str) -> bool:
    """Whether a name leads out of the folder that it is unpacked into, or is none."""
    if not name or name[0] in "/\\" or name[1:2] == ":" or "\0" in name or len(name) > LONGEST_NAME:
        return True
    return ".." in name and ".." in name.replace("\\", "/").split("/")


def _damaged(name: str) -> PackageUnreadable:
    return PackageUnreadable(
        f"{shown(name)} inside the package is damaged.", remedy="Build or fetch the package again."
    )


def _reader(source: BinaryIO) -> tuple[ReadAt, bool]:
    """How bytes are read from a place in ``source``, and whether several threads may: a real file has no place of its own."""
    try:
        number = source.fileno()
    except (OSError, AttributeError):

        def read_at(size: int, at: int) -> bytes:
            source.seek(at)
            return source.read(size)

        return read_at, False
    return partial(os.pread, number), True


def _stored(read_at: ReadAt, member: Member, block_bytes: int) -> Iterator[bytes]:
    at, left = member.data_at, member.size_bytes
    while left > 0:
        block = read_at(min(block_bytes, left), at)
        if not block:
            return
        yield block
        at, left = at + len(block), left - len(block)


@contextmanager
def opened_archive(source: BinaryIO, *, verify: bool = True, effort: Effort | None = None) -> Iterator[Archive]:
    """The archive in ``source``, a seekable binary file. Raises PackageUnreadable."""
    source.seek(0)
    if not source.read(1):
        raise PackageUnreadable("The file is empty.", remedy="Hand in the package that the build made.")
    yield Archive(source, verify=verify, effort=effort)
