"""Reading an APK: manifest, resource table, processor kinds, icon, its signatures verified, and what installs it."""

from __future__ import annotations

from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.binary_xml import elements
from restless_tide.core.packages.bounds import MANIFEST_LIMIT_BYTES, TABLE_LIMIT_BYTES
from restless_tide.core.packages.contents import contents_of
from restless_tide.core.packages.drawn_icons import icon_of_app
from restless_tide.core.packages.facts import Facts
from restless_tide.core.packages.installing import read_signatures
from restless_tide.core.packages.kinds import ANDROID_MANIFEST
from restless_tide.core.packages.manifest import Manifest, NoResources, fill
from restless_tide.core.packages.resource_table import ResourceTable

RESOURCES = "resources.arsc"


def read_apk(archive: Archive, size_bytes: int, sha256: str) -> Facts:
    """The facts of an APK. Raises PackageUnreadable."""
    effort = archive.effort
    table = archive.view(RESOURCES, TABLE_LIMIT_BYTES) if RESOURCES in archive else None
    resources = ResourceTable(table, effort) if table is not None else NoResources()
    manifest = fill(Manifest(resources), elements(archive.read(ANDROID_MANIFEST, MANIFEST_LIMIT_BYTES), effort))
    identifier = manifest.demand_identifier()
    signatures, installs, remarks = read_signatures(archive, manifest)
    return Facts(
        format="apk",
        identifier=identifier,
        installs=installs,
        processors=processors_of(archive, "lib/"),
        split=manifest.split,
        feature_split=manifest.feature_split,
        signatures=signatures,
        icon=icon_of_app(archive, manifest.icons, resources, elements),
        contents=contents_of(archive),
        remarks=remarks,
        size_bytes=size_bytes,
        sha256=sha256,
        **manifest.facts(),
    )


def processors_of(archive: Archive, folder: str) -> tuple[str, ...]:
    """The processor kinds for which ``folder`` holds native code, as the platform names them."""
    found = {
        name.removeprefix(folder).split("/")[0]
        for name in archive.names
        if name.startswith(folder) and name.count("/") > folder.count("/") and name.endswith(".so")
    }
    return tuple(sorted(found))
