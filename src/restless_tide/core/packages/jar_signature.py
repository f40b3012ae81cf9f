"""The signature of a JAR file, which an APK calls v1 and an AAB still carries.

Source: the JAR file specification. A manifest states a digest for every member; a signature file
states the digest of the manifest (or of its sections); signed data stands beside the signature file.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
from collections.abc import Iterator
from dataclasses import dataclass

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.certificates import certificates_of
from restless_tide.core.packages.cms import read_signed
from restless_tide.core.packages.facts import Signature

_MANIFEST = "META-INF/MANIFEST.MF"
_SIGNATURE = re.compile(r"META-INF/[^/]+\.SF", re.IGNORECASE)
_BLOCKS = (".RSA", ".DSA", ".EC", ".rsa", ".dsa", ".ec")
_OF_SIGNING = re.compile(r"META-INF/(MANIFEST\.MF|[^/]+\.(SF|RSA|DSA|EC)|SIG-[^/]*)", re.IGNORECASE)
_ALGORITHMS = {"SHA-512": "sha512", "SHA-384": "sha384", "SHA-256": "sha256", "SHA1": "sha1", "SHA": "sha1"}
_OTHER_SCHEMES = "X-Android-APK-Signed"
_SCHEME_NUMBERS = {"2": "v2", "3": "v3"}


@dataclass(frozen=True)
class Section:
    """One section of a manifest: its attributes, and its octets as they stand in the file."""

    attributes: dict[str, str]
    octets: bytes

    def digests(self, suffix: str = "") -> dict[str, bytes]:
        """The digests it states, by algorithm, strongest first."""
        found = {}
        for name, algorithm in _ALGORITHMS.items():
            text = self.attributes.get(f"{name}-Digest{suffix}")
            if text is not None:
                try:
                    found[algorithm] = base64.b64decode(text, validate=True)
                except binascii.Error:
                    found[algorithm] = b""
        return found


def jar_signature(archive: Archive, scheme: str, others: tuple[str, ...] = ()) -> Signature | None:
    """The signature of the archive as ``scheme``, every member verified; None when it carries none.

    ``others`` are the schemes found beside it: a signature file that promises one that is missing
    tells that it was stripped. Raises PackageUnreadable for a member that cannot be unpacked.
    """
    files = [name for name in archive.names if _SIGNATURE.fullmatch(name)]
    if not files:
        return None
    signers: list[bytes] = []
    trouble = ""
    manifest = archive.read(_MANIFEST) if _MANIFEST in archive else b""
    try:
        stated = {section.attributes["Name"]: section for section in sections(manifest) if "Name" in section.attributes}
        for file in files:
            found, wrong = _signed_by(archive, file, manifest, stated, others)
            signers.extend(found)
            trouble = trouble or wrong
        trouble = trouble or (_changed(archive, stated) if archive.verify else "")
    except PackageUnreadable as wrong:
        trouble = trouble or wrong.detail
    verified = False if trouble else True if archive.verify else None
    return Signature(scheme=scheme, verified=verified, trouble=trouble, signers=certificates_of(signers))


def sections(manifest: bytes) -> Iterator[Section]:
    """The sections of a manifest, the main one first; long lines go on after a blank."""
    at = 0
    for found in re.finditer(rb"(?>\r\n|\n|\r)(?>\r\n|\n|\r)+|\Z", manifest):
        octets = manifest[at : found.end()]
        at = found.end()
        if octets.strip():
            yield Section(_attributes(octets), octets)
        if at >= len(manifest):
            return


def _attributes(octets: bytes) -> dict[str, str]:
    lines: list[bytes] = []
    for line in re.split(rb"\r\n|\n|\r", octets):
        if line.startswith(b" ") and lines:
            lines[-1] += line[1:]
        elif line:
            lines.append(line)
    pairs = (line.decode("utf-8", "replace").partition(": ") for line in lines)
    return {name: value for name, colon, value in pairs if colon}


def _signed_by(
    archive: Archive, file: str, manifest: bytes, stated: dict[str, Section], others: tuple[str, ...]
) -> tuple[tuple[bytes, ...], str]:
    """Who signed by this signature file, and what is wrong with it."""
    block = next((file[:-3] + suffix for suffix in _BLOCKS if file[:-3] + suffix in archive), None)
    if block is None:
        return (), f"{file} stands there without its signature"
    content = archive.read(file)
    signed = read_signed(archive.read(block), block)
    wrong = signed.trouble(content)
    if wrong:
        return signed.signers, f"{file}: {wrong}"
    parts = list(sections(content))
    if not parts:
        return signed.signers, f"{file} is empty"
    promised = {
        _SCHEME_NUMBERS.get(word.strip(), "") for word in parts[0].attributes.get(_OTHER_SCHEMES, "").split(",")
    }
    stripped = sorted(promised - set(others) - {""})
    if stripped:
        return signed.signers, f"it was signed with {', '.join(stripped)} too, and that signature is gone"
    if _matches(parts[0].digests("-Manifest"), manifest):
        return signed.signers, ""
    named = {part.attributes["Name"]: part for part in parts[1:] if "Name" in part.attributes}
    for name, section in stated.items():
        if name not in named or not _matches(named[name].digests(), section.octets):
            return signed.signers, f"the manifest's line for {name} was changed after it was signed"
    return signed.signers, "" if named else f"{file} covers no manifest"


def _matches(digests: dict[str, bytes], content: bytes) -> bool:
    return bool(digests) and all(hashlib.new(name, content).digest() == value for name, value in digests.items())


def _changed(archive: Archive, stated: dict[str, Section]) -> str:
    """The first member that is not what the manifest states."""
    present = [name for name in archive.names if not name.endswith("/") and not _OF_SIGNING.fullmatch(name)]
    added = next((name for name in present if name not in stated), None)
    if added is not None:
        return f"{added} was added after the package was signed"
    for name in stated:
        if name not in archive:
            return f"{name} was taken out after the package was signed"
    for name in present:
        digests = stated[name].digests()
        if not digests:
            return f"the manifest states no digest for {name}"
        running = {algorithm: hashlib.new(algorithm) for algorithm in digests}
        for block in archive.blocks(name):
            for digest in running.values():
                digest.update(block)
        if any(running[algorithm].digest() != value for algorithm, value in digests.items()):
            return f"{name} was changed after the package was signed"
    return ""
