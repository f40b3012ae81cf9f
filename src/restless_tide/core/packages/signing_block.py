"""The signing block of an APK: signature schemes v2, v3 and v3.1, verified over the whole file.

Source: the public descriptions of APK Signature Scheme v2 and v3. The block stands before the zip's
central directory. A digest covers three sections: what stands before the block, the central
directory, and the end record with the block's place in it instead of the directory's. Each section
is digested in chunks of one mebibyte, so a file of any size is verified in constant memory.
"""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import BinaryIO

from cryptography.hazmat.primitives.asymmetric import dsa, ec, rsa
from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.certificates import (
    certificates_of,
    is_signed,
    public_key_of,
    read_public_key,
    same_key,
)
from restless_tide.core.packages.facts import Certificate, Signature

_MAGIC = b"APK Sig Block 42"
_V3 = 0xF05368C0
_SCHEMES = {0x7109871A: "v2", _V3: "v3", 0x1B93AD61: "v3.1"}
_LINEAGE = 0x3BA06F8C
_NEWER_SCHEME = 0xBEEFF00D
_CHUNK_BYTES = 1024 * 1024
_BLOCK_LIMIT_BYTES = 64 * 1024 * 1024
_SIGNERS_LIMIT = 10
_LINEAGE_LIMIT = 100
_END_BYTES = 22
_DIRECTORY_PLACE = 16


@dataclass(frozen=True)
class _Algorithm:
    kind: type
    digest: str
    pss_salt_bytes: int | None = None
    whole: bool = True
    """Digested in chunks; False: over a tree of pages, which is not verified here."""


_ALGORITHMS = {
    0x0101: _Algorithm(rsa.RSAPublicKey, "sha256", 32),
    0x0102: _Algorithm(rsa.RSAPublicKey, "sha512", 64),
    0x0103: _Algorithm(rsa.RSAPublicKey, "sha256"),
    0x0104: _Algorithm(rsa.RSAPublicKey, "sha512"),
    0x0201: _Algorithm(ec.EllipticCurvePublicKey, "sha256"),
    0x0202: _Algorithm(ec.EllipticCurvePublicKey, "sha512"),
    0x0301: _Algorithm(dsa.DSAPublicKey, "sha256"),
    0x0421: _Algorithm(rsa.RSAPublicKey, "sha256", whole=False),
    0x0423: _Algorithm(ec.EllipticCurvePublicKey, "sha256", whole=False),
    0x0425: _Algorithm(dsa.DSAPublicKey, "sha256", whole=False),
}


class _Wrong(Exception):
    """The signature does not hold; the text says why."""


class Octets:
    """A cursor over little-endian numbers and length-prefixed parts. Raises PackageUnreadable."""

    def __init__(self, data: bytes) -> None:
        self._data, self._at = data, 0

    def __bool__(self) -> bool:
        return self._at < len(self._data)

    def take(self, size: int) -> bytes:
        if size < 0 or self._at + size > len(self._data):
            raise PackageUnreadable("The package's signing block is damaged.", remedy="Sign the package again.")
        self._at += size
        return self._data[self._at - size : self._at]

    def number(self) -> int:
        return int.from_bytes(self.take(4), "little")

    def part(self) -> bytes:
        return self.take(self.number())

    def parts(self) -> Iterator[bytes]:
        within = Octets(self.part())
        while within:
            yield within.part()


@dataclass(frozen=True)
class Layout:
    """Where the sections of the file lie, in bytes from its start; ``end`` is the zip's end record."""

    block_at: int
    directory_at: int
    end_at: int
    end: bytes
    values: dict[int, bytes]


