"""The built console, served by the service itself; every path that is not the API's leads to its one page."""

from __future__ import annotations

from mimetypes import guess_type
from pathlib import Path

from fastapi import FastAPI, HTTPException, Request
from fastapi.responses import FileResponse, HTMLResponse, Response
from fastapi.staticfiles import StaticFiles
from starlette.datastructures import Headers
from starlette.types import Scope

from restless_tide.core.errors import NotFound
from restless_tide.service.edge import methods_at

_CODINGS = (("br", ".br"), ("gzip", ".gz"))
_NOT_BUILT = (
    "<!doctype html><title>Restless Tide</title><p>The console is not built yet: run <code>make console</code>.</p>"
)
_POLICY = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
_PAGE_HEADERS = {"Cache-Control": "no-cache", "Content-Security-Policy": _POLICY}


class _Assets(StaticFiles):
    """Files that carry a digest of their content in their names: a browser asks for each once. What was compressed when the
    console was built is sent so to whoever takes it."""

    async def get_response(self, path: str, scope: Scope) -> Response:
        taken = {one.partition(";")[0].strip() for one in Headers(scope=scope).get("accept-encoding", "").split(",")}
        for coding, suffix in _CODINGS:
            if coding in taken and self.lookup_path(path + suffix)[1] is not None:
                response = await super().get_response(path + suffix, scope)
                response.headers["Content-Encoding"] = coding
                response.headers["Content-Type"] = guess_type(path)[0] or "application/octet-stream"
                break
        else:
            response = await super().get_response(path, scope)
        response.headers["Vary"] = "Accept-Encoding"
        response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
        return response


def install(app: FastAPI, folder: Path) -> None:
    """Serve the console from ``folder``, where ``make console`` has built it."""
    page = folder / "index.html"
    if (folder / "assets").is_dir():
        app.mount("/assets", _Assets(directory=folder / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def console(path: str, request: Request) -> Response:
        if path in ("metrics", "readyz") or path.startswith(("v1/", "invitation/", "join/", "assets/")):
            if methods_at(request.scope):
                raise HTTPException(405)
            raise NotFound(f"There is nothing at /{path}.")
        if path == "mark.svg" and (folder / path).is_file():
            return FileResponse(folder / path, headers={"Cache-Control": "max-age=86400"})
        if not page.is_file():
            return HTMLResponse(_NOT_BUILT, 503)
        return FileResponse(page, headers=_PAGE_HEADERS)
