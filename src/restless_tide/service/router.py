"""How each noun's routes begin. An application takes them as they are; including a router would build each route again."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query

from restless_tide.service import rights
from restless_tide.service.location import Route
from restless_tide.service.operations import Operations
from restless_tide.wire.base import Words
from restless_tide.wire.problems import Problem

Reason = Annotated[Words, Query()]
"""Why someone acts, where the request has no body."""

_PROBLEMS: dict[int | str, dict[str, Any]] = {
    "default": {"model": Problem, "description": "What is wrong, where, and how to fix it (RFC 9457)"}
}


def router_of(tag: str, prefix: str = "", *, in_schema: bool = True) -> APIRouter:
    return APIRouter(
        prefix=prefix,
        tags=[tag],
        responses=_PROBLEMS,
        route_class=Route,
        include_in_schema=in_schema,
        generate_unique_id_function=lambda route: f"{route.tags[0]}-{route.name}",
    )


def serve_routes(operations: Operations, router: APIRouter) -> None:
    """Serve the routes of a noun. Raises RuntimeError for one that does not say which right it needs."""
    routes = [route for route in router.routes if isinstance(route, Route)]
    for route in routes:
        need = route.need = rights.need_of(route)
        route.openapi_extra = {**(route.openapi_extra or {}), **rights.told(need)}
    operations.add(routes)
