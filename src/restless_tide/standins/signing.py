"""Keys, certificates and signatures for demo packages: made up, derived from a name, the same every time.

Anybody can derive these keys; they stand for a team's keys in the scenario and guard nothing.
"""

from __future__ import annotations

import hashlib
import plistlib
import struct
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from functools import cache

from asn1crypto import cms
from asn1crypto import x509 as asn1_x509
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

_V2 = 0x7109871A
_ECDSA_SHA256 = 0x0201
_CHUNK_BYTES = 1024 * 1024
_END_BYTES = 22
_ORDER = 0xFFFFFFFF00000000FFFFFFFFFFFFFFFFBCE6FAADA7179E84F3B9CAC2FC632551
_DETERMINISTIC = ec.ECDSA(hashes.SHA256(), deterministic_signing=True)


@cache
def key_of(name: str) -> ec.EllipticCurvePrivateKey:
    """The key of a made-up signer."""
    seed = int.from_bytes(hashlib.sha512(f"stand-in key of {name}".encode()).digest(), "big")
    return ec.derive_private_key(seed % (_ORDER - 1) + 1, ec.SECP256R1())


@cache
def certificate_of(name: str, begins: datetime, days: int) -> x509.Certificate:
    """The signer's own certificate."""
    subject = x509.Name(
        [
            x509.NameAttribute(NameOID.COMMON_NAME, name),
            x509.NameAttribute(NameOID.ORGANIZATION_NAME, "Saltgrass Collective"),
        ]
    )
    key = key_of(name)
    builder = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(int.from_bytes(hashlib.sha256(name.encode()).digest()[:8], "big") | 1)
        .not_valid_before(begins)
        .not_valid_after(begins + timedelta(days=days))
    )
    return builder.sign(key, hashes.SHA256(), ecdsa_deterministic=True)


def der_of(certificate: x509.Certificate) -> bytes:
    return certificate.public_bytes(serialization.Encoding.DER)


def signed_apk(content: bytes, name: str, certificate: x509.Certificate) -> bytes:
    """The zip archive with a signing block of scheme v2 before its central directory."""
    end_at = len(content) - _END_BYTES
    (directory_at,) = struct.unpack_from("<I", content, end_at + 16)
    sections = (content[:directory_at], content[directory_at:end_at], content[end_at:])
    chunks = [
        hashlib.sha256(b"\xa5" + struct.pack("<I", len(part)) + part).digest()
        for section in sections
        for part in (section[at : at + _CHUNK_BYTES] for at in range(0, len(section), _CHUNK_BYTES))
    ]
    digest = hashlib.sha256(b"\x5a" + struct.pack("<I", len(chunks)) + b"".join(chunks)).digest()
    signed = (
        _part(_part(struct.pack("<I", _ECDSA_SHA256) + _part(digest))) + _part(_part(der_of(certificate))) + _part(b"")
    )
    key = key_of(name)
    public = key.public_key().public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    signature = _part(struct.pack("<I", _ECDSA_SHA256) + _part(key.sign(signed, _DETERMINISTIC)))
    value = _part(_part(_part(signed) + _part(signature) + _part(public)))
    pair = struct.pack("<QI", 4 + len(value), _V2) + value
    size = len(pair) + 24
    block = struct.pack("<Q", size) + pair + struct.pack("<Q", size) + b"APK Sig Block 42"
    end = bytearray(sections[2])
    struct.pack_into("<I", end, 16, directory_at + len(block))
    return sections[0] + block + sections[1] + bytes(end)


def profile(
    name: str,
    identifier: str,
    certificate: x509.Certificate,
    ends: datetime,
    *,
    devices: Sequence[str] | None = None,
    rights: Sequence[str] = (),
) -> bytes:
    """A provisioning profile for ``identifier``; with ``devices`` it is for those alone, without it is for stores."""
    team = "SALTGRASS1"
    content = {
        "Name": f"{identifier} {'devices' if devices is not None else 'store'}",
        "TeamName": "Saltgrass Collective",
        "TeamIdentifier": [team],
        "CreationDate": (ends - timedelta(days=365)).astimezone(UTC).replace(tzinfo=None),
        "ExpirationDate": ends.astimezone(UTC).replace(tzinfo=None),
        "DeveloperCertificates": [der_of(certificate)],
        "Entitlements": {"application-identifier": f"{team}.{identifier}", "get-task-allow": False}
        | dict.fromkeys(rights, True),
    }
    if devices is not None:
        content["ProvisionedDevices"] = list(devices)
    return signed_data(plistlib.dumps(content, sort_keys=True), name, certificate)


def signed_data(content: bytes, name: str, certificate: x509.Certificate) -> bytes:
    """The content as signed data (RFC 5652) without attributes: those would carry the moment of signing."""
    own = asn1_x509.Certificate.load(der_of(certificate))
    digest = {"algorithm": "sha256"}
    signer = {
        "version": "v1",
        "sid": cms.SignerIdentifier(
            {"issuer_and_serial_number": {"issuer": own.issuer, "serial_number": own.serial_number}}
        ),
        "digest_algorithm": digest,
        "signature_algorithm": {"algorithm": "sha256_ecdsa"},
        "signature": key_of(name).sign(content, _DETERMINISTIC),
    }
    data = {
        "version": "v1",
        "digest_algorithms": [digest],
        "encap_content_info": {"content_type": "data", "content": content},
        "certificates": [own],
        "signer_infos": [signer],
    }
    return bytes(cms.ContentInfo({"content_type": "signed_data", "content": cms.SignedData(data)}).dump())


def _part(content: bytes) -> bytes:
    return struct.pack("<I", len(content)) + content
