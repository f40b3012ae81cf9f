"""Resumable uploads by tus 1.0 (https://tus.io/protocols/resumable-upload): what both ends of it have in common."""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
from collections.abc import Mapping

VERSION = "1.0.0"
CHUNK_TYPE = "application/offset+octet-stream"
SPOKEN = {"Tus-Resumable": VERSION}
CHECKSUMS = ("sha1", "sha256")
"""tus wants the first at least."""
CHECKSUM_DIFFERS = 460


def to_begin(size_bytes: int, metadata: Mapping[str, str] | None = None) -> dict[str, str]:
    """The headers that begin an upload of so many bytes."""
    told = {"Upload-Metadata": metadata_header(metadata)} if metadata else {}
    return SPOKEN | {"Upload-Length": str(size_bytes)} | told


def to_go_on(offset: int, block: bytes | None = None) -> dict[str, str]:
    """The headers of a chunk that goes to ``offset``; with the checksum of ``block``, where that is known beforehand."""
    told = {"Upload-Checksum": f"sha256 {_base64(hashlib.sha256(block).digest())}"} if block is not None else {}
    return SPOKEN | {"Upload-Offset": str(offset), "Content-Type": CHUNK_TYPE} | told


def arrived(headers: Mapping[str, str]) -> int:
    """How many bytes are there, by the headers of an answer. Raises KeyError or ValueError for one without them."""
    return int(headers["Upload-Offset"])


def metadata_header(metadata: Mapping[str, str]) -> str:
    return ",".join(f"{name} {_base64(value.encode())}" for name, value in metadata.items())


def metadata_of(text: str) -> dict[str, str]:
    """The metadata of a header. Raises ValueError naming the entry that is not base64."""
    found = {}
    for pair in filter(None, text.split(",")):
        name, _, value = pair.strip().partition(" ")
        try:
            found[name] = base64.b64decode(value, validate=True).decode()
        except (binascii.Error, UnicodeDecodeError):
            raise ValueError(name) from None
    return found


class Checksum:
    """A chunk's checksum as a header tells it. Raises ValueError for an unknown algorithm and for what is not base64."""

    def __init__(self, header: str) -> None:
        self.algorithm, _, value = header.partition(" ")
        if self.algorithm not in CHECKSUMS:
            raise ValueError(f"Checksums here are {' or '.join(CHECKSUMS)}, not {self.algorithm!r}.")
        try:
            self._wanted = base64.b64decode(value, validate=True)
        except binascii.Error:
            raise ValueError("The checksum is not base64.") from None
        self._digest = hashlib.new(self.algorithm)

    def update(self, block: bytes) -> None:
        self._digest.update(block)

    @property
    def fits(self) -> bool:
        """Whether what has come so far is what the header told."""
        return hmac.compare_digest(self._digest.digest(), self._wanted)


def _base64(content: bytes) -> str:
    return base64.b64encode(content).decode()
