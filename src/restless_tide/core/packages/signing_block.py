"""The signing block of an APK: signature schemes v2, v3 and v3.1, verified over the whole file.

Source: the public descriptions of APK Signature Scheme v2 and v3. The block stands before the zip's
central directory. A digest covers three sections: what stands before the block, the central
directory, and the end record with the block's place in it instead of the directory's. Each section
is digested in chunks of one mebibyte, so a file of any size is verified in constant memory.
"""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Iterable, Iterator, Sequence
from itertools import islice
from typing import NamedTuple

from cryptography.hazmat.primitives.asymmetric import dsa, ec, rsa
from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.bounds import (
    CERTIFICATES_LIMIT,
    LINEAGE_LIMIT,
    SIGNERS_LIMIT,
    SIGNING_BLOCK_LIMIT_BYTES,
)
from restless_tide.core.packages.certificates import (
    certificates_of,
    is_signed,
    public_key_of,
    read_public_key,
    same_key,
)
from restless_tide.core.packages.facts import Certificate, Signature

_MAGIC = b"APK Sig Block 42"
_V3, _V31 = 0xF05368C0, 0x1B93AD61
_SCHEMES = {0x7109871A: "v2", _V3: "v3", _V31: "v3.1"}
SCHEME_FROM = {"v2": 24, "v3": 28, "v3.1": 33}
"""The first platform level that looks at each scheme."""
_LAST = 0x7FFFFFFF
_LINEAGE = 0x3BA06F8C
_NEWER_SCHEME = 0xBEEFF00D
_ROTATED_FROM = 0x559F8B02
_CHUNK_BYTES = 1024 * 1024
_ALGORITHMS_LIMIT = 32
_ATTRIBUTES_LIMIT = 32
_DIRECTORY_PLACE = 16


class _Algorithm(NamedTuple):
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


class _Stripped(_Wrong):
    """A newer signature was taken away; platform levels below ``seen_from`` do not notice."""

    def __init__(self, said: str, seen_from: int) -> None:
        super().__init__(said)
        self.seen_from = seen_from


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


class Layout(NamedTuple):
    """Where the sections of the file lie, in bytes from its start; ``end`` is the zip's end record."""

    block_at: int
    directory_at: int
    end_at: int
    end: bytes
    values: dict[int, bytes]


class Reach(NamedTuple):
    """The platform levels that one signer of a block is meant for, and why it does not hold on them; empty: it does.

    ``holds_until``: it holds on levels below, which do not look at what is wrong with it.
    """

    first: int
    last: int
    trouble: str
    holds_until: int = 0

    def holds_on(self, level: int) -> bool:
        return not self.trouble or level < self.holds_until


class Judged(NamedTuple):
    signature: Signature
    reaches: tuple[Reach, ...]


def read_layout(archive: Archive) -> Layout | None:
    """The file's sections, or None without a signing block. Raises PackageUnreadable."""
    directory_at = archive.directory_at
    if directory_at < 32:
        return None
    footer = archive.read_at(24, directory_at - 24)
    if footer[8:] != _MAGIC:
        return None
    (block_bytes,) = struct.unpack_from("<Q", footer)
    block_at = directory_at - block_bytes - 8
    if not 24 <= block_bytes <= SIGNING_BLOCK_LIMIT_BYTES or block_at < 0:
        raise PackageUnreadable("The package's signing block has an impossible size.", remedy="Sign the package again.")
    block = archive.read_at(directory_at - block_at, block_at)
    if struct.unpack_from("<Q", block)[0] != block_bytes:
        raise PackageUnreadable("The package's signing block states two sizes.", remedy="Sign the package again.")
    if archive.content_end > block_at:
        raise PackageUnreadable("A member of the package lies in its signing block.", code="archive-ambiguous")
    return Layout(block_at, directory_at, archive.end_at, archive.end, _values(block[8:-24]))


def signatures_of(archive: Archive, layout: Layout) -> tuple[Judged, ...]:
    """The block's signatures, oldest scheme first, each verified. Raises PackageUnreadable for a damaged block."""
    digests: dict[str, bytes] = {}
    return tuple(
        _signature(archive, layout, scheme, layout.values[key], digests)
        for key, scheme in _SCHEMES.items()
        if key in layout.values
    )


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


def _signature(archive: Archive, layout: Layout, scheme: str, value: bytes, digests: dict[str, bytes]) -> Judged:
    signers = list(islice(Octets(value).parts(), SIGNERS_LIMIT + 1))
    certificates: list[bytes] = []
    lineage: list[bytes] = []
    trouble, verified = "", True if archive.verify else None
    reaches: list[Reach] = []
    if not 1 <= len(signers) <= SIGNERS_LIMIT:
        count = "no signer" if not signers else f"more than {SIGNERS_LIMIT} signers"
        wrong = f"it lists {count}"
        signature = Signature(scheme=scheme, verified=False, trouble=wrong)
        return Judged(signature, (Reach(SCHEME_FROM[scheme], _LAST, wrong),))
    for signer in signers:
        parts = Octets(signer)
        signed = parts.part()
        first, last = (SCHEME_FROM[scheme], _LAST) if scheme == "v2" else (parts.number(), min(parts.number(), _LAST))
        holds_until, wrong_here = 0, ""
        try:
            chain, before, whole = _signer(archive, layout, scheme, signed, parts, digests, (first, last))
            lineage.extend(before)
            if not whole and verified is not False:
                verified, trouble = None, "it is digested over pages, which is not verified here"
        except _Stripped as wrong:
            chain, verified, wrong_here, holds_until = _chain(signed)[0], False, str(wrong), wrong.seen_from
        except (_Wrong, PackageUnreadable) as wrong:
            chain, verified, wrong_here = _chain(signed)[0], False, str(wrong)
        trouble = wrong_here or trouble
        reaches.append(Reach(max(first, SCHEME_FROM[scheme]), last, wrong_here, holds_until))
        certificates.extend(chain[:1])
    if scheme == "v3.1" and _V3 not in layout.values:
        verified, trouble = False, "a v3 signature has to stand beside it, and there is none"
        reaches = [Reach(reach.first, reach.last, trouble) for reach in reaches]
    signature = Signature(
        scheme=scheme,
        verified=verified,
        trouble=trouble if archive.verify or verified is False else "not verified",
        signers=_legible(certificates),
        lineage=_legible(lineage),
    )
    return Judged(signature, tuple(reaches))


