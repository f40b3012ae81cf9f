"""Whom a call reached: the peer of each new connection, held against what the operator forbids.

A name can lead elsewhere at the time of the call than when it was checked, so the address that was really connected to is
looked at, before anything is sent.
"""

from __future__ import annotations

import ipaddress
from typing import Any

import httpx

_CARRIES_IPV4 = (
    (ipaddress.ip_network("64:ff9b::/96"), 0),  # NAT64 (RFC 6052)
    (ipaddress.ip_network("64:ff9b:1::/48"), 0),  # NAT64 of one's own network (RFC 8215)
    (ipaddress.ip_network("2002::/16"), 80),  # 6to4 (RFC 3056)
)
"""Networks of IPv6 addresses that carry one of IPv4, and how many bits stand behind it."""
_TEREDO = ipaddress.ip_network("2001::/32")
_CONNECTED = "connect_tcp.complete"


def leads_inward(address: str) -> bool:
    """Whether an address is of this machine or of a private network, also where it is wrapped in another one."""
    where = ipaddress.ip_address(address.partition("%")[0])
    if isinstance(where, ipaddress.IPv6Address):
        if where.ipv4_mapped is not None:
            return leads_inward(str(where.ipv4_mapped))
        if where in _TEREDO:  # RFC 4380: the server is named, and the client's address is inverted
            server, client = where.teredo or (None, None)
            return any(part is not None and not part.is_global for part in (server, client))
        for network, behind in _CARRIES_IPV4:
            if where in network:
                return leads_inward(str(ipaddress.IPv4Address((int(where) >> behind) & 0xFFFFFFFF)))
    return not where.is_global or where.is_multicast


class LeadsInward(httpx.ConnectError):
    """The connection leads to this machine or into a private network, which the operator forbids."""


def _inward(event: str, told: dict[str, Any]) -> LeadsInward | None:
    """What to raise about a connection that was just made; None where it may be used."""
    if not event.endswith(_CONNECTED):
        return None
    peer = told["return_value"].get_extra_info("server_addr")
    if peer is not None and not leads_inward(str(peer[0])):
        return None
    return LeadsInward(f"the connection leads inward ({peer[0] if peer else 'unknown'}), which this desk forbids")


def _demand_outward(event: str, told: dict[str, Any]) -> None:
    if (wrong := _inward(event, told)) is not None:
        told["return_value"].close()
        raise wrong


async def _demand_outward_later(event: str, told: dict[str, Any]) -> None:
    if (wrong := _inward(event, told)) is not None:
        await told["return_value"].aclose()
        raise wrong


def hold_outward(request: httpx.Request) -> None:
    """An event hook of an httpx client: each new connection of the request is held to public addresses."""
    request.extensions["trace"] = _demand_outward


async def hold_outward_later(request: httpx.Request) -> None:
    """The same for an asynchronous client."""
    request.extensions["trace"] = _demand_outward_later
