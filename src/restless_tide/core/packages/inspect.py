"""One entrance for all formats: look at the archive and read it as what it is."""

from __future__ import annotations

import hashlib
import importlib
import struct
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import BinaryIO

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.archive import BLOCK_BYTES, WORTH_A_THREAD_BYTES, Archive, opened_archive
from restless_tide.core.packages.bounds import ICON_LIMIT_BYTES
from restless_tide.core.packages.facts import Facts, legible, printable
from restless_tide.core.packages.kinds import kind_of

Read = Callable[[Archive, int, str], Facts]


def inspect_package(source: BinaryIO, sha256: str | None = None, *, verify: bool = True) -> Facts:
    """Read the facts of the package in ``source``, a seekable binary file; its signatures are verified unless told not to.

    The digest is computed over the whole file in constant memory unless the caller knows it already.
    Raises PackageUnreadable with one line that says what is wrong with the file.
    """
    with _one_line(), opened_archive(source, verify=verify) as archive:
        read = reader_of(archive)
        if sha256:
            return legible(read(archive, archive.size_bytes, sha256))
        if not archive.apart or archive.size_bytes < WORTH_A_THREAD_BYTES:
            return legible(read(archive, archive.size_bytes, _digest(archive)))
        from concurrent.futures import ThreadPoolExecutor  # not loaded for a small file

        with ThreadPoolExecutor(1) as beside:
            digest = beside.submit(_digest, archive)
            facts = read(archive, archive.size_bytes, "")
            return legible(facts.with_digest(digest.result()))


def reader_of(archive: Archive) -> Read:
    """What reads a package of this kind; only this is loaded. Raises PackageUnreadable for what is no package."""
    kind = kind_of(archive)
    if kind is None:
        raise PackageUnreadable(
            "The archive holds neither a manifest that is known nor a Payload folder, so it is no app package.",
            remedy="Hand in an APK, AAB, IPA or MSIX file.",
            code="no-manifest",
        )
    module = importlib.import_module(f"{__package__}.{kind}")
    read: Read = getattr(module, f"read_{kind}")
    return read


def read_icon(source: BinaryIO, facts: Facts) -> bytes | None:
    """The bytes of the icon that the facts name, when a browser can show it. Raises PackageUnreadable."""
    if facts.icon is None or not facts.icon.media_type:
        return None
    with _one_line(), opened_archive(source) as archive:
        if facts.icon.member not in archive or archive.size(facts.icon.member) > ICON_LIMIT_BYTES:
            return None
        return archive.read(facts.icon.member)


@contextmanager
def _one_line() -> Iterator[None]:
    """A number that does not fit where the format wants one is damage, not a fault of ours; and no text steers a terminal."""
    try:
        yield
    except PackageUnreadable as wrong:
        if wrong.detail.isprintable():
            raise
        raise PackageUnreadable(printable(wrong.detail), remedy=wrong.remedy, code=wrong.code) from None
    except (struct.error, OverflowError, UnicodeError, RecursionError):
        raise PackageUnreadable("The package is damaged.", remedy="Build or fetch the package again.") from None


def _digest(archive: Archive) -> str:
    digest, at = hashlib.sha256(), 0
    while block := archive.read_at(BLOCK_BYTES, at):
        digest.update(block)
        at += len(block)
    return digest.hexdigest()
