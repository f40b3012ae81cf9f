"""Reading an MSIX package or bundle by the Open Packaging rules (ECMA-376, part 2), its block map held against it."""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
from collections.abc import Collection, Iterator
from dataclasses import replace
from itertools import zip_longest
from typing import Any
from urllib.parse import unquote
from xml.etree import ElementTree
from xml.parsers import expat

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.packages.archive import BLOCK_BYTES, Archive, opened_archive
from restless_tide.core.packages.bounds import (
    BLOCK_MAP_LIMIT_BYTES,
    INNER_PACKAGES_LIMIT,
    MANIFEST_LIMIT_BYTES,
    SIGNED_DATA_LIMIT_BYTES,
)
from restless_tide.core.packages.certificates import certificates_of
from restless_tide.core.packages.cms import read_signed
from restless_tide.core.packages.contents import contents_of
from restless_tide.core.packages.directory import shown
from restless_tide.core.packages.facts import Facts, Part, Signature
from restless_tide.core.packages.kinds import MSIX_BUNDLE_MANIFEST, MSIX_MANIFEST
from restless_tide.core.packages.pictures import largest
from restless_tide.core.packages.window import window

_BLOCK_MAP = "AppxBlockMap.xml"
_SIGNATURE = "AppxSignature.p7x"
_SIGNATURE_MARK = b"PKCX"
_NOT_MAPPED = (_BLOCK_MAP, _SIGNATURE, "[Content_Types].xml", "AppxMetadata/CodeIntegrity.cat")
"""What the signature covers instead of the block map."""
_FOUNDATION = "{http://schemas.microsoft.com/appx/manifest/foundation/windows10}"
_BUNDLE = "{http://schemas.microsoft.com/appx/2013/bundle}"
_VISUAL = "{http://schemas.microsoft.com/appx/manifest/uap/windows10}"
_VERSION = re.compile(r"(\d{1,5})\.(\d{1,5})\.(\d{1,5})\.(\d{1,5})")
_LARGEST_PART = 65_535
_BLOCK_BYTES = 65_536
_DIGESTS = {
    "http://www.w3.org/2001/04/xmlenc#sha256": "sha256",
    "http://www.w3.org/2001/04/xmldsig-more#sha384": "sha384",
    "http://www.w3.org/2001/04/xmlenc#sha512": "sha512",
}
_PARTS = {
    b"AXPC": "its members", b"AXCD": "its directory", b"AXCT": "its list of content types",
    b"AXBM": "its block map", b"AXCI": "its code integrity file",
}  # fmt: skip
"""What each digest of a signature is made over. All of them are there but the last, which goes with its file."""
_DIGESTS_START = b"APPX"
_CONTENT_TYPES, _CODE_INTEGRITY = "[Content_Types].xml", "AppxMetadata/CodeIntegrity.cat"
_DEPTH_LIMIT = 100


def read_msix(archive: Archive, size_bytes: int, sha256: str) -> Facts:
    """The facts of a package or bundle; the fourth part of its version is the number. Raises PackageUnreadable."""
    folded = {name.casefold() for name in archive.names}
    if len(folded) < len(archive.names):
        raise PackageUnreadable(
            "The package names two members that differ only in capital letters; its devices see one.",
            code="archive-ambiguous",
        )
    if MSIX_BUNDLE_MANIFEST in archive:
        return _read_bundle(archive, size_bytes, sha256)
    root = _tree(archive, MSIX_MANIFEST)
    identity = _identity(root, _FOUNDATION)
    if _BLOCK_MAP not in archive:
        raise PackageUnreadable("The package has no block map, so its content cannot be checked by anybody.")
    version, number = read_version(identity.get("Version", ""))
    family = root.find(f"{_FOUNDATION}Dependencies/{_FOUNDATION}TargetDeviceFamily")
    label = root.find(f"{_FOUNDATION}Properties/{_FOUNDATION}DisplayName")
    families = root.findall(f"{_FOUNDATION}Dependencies/{_FOUNDATION}TargetDeviceFamily")
    resources = root.findall(f"{_FOUNDATION}Resources/{_FOUNDATION}Resource")
    processor = identity.get("ProcessorArchitecture")
    return Facts(
        format="msix",
        identifier=identity.get("Name", ""),
        version=version,
        number=number,
        lowest_platform=None if family is None else family.get("MinVersion"),
        target_platform=None if family is None else family.get("MaxVersionTested"),
        permissions=_capabilities(root),
        label=None if label is None else label.text,
        locales=tuple(sorted({entry.get("Language", "") for entry in resources} - {""})),
        processors=(processor,) if processor else (),
        device_families=tuple(entry.get("Name", "") for entry in families),
        publisher=identity.get("Publisher"),
        signatures=(_signature(archive),),
        icon=largest(archive, _logos(archive, root)),
        contents=contents_of(archive),
        size_bytes=size_bytes,
        sha256=sha256,
    )


