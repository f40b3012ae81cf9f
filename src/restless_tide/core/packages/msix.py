"""Reading an MSIX package or bundle by the Open Packaging rules (ECMA-376, part 2), its block map held against it."""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
from collections.abc import Collection
from itertools import zip_longest
from urllib.parse import unquote
from xml.etree import ElementTree
from xml.parsers.expat import ExpatError

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.packages.archive import Archive, opened_archive
from restless_tide.core.packages.certificates import certificates_of
from restless_tide.core.packages.cms import read_signed
from restless_tide.core.packages.contents import contents_of
from restless_tide.core.packages.facts import Facts, Part, Signature
from restless_tide.core.packages.pictures import largest
from restless_tide.core.packages.window import window

_MANIFEST = "AppxManifest.xml"
_BUNDLE_MANIFEST = "AppxMetadata/AppxBundleManifest.xml"
_BLOCK_MAP = "AppxBlockMap.xml"
_SIGNATURE = "AppxSignature.p7x"
_SIGNATURE_MARK = b"PKCX"
_NOT_MAPPED = (_BLOCK_MAP, _SIGNATURE, "[Content_Types].xml", "AppxMetadata/CodeIntegrity.cat")
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
_PACKAGES_LIMIT = 200


def is_msix(archive: Archive) -> bool:
    return _MANIFEST in archive or _BUNDLE_MANIFEST in archive


def read_msix(archive: Archive, size_bytes: int, sha256: str) -> Facts:
    """The facts of a package or bundle; the fourth part of its version is the number. Raises PackageUnreadable."""
    if _BUNDLE_MANIFEST in archive:
        return _read_bundle(archive, size_bytes, sha256)
    root = _tree(archive.read(_MANIFEST))
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
    root = _tree(archive.read(_BUNDLE_MANIFEST))
    identity = _identity(root, _BUNDLE)
    version, number = read_version(identity.get("Version", ""))
    listed = root.findall(f"{_BUNDLE}Packages/{_BUNDLE}Package")[:_PACKAGES_LIMIT]
    inner, parts, remarks = [], [], []
    broken: list[str] = []
    for entry in listed:
        name, kind = entry.get("FileName", ""), entry.get("Type", "resource")
        if name not in archive:
            remarks.append(f"The bundle lists {name[:80]}, which is not in it.")
            continue
        span = archive.span(name)
        if span is None:
            raise PackageUnreadable(f"{name[:80]} is packed a second time; bundles hold their packages as they are.")
        with opened_archive(window(archive.source, *span), verify=archive.verify) as package:
            facts = read_msix(package, span[1], "")
        if kind == "application":
            inner.append(facts)
        if facts.identifier != identity.get("Name"):
            remarks.append(f"{name[:80]} belongs to {facts.identifier}, the bundle to {identity.get('Name')}.")
        parts.append(_package_part(name, facts))
        broken.extend(f"{name[:80]}: {entry.trouble}" for entry in facts.signatures if entry.verified is False)
    if not inner:
        raise PackageUnreadable("The bundle holds no package of the app.", remedy="Build the bundle again.")
    first, signature = inner[0], _signature(archive, {entry.get("FileName", "") for entry in listed})
    if broken:  # a bundle holds no better than what is in it
        signature = signature.model_copy(update={"verified": False, "trouble": broken[0]})
    return first.model_copy(
        update={
            "format": "msixbundle",
            "identifier": identity.get("Name", ""),
            "version": version,
            "number": number,
            "publisher": identity.get("Publisher"),
            "permissions": tuple(sorted({name for facts in inner for name in facts.permissions})),
            "processors": tuple(sorted({name for facts in inner for name in facts.processors})),
            "locales": tuple(sorted({name for facts in inner for name in facts.locales})),
            "parts": tuple(parts),
            "signatures": (signature,),
            "icon": None,
            "contents": contents_of(archive),
            "remarks": tuple(remarks),
            "size_bytes": size_bytes,
            "sha256": sha256,
        }
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
    """Who signed, and what is wrong with the signature. Its digest list must name the block map as it is."""
    if _SIGNATURE not in archive:
        return (), ""
    content = archive.read(_SIGNATURE)
    if not content.startswith(_SIGNATURE_MARK):
        raise PackageUnreadable("The package's signature is damaged.")
    signed = read_signed(content[len(_SIGNATURE_MARK) :], "The package's signature")
    trouble = signed.trouble()
    if not trouble and b"AXBM" + _block_map_digest(archive) not in signed.content:
        trouble = "it signs another block map"
    return signed.signers, trouble


def _block_map_digest(archive: Archive) -> bytes:
    return hashlib.sha256(archive.read(_BLOCK_MAP)).digest()


def _changed(archive: Archive, apart: Collection[str]) -> str:
    """The first member that is not what the block map states, in words."""
    root = _tree(archive.read(_BLOCK_MAP))
    digest = _DIGESTS.get(root.get("HashMethod", ""))
    if digest is None:
        return "its block map is made with a digest that is not known"
    mapped = set()
    plain = {unquote(name): name for name in archive.names}
    for file in root:
        name = _member(archive, plain, file.get("Name", ""))
        if name is None:
            return f"{file.get('Name', '')[:80]} stands in the block map but not in the package"
        mapped.add(name)
        stated = [_octets(block.get("Hash", "")) for block in file]
        found = (hashlib.new(digest, block).digest() for block in archive.blocks(name, _BLOCK_BYTES))
        if any(one != other for one, other in zip_longest(stated, found)):
            return f"{name} is not what the block map states"
    left = (name for name in archive.names if name not in mapped and name not in _NOT_MAPPED and name not in apart)
    added = next((name for name in left if not name.endswith("/")), None)
    return "" if added is None else f"{added} does not stand in the block map"


def _member(archive: Archive, plain: dict[str, str], name: str) -> str | None:
    """The member of a block map's name: there with backslashes, in the archive with escapes as in addresses."""
    wanted = name.replace("\\", "/")
    return wanted if wanted in archive else plain.get(wanted)


def _octets(text: str) -> bytes:
    try:
        return base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError):
        return b""


def _tree(content: bytes) -> ElementTree.Element:
    if b"<!DOCTYPE" in content or b"<!ENTITY" in content:
        raise PackageUnreadable(
            "The package's manifest declares entities; no manifest needs any.", code="manifest-unfit"
        )
    try:
        return ElementTree.fromstring(content)  # noqa: S314  (no entities: refused above)
    except (ElementTree.ParseError, ExpatError, ValueError, LookupError):
        raise PackageUnreadable("The package's manifest is damaged.", remedy="Build the package again.") from None
