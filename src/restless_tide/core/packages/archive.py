"""Reading members of a zip archive in place, within stated bounds.

Only the central directory and the members asked for are read, so memory stays flat whatever the
size of the package. A member that unpacks to more than ``MEMBER_LIMIT_BYTES`` is refused before it
is unpacked further, whatever its header says.
"""

from __future__ import annotations

import mmap
import struct
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from typing import BinaryIO

from restless_tide.core.errors import PackageUnreadable

MEMBER_LIMIT_BYTES = 64 * 1024**2
MEMBERS_LIMIT = 200_000
_ZIP_START = b"PK\x03\x04"
_LOCAL_HEADER_BYTES = 30
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
    """An open package archive. Only this class touches ``zipfile``."""

    def __init__(self, opened: zipfile.ZipFile, source: BinaryIO) -> None:
        self._zip = opened
        self._source = source
        self.names = opened.namelist()
        if len(self.names) > MEMBERS_LIMIT:
            raise PackageUnreadable(f"The archive lists {len(self.names)} members; {MEMBERS_LIMIT} are read at most.")
        doubled = len(self.names) - len(set(self.names))
        if doubled:
            raise PackageUnreadable(
                f"The archive lists {doubled} member(s) twice; which of them counts cannot be known.",
                remedy="Build the package again.",
            )

    def __contains__(self, name: str) -> bool:
        return name in self._zip.NameToInfo

    def read(self, name: str) -> bytes:
        """The whole member. Raises PackageUnreadable when it is broken or too large."""
        try:
            with self._zip.open(name) as member:
                content = member.read(MEMBER_LIMIT_BYTES + 1)
        except _BROKEN as wrong:
            raise PackageUnreadable(
                f"{name} inside the package is damaged ({wrong}).", remedy="Build or fetch the package again."
            ) from None
        if len(content) > MEMBER_LIMIT_BYTES:
            raise PackageUnreadable(f"{name} inside the package unpacks to more than {MEMBER_LIMIT_BYTES} bytes.")
        return content

    def view(self, name: str) -> bytes | memoryview:
        """The member as bytes that need not be in memory: a member stored as it is, in a real file, is mapped.

        Raises PackageUnreadable.
        """
        member = self._zip.NameToInfo[name]
        if member.compress_type != zipfile.ZIP_STORED or member.file_size != member.compress_size:
            return self.read(name)
        try:
            mapped = mmap.mmap(self._source.fileno(), 0, access=mmap.ACCESS_READ)
        except (OSError, ValueError):
            return self.read(name)
        start = member.header_offset
        if mapped[start : start + 4] != _ZIP_START:
            raise PackageUnreadable(f"{name} inside the package is not where its archive says.")
        name_bytes, extra_bytes = struct.unpack_from("<HH", mapped, start + 26)
        begin = start + _LOCAL_HEADER_BYTES + name_bytes + extra_bytes
        if begin + member.file_size > len(mapped):
            raise PackageUnreadable(f"{name} inside the package reaches past its end.")
        return memoryview(mapped)[begin : begin + member.file_size]


@contextmanager
def opened_archive(source: BinaryIO) -> Iterator[Archive]:
    """The archive in ``source``, a seekable binary file. Raises PackageUnreadable."""
    source.seek(0)
    start = source.read(4)
    if not start:
        raise PackageUnreadable("The file is empty.", remedy="Hand in the package that the build made.")
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
            remedy="Hand in an APK or IPA file.",
            code="not-an-archive",
        ) from None
    with opened:
        yield Archive(opened, source)