def read_version(text: str) -> tuple[str, BuildNumber]:
    """``2.4.0.7`` as the version ``2.4.0`` and the number 7. Raises PackageUnreadable."""
    found = _VERSION.fullmatch(text)
    parts = [int(part) for part in found.groups()] if found else []
    if not parts or max(parts) > _LARGEST_PART:
        raise PackageUnreadable(
            f"The package's version is {text[:40]!r}; it needs four parts up to {_LARGEST_PART}.",
            remedy="Write it like 2.4.0.7.",
        )
    return ".".join(map(str, parts[:3])), BuildNumber(parts[3])


def _read_bundle(archive: Archive, size_bytes: int, sha256: str) -> Facts:
    root = _tree(archive, MSIX_BUNDLE_MANIFEST)
    identity = _identity(root, _BUNDLE)
    version, number = read_version(identity.get("Version", ""))
    listed = root.findall(f"{_BUNDLE}Packages/{_BUNDLE}Package")
    if len(listed) > INNER_PACKAGES_LIMIT:
        raise PackageUnreadable(f"The bundle lists {len(listed)} packages; {INNER_PACKAGES_LIMIT} are read at most.")
    names = [entry.get("FileName", "") for entry in listed]
    if len(set(names)) < len(names):
        raise PackageUnreadable("The bundle lists a package twice.", remedy="Build the bundle again.")
    inner, parts, remarks = [], [], []
    broken: list[str] = []
    unsigned: list[str] = []
    for entry in listed:
        name, kind = entry.get("FileName", ""), entry.get("Type", "resource")
        if name not in archive:
            remarks.append(f"The bundle lists {shown(name)}, which is not in it.")
            continue
        span = archive.span(name)
        if span is None:
            raise PackageUnreadable(f"{shown(name)} is packed a second time; bundles hold their packages as they are.")
        with opened_archive(window(archive.source, *span), verify=archive.verify, effort=archive.effort) as package:
            facts = read_msix(package, span[1], "")
        if kind == "application":
            inner.append(facts)
        if facts.identifier != identity.get("Name"):
            remarks.append(f"{shown(name)} belongs to {facts.identifier}, the bundle to {identity.get('Name')}.")
        parts.append(_package_part(name, facts))
        broken.extend(f"{shown(name)}: {entry.trouble}" for entry in facts.signatures if entry.verified is False)
        if not any(entry.signers for entry in facts.signatures):
            unsigned.append(f"{shown(name)}: nobody signed it")
    if not inner:
        raise PackageUnreadable("The bundle holds no package of the app.", remedy="Build the bundle again.")
    first, signature = inner[0], _signature(archive, set(names))
    if signature.signers:  # a bundle that is signed holds no better than what is in it
        broken += unsigned
    if broken:
        signature = replace(signature, verified=False, trouble=broken[0])
    return replace(
        first,
        format="msixbundle",
        identifier=identity.get("Name", ""),
        version=version,
        number=number,
        publisher=identity.get("Publisher"),
        permissions=tuple(sorted({name for facts in inner for name in facts.permissions})),
        processors=tuple(sorted({name for facts in inner for name in facts.processors})),
        locales=tuple(sorted({name for facts in inner for name in facts.locales})),
        parts=tuple(parts),
        signatures=(signature,),
        icon=None,
        contents=contents_of(archive),
        remarks=tuple(remarks),
        size_bytes=size_bytes,
        sha256=sha256,
    )


def _package_part(name: str, facts: Facts) -> Part:
    return Part(
        kind="package",
        name=name,
        identifier=facts.identifier,
        version=facts.version,
        number=str(facts.number),
        processors=facts.processors,
        size_bytes=facts.size_bytes,
    )


def _identity(root: ElementTree.Element, namespace: str) -> ElementTree.Element:
    identity = root.find(f"{namespace}Identity")
    if identity is None or not identity.get("Name"):
        raise PackageUnreadable("The package's manifest has no identity.", remedy="Build the package again.")
    return identity


def _capabilities(root: ElementTree.Element) -> tuple[str, ...]:
    found = root.find(f"{_FOUNDATION}Capabilities")
    return tuple(sorted(entry.get("Name", "") for entry in ([] if found is None else found)))


