"""Every error becomes one problem document here; no traceback and no secret leaves."""

from __future__ import annotations

import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from starlette.exceptions import HTTPException

from restless_tide.core.errors import Finding, Invalid, Level, NotFound, TideError
from restless_tide.service.paths import impersonal
from restless_tide.wire.problems import PROBLEM_TYPE, problem_of

_log = structlog.get_logger("service")


def answer_problem(error: TideError) -> JSONResponse:
    problem = problem_of(error)
    headers = {"WWW-Authenticate": "Bearer"} if problem.status == 401 else None
    return JSONResponse(problem.model_dump(mode="json"), problem.status, headers=headers, media_type=PROBLEM_TYPE)


def install(app: FastAPI) -> None:
    @app.exception_handler(TideError)
    def known(_: Request, error: TideError) -> JSONResponse:
        return answer_problem(error)

    @app.exception_handler(RequestValidationError)
    def unfit(_: Request, error: RequestValidationError) -> JSONResponse:
        findings = [
            Finding("field-unfit", Level.BLOCKER, str(found["msg"]), ".".join(str(part) for part in found["loc"][1:]))
            for found in error.errors()
        ]
        told = "; ".join(f"{finding.place or 'body'}: {finding.detail}" for finding in findings)
        return answer_problem(Invalid(f"The request does not fit: {told}.", code="request-unfit", findings=findings))

    @app.exception_handler(HTTPException)
    def plain(request: Request, error: HTTPException) -> JSONResponse:
        if error.status_code == 404:
            return answer_problem(NotFound(f"There is nothing at {request.url.path}."))
        wrong = TideError(str(error.detail), code="request-unfit")
        problem = problem_of(wrong).model_copy(update={"status": error.status_code})
        return JSONResponse(
            problem.model_dump(mode="json"), error.status_code, headers=error.headers, media_type=PROBLEM_TYPE
        )

    @app.exception_handler(Exception)
    def unforeseen(request: Request, error: Exception) -> JSONResponse:
        _log.error("unforeseen", path=impersonal(request.url.path), exc_info=error)
        return answer_problem(
            TideError(
                "Something went wrong inside the desk; nothing was changed.",
                remedy="Try again; its log says more.",
                code="unforeseen",
            )
        )