def _legible(found: list[bytes]) -> tuple[Certificate, ...]:
    """Those certificates that can be read; one that cannot be has failed its signature already."""
    try:
        return certificates_of(found)
    except PackageUnreadable:
        return ()


def _chain(signed: bytes) -> tuple[list[bytes], dict[int, bytes], Octets]:
    data = Octets(signed)
    digests = _numbered(data.parts())
    return list(islice(data.parts(), CERTIFICATES_LIMIT)), digests, data


def _numbered(entries: Iterable[bytes]) -> dict[int, bytes]:
    """Entries that begin with the number of an algorithm, by that number."""
    found = {}
    for entry in islice(entries, _ALGORITHMS_LIMIT):
        part = Octets(entry)
        number = part.number()
        found[number] = part.part()
    return found


def _signer(
    archive: Archive,
    layout: Layout,
    scheme: str,
    signed: bytes,
    parts: Octets,
    digests: dict[str, bytes],
    levels: tuple[int, int],
) -> tuple[list[bytes], list[bytes], bool]:
    """The signer's certificates, those before it, and whether a digest of the whole file was held against it."""
    verify = archive.verify
    chain, stated, data = _chain(signed)
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
            if _digest(archive, layout, algorithm.digest, digests) != stated[number]:
                raise _Wrong("the package was changed after it was signed")
            whole = True
    if scheme != "v2" and (data.number(), min(data.number(), _LAST)) != levels:
        raise _Wrong("it signs other platform levels than it states")
    attributes = list(islice(data.parts(), _ATTRIBUTES_LIMIT)) if data else []
    if scheme == "v2":
        _demand_not_stripped(layout, attributes, _NEWER_SCHEME, _V3)
        return chain, [], whole or not verify
    if scheme == "v3":
        _demand_not_stripped(layout, attributes, _ROTATED_FROM, _V31)
    return chain, _lineage(attributes, chain[0]), whole or not verify


def _demand_not_stripped(layout: Layout, attributes: Sequence[bytes], mark: int, newer: int) -> None:
    """An older signature may say that a newer one was made with it; without that one it does not hold on levels that look."""
    for entry in attributes:
        attribute = Octets(entry)
        if attribute.number() != mark or newer in layout.values:
            continue
        value = attribute.number()
        if mark == _ROTATED_FROM:
            raise _Stripped("it was signed with v3.1 too, and that signature is gone", max(value, SCHEME_FROM["v3.1"]))
        if value == 3:
            raise _Stripped("it was signed with v3 too, and that signature is gone", SCHEME_FROM["v3"])


def _lineage(attributes: Sequence[bytes], signer: bytes) -> list[bytes]:
    """The certificates before the signer's, oldest first, each vouching for the next."""
    for entry in attributes:
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
            if len(found) > LINEAGE_LIMIT:
                raise _Wrong("its line of keys is absurdly long")
        if signer not in found:
            raise _Wrong("its key is not in the line of keys it states")
        return found[: found.index(signer)]
    return []


def _digest(archive: Archive, layout: Layout, name: str, known: dict[str, bytes]) -> bytes:
    if name not in known:
        end = bytearray(layout.end)
        struct.pack_into("<I", end, _DIRECTORY_PLACE, layout.block_at)
        places = [*_chunks(0, layout.block_at), *_chunks(layout.directory_at, layout.end_at)]

        def digest(place: tuple[int, int]) -> bytes:
            begin, size = place
            return _chunk_digest(archive.read_at(size, begin), size, name)

        top = hashlib.new(name)
        last = [bytes(end[at : at + _CHUNK_BYTES]) for at in range(0, len(end), _CHUNK_BYTES)]
        top.update(b"\x5a" + struct.pack("<I", len(places) + len(last)))
        for found in archive.side_by_side(digest, places):
            top.update(found)
        for part in last:
            top.update(_chunk_digest(part, len(part), name))
        known[name] = top.digest()
    return known[name]


def _chunks(begin: int, end: int) -> list[tuple[int, int]]:
    return [(at, min(_CHUNK_BYTES, end - at)) for at in range(begin, end, _CHUNK_BYTES)]


def _chunk_digest(part: bytes, size: int, name: str) -> bytes:
    if len(part) != size:
        raise PackageUnreadable("The package ends in the middle.", code="package-cut-off")
    digest = hashlib.new(name, b"\xa5" + struct.pack("<I", size))
    digest.update(part)
    return digest.digest()
