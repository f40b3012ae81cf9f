"""Every error becomes one problem document here; no traceback and no secret leaves."""

from __future__ import annotations

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from fastapi.routing import APIRoute
from starlette.exceptions import HTTPException

from restless_tide import tus
from restless_tide.core.errors import NotFound, TideError, UnknownMedia
from restless_tide.service.brake import WINDOW_SECONDS
from restless_tide.wire.problems import PROBLEM_TYPE, problem_of, unfit

_HEADERS = {401: {"WWW-Authenticate": "Bearer"}, 429: {"Retry-After": f"{WINDOW_SECONDS:.0f}"}}
_HEADERS_BY_CODE = {"tus-version": {"Tus-Version": tus.VERSION}}
_JSON = "application/json"


def answer_problem(error: TideError) -> JSONResponse:
    """The answer that reports an error."""
    problem = problem_of(error)
    headers = _HEADERS.get(problem.status, {}) | _HEADERS_BY_CODE.get(error.code, {})
    return JSONResponse(problem.model_dump(mode="json"), problem.status, headers=headers, media_type=PROBLEM_TYPE)


def demand_media(request: Request, *taken: str) -> None:
    """Raise UnknownMedia for a body that is of none of these media types."""
    given = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if given not in taken:
        raise UnknownMedia(
            f"{given or 'A body without a Content-Type'} is not taken here.",
            remedy=f"Send it as {' or '.join(taken)}.",
        )


def install(app: FastAPI) -> None:
    """None of these takes a thread: what is refused is told however busy the others are."""

    @app.exception_handler(TideError)
    async def known(_: Request, error: TideError) -> JSONResponse:
        return answer_problem(error)

    @app.exception_handler(RequestValidationError)
    async def not_valid(request: Request, error: RequestValidationError) -> JSONResponse:
        route = request.scope.get("route")
        if (
            isinstance(route, APIRoute)
            and route.body_field is not None
            and request.headers.get("content-length") != "0"
        ):
            try:
                demand_media(request, _JSON)
            except UnknownMedia as wrong:
                return answer_problem(wrong)
        return answer_problem(unfit([{**found, "loc": found["loc"][1:]} for found in error.errors()]))

    @app.exception_handler(HTTPException)
    async def plain(request: Request, error: HTTPException) -> JSONResponse:
        from restless_tide.service.edge import methods_at  # which needs the answers of this file

        headers = dict(error.headers or {})
        if error.status_code == 405:
            allowed = methods_at(request.scope)
            headers["Allow"] = ", ".join(sorted(allowed | {"OPTIONS"}))
            if not allowed:
                return answer_problem(NotFound(f"There is nothing at {request.url.path}."))
        if error.status_code == 404:
            return answer_problem(NotFound(f"There is nothing at {request.url.path}."))
        wrong = TideError(str(error.detail), code="request-unfit")
        problem = problem_of(wrong).model_copy(update={"status": error.status_code})
        return JSONResponse(
            problem.model_dump(mode="json"), error.status_code, headers=headers, media_type=PROBLEM_TYPE
        )


def unforeseen(request: str) -> JSONResponse:
    """The answer where the desk itself failed. What was asked may have been done before it failed, so nobody promises."""
    return answer_problem(
        TideError(
            "Something went wrong inside the desk. Whether it was done is not known.",
            remedy=f"Look how it stands before you try again; the desk's log has more under the request {request}.",
            code="unforeseen",
        )
    )
