"""The service's OpenAPI document: what FastAPI derives from the routes, and what the edge adds to every one of them."""

from __future__ import annotations

import re
import sys
from collections.abc import Sequence
from typing import Any

from fastapi import FastAPI
from fastapi.openapi.utils import get_openapi
from fastapi.routing import APIRoute
from pydantic_core import to_json

from restless_tide.service.location import LOCATIONS
from restless_tide.service.operations import operations_of
from restless_tide.service.paths import ACTING
from restless_tide.wire.problems import PROBLEM_TYPE
from restless_tide.wire.watching import ChangeTold

_METHODS = ("get", "put", "post", "patch", "delete", "head", "options")
_SENTENCE = re.compile(r"(?<=[.:;])\s")
"""Where the first sentence of a description ends."""
_KEY = {
    "name": "Idempotency-Key",
    "in": "header",
    "required": False,
    "description": "the same act with the same key is done once, and answered the same for a day",
    "schema": {"type": "string", "minLength": 1, "maxLength": 200, "pattern": "^[!-~]+$"},
}
_IF_MATCH = {
    "name": "If-Match",
    "in": "header",
    "required": False,
    "description": "the ETag of what was read, at this address or the nearest one above it; 412 where it was changed since",
    "schema": {"type": "string", "maxLength": 1000, "pattern": r'^(\*|(W/)?"[!#-~]*"(, *(W/)?"[!#-~]*")*)$'},
}
_IF_NONE_MATCH = _IF_MATCH | {
    "name": "If-None-Match",
    "description": "the ETag of what is known; 304 where it is still so, and the whole answer for what is no ETag",
    "schema": {"type": "string"},
}
_ETAG = {"description": "of this answer, for If-Match and If-None-Match", "schema": {"type": "string"}}
_REQUEST_ID = {
    "description": "of this request, in the desk's log and in those of the stores",
    "schema": {"type": "string"},
}

_A_PROBLEM = {
    "description": "What is wrong, where, and how to fix it (RFC 9457)",
    "content": {PROBLEM_TYPE: {"schema": {"$ref": "#/components/schemas/Problem"}}},
    "headers": {"X-Request-Id": _REQUEST_ID},
}


def _name_of(parameter: dict[str, Any]) -> str:
    return str(parameter["name"]).replace("-", "")


def document(app: FastAPI) -> dict[str, Any]:
    """The document, made once."""
    if app.openapi_schema is None:
        routes = operations_of(app)
        told = get_openapi(
            title=app.title,
            version=app.version,
            description=app.description,
            routes=routes,
            openapi_version="3.1.0",
            tags=_tags(routes),
            contact={"name": "Whoever runs this desk"},
            license_info={"name": "MIT License", "identifier": "MIT"},
        )
        for path, operations in told["paths"].items():
            for method in _METHODS:
                if method in operations:
                    _complete(path, method, operations[method])
        components = told.setdefault("components", {})
        components["parameters"] = {_name_of(one): one for one in (_KEY, _IF_MATCH, _IF_NONE_MATCH)}
        components["responses"] = {"Problem": _A_PROBLEM}
        components["schemas"]["ChangeTold"] = ChangeTold.model_json_schema(ref_template="#/components/schemas/{model}")
        told["servers"] = [{"url": "/", "description": "this desk"}]
        told.get("components", {}).get("schemas", {}).pop("HTTPValidationError", None)
        told.get("components", {}).get("schemas", {}).pop("ValidationError", None)
        app.openapi_schema = told
    return app.openapi_schema


def encoded(app: FastAPI) -> bytes:
    """The document as JSON, made once."""
    made: bytes | None = getattr(app.state, "contract", None)
    if made is None:
        made = app.state.contract = to_json(document(app))
    return made


def _tags(routes: Sequence[APIRoute]) -> list[dict[str, str]]:
    """Each noun, as the module says that holds its operations."""
    told: dict[str, str] = {}
    for route in routes:
        for tag in route.tags:
            told.setdefault(str(tag), sys.modules[route.endpoint.__module__].__doc__ or "")
    return [{"name": name, "description": described} for name, described in sorted(told.items())]


def _complete(path: str, method: str, operation: dict[str, Any]) -> None:
    responses: dict[str, Any] = operation["responses"]
    responses.pop("422", None)  # told by the default answer, in the form in which it is sent
    responses.pop("default")
    responses |= {family: {"$ref": "#/components/responses/Problem"} for family in ("4XX", "5XX")}
    operation["summary"] = _SENTENCE.split(operation["description"], maxsplit=1)[0].removesuffix(".")
    parameters: list[dict[str, Any]] = operation.setdefault("parameters", [])
    named = {entry["name"].lower() for entry in parameters if entry.get("in") == "header"}
    if not path.startswith("/v1/"):
        return
    if method.upper() in ACTING and operation.get("security") != [] and not path.startswith("/v1/uploads"):
        _add(parameters, named, _KEY)
        _add(parameters, named, _IF_MATCH)
    if f"{method.upper()} {path}" in LOCATIONS:
        responses["201"].setdefault("headers", {})["Location"] = {
            "description": "the address of what was made",
            "schema": {"type": "string"},
        }
    ok = responses.get("200")
    if method == "get" and ok is not None and "application/json" in ok.get("content", {}):
        ok.setdefault("headers", {})["ETag"] = _ETAG
        if operation.get("security") != []:
            _add(parameters, named, _IF_NONE_MATCH)
            responses["304"] = {"description": "It is as it was", "headers": {"ETag": _ETAG}}
    if not parameters:
        del operation["parameters"]


def _add(parameters: list[dict[str, Any]], named: set[str], one: dict[str, Any]) -> None:
    if one["name"].lower() not in named:
        parameters.append({"$ref": f"#/components/parameters/{_name_of(one)}"})
