"""Signed data in the Cryptographic Message Syntax (RFC 5652): what it holds, who signed it, whether that holds."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from typing import Any

from asn1crypto import cms, core

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.bounds import (
    CERTIFICATES_LIMIT,
    SIGNED_DATA_LIMIT_BYTES,
    SIGNED_DATA_PARTS_LIMIT,
    SIGNERS_LIMIT,
    TOO_MUCH_WORK,
)
from restless_tide.core.packages.certificates import is_signed, public_key_of

_BROKEN = (ValueError, TypeError, KeyError, IndexError, AttributeError, OverflowError, RecursionError)


@dataclass(frozen=True)
class Signed:
    """``content`` is what travels inside, empty when the signature stands apart from what it signs."""

    content: bytes
    signers: tuple[bytes, ...]
    """The certificates of those who signed, in DER form."""
    _infos: tuple[cms.SignerInfo, ...]
    _kind: str = "data"
    digests: frozenset[str] = frozenset()
    """The digests that the signatures are made over."""

    def trouble(self, content: bytes | None = None) -> str:
        """Why the signature does not hold over ``content``, or nothing."""
        signed = self.content if content is None else content
        if not self._infos:
            return "nobody signed it"
        try:
            for info, certificate in zip(self._infos, self.signers, strict=True):
                found = _trouble(info, certificate, signed, self._kind)
                if found:
                    return found
        except _BROKEN:
            return "its signature is damaged"
        return ""


def read_signed(der: bytes, what: str) -> Signed:
    """Read signed data. Raises PackageUnreadable naming ``what``."""
    _demand_few(der, what)
    try:
        info = cms.ContentInfo.load(der)
        if info["content_type"].native != "signed_data":
            raise ValueError("no signed data")
        data = info["content"]
        inside = data["encap_content_info"]["content"]
        content = _content(inside)
        certificates = [entry.chosen for entry in data["certificates"] if entry.name == "certificate"]
        infos = tuple(data["signer_infos"])
        if len(infos) > SIGNERS_LIMIT or len(certificates) > CERTIFICATES_LIMIT:
            raise PackageUnreadable(f"{what} names {len(infos)} signers and {len(certificates)} certificates.")
        kind = str(data["encap_content_info"]["content_type"].native)
        signers = tuple(_signer(signer, certificates) for signer in infos)
        digests = frozenset(str(one["digest_algorithm"]["algorithm"].native) for one in infos)
    except PackageUnreadable:
        raise
    except _BROKEN:
        raise PackageUnreadable(f"{what} is no signed data, or it is damaged.") from None
    return Signed(content, signers, infos, kind, digests)


def _demand_few(der: bytes, what: str) -> None:
    """Bound what stands inside before it is read: each part of it (X.690) is passed by once, none is kept."""
    if len(der) > SIGNED_DATA_LIMIT_BYTES:
        raise PackageUnreadable(f"{what} has {len(der)} bytes; no such signature is that long.")
    at, seen, whole = 0, 0, len(der)
    while at + 2 <= whole:
        seen += 1
        if seen > SIGNED_DATA_PARTS_LIMIT:
            raise PackageUnreadable(f"{what} is put together from more parts than any signature.", code=TOO_MUCH_WORK)
        constructed, length = der[at] & 0x20, der[at + 1]
        at += 2
        if length > 0x80:
            width = length & 0x7F
            length = int.from_bytes(der[at : at + width], "big")
            at += width
        if not constructed and length != 0x80:
            at += length


def _content(inside: Any) -> bytes:
    """The octets that are signed: of an octet string its value; of another type what stands within its tag (RFC 2315)."""
    if isinstance(inside, core.Any):
        return bytes(inside.parsed.contents or b"")
    return inside.native if isinstance(inside.native, bytes) else b""


def _signer(info: cms.SignerInfo, certificates: list[cms.Certificate]) -> bytes:
    sid = info["sid"].chosen
    for certificate in certificates:
        if info["sid"].name == "issuer_and_serial_number":
            same = certificate.issuer == sid["issuer"] and certificate.serial_number == sid["serial_number"].native
        else:
            same = certificate.key_identifier == sid.native
        if same:
            return bytes(certificate.dump())
    raise PackageUnreadable("A signature inside the package comes without its certificate.")


def _trouble(info: cms.SignerInfo, certificate: bytes, content: bytes, kind: str) -> str:
    digest = str(info["digest_algorithm"]["algorithm"].native)
    if digest not in hashlib.algorithms_available:
        return f"its digest {digest} is not known"
    signed, attributes = content, info["signed_attrs"]
    if attributes.native:
        told = [(str(entry["type"].native), list(entry["values"])) for entry in attributes]
        for name, what in (("message_digest", "content"), ("content_type", "kind of content")):
            values = [values for one, values in told if one == name]
            if len(values) != 1 or len(values[0]) != 1:
                return f"its signature names {'no' if not values else 'more than one'} {what}"
        held = {name: values[0].native for name, values in told if name in ("message_digest", "content_type")}
        if held["content_type"] != kind:
            return "its signature is made for another kind of content"
        if held["message_digest"] != hashlib.new(digest, content).digest():
            return "its content was changed after it was signed"
        # RFC 5652, 5.4: signed as an explicit SET OF, whatever tag it travels under
        signed = b"\x31" + attributes.dump()[1:]
    elif kind != "data":
        return "its signature covers no attributes, which content of its kind needs"
    algorithm = info["signature_algorithm"]
    salt = None
    if algorithm["algorithm"].native == "rsassa_pss":
        salt = int(algorithm["parameters"]["salt_length"].native)
    if not is_signed(public_key_of(certificate), bytes(info["signature"].native), signed, digest, pss_salt_bytes=salt):
        return "its signature does not match its certificate"
    return ""
