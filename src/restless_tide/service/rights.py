"""Which right an operation needs. It stands above the operation, and the one who asks is held to it before anything is done.

An operation without it does not start: ``serve_routes`` refuses it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

from fastapi.routing import APIRoute

from restless_tide.core.rights import Reach, Right, who_hold
from restless_tide.desk import whose

Endpoint = TypeVar("Endpoint", bound=Callable[..., Any])
_NEED = "__need__"


@dataclass(frozen=True, slots=True)
class Need:
    """What an operation needs: a right, and over which apps. No right: it is open to anyone."""

    right: Right | None
    reach: Reach | None = None


def needs(right: Right, reach: Reach | None = None) -> Callable[[Endpoint], Endpoint]:
    """Say which right an operation needs; ``reach`` where its path names neither an app nor a thing of one."""

    def noted(endpoint: Endpoint) -> Endpoint:
        setattr(endpoint, _NEED, Need(right, reach))
        return endpoint

    return noted


def open_to_anyone(endpoint: Endpoint) -> Endpoint:
    """Say that an operation needs no sign-in."""
    setattr(endpoint, _NEED, Need(None))
    return endpoint


def need_of(route: APIRoute) -> Need:
    """What the operation of a route needs. Raises RuntimeError for one that does not name it: it must not be served."""
    need = getattr(route.endpoint, _NEED, None)
    if need is None:
        raise RuntimeError(f"{route.name} at {route.path} does not say which right it needs")
    if need.right is None or need.reach is not None:
        return Need(need.right, need.reach)
    if "{app}" in route.path:
        return Need(need.right, Reach.APP)
    if any(f"{{{noun}}}" in route.path for noun in whose.THINGS):
        return Need(need.right, Reach.THING)
    raise RuntimeError(f"{route.name} at {route.path} names no app and does not say over which it needs its right")


def told(need: Need) -> dict[str, Any]:
    """The same for the OpenAPI document."""
    if need.right is None:
        return {"security": []}
    return {
        "x-right": need.right.value,
        "x-right-over": str(need.reach),
        "x-roles": [role.value for role in who_hold(need.right)],
    }
