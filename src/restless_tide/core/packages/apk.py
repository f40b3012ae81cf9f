"""Reading an APK: manifest, resource table, processor kinds, icon, and its signatures verified."""

from __future__ import annotations

from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.binary_xml import elements
from restless_tide.core.packages.contents import contents_of
from restless_tide.core.packages.facts import Facts, Icon, Signature
from restless_tide.core.packages.jar_signature import jar_signature
from restless_tide.core.packages.manifest import Manifest, NoResources, fill
from restless_tide.core.packages.pictures import PICTURES, largest
from restless_tide.core.packages.resource_table import ResourceTable
from restless_tide.core.packages.signing_block import read_layout, signatures_of

MANIFEST = "AndroidManifest.xml"
RESOURCES = "resources.arsc"
_DRAWABLE = 0x01010199


def is_apk(archive: Archive) -> bool:
    return MANIFEST in archive


def read_apk(archive: Archive, size_bytes: int, sha256: str) -> Facts:
    """The facts of an APK. Raises PackageUnreadable."""
    resources = ResourceTable(archive.view(RESOURCES)) if RESOURCES in archive else NoResources()
    manifest = fill(Manifest(resources), elements(archive.read(MANIFEST)))
    identifier, version, number = manifest.demand_identity()
    signatures = read_signatures(archive)
    return Facts(
        format="apk",
        identifier=identifier,
        version=version,
        number=number,
        lowest_platform=manifest.lowest_platform,
        target_platform=manifest.target_platform,
        permissions=tuple(dict.fromkeys(manifest.permissions)),
        permission_limits=manifest.limits,
        features=tuple(dict.fromkeys(manifest.features)),
        label=manifest.label,
        labels=manifest.labels,
        locales=resources.locales(),
        debuggable=manifest.debuggable,
        test_only=manifest.test_only,
        processors=processors_of(archive, "lib/"),
        split=manifest.split,
        feature_split=manifest.feature_split,
        signatures=signatures,
        icon=_icon(archive, manifest, resources),
        contents=contents_of(archive),
        size_bytes=size_bytes,
        sha256=sha256,
    )


def processors_of(archive: Archive, folder: str) -> tuple[str, ...]:
    """The processor kinds for which ``folder`` holds native code, as the platform names them."""
    found = {
        name.removeprefix(folder).split("/")[0]
        for name in archive.names
        if name.startswith(folder) and name.count("/") > folder.count("/") and name.endswith(".so")
    }
    return tuple(sorted(found))


def read_signatures(archive: Archive) -> tuple[Signature, ...]:
    """The package's signatures, oldest scheme first, each verified. Raises PackageUnreadable."""
    layout = read_layout(archive.source)
    block = signatures_of(archive.source, layout, verify=archive.verify) if layout else ()
    first = jar_signature(archive, "v1", tuple(entry.scheme for entry in block))
    return (first, *block) if first else block


def _icon(archive: Archive, manifest: Manifest, resources: ResourceTable | NoResources) -> Icon | None:
    """The largest picture behind the icon; a drawn one is looked through for the pictures it is made of."""
    pictures = [path for path in manifest.icons if path.endswith(PICTURES)]
    drawn = [path for path in manifest.icons if path.endswith(".xml") and path in archive]
    for path in drawn[:4] if not pictures else ():
        for element in elements(archive.read(path)):
            drawable = element.by_id.get(_DRAWABLE)
            if drawable is not None and drawable.reference is not None:
                below = (value.given.text for value in resources.values(drawable.reference))
                pictures.extend(text for text in below if text and text.endswith(PICTURES))
    return largest(archive, pictures)
