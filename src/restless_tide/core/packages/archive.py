"""Reading members of a zip archive in place, within stated bounds.

Only the central directory and the members asked for are read, so memory stays flat whatever the
size of the package. What makes two readers see two different packages is refused before anything
is read: doubled names, members that overlap, names that leave the archive. So is what unpacks to
far more than it weighs.
"""

from __future__ import annotations

import mmap
import re
import struct
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from typing import BinaryIO

from restless_tide.core.errors import PackageUnreadable

MEMBER_LIMIT_BYTES = 64 * 1024**2
MEMBERS_LIMIT = 200_000
DIRECTORY_LIMIT_BYTES = 48 * 1024**2
UNPACKED_PER_BYTE = 200
UNPACKED_ALLOWANCE_BYTES = 256 * 1024**2
BLOCK_BYTES = 1024 * 1024
_ZIP_START = b"PK\x03\x04"
_LOCAL_HEADER_BYTES = 30
_TAIL_BYTES = 22 + 0xFFFF + 1024
_LEAVES = re.compile(r"(^|[/\\])\.\.([/\\]|$)|^[/\\]|^[A-Za-z]:|\x00")
_BROKEN = (
    zipfile.BadZipFile,
    zlib.error,
    EOFError,
    NotImplementedError,
    RuntimeError,
    struct.error,
    ValueError,
    OSError,
)


class Archive:
    """An open package archive. Only this class touches ``zipfile``. Raises PackageUnreadable."""

    def __init__(self, opened: zipfile.ZipFile, source: BinaryIO, *, verify: bool = True) -> None:
        self._zip = opened
        self.verify = verify
        """Whether what is signed is held against its signatures; that reads the whole file."""
        self.source = source
        self.members = opened.infolist()
        self.names = [member.filename for member in self.members]
        self.directory_at = opened.start_dir
        """Where the central directory begins, in bytes."""
        self._demand_bounds()

    def __contains__(self, name: str) -> bool:
        return name in self._zip.NameToInfo

    def size(self, name: str) -> int:
        """The unpacked size that the archive states, in bytes."""
        return self._zip.NameToInfo[name].file_size

    def weight(self, name: str) -> int:
        """What the member takes up in the file, in bytes."""
        return self._zip.NameToInfo[name].compress_size

    def read(self, name: str) -> bytes:
        """The whole member. Raises PackageUnreadable when it is missing, broken or too large."""
        if name not in self:
            raise PackageUnreadable(f"{name} is missing from the package.", remedy="Build the package again.")
        content = bytearray()
        for block in self.blocks(name):
            content += block
            if len(content) > MEMBER_LIMIT_BYTES:
                raise PackageUnreadable(f"{name} inside the package unpacks to more than {MEMBER_LIMIT_BYTES} bytes.")
        return bytes(content)

    def blocks(self, name: str, block_bytes: int = BLOCK_BYTES) -> Iterator[bytes]:
        """The member block by block, its checksum held against it at the end. Raises PackageUnreadable."""
        try:
            with self._zip.open(name) as member:
                while block := member.read(block_bytes):
                    yield block
        except _BROKEN as wrong:
            raise PackageUnreadable(
                f"{name} inside the package is damaged ({wrong}).", remedy="Build or fetch the package again."
            ) from None

    def begin(self, name: str, size_bytes: int) -> bytes:
        """The first bytes of a member. Raises PackageUnreadable."""
        return next(self.blocks(name, size_bytes), b"")

    def span(self, name: str) -> tuple[int, int] | None:
        """Where a member that is stored as it is lies in the file, as offset and size; None when it is packed.

        Raises PackageUnreadable.
        """
        member = self._zip.NameToInfo[name]
        if member.compress_type != zipfile.ZIP_STORED or member.file_size != member.compress_size:
            return None
        self.source.seek(member.header_offset)
        header = self.source.read(_LOCAL_HEADER_BYTES)
        if header[:4] != _ZIP_START or len(header) < _LOCAL_HEADER_BYTES:
            raise PackageUnreadable(f"{name} inside the package is not where its archive says.")
        name_bytes, extra_bytes = struct.unpack_from("<HH", header, 26)
        begin = member.header_offset + _LOCAL_HEADER_BYTES + name_bytes + extra_bytes
        if begin + member.file_size > self.directory_at:
            raise PackageUnreadable(f"{name} inside the package reaches past its end.")
        return begin, member.file_size

    def view(self, name: str) -> bytes | memoryview:
        """The member as bytes that need not be in memory: a member stored as it is, in a real file, is mapped.

        Raises PackageUnreadable.
        """
        span = self.span(name)
        if span is None:
            return self.read(name)
        try:
            mapped = mmap.mmap(self.source.fileno(), 0, access=mmap.ACCESS_READ)
        except (OSError, ValueError):
            return self.read(name)
        return memoryview(mapped)[span[0] : span[0] + span[1]]

    def _demand_bounds(self) -> None:
        if len(self.names) > MEMBERS_LIMIT:
            raise PackageUnreadable(f"The archive lists {len(self.names)} members; {MEMBERS_LIMIT} are read at most.")
        doubled = len(self.names) - len(set(self.names))
        if doubled:
            raise PackageUnreadable(
                f"The archive lists {doubled} member(s) twice; which of them counts cannot be known.",
                remedy="Build the package again.",
            )
        leaving = next((name for name in self.names if _LEAVES.search(name)), None)
        if leaving is not None:
            raise PackageUnreadable(
                f"The archive names a member {leaving[:80]!r}, a path that leads out of the package.", code="path-unfit"
            )
        self._demand_apart()
        unpacked = sum(member.file_size for member in self.members)
        packed = sum(member.compress_size for member in self.members)
        if unpacked > UNPACKED_PER_BYTE * packed + UNPACKED_ALLOWANCE_BYTES:
            raise PackageUnreadable(
                f"The archive of {packed} bytes unpacks to {unpacked}; no package does that.", code="unpacks-too-large"
            )

    def _demand_apart(self) -> None:
        """No two members share bytes, and none reaches into the central directory."""
        end, last = 0, ""
        for member in sorted(self.members, key=lambda member: member.header_offset):
            if member.header_offset < end:
                raise PackageUnreadable(
                    f"{member.filename} and {last} inside the package share bytes; which of them is meant cannot be known.",
                    remedy="Build the package again.",
                    code="members-overlap",
                )
            end, last = member.header_offset + _LOCAL_HEADER_BYTES + member.compress_size, member.filename
        if end > self.directory_at:
            raise PackageUnreadable(f"{last} inside the package reaches past its end.", code="members-overlap")


