"""The signature of a JAR file, which an APK calls v1 and an AAB still carries.

Sources: the JAR file specification, and for v1 what Android's own verifier makes of it. A manifest states a digest
for every member; a signature file states the digest of the manifest (or of its sections); signed data stands beside
the signature file. A device looks at the strongest digest it knows and at nothing in META-INF that is not listed.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.bounds import MEMBER_LIMIT_BYTES, SIGNED_DATA_LIMIT_BYTES, SIGNERS_LIMIT
from restless_tide.core.packages.certificates import certificates_of
from restless_tide.core.packages.cms import read_signed
from restless_tide.core.packages.directory import shown
from restless_tide.core.packages.facts import Signature

_FOLDER = "META-INF/"
_BEGIN = _FOLDER[:5]
_MANIFEST = "META-INF/MANIFEST.MF"
_SIGNATURE = re.compile(r"META-INF/[^/]+\.SF", re.IGNORECASE)
_BLOCKS = (".RSA", ".DSA", ".EC", ".rsa", ".dsa", ".ec")
_OF_SIGNING = re.compile(r"META-INF/(MANIFEST\.MF|[^/]+\.(SF|RSA|DSA|EC)|SIG-[^/]*)", re.IGNORECASE)
_ALGORITHMS = {
    "SHA-512": "sha512", "SHA-384": "sha384", "SHA-256": "sha256", "SHA1": "sha1", "SHA-1": "sha1", "SHA": "sha1",
    "SHA-224": "sha224", "SHA-512/256": "sha512_256", "SHA-512/224": "sha512_224", "SHA3-224": "sha3_224",
    "SHA3-256": "sha3_256", "SHA3-384": "sha3_384", "SHA3-512": "sha3_512", "MD5": "md5",
}  # fmt: skip
ON_DEVICES = ("SHA-512", "SHA-384", "SHA-256", "SHA1")
"""What devices know from level 18 on, strongest first; before it they look for what Digest-Algorithms names."""
STRONGEST_FROM = 18
_BEFORE_IT = "SHA SHA1"
_WEAK = "md5"
_OTHER_SCHEMES = "X-Android-APK-Signed"
_SCHEME_NUMBERS = {"2": "v2", "3": "v3"}
_BLANK_LINES = re.compile(rb"(?>\r\n|\n|\r)(?>\r\n|\n|\r)+|\Z")
_FOLDED = re.compile(rb"(?:\r\n|\n|\r) ")


class Section(NamedTuple):
    """One section of a manifest: its attributes, and its octets as they stand in the file."""

    attributes: dict[str, str]
    octets: bytes

    def digests(self, suffix: str, reading: str) -> dict[str, bytes]:
        """The digests that count when it is read that way, by algorithm: devices look at one alone, Java at all."""
        if reading == "jar":
            names: Sequence[str] = tuple(_ALGORITHMS)
        elif reading == "v1":
            names = ON_DEVICES
        else:
            names = self.attributes.get("Digest-Algorithms", _BEFORE_IT).split()
        found = {}
        for name in names:
            text = self.attributes.get(f"{name}-Digest{suffix}")
            if text is not None and name in _ALGORITHMS:
                found[_ALGORITHMS[name]] = _octets(text)
                if reading != "jar":
                    break
        return found


class JarJudged(NamedTuple):
    """``trouble`` is why it does not hold, ``trouble_before`` the same on levels before STRONGEST_FROM; ``stripped``
    are schemes it says it was signed with too, which are gone."""

    signers: tuple[bytes, ...]
    trouble: str
    trouble_before: str
    stripped: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()
    weak: bool = False


def jar_signature(archive: Archive, scheme: str) -> Signature | None:
    """The signature of a bundle, every member verified; None when it carries none."""
    judged = judge_jar(archive, scheme)
    if judged is None:
        return None
    verified: bool | None = False if judged.trouble else True if archive.verify else None
    trouble = judged.trouble
    if verified and judged.weak:
        verified, trouble = None, "it is signed with MD5, which counts as no signature any more"
    return Signature(scheme=scheme, verified=verified, trouble=trouble, signers=certificates_of(judged.signers))


def judge_jar(
    archive: Archive, scheme: str, others: tuple[str, ...] = (), *, members: bool = True, before: bool = False
) -> JarJudged | None:
    """Hold the archive against its signature files; None when it carries none.

    ``others`` are the schemes found beside it; ``before``: say too what devices before STRONGEST_FROM make of it;
    without ``members`` only who signed is looked at. Raises PackageUnreadable for a member that cannot be unpacked.
    """
    files = [name for name in archive.names if name.startswith(_BEGIN) and _SIGNATURE.fullmatch(name)]
    if not files:
        return None
    if len(files) > SIGNERS_LIMIT:
        wrong = f"it has {len(files)} signature files; devices take {SIGNERS_LIMIT} at most"
        return JarJudged((), wrong, wrong)
    judge = _Judge(archive, scheme, files, others)
    trouble = judge.trouble(scheme, members=members)
    trouble_before = judge.trouble("before", members=members) if before else trouble
    return JarJudged(
        tuple(judge.signers), trouble, trouble_before, tuple(judge.stripped), tuple(judge.remarks), judge.weak
    )


class _Judge:
    def __init__(self, archive: Archive, scheme: str, files: list[str], others: tuple[str, ...]) -> None:
        self._archive = archive
        self._scheme = scheme
        self._others = others
        self._files = files
        self.signers: list[bytes] = []
        self.stripped: list[str] = []
        self.remarks: list[str] = []
        self.weak = False
        self._manifest = archive.read(_MANIFEST, MEMBER_LIMIT_BYTES) if _MANIFEST in archive else b""
        self._main: Section | None = None
        self._stated: dict[str, Section] = {}
        self._signed: dict[str, tuple[str, list[Section]]] = {}
        self._found: dict[tuple[str, tuple[str, ...]], dict[str, bytes]] = {}
        self._wrong = ""
        try:
            self._read()
        except PackageUnreadable as wrong:
            self._wrong = wrong.detail

    def trouble(self, reading: str, *, members: bool) -> str:
        """Why it does not hold when it is read that way; empty: it does."""
        if self._wrong:
            return self._wrong
        try:
            for file, (wrong, parts) in self._signed.items():
                found = wrong or self._covered(file, parts, reading)
                if found:
                    return found
            return self._changed(reading) if members and self._archive.verify else ""
        except PackageUnreadable as wrong:
            return wrong.detail

    def _read(self) -> None:
        for section in self._sections(self._manifest):
            if self._main is None:
                self._main = section
            elif "Name" in section.attributes:
                self._stated[section.attributes["Name"]] = section
        for file in self._files:
            block = next((file[:-3] + suffix for suffix in _BLOCKS if file[:-3] + suffix in self._archive), None)
            if block is None:
                self._signed[file] = f"{shown(file)} stands there without its signature", []
                continue
            content = self._archive.read(file, MEMBER_LIMIT_BYTES)
            signed = read_signed(self._archive.read(block, SIGNED_DATA_LIMIT_BYTES), shown(block))
            self.signers += signed.signers
            self.weak = self.weak or signed.digests == {_WEAK}
            wrong = signed.trouble(content)
            parts = list(self._sections(content))
            wrong = f"{shown(file)}: {wrong}" if wrong else "" if parts else f"{shown(file)} is empty"
            self._signed[file] = wrong, parts
            promised = parts[0].attributes.get(_OTHER_SCHEMES, "").split(",") if parts else ()
            names = {_SCHEME_NUMBERS.get(word.strip(), "") for word in promised} - {""}
            self.stripped += sorted(names - set(self._others) - set(self.stripped))

    def _sections(self, manifest: bytes) -> Iterator[Section]:
        """The sections of a manifest, the main one first."""
        at = 0
        for found in _BLANK_LINES.finditer(manifest):
            octets = manifest[at : found.end()]
            at = found.end()
            if octets.strip():
                self._archive.effort.spend()
                yield Section(_attributes(octets), octets)
            if at >= len(manifest):
                return

    def _covered(self, file: str, parts: list[Section], reading: str) -> str:
        """What of the manifest a signature file does not cover as it is now."""
        head = parts[0]
        main = head.digests("-Manifest-Main-Attributes", reading)
        if main and (self._main is None or not _matches(main, self._main.octets)):
            return "the manifest's first section was changed after it was signed"
        named = {part.attributes["Name"]: part for part in parts[1:] if "Name" in part.attributes}
        whole = _matches(head.digests("-Manifest", reading), self._manifest)
        for name, section in self._stated.items():
            if name not in named:
                if whole and reading == "jar":
                    continue
                return f"{shown(file)} does not name {shown(name)}, so nobody signed it"
            if not whole and not _matches(named[name].digests("", reading), section.octets):
                return f"the manifest's line for {shown(name)} was changed after it was signed"
        return "" if whole or named else f"{shown(file)} covers no manifest"

    def _changed(self, reading: str) -> str:
        """The first member that is not what the manifest states."""
        archive, stated = self._archive, self._stated
        present = [name for name in archive.names if not name.endswith("/") and not (name.startswith(_BEGIN) and _OF_SIGNING.fullmatch(name))]  # fmt: skip
        archive.effort.spend(len(present))
        added = [name for name in present if name not in stated]
        outside = next((name for name in added if not name.startswith(_FOLDER)), None)
        if outside is not None:
            return f"{shown(outside)} was added after the package was signed"
        if added and not self.remarks:
            self.remarks.append(f"{shown(added[0])} is covered by no signature of its kind; devices do not look at it.")
        for name in stated:
            if name not in archive:
                return f"{shown(name)} was taken out after the package was signed"
        listed = [name for name in present if name in stated]
        wanted = [stated[name].digests("", reading) for name in listed]
        for name, digests in zip(listed, wanted, strict=True):
            if not digests:
                return f"the manifest states no digest for {shown(name)} that counts"
        for name, digests, found in zip(
            listed, wanted, archive.side_by_side(self._digests, list(zip(listed, wanted, strict=True))), strict=True
        ):
            if found != digests:
                return f"{shown(name)} was changed after the package was signed"
        return ""

    def _digests(self, asked: tuple[str, dict[str, bytes]]) -> dict[str, bytes]:
        name, wanted = asked
        key = name, tuple(wanted)
        known = self._found.get(key)
        if known is None:
            running = {algorithm: hashlib.new(algorithm) for algorithm in wanted}
            for block in self._archive.blocks(name):
                for digest in running.values():
                    digest.update(block)
            known = self._found[key] = {algorithm: digest.digest() for algorithm, digest in running.items()}
        return known


def _attributes(octets: bytes) -> dict[str, str]:
    """A section's attributes; a long line continues after a blank."""
    if b"\n " in octets or b"\r " in octets:
        octets = _FOLDED.sub(b"", octets)
    pairs = (line.decode("utf-8", "replace").partition(": ") for line in octets.splitlines())
    return {name: value for name, colon, value in pairs if colon}


def _octets(text: str) -> bytes:
    try:
        return base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError):
        return b""


def _matches(digests: dict[str, bytes], content: bytes) -> bool:
    return bool(digests) and all(hashlib.new(name, content).digest() == value for name, value in digests.items())
