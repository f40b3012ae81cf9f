"""Paths as they may stand in a log: without what belongs to one person."""

from __future__ import annotations

import re

_PERSONAL = re.compile(r"^/(invitation|join)/.*|(?<=^/v1/testers/)[^/]*@[^/]*")


def impersonal(path: str) -> str:
    """A path without the code of a personal link, and without an address."""
    return _PERSONAL.sub(lambda found: f"/{found.group(1)}/…" if found.group(1) else "…", path)
