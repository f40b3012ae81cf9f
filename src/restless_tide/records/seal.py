"""Sealing secrets at rest: AES-256-GCM under a master key that lives beside the data or in the environment."""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import os
import secrets
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from restless_tide.core.errors import Invalid

_KEY_BYTES = 32
_NONCE_BYTES = 12


class Seal:
    """Seals and opens bytes, bound to a name (the associated data), so that one sealed value cannot stand for another."""

    def __init__(self, master_key: bytes) -> None:
        if len(master_key) != _KEY_BYTES:
            raise Invalid(
                f"The master key has {len(master_key)} bytes; it needs {_KEY_BYTES}.", code="master-key-unfit"
            )
        self._aead = AESGCM(master_key)
        self._mac_key = hmac.digest(master_key, b"restless-tide personal links", "sha256")

    def close(self, content: bytes, name: str) -> bytes:
        nonce = secrets.token_bytes(_NONCE_BYTES)
        return nonce + self._aead.encrypt(nonce, content, name.encode())

    def open(self, sealed: bytes, name: str) -> bytes:
        """Raises Invalid when it was sealed under another master key or was altered."""
        try:
            return self._aead.decrypt(sealed[:_NONCE_BYTES], sealed[_NONCE_BYTES:], name.encode())
        except InvalidTag:
            raise Invalid(
                f"What is sealed for {name} does not open with this master key.",
                remedy="Start the desk with the master key it was sealed under, or connect the store again.",
                code="seal-does-not-open",
            ) from None

    def personal_code(self, subject: str) -> str:
        """An unguessable code for a personal link; it is derived, so nothing has to be kept."""
        return base64.urlsafe_b64encode(hmac.digest(self._mac_key, subject.encode(), "sha256")[:18]).decode()

    def mail_code(self, subject: str) -> str:
        """The same for a mail address, whose letters may lose their case on the way."""
        return hmac.digest(self._mac_key, f"mail {subject}".encode(), "sha256")[:10].hex()

    def is_mail_code(self, subject: str, code: str) -> bool:
        return hmac.compare_digest(code.encode(), self.mail_code(subject).encode())


def master_key(folder: Path, from_environment: str | None) -> bytes:
    """The key from the environment (base64), or from ``master.key`` beside the data, made on first use (0600)."""
    if from_environment:
        try:
            return base64.b64decode(from_environment, validate=True)
        except binascii.Error:
            raise Invalid("TIDE_MASTER_KEY is not base64.", code="master-key-unfit") from None
    place = folder / "master.key"
    if not place.exists():
        handle = os.open(place, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "wb") as file:
            file.write(base64.b64encode(secrets.token_bytes(_KEY_BYTES)))
    return base64.b64decode(place.read_bytes())


def token_digest(token: str) -> str:
    """How a bearer token or session is kept: its SHA-256 (tokens are long and random, so no salt is needed)."""
    return hashlib.sha256(token.encode()).hexdigest()
