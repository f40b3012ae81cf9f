"""One entrance for all formats: look at the archive and read it as what it is."""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Iterator
from contextlib import contextmanager
from typing import BinaryIO

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.aab import is_aab, read_aab
from restless_tide.core.packages.apk import is_apk, read_apk
from restless_tide.core.packages.archive import BLOCK_BYTES, MEMBER_LIMIT_BYTES, opened_archive
from restless_tide.core.packages.facts import Facts
from restless_tide.core.packages.ipa import is_ipa, read_ipa
from restless_tide.core.packages.msix import is_msix, read_msix

_READERS = ((is_aab, read_aab), (is_apk, read_apk), (is_ipa, read_ipa), (is_msix, read_msix))


def inspect_package(source: BinaryIO, sha256: str | None = None, *, verify: bool = True) -> Facts:
    """Read the facts of the package in ``source``, a seekable binary file; its signatures are verified unless told not to.

    The digest is computed over the whole file in constant memory unless the caller knows it already.
    Raises PackageUnreadable with one line that says what is wrong with the file.
    """
    with _one_line(), opened_archive(source, verify=verify) as archive:
        read = next((read for fits, read in _READERS if fits(archive)), None)
        if read is None:
            raise PackageUnreadable(
                "The archive holds neither a manifest that is known nor a Payload folder, so it is no app package.",
                remedy="Hand in an APK, AAB, IPA or MSIX file.",
                code="no-manifest",
            )
        return read(archive, source.seek(0, 2), sha256 or _digest(source))


def read_icon(source: BinaryIO, facts: Facts) -> bytes | None:
    """The bytes of the icon that the facts name, when a browser can show it. Raises PackageUnreadable."""
    if facts.icon is None or not facts.icon.media_type:
        return None
    with _one_line(), opened_archive(source) as archive:
        if facts.icon.member not in archive or archive.size(facts.icon.member) > MEMBER_LIMIT_BYTES // 16:
            return None
        return archive.read(facts.icon.member)


@contextmanager
def _one_line() -> Iterator[None]:
    """A number that does not fit where the format wants one is damage, not a fault of ours."""
    try:
        yield
    except (struct.error, OverflowError, UnicodeError, RecursionError):
        raise PackageUnreadable("The package is damaged.", remedy="Build or fetch the package again.") from None


def _digest(source: BinaryIO) -> str:
    source.seek(0)
    digest = hashlib.sha256()
    while block := source.read(BLOCK_BYTES):
        digest.update(block)
    return digest.hexdigest()
