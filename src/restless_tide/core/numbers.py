"""Whole numbers as people and headers write them, and the numbers of builds."""

from __future__ import annotations

import re
from functools import total_ordering
from typing import TYPE_CHECKING, Any

from restless_tide.core.errors import Invalid

if TYPE_CHECKING:
    from pydantic import GetCoreSchemaHandler, GetJsonSchemaHandler
    from pydantic_core.core_schema import CoreSchema

LONGEST_DAYS = 36_500
"""A hundred years: no wait and no rule goes beyond."""
MOST_PARTS = 3
"""Of a build's number, with dots between them."""
MOST_DIGITS = 18
"""So many fit into the records."""
_NUMBER = re.compile(rf"-?[0-9]{{1,19}}|[0-9]{{1,19}}(?:\.[0-9]{{1,19}}){{1,{MOST_PARTS - 1}}}")


def whole_number(text: str) -> int | None:
    """The number that ASCII digits say; None for anything else, and for one too large to be kept."""
    digits = text.strip()
    return int(digits) if digits.isascii() and digits.isdecimal() and len(digits) <= MOST_DIGITS else None


@total_ordering
class BuildNumber:
    """What machines compare: one to three whole numbers with dots between them, kept as it was written.

    Numbers are compared part by part, and a part that is missing counts as zero: 7 is above 6.9.12, and 7 and
    7.0 are the same. A number below zero, which only a broken package has, is below all others.

    Raises Invalid for any other text.
    """

    __slots__ = ("parts", "text")

    def __init__(self, text: str | int) -> None:
        self.text = str(text).strip()
        if isinstance(text, bool) or not _NUMBER.fullmatch(self.text):
            raise Invalid(
                f"{self.text[:60]!r} is no build number.",
                remedy=f"Write one to {MOST_PARTS} whole numbers with dots, such as 218 or 2.18.3.",
                code="number-unreadable",
            )
        self.parts = tuple(int(part) for part in self.text.split("."))

    @property
    def order(self) -> str:
        """A text that sorts as numbers do and is the same for equal ones: each part after its count of digits."""
        return ".".join(f"{len(str(abs(part))):02}{part}" if part >= 0 else f"-{part}" for part in self._significant)

    def raised(self, parts: int, largest: int) -> BuildNumber:
        """The next number of at most so many parts: the last part is raised, or the one before where it is ``largest``."""
        kept = list(self.parts[:parts])
        while len(kept) > 1 and kept[-1] >= largest:
            kept.pop()
        return BuildNumber(".".join(map(str, [*kept[:-1], kept[-1] + 1])))

    @property
    def _significant(self) -> tuple[int, ...]:
        kept = len(self.parts)
        while kept > 1 and not self.parts[kept - 1]:
            kept -= 1
        return self.parts[:kept]

    def __eq__(self, other: object) -> bool:
        return isinstance(other, BuildNumber) and self._significant == other._significant

    def __lt__(self, other: BuildNumber) -> bool:
        return self._significant < other._significant

    def __hash__(self) -> int:
        return hash(self._significant)

    def __str__(self) -> str:
        return self.text

    def __repr__(self) -> str:
        return f"BuildNumber({self.text!r})"

    @classmethod
    def __get_pydantic_core_schema__(cls, _: Any, __: GetCoreSchemaHandler) -> CoreSchema:
        from pydantic_core import core_schema  # only where a model is built

        return core_schema.no_info_plain_validator_function(
            cls._validated, serialization=core_schema.to_string_ser_schema()
        )

    @classmethod
    def __get_pydantic_json_schema__(cls, _: Any, __: GetJsonSchemaHandler) -> dict[str, Any]:
        told = f"one to {MOST_PARTS} whole numbers with dots between them"
        return {"type": "string", "pattern": f"^({_NUMBER.pattern})$", "description": told}

    @classmethod
    def _validated(cls, given: object) -> BuildNumber:
        if isinstance(given, BuildNumber):
            return given
        if not isinstance(given, str | int):
            raise ValueError("a build number is a text such as 218 or 2.18.3")
        try:
            return cls(given)
        except Invalid as wrong:
            raise ValueError(f"{wrong.detail} {wrong.remedy}") from None
