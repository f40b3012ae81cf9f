"""A typed value as Android's binary formats hold it (Res_value in ResourceTypes.h)."""

from __future__ import annotations

from dataclasses import dataclass

from restless_tide.core.packages.chunks import StringPool

REFERENCE = 0x01
STRING = 0x03
DECIMAL = 0x10
HEXADECIMAL = 0x11
BOOLEAN = 0x12


@dataclass(frozen=True, slots=True)
class Value:
    """``kind`` is the type tag, ``data`` its 32 bits; a string's text is looked up in ``pool``."""

    kind: int
    data: int
    pool: StringPool

    @property
    def text(self) -> str | None:
        """The value as text, or None for a reference or a kind that has no plain text."""
        if self.kind == STRING:
            return self.pool[self.data]
        if self.kind in (DECIMAL, HEXADECIMAL):
            return str(self.data if self.data < 1 << 31 else self.data - (1 << 32))
        if self.kind == BOOLEAN:
            return "true" if self.data else "false"
        return None
