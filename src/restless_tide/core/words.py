"""How several things are told in one sentence."""

from __future__ import annotations

from collections.abc import Sequence


def listed(words: Sequence[str]) -> str:
    """Such as ``Northgate, Openfield and Wrackline``; nothing of nothing."""
    return " and ".join([*([", ".join(words[:-1])] if len(words) > 1 else []), *words[-1:]])
