"""Certificates, and whether a signature is theirs."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from asn1crypto import x509 as asn1_x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed448, ed25519, padding, rsa
from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes
from cryptography.hazmat.primitives.serialization import load_der_public_key

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.facts import Certificate

_HASHES: dict[str, type[hashes.HashAlgorithm]] = {
    "md5": hashes.MD5,
    "sha1": hashes.SHA1,
    "sha224": hashes.SHA224,
    "sha256": hashes.SHA256,
    "sha384": hashes.SHA384,
    "sha512": hashes.SHA512,
    "sha3_224": hashes.SHA3_224,
    "sha3_256": hashes.SHA3_256,
    "sha3_384": hashes.SHA3_384,
    "sha3_512": hashes.SHA3_512,
}
# asn1crypto reads more than cryptography does: parameters that some tools write where the standard has none
_BROKEN = (ValueError, TypeError, KeyError, IndexError, AttributeError, OverflowError, RecursionError)
_SPECIAL = re.compile(r'[,+"\\\\<>;]|^[ #]| $')
_NAMES = {
    "common_name": "CN",
    "organization_name": "O",
    "organizational_unit_name": "OU",
    "country_name": "C",
    "locality_name": "L",
    "state_or_province_name": "ST",
    "user_id": "UID",
    "domain_component": "DC",
}


def certificate_of(der: bytes) -> Certificate:
    """The certificate in its DER form. Raises PackageUnreadable."""
    try:
        read = asn1_x509.Certificate.load(der)
        subject, issuer = _name(read.subject), _name(read.issuer)
        begins, ends = _instant(read.not_valid_before), _instant(read.not_valid_after)
    except _BROKEN:
        raise PackageUnreadable("A certificate inside the package is damaged.") from None
    return Certificate(
        subject=subject, issuer=issuer, sha256=hashlib.sha256(der).hexdigest(), valid_from=begins, valid_until=ends
    )


def _instant(told: object) -> datetime:
    """An end of a certificate's validity; one without a zone is of UTC. Raises ValueError for a year that no calendar has."""
    if not isinstance(told, datetime):
        raise ValueError("no instant")
    return told.replace(tzinfo=UTC) if told.tzinfo is None else told.astimezone(UTC)


def _name(name: Any) -> str:
    """A distinguished name as RFC 4514 writes it: the innermost part first, special characters behind a backslash."""
    return ",".join(
        "+".join(
            f"{_NAMES.get(part['type'].native, part['type'].dotted)}={_escaped(part['value'].native)}" for part in parts
        )
        for parts in reversed(name.chosen)
    )


def _escaped(value: object) -> str:
    return _SPECIAL.sub(r"\\\g<0>", str(value))


def certificates_of(found: Sequence[bytes]) -> tuple[Certificate, ...]:
    return tuple(certificate_of(der) for der in found)


def public_key_of(der: bytes) -> PublicKeyTypes:
    """The key of a certificate in its DER form. Raises PackageUnreadable."""
    try:
        return read_public_key(asn1_x509.Certificate.load(der).public_key.dump())
    except _BROKEN:
        raise PackageUnreadable("A certificate inside the package holds a key that cannot be read.") from None


def read_public_key(der: bytes) -> PublicKeyTypes:
    """A key as SubjectPublicKeyInfo. Raises PackageUnreadable."""
    try:
        return load_der_public_key(der)
    except (ValueError, UnsupportedAlgorithm, TypeError):
        raise PackageUnreadable("A public key inside the package cannot be read.") from None


def same_key(one: PublicKeyTypes, other: PublicKeyTypes) -> bool:
    return bool(one == other)


def is_signed(
    key: PublicKeyTypes, signature: bytes, data: bytes, digest: str, *, pss_salt_bytes: int | None = None
) -> bool:
    """Whether ``signature`` over ``data`` was made with the private half of ``key``.

    ``digest`` is sha1 to sha512; ``pss_salt_bytes`` asks for RSASSA-PSS (RFC 8017) instead of PKCS #1 v1.5.
    """
    algorithm = _HASHES.get(digest)
    if algorithm is None:
        return False
    try:
        if isinstance(key, rsa.RSAPublicKey):
            fill: padding.AsymmetricPadding = padding.PKCS1v15()
            if pss_salt_bytes is not None:
                fill = padding.PSS(padding.MGF1(algorithm()), pss_salt_bytes)
            key.verify(signature, data, fill, algorithm())
        elif isinstance(key, ec.EllipticCurvePublicKey):
            key.verify(signature, data, ec.ECDSA(algorithm()))
        elif isinstance(key, dsa.DSAPublicKey):
            key.verify(signature, data, algorithm())
        elif isinstance(key, ed25519.Ed25519PublicKey | ed448.Ed448PublicKey):
            key.verify(signature, data)
        else:
            return False
    except (InvalidSignature, ValueError, UnsupportedAlgorithm):
        return False
    return True
