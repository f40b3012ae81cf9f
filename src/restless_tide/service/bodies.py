"""Bodies that are files: read as they come, and no more of them than is taken."""

from __future__ import annotations

from typing import Any

from fastapi import Request

from restless_tide.core.errors import TooLarge

A_FILE: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
    }
}
"""What OpenAPI is told of a body that is a file."""


async def whole_body(request: Request, most: int, noun: str, remedy: str = "") -> bytes:
    """The body of a request. Raises TooLarge where it has more than ``most`` bytes."""
    content = bytearray()
    async for block in request.stream():
        content += block
        if len(content) > most:
            raise TooLarge(
                f"A {noun} has {most} bytes at most.", remedy=remedy, code=f"{noun.replace(' ', '-')}-too-large"
            )
    return bytes(content)
