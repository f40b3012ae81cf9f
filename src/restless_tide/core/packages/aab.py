"""Reading an AAB: the base module's manifest and resources, the other modules, the bundle's own settings."""

from __future__ import annotations

from restless_tide.core.packages.apk import processors_of
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.contents import contents_of
from restless_tide.core.packages.facts import Facts, Part
from restless_tide.core.packages.jar_signature import jar_signature
from restless_tide.core.packages.manifest import Manifest, NoResources, fill
from restless_tide.core.packages.pictures import PICTURES, largest
from restless_tide.core.packages.proto_resources import ProtoResources, proto_elements
from restless_tide.core.packages.wire_format import Message

CONFIGURATION = "BundleConfig.pb"
_BASE = "base"
_MANIFEST = "/manifest/AndroidManifest.xml"
_TOOL, _TOOL_VERSION = 1, 2
_MODULES_LIMIT = 200


def is_aab(archive: Archive) -> bool:
    return CONFIGURATION in archive or _BASE + _MANIFEST in archive


def read_aab(archive: Archive, size_bytes: int, sha256: str) -> Facts:
    """The facts of an app bundle: of its base module, with the other modules as parts. Raises PackageUnreadable."""
    base = _module(archive, _BASE)
    identifier, version, number = base.demand_identity()
    names = [name.removesuffix(_MANIFEST) for name in archive.names if name.endswith(_MANIFEST)]
    modules = {name: _module(archive, name) for name in sorted(names)[:_MODULES_LIMIT] if name != _BASE}
    signature = jar_signature(archive, "jar")
    every = (base, *modules.values())
    processors = {kind for name in (_BASE, *modules) for kind in processors_of(archive, f"{name}/lib/")}
    return Facts(
        format="aab",
        identifier=identifier,
        version=version,
        number=number,
        lowest_platform=base.lowest_platform,
        target_platform=base.target_platform,
        permissions=tuple(dict.fromkeys(name for module in every for name in module.permissions)),
        permission_limits=base.limits,
        features=tuple(dict.fromkeys(name for module in every for name in module.features)),
        label=base.label,
        labels=base.labels,
        locales=base.resources.locales(),
        debuggable=base.debuggable,
        test_only=base.test_only,
        processors=tuple(sorted(processors)),
        parts=tuple(_part(archive, name, module) for name, module in modules.items()),
        signatures=(signature,) if signature else (),
        icon=largest(archive, [f"{_BASE}/{path}" for path in base.icons if path.endswith(PICTURES)]),
        contents=contents_of(archive),
        made_by=_made_by(archive),
        size_bytes=size_bytes,
        sha256=sha256,
    )


def _module(archive: Archive, name: str) -> Manifest:
    table = f"{name}/resources.pb"
    resources = ProtoResources(archive.view(table)) if table in archive else NoResources()
    return fill(Manifest(resources), proto_elements(archive.read(name + _MANIFEST)))


def _part(archive: Archive, name: str, module: Manifest) -> Part:
    weight = sum(member.compress_size for member in archive.members if member.filename.startswith(f"{name}/"))
    processors = processors_of(archive, f"{name}/lib/")
    return Part(kind="module", name=module.split or name, processors=processors, size_bytes=weight)


def _made_by(archive: Archive) -> str:
    tool = Message(archive.read(CONFIGURATION)).message(_TOOL) if CONFIGURATION in archive else None
    version = tool.text(_TOOL_VERSION) if tool else ""
    return f"bundling tool {version[:40]}" if version else ""
