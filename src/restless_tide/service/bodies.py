"""Bodies that are files: read as they come, and no more of them than is taken."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from fastapi import Request
from fastapi.concurrency import run_in_threadpool

from restless_tide.core.errors import Invalid, TooLarge
from restless_tide.service.faults import demand_media

A_FILE: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
    }
}
"""What OpenAPI is told of a body that is a file."""


FILE_TYPE = "application/octet-stream"


async def whole_body(
    request: Request, most: int, noun: str, remedy: str = "", *, media: Sequence[str] = (FILE_TYPE,)
) -> bytes:
    """The body of a request. Raises TooLarge where it has more than ``most`` bytes, UnknownMedia for another kind."""
    demand_media(request, *media)
    content = bytearray()
    async for block in request.stream():
        content += block
        if len(content) > most:
            raise TooLarge(
                f"A {noun} has {most} bytes at most.", remedy=remedy, code=f"{noun.replace(' ', '-')}-too-large"
            )
    return bytes(content)


async def body_to_file(request: Request, path: Path, most: int, noun: str) -> str:
    """Write the body of a request to ``path`` as it comes; returns its SHA-256. Raises TooLarge, and Invalid for an empty one."""
    demand_media(request, FILE_TYPE)
    told, size = hashlib.sha256(), 0
    with path.open("wb") as file:
        async for block in request.stream():
            size += len(block)
            if size > most:
                raise TooLarge(f"A {noun} has {most:,} bytes at most.", code=f"{noun}-too-large")
            told.update(block)
            await run_in_threadpool(file.write, block)
    if not size:
        raise Invalid("The file is empty.", code="file-empty")
    return told.hexdigest()