def read_layout(source: BinaryIO) -> Layout | None:
    """The file's sections, or None without a signing block. Raises PackageUnreadable."""
    size = source.seek(0, 2)
    tail_at = max(0, size - _END_BYTES - 0xFFFF)
    source.seek(tail_at)
    tail = source.read()
    found = tail.rfind(b"PK\x05\x06")
    if found < 0 or len(tail) - found < _END_BYTES:
        raise PackageUnreadable("The package has no end record.", code="package-cut-off")
    end_at, end = tail_at + found, tail[found:]
    (directory_at,) = struct.unpack_from("<I", end, _DIRECTORY_PLACE)
    if directory_at < 32 or directory_at > end_at:
        return None
    source.seek(directory_at - 24)
    footer = source.read(24)
    if footer[8:] != _MAGIC:
        return None
    (block_bytes,) = struct.unpack_from("<Q", footer)
    block_at = directory_at - block_bytes - 8
    if not 24 <= block_bytes <= _BLOCK_LIMIT_BYTES or block_at < 0:
        raise PackageUnreadable("The package's signing block has an impossible size.", remedy="Sign the package again.")
    source.seek(block_at)
    block = source.read(directory_at - block_at)
    if struct.unpack_from("<Q", block)[0] != block_bytes:
        raise PackageUnreadable("The package's signing block states two sizes.", remedy="Sign the package again.")
    return Layout(block_at, directory_at, end_at, end, _values(block[8:-24]))


def signatures_of(source: BinaryIO, layout: Layout, *, verify: bool = True) -> tuple[Signature, ...]:
    """The block's signatures, oldest scheme first, each verified. Raises PackageUnreadable for a damaged block."""
    digests: dict[str, bytes] = {}
    found = []
    for key, scheme in _SCHEMES.items():
        if key in layout.values:
            found.append(_signature(source, layout, scheme, layout.values[key], digests, verify))
    return tuple(found)


def _values(pairs: bytes) -> dict[int, bytes]:
    values: dict[int, bytes] = {}
    at = 0
    while at + 12 <= len(pairs):
        size, key = struct.unpack_from("<QI", pairs, at)
        if size < 4 or at + 8 + size > len(pairs):
            raise PackageUnreadable("The package's signing block is damaged.", remedy="Sign the package again.")
        values.setdefault(key, pairs[at + 12 : at + 8 + size])
        at += 8 + size
    return values


def _signature(
    source: BinaryIO, layout: Layout, scheme: str, value: bytes, digests: dict[str, bytes], verify: bool
) -> Signature:
    signers = list(Octets(value).parts())
    certificates: list[bytes] = []
    lineage: list[bytes] = []
    trouble, verified = "", True if verify else None
    if not 1 <= len(signers) <= _SIGNERS_LIMIT:
        return Signature(scheme=scheme, verified=False, trouble=f"it lists {len(signers)} signers")
    for signer in signers:
        parts = Octets(signer)
        signed = parts.part()
        if scheme != "v2":
            parts.take(8)  # the platform levels it is meant for
        try:
            chain, before, whole = _signer(source, layout, scheme, signed, parts, digests, verify)
            lineage.extend(before)
            if not whole and verified is not False:
                verified, trouble = None, "it is digested over pages, which is not verified here"
        except (_Wrong, PackageUnreadable) as wrong:
            chain, verified, trouble = _chain(scheme, signed)[0], False, str(wrong)
        certificates.extend(chain[:1])
    return Signature(
        scheme=scheme,
        verified=verified,
        trouble=trouble if verify else "not verified",
        signers=_legible(certificates),
        lineage=_legible(lineage),
    )


def _legible(found: list[bytes]) -> tuple[Certificate, ...]:
    """Those certificates that can be read; one that cannot be has failed its signature already."""
    try:
        return certificates_of(found)
    except PackageUnreadable:
        return ()


def _chain(scheme: str, signed: bytes) -> tuple[list[bytes], dict[int, bytes], Octets]:
    data = Octets(signed)
    digests = _numbered(data.parts())
    return list(data.parts()), digests, data


def _numbered(entries: Iterable[bytes]) -> dict[int, bytes]:
    """Entries that begin with the number of an algorithm, by that number."""
    found = {}
    for entry in entries:
        part = Octets(entry)
        number = part.number()
        found[number] = part.part()
    return found