def _logos(archive: Archive, root: ElementTree.Element) -> list[str]:
    """The pictures that the manifest calls its logo, in every scale that stands beside it."""
    named = [element.text or "" for element in root.findall(f"{_FOUNDATION}Properties/{_FOUNDATION}Logo")]
    for element in root.iter(f"{_VISUAL}VisualElements"):
        named.extend(element.get(key, "") for key in ("Square150x150Logo", "Square44x44Logo"))
    stems = tuple(name.replace("\\", "/").removesuffix(".png") for name in named if name)
    return [name for name in archive.names if stems and name.startswith(stems) and name.endswith(".png")]


def _signature(archive: Archive, apart: Collection[str] = ()) -> Signature:
    """What the block map states, held against every member, and the signature over it as far as it goes here.

    ``apart`` are the packages of a bundle, each of which has a block map of its own.
    """
    try:
        changed = _changed(archive, apart) if archive.verify else ""
        signers, held = _signers(archive)
    except PackageUnreadable as wrong:
        return Signature(scheme="package", verified=False, trouble=wrong.detail)
    if changed or held:
        return Signature(scheme="package", verified=False, trouble=changed or held, signers=certificates_of(signers))
    if not signers:
        matches = "its content matches its block map; " if archive.verify else ""
        return Signature(scheme="package", verified=None, trouble=f"{matches}nobody signed it")
    return Signature(scheme="package", verified=archive.verify or None, signers=certificates_of(signers))


def _signers(archive: Archive) -> tuple[tuple[bytes, ...], str]:
    """Who signed, and what is wrong with the signature. It states a digest for each part of the package."""
    if _SIGNATURE not in archive:
        return (), ""
    content = archive.read(_SIGNATURE, SIGNED_DATA_LIMIT_BYTES)
    if not content.startswith(_SIGNATURE_MARK):
        raise PackageUnreadable("The package's signature is damaged.")
    signed = read_signed(content[len(_SIGNATURE_MARK) :], "The package's signature")
    return signed.signers, signed.trouble() or _not_as_signed(archive, signed.content)


def _not_as_signed(archive: Archive, content: bytes) -> str:
    """The first part of the package that is not what the signature's digests state, in words."""
    begin = content.rfind(_DIGESTS_START)
    stated, at = {}, begin + len(_DIGESTS_START)
    width = next(
        (width for width in (32, 48, 64) if begin >= 0 and content[at + 4 + width : at + 8 + width] in _PARTS), 0
    )
    while width and content[at : at + 4] in _PARTS:
        stated[content[at : at + 4]] = content[at + 4 : at + 4 + width]
        at += 4 + width
    optional = set() if _CODE_INTEGRITY in archive else {b"AXCI"}
    if not width or at != len(content) or set(_PARTS) - set(stated) - optional:
        return "it states no digests of a package"
    if optional and b"AXCI" in stated:
        return f"it covers {_PARTS[b'AXCI']}, which is gone"
    if not archive.verify:
        return ""
    name = {32: "sha256", 48: "sha384", 64: "sha512"}[width]
    for part, digest in stated.items():
        if _part_digest(archive, part, name) != digest:
            return f"{_PARTS[part]} {'were' if part == b'AXPC' else 'was'} changed after it was signed"
    return ""


def _part_digest(archive: Archive, part: bytes, name: str) -> bytes:
    """The digest of one part. Members and directory are taken as they were before the signature was added to them."""
    digest = hashlib.new(name)
    if part == b"AXPC":
        for begin, end in _before_signing(archive):
            while begin < end and (block := archive.read_at(min(BLOCK_BYTES, end - begin), begin)):
                digest.update(block)
                begin += len(block)
    elif part == b"AXCD":
        digest.update(archive.directory_without(_SIGNATURE))
    else:
        named = {b"AXCT": _CONTENT_TYPES, b"AXBM": _BLOCK_MAP, b"AXCI": _CODE_INTEGRITY}[part]
        for block in archive.blocks(named):
            digest.update(block)
    return digest.digest()


def _before_signing(archive: Archive) -> list[tuple[int, int]]:
    """Where the members lie that were there before the signature: from and up to, in bytes."""
    begins = [*sorted(member.header_at for member in archive.members), archive.directory_at]
    signed_at = archive[_SIGNATURE].header_at
    after = begins[begins.index(signed_at) + 1]
    return [(0, signed_at), (after, archive.directory_at)]