@contextmanager
def opened_archive(source: BinaryIO, *, verify: bool = True) -> Iterator[Archive]:
    """The archive in ``source``, a seekable binary file. Raises PackageUnreadable."""
    source.seek(0)
    start = source.read(4)
    if not start:
        raise PackageUnreadable("The file is empty.", remedy="Hand in the package that the build made.")
    _demand_short_directory(source)
    try:
        opened = zipfile.ZipFile(source)
    except _BROKEN:
        if start == _ZIP_START:
            raise PackageUnreadable(
                "The file begins as an archive but its end is missing or damaged: it was cut off.",
                remedy="Build or fetch the package again.",
                code="package-cut-off",
            ) from None
        raise PackageUnreadable(
            "The file is no archive, so it is no app package.",
            remedy="Hand in an APK, AAB, IPA or MSIX file.",
            code="not-an-archive",
        ) from None
    with opened:
        yield Archive(opened, source, verify=verify)


def _demand_short_directory(source: BinaryIO) -> None:
    """The central directory is read into memory, so its stated size is bounded before that (APPNOTE 4.3.14 to 4.3.16)."""
    size = source.seek(0, 2)
    source.seek(max(0, size - _TAIL_BYTES))
    tail = source.read()
    end = tail.rfind(b"PK\x05\x06")
    if end < 0 or end + 16 > len(tail):
        return
    (directory_bytes,) = struct.unpack_from("<I", tail, end + 12)
    large = tail.rfind(b"PK\x06\x06", 0, end)
    if directory_bytes == 0xFFFFFFFF and 0 <= large <= len(tail) - 48:
        (directory_bytes,) = struct.unpack_from("<Q", tail, large + 40)
    if directory_bytes != 0xFFFFFFFF and directory_bytes > DIRECTORY_LIMIT_BYTES:
        raise PackageUnreadable(
            f"The archive's directory has {directory_bytes} bytes; {DIRECTORY_LIMIT_BYTES} are read at most.",
            code="directory-too-large",
        )
