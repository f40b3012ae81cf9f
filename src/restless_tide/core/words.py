"""How parts of a whole, and several things, are told in a sentence."""

from __future__ import annotations

from collections.abc import Sequence


def percent(part: float) -> str:
    """Such as ``5%`` or ``0.25%`` of a part between 0 and 1; as many digits as it needs, four at most."""
    return f"{part * 100:.4g}%"


def listed(words: Sequence[str]) -> str:
    """Such as ``Northgate, Openfield and Wrackline``; nothing of nothing."""
    return " and ".join([*([", ".join(words[:-1])] if len(words) > 1 else []), *words[-1:]])


def either(words: Sequence[str]) -> str:
    """Such as ``Ida, Tom or Wren``; nothing of nothing."""
    return " or ".join([*([", ".join(words[:-1])] if len(words) > 1 else []), *words[-1:]])