def _changed(archive: Archive, apart: Collection[str]) -> str:
    """The first member that is not what the block map states, in words."""
    plain = {unquote(name): name for name in archive.names}
    mapped: set[str] = set()
    digest = ""
    name: str | None = None
    stated: list[bytes] = []

    def look() -> str:
        if name is None:
            return ""
        found = (hashlib.new(digest, block).digest() for block in archive.blocks(name, _BLOCK_BYTES))
        changed = any(one != other for one, other in zip_longest(stated, found))
        return f"{shown(name)} is not what the block map states" if changed else ""

    for tag, attributes in _streamed(archive, _BLOCK_MAP):
        kind = tag.rpartition("}")[2]
        if kind == "BlockMap":
            found = _DIGESTS.get(attributes.get("HashMethod", ""))
            if found is None:
                return "its block map is made with a digest that is not known"
            digest = found
        elif kind == "File":
            wrong = look()
            if wrong:
                return wrong
            told = attributes.get("Name", "")
            name, stated = _member(archive, plain, told), []
            if name is None:
                return f"{shown(told)} stands in the block map but not in the package"
            if name in mapped:
                return f"{shown(name)} stands twice in the block map"
            mapped.add(name)
        elif kind == "Block":
            stated.append(_octets(attributes.get("Hash", "")))
    if not digest:
        return "its block map is made with a digest that is not known"
    wrong = look()
    if wrong:
        return wrong
    left = (name for name in archive.names if name not in mapped and name not in _NOT_MAPPED and name not in apart)
    added = next((name for name in left if not name.endswith("/")), None)
    return "" if added is None else f"{shown(added)} does not stand in the block map"


def _member(archive: Archive, plain: dict[str, str], name: str) -> str | None:
    """The member of a block map's name: there with backslashes, in the archive with escapes as in addresses."""
    wanted = name.replace("\\", "/")
    return wanted if wanted in archive else plain.get(wanted)


def _octets(text: str) -> bytes:
    try:
        return base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError):
        return b""


def _streamed(archive: Archive, name: str) -> Iterator[tuple[str, dict[str, str]]]:
    """Every element of a document inside the package with its attributes, in its sequence, none kept."""
    if archive.size(name) > BLOCK_MAP_LIMIT_BYTES:
        raise PackageUnreadable(f"{shown(name)} unpacks to more than {BLOCK_MAP_LIMIT_BYTES} bytes.")
    found: list[tuple[str, dict[str, str]]] = []
    parser = _parser()
    parser.StartElementHandler = lambda tag, attributes: found.append((tag, attributes))
    for block in archive.blocks(name, _BLOCK_BYTES):
        _feed(parser, block, last=False)
        archive.effort.spend(len(found) // 4)  # each is looked at in a few steps only
        yield from found
        found.clear()
    _feed(parser, b"", last=True)
    yield from found


def _parser() -> Any:
    """A reader of XML that takes no entities, and nothing nested very deep."""
    parser = expat.ParserCreate(namespace_separator="}")

    def refuse(*_: object) -> None:
        raise PackageUnreadable(
            "The package's manifest declares entities; no manifest needs any.", code="manifest-unfit"
        )

    parser.StartDoctypeDeclHandler = parser.EntityDeclHandler = refuse
    parser.buffer_text = True
    return parser


def _feed(parser: Any, block: bytes, *, last: bool) -> None:
    try:
        parser.Parse(block, last)
    except (expat.ExpatError, ValueError, LookupError):
        raise PackageUnreadable("The package's manifest is damaged.", remedy="Build the package again.") from None


def _tree(archive: Archive, name: str) -> ElementTree.Element:
    """A manifest as a tree, built only as far as manifests go."""
    content = archive.read(name, MANIFEST_LIMIT_BYTES)
    builder = ElementTree.TreeBuilder()
    depth, parser = [0], _parser()

    def begin(tag: str, attributes: dict[str, str]) -> None:
        depth[0] += 1
        if depth[0] > _DEPTH_LIMIT:
            raise PackageUnreadable(f"The package's manifest nests deeper than {_DEPTH_LIMIT} elements.")
        archive.effort.spend(1 + len(attributes))
        builder.start(_braced(tag), {_braced(key): value for key, value in attributes.items()})

    def end(tag: str) -> None:
        depth[0] -= 1
        builder.end(_braced(tag))

    parser.StartElementHandler, parser.EndElementHandler = begin, end
    parser.CharacterDataHandler = builder.data
    _feed(parser, content, last=True)
    return builder.close()


def _braced(name: str) -> str:
    """A name with its namespace as ElementTree writes it."""
    return "{" + name if "}" in name else name
