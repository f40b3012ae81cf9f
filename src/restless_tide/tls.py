"""Certificates are read only where a connection needs them, and once: reading them takes a tenth of a second."""

from __future__ import annotations

import ssl
from functools import cache
from typing import Literal


def verified(address: str) -> ssl.SSLContext | Literal[False]:
    """By what who answers at an address has to prove itself: what ``verify`` of an httpx client is to be."""
    return False if address.startswith("http://") else _certificates()


@cache
def _certificates() -> ssl.SSLContext:
    import httpx  # what uses this has loaded it already

    return httpx.create_ssl_context()
