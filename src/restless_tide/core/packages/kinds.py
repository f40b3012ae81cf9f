"""Which format an archive is in, by the names inside it. Knows names alone, so that a reader is loaded only where it is needed."""

from __future__ import annotations

import re

from restless_tide.core.packages.archive import Archive

ANDROID_MANIFEST = "AndroidManifest.xml"
BUNDLE_CONFIGURATION, BASE_MANIFEST = "BundleConfig.pb", "base/manifest/AndroidManifest.xml"
MSIX_MANIFEST, MSIX_BUNDLE_MANIFEST = "AppxManifest.xml", "AppxMetadata/AppxBundleManifest.xml"
PAYLOAD = "Payload/"
APP_INFO = re.compile(r"(Payload/[^/]+\.app/)Info\.plist")


def kind_of(archive: Archive) -> str | None:
    """aab, apk, ipa or msix; None for what is no package."""
    if BUNDLE_CONFIGURATION in archive or BASE_MANIFEST in archive:
        return "aab"
    if ANDROID_MANIFEST in archive:
        return "apk"
    if any(name.startswith(PAYLOAD) for name in archive.names):
        return "ipa"
    return "msix" if MSIX_MANIFEST in archive or MSIX_BUNDLE_MANIFEST in archive else None
