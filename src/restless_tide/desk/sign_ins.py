"""How a store's reviewer signs in: sealed like keys, opened only for the call that takes it there."""

from __future__ import annotations

import json
from collections.abc import Mapping

from restless_tide.records.seal import Seal

_LONGEST = 500


def told(sign_in: Mapping[str, str]) -> dict[str, str]:
    """What of a sign-in says anything, each part cut to what stores take."""
    return {name: str(text)[:_LONGEST] for name, text in sign_in.items() if str(text).strip()}


def sealed(seal: Seal, sign_in: Mapping[str, str], about: str) -> bytes:
    """A sign-in as it is kept; ``about`` names the one thing that it belongs to."""
    return seal.close(json.dumps(told(sign_in)).encode(), f"sign-in {about}")


def opened(seal: Seal, content: bytes | None, about: str) -> dict[str, str] | None:
    """What was sealed for this thing; None where nothing was."""
    if content is None:
        return None
    found: dict[str, str] = json.loads(seal.open(content, f"sign-in {about}"))
    return found
