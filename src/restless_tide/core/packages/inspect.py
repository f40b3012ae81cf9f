"""One entrance for all formats: look at the archive and read it as what it is."""

from __future__ import annotations

import hashlib
from typing import BinaryIO

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.apk import is_apk, read_apk
from restless_tide.core.packages.archive import opened_archive
from restless_tide.core.packages.facts import Facts
from restless_tide.core.packages.ipa import is_ipa, read_ipa
from restless_tide.core.packages.msix import is_msix, read_msix

_AAB_MARK = "BundleConfig.pb"
_BLOCK_BYTES = 1024 * 1024


def inspect_package(source: BinaryIO, sha256: str | None = None) -> Facts:
    """Read the facts of the package in ``source``, a seekable binary file.

    The digest is computed over the whole file in constant memory unless the caller knows it already.
    Raises PackageUnreadable with one line that says what is wrong with the file.
    """
    with opened_archive(source) as archive:
        if _AAB_MARK in archive:
            raise PackageUnreadable(
                "This is an app bundle (AAB), which the desk does not read yet.",
                remedy="Hand in the APK made from it.",
                code="format-not-read",
            )
        if is_apk(archive):
            read = read_apk
        elif is_ipa(archive):
            read = read_ipa
        elif is_msix(archive):
            read = read_msix
        else:
            raise PackageUnreadable(
                "The archive holds neither an Android manifest nor a Payload folder, so it is no app package.",
                remedy="Hand in an APK, IPA or MSIX file.",
                code="no-manifest",
            )
        return read(archive, source.seek(0, 2), sha256 or _digest(source))


def _digest(source: BinaryIO) -> str:
    source.seek(0)
    digest = hashlib.sha256()
    while block := source.read(_BLOCK_BYTES):
        digest.update(block)
    return digest.hexdigest()
