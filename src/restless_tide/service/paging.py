"""Pages of long lists: the next one stands in the Link header (RFC 8288)."""

from __future__ import annotations

from urllib.parse import urlencode

from fastapi import Response


def link_next(response: Response, path: str, after: str, **asked: object) -> None:
    """Say where the next page is, asked for in the same words."""
    given = {
        name: [str(one) for one in value] if isinstance(value, (list, tuple)) else str(value)
        for name, value in asked.items()
        if value not in (None, "", False)
    }
    response.headers["Link"] = f'<{path}?{urlencode(given | {"after": after}, doseq=True)}>; rel="next"'
