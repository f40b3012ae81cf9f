"""The built console, served by the service itself; every path that is not the API's leads to its one page."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from fastapi import FastAPI
from fastapi.middleware.gzip import GZipMiddleware
from fastapi.responses import FileResponse, HTMLResponse, Response
from fastapi.staticfiles import StaticFiles

from restless_tide.core.errors import NotFound

_NOT_BUILT = (
    "<!doctype html><title>Restless Tide</title><p>The console is not built yet: run <code>make console</code>.</p>"
)
_POLICY = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'"
_PAGE_HEADERS = {"Cache-Control": "no-cache", "Content-Security-Policy": _POLICY, "X-Content-Type-Options": "nosniff"}


class _Assets(StaticFiles):
    """Files that carry a digest of their content in their names: a browser asks for each once."""

    def file_response(self, *args: Any, **kwargs: Any) -> Response:
        response = super().file_response(*args, **kwargs)
        response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
        return response


def install(app: FastAPI, folder: Path) -> None:
    """Serve the console from ``folder``, where ``make console`` has built it."""
    page = folder / "index.html"
    if (folder / "assets").is_dir():
        app.mount("/assets", GZipMiddleware(_Assets(directory=folder / "assets"), minimum_size=1000), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def console(path: str) -> Response:
        if path in ("metrics", "readyz") or path.startswith(("v1/", "invitation/", "join/", "assets/")):
            raise NotFound(f"There is nothing at /{path}.")
        if path == "mark.svg" and (folder / path).is_file():
            return FileResponse(folder / path, headers={"Cache-Control": "max-age=86400"})
        if not page.is_file():
            return HTMLResponse(_NOT_BUILT, 503)
        return FileResponse(page, headers=_PAGE_HEADERS)
