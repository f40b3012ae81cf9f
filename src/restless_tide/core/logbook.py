"""The logbook's chain: each line carries the digest of the one before, so that no line can be altered unseen.

A line names people by pseudonymous id only; what is personal lives elsewhere and can be erased
without breaking the chain. The digest is SHA-256 over the canonical JSON of the line (keys sorted,
no white space, UTF-8) together with the digest before it.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from typing import Any, NamedTuple

BEGINNING = "0" * 64


class Line(NamedTuple):
    """Who did what to which thing, when and why, and what it was before and after."""

    at: datetime
    person: str
    act: str
    subject: str
    app: str | None
    reason: str
    before: Mapping[str, Any] | None
    after: Mapping[str, Any] | None


def digest_of(line: Line, digest_before: str) -> str:
    """The line's digest, as 64 hexadecimal digits."""
    content = line._asdict() | {"at": line.at.astimezone(UTC).isoformat(), "digest_before": digest_before}
    canonical = json.dumps(content, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return hashlib.sha256(canonical.encode()).hexdigest()


def first_broken(lines: Iterable[tuple[Line, str]]) -> int | None:
    """The place, from 0, of the first line whose digest does not follow from the chain; None when all hold."""
    before = BEGINNING
    for place, (line, digest) in enumerate(lines):
        if digest_of(line, before) != digest:
            return place
        before = digest
    return None
