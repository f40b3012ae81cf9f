"""Reading an AAB: the base module's manifest and resources, the other modules, the bundle's own settings."""

from __future__ import annotations

from restless_tide.core.packages.apk import processors_of
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.bounds import MANIFEST_LIMIT_BYTES, PARTS_LIMIT, TABLE_LIMIT_BYTES
from restless_tide.core.packages.contents import contents_of
from restless_tide.core.packages.drawn_icons import icon_of_app
from restless_tide.core.packages.facts import Facts, Part
from restless_tide.core.packages.jar_signature import jar_signature
from restless_tide.core.packages.kinds import BUNDLE_CONFIGURATION
from restless_tide.core.packages.manifest import Manifest, NoResources, fill
from restless_tide.core.packages.proto_resources import ProtoResources, proto_elements
from restless_tide.core.packages.wire_format import Message

_BASE = "base"
_MANIFEST = "/manifest/AndroidManifest.xml"
_TOOL, _TOOL_VERSION = 1, 2


def read_aab(archive: Archive, size_bytes: int, sha256: str) -> Facts:
    """The facts of an app bundle: of its base module, with the other modules as parts. Raises PackageUnreadable."""
    base = _module(archive, _BASE)
    identifier = base.demand_identifier()
    names = [name.removesuffix(_MANIFEST) for name in archive.names if name.endswith(_MANIFEST)]
    modules = {name: _module(archive, name) for name in sorted(names)[:PARTS_LIMIT] if name != _BASE}
    signature = jar_signature(archive, "jar")
    every = (base, *modules.values())
    processors = {kind for name in (_BASE, *modules) for kind in processors_of(archive, f"{name}/lib/")}
    told = base.facts() | {
        "permissions": tuple({name: None for module in every for name in module.permissions}),
        "features": tuple({name: None for module in every for name in module.features}),
    }
    return Facts(
        format="aab",
        identifier=identifier,
        processors=tuple(sorted(processors)),
        parts=tuple(_part(archive, name, module) for name, module in modules.items()),
        signatures=(signature,) if signature else (),
        icon=icon_of_app(archive, base.icons, base.resources, proto_elements, f"{_BASE}/"),
        contents=contents_of(archive),
        made_by=_made_by(archive),
        remarks=(base.resources.remark,) if base.resources.remark else (),
        size_bytes=size_bytes,
        sha256=sha256,
        **told,
    )


def _module(archive: Archive, name: str) -> Manifest:
    table, effort = f"{name}/resources.pb", archive.effort
    resources = ProtoResources(archive.view(table, TABLE_LIMIT_BYTES), effort) if table in archive else NoResources()
    return fill(Manifest(resources), proto_elements(archive.read(name + _MANIFEST, MANIFEST_LIMIT_BYTES), effort))


def _part(archive: Archive, name: str, module: Manifest) -> Part:
    weight = sum(member.packed_bytes for member in archive.members if member.name.startswith(f"{name}/"))
    processors = processors_of(archive, f"{name}/lib/")
    return Part(kind="module", name=module.split or name, processors=processors, size_bytes=weight)


def _made_by(archive: Archive) -> str:
    there = BUNDLE_CONFIGURATION in archive
    tool = (
        Message(archive.read(BUNDLE_CONFIGURATION, MANIFEST_LIMIT_BYTES), archive.effort).message(_TOOL)
        if there
        else None
    )
    version = tool.text(_TOOL_VERSION) if tool else ""
    return f"bundling tool {version[:40]}" if version else ""