def _signer(
    source: BinaryIO,
    layout: Layout,
    scheme: str,
    signed: bytes,
    parts: Octets,
    digests: dict[str, bytes],
    verify: bool,
) -> tuple[list[bytes], list[bytes], bool]:
    """The signer's certificates, those before it, and whether a digest of the whole file was held against it."""
    chain, stated, data = _chain(scheme, signed)
    if not chain:
        raise _Wrong("it names no certificate")
    signatures = _numbered(parts.parts())
    key = read_public_key(parts.part())
    if not same_key(key, public_key_of(chain[0])):
        raise _Wrong("its key is not its certificate's")
    if set(stated) != set(signatures):
        raise _Wrong("it signs other digests than it states")
    known = {number: _ALGORITHMS[number] for number in signatures if number in _ALGORITHMS}
    if not known:
        raise _Wrong("none of its algorithms is known")
    whole = False
    for number, algorithm in known.items() if verify else ():
        if not isinstance(key, algorithm.kind) or not is_signed(
            key, signatures[number], signed, algorithm.digest, pss_salt_bytes=algorithm.pss_salt_bytes
        ):
            raise _Wrong("its signature does not match its certificate")
        if algorithm.whole:
            if _digest(source, layout, algorithm.digest, digests) != stated[number]:
                raise _Wrong("the package was changed after it was signed")
            whole = True
    if scheme == "v2":
        _demand_not_stripped(layout, data)
        return chain, [], whole or not verify
    data.take(8)
    return chain, _lineage(data, chain[0]), whole or not verify


def _demand_not_stripped(layout: Layout, data: Octets) -> None:
    """An older signature may say that a newer one was made with it; without that one it does not hold."""
    for entry in data.parts() if data else ():
        attribute = Octets(entry)
        if attribute.number() == _NEWER_SCHEME and attribute.number() == 3 and _V3 not in layout.values:
            raise _Wrong("it was signed with v3 too, and that signature is gone")


def _lineage(data: Octets, signer: bytes) -> list[bytes]:
    """The certificates before the signer's, oldest first, each vouching for the next."""
    for entry in data.parts() if data else ():
        attribute = Octets(entry)
        if attribute.number() != _LINEAGE:
            continue
        attribute.number()  # the structure's version
        found: list[bytes] = []
        key: PublicKeyTypes | None = None
        algorithm: _Algorithm | None = None
        while attribute:
            node = Octets(attribute.part())
            signed = node.part()
            node.take(8)  # what the older key may still do, and the algorithm of the next
            signature = node.part()
            within = Octets(signed)
            certificate, number = within.part(), within.number()
            if key is not None:
                algorithm = _ALGORITHMS.get(number)
                if algorithm is None or not is_signed(
                    key, signature, signed, algorithm.digest, pss_salt_bytes=algorithm.pss_salt_bytes
                ):
                    raise _Wrong("its line of keys is broken")
            found.append(certificate)
            key = public_key_of(certificate)
            if len(found) > _LINEAGE_LIMIT:
                raise _Wrong("its line of keys is absurdly long")
        if signer not in found:
            raise _Wrong("its key is not in the line of keys it states")
        return found[: found.index(signer)]
    return []


def _digest(source: BinaryIO, layout: Layout, name: str, known: dict[str, bytes]) -> bytes:
    if name not in known:
        end = bytearray(layout.end)
        struct.pack_into("<I", end, _DIRECTORY_PLACE, layout.block_at)
        chunks = [
            *_chunk_digests(source, 0, layout.block_at, name),
            *_chunk_digests(source, layout.directory_at, layout.end_at, name),
            *(
                hashlib.new(name, b"\xa5" + struct.pack("<I", len(part)) + part).digest()
                for part in (bytes(end[at : at + _CHUNK_BYTES]) for at in range(0, len(end), _CHUNK_BYTES))
            ),
        ]
        top = hashlib.new(name, b"\x5a" + struct.pack("<I", len(chunks)))
        for chunk in chunks:
            top.update(chunk)
        known[name] = top.digest()
    return known[name]


def _chunk_digests(source: BinaryIO, begin: int, end: int, name: str) -> Iterator[bytes]:
    source.seek(begin)
    while begin < end:
        part = source.read(min(_CHUNK_BYTES, end - begin))
        if not part:
            raise PackageUnreadable("The package ends in the middle.", code="package-cut-off")
        digest = hashlib.new(name, b"\xa5" + struct.pack("<I", len(part)))
        digest.update(part)
        yield digest.digest()
        begin += len(part)
