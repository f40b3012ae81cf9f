"""Paths as they may stand in a log: without what belongs to one person."""

from __future__ import annotations

import re

from starlette.routing import BaseRoute

API = "/v1/"
SAFE = frozenset({"GET", "HEAD", "OPTIONS"})
"""Methods that change nothing (RFC 9110, section 9.2.1)."""
ACTING = frozenset({"POST", "PUT", "PATCH", "DELETE"})
"""Those that do, and that this service knows."""
_PERSONAL = re.compile(r"^/(invitation|join)/.*|(?<=^/v1/testers/)[^/]*@[^/]*")


def impersonal(path: str) -> str:
    """A path without the code of a personal link, and without an address."""
    return _PERSONAL.sub(lambda found: f"/{found.group(1)}/…" if found.group(1) else "…", path)


def is_of_console(route: BaseRoute) -> bool:
    """Whether a route is the console's own, to which every path leads that nothing else serves."""
    return getattr(route, "path", "").startswith("/{")
