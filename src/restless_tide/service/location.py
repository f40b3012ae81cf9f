"""Location (RFC 9110, section 10.2.2): where a request has made something that has an address, its answer says which."""

from __future__ import annotations

import json
from collections.abc import Callable, Coroutine
from typing import Any
from urllib.parse import quote

from fastapi import Request, Response
from fastapi.routing import APIRoute

from restless_tide.service.rights import Need

LOCATIONS: dict[str, tuple[str, str]] = {
    "POST /v1/apps": ("/v1/apps/{}", "name"),
    "POST /v1/people": ("/v1/people/{}", "person.id"),
    "POST /v1/tokens": ("/v1/tokens/{}", "token.id"),
    "POST /v1/stores": ("/v1/stores/{}", "name"),
    "POST /v1/carried-stores": ("/v1/stores/{}", "name"),
    "POST /v1/testers": ("/v1/testers/{}", "id"),
    "POST /v1/pictures": ("/v1/pictures/{}", "sha256"),
    "POST /v1/documents": ("/v1/documents/{}", "sha256"),
    "POST /v1/subscriptions": ("/v1/subscriptions/{}", "id"),
    "POST /v1/apps/{app}/reservations": ("/v1/apps/{app}/reservations/{}", "reservation"),
    "POST /v1/apps/{app}/builds": ("/v1/apps/{app}/builds/{}", "id"),
    "POST /v1/apps/{app}/cohorts": ("/v1/apps/{app}/cohorts/{}", "name"),
    "POST /v1/apps/{app}/cohorts/{cohort}/testers": ("/v1/testers/{}", "id"),
    "POST /v1/apps/{app}/releases": ("/v1/apps/{app}/releases/{}", "version"),
    "POST /v1/apps/{app}/releases/{version}/fixes": ("/v1/apps/{app}/releases/{}", "version"),
    "POST /v1/apps/{app}/reports": ("/v1/reports/{}", "id"),
    "POST /v1/apps/{app}/devices": ("/v1/apps/{app}/devices/{}", "id"),
    "POST /v1/apps/{app}/guards": ("/v1/apps/{app}/guards/{}", "id"),
}
"""By method and path: the address of what was made, and where its last part stands in the answer."""

Handler = Callable[[Request], Coroutine[Any, Any, Response]]


class Route(APIRoute):
    """A route that tells where what it made is. ``need`` is the right that it takes, once it is served."""

    need: Need

    def get_route_handler(self) -> Handler:
        """The handler, with the header added where there is one to add."""
        handle = super().get_route_handler()
        made = next(
            (LOCATIONS[key] for method in self.methods or () if (key := f"{method} {self.path}") in LOCATIONS), None
        )
        if made is None:
            return handle

        async def located(request: Request) -> Response:
            response = await handle(request)
            if response.status_code == 201:
                response.headers["Location"] = _address(*made, request.path_params, json.loads(bytes(response.body)))
            return response

        return located


def _address(pattern: str, part: str, named: dict[str, Any], told: Any) -> str:
    for name in part.split("."):
        told = told[name]
    return pattern.replace("{}", quote(str(told), safe="")).format(
        **{name: quote(str(value)) for name, value in named.items()}
    )
