"""What all of the contract's models share."""

from __future__ import annotations

import re
import unicodedata
from datetime import datetime
from typing import Annotated, Any, Self

from pydantic import AfterValidator, AwareDatetime, BaseModel, BeforeValidator, ConfigDict, Field

from restless_tide.core.limits import LONGEST_TEXT
from restless_tide.core.order import OrderKind

LONGEST_LINE, LONGEST_WORDS, LONGEST_FILE = 300, 2_000, 400_000
"""Characters of a line, a reason, and a text file such as a rulebook; LONGEST_TEXT is of a text such as release notes."""
MOST_ENTRIES = 1_000
_BREAKS = frozenset("\n\t")
_BARE_NUMBER = re.compile(r"[+-]?[0-9]+(\.[0-9]*)?")


def _in_one_line(text: str) -> str:
    normal = unicodedata.normalize("NFC", text)
    if any(unicodedata.category(sign) in ("Cc", "Cs", "Zl", "Zp") for sign in normal):
        raise ValueError("it holds a line break or another control character; write it in one line")
    return normal


def _in_lines(text: str) -> str:
    normal = unicodedata.normalize("NFC", text).replace("\r\n", "\n").replace("\r", "\n")
    if any(unicodedata.category(sign) in ("Cc", "Cs") and sign not in _BREAKS for sign in normal):
        raise ValueError("it holds a control character that is no line break")
    return normal


OneLine = Annotated[str, Field(max_length=LONGEST_LINE), AfterValidator(_in_one_line)]
"""A name, a title, a label, an address: never a line break in it, in the form NFC."""


def one_step(name: str) -> str:
    """A name that stands in addresses as one step of them."""
    if any(sign in name for sign in "/\\?#%") or name in (".", ".."):
        raise ValueError("it holds one of / \\ ? # %, which a name in an address cannot")
    return name


Words = Annotated[str, Field(max_length=LONGEST_WORDS), AfterValidator(_in_lines)]
"""What someone says of an act, in a few lines."""
Text = Annotated[str, Field(max_length=LONGEST_TEXT), AfterValidator(_in_lines)]
Password = Annotated[str, Field(max_length=LONGEST_WORDS)]
"""Exactly as it was typed."""
FileText = Annotated[str, Field(max_length=LONGEST_FILE), AfterValidator(_in_lines)]
Number = Annotated[int, Field(ge=0, le=2**53)]
"""A whole number that every reader of JSON keeps as it is."""
EARLIEST_YEAR, LATEST_YEAR = 1970, 2200


def _of_our_time(instant: datetime) -> datetime:
    if not EARLIEST_YEAR <= instant.year <= LATEST_YEAR:
        raise ValueError(f"its year is {instant.year}; years from {EARLIEST_YEAR} to {LATEST_YEAR} are taken")
    return instant


def _written(value: object) -> object:
    """A bare number is no instant: nobody would know of what."""
    if isinstance(value, int | float) or (isinstance(value, str) and _BARE_NUMBER.fullmatch(value)):
        raise ValueError("write an instant like 2026-12-01T09:00+01:00")
    return value


Instant = Annotated[AwareDatetime, BeforeValidator(_written), AfterValidator(_of_our_time)]
AnyInstant = Annotated[datetime, BeforeValidator(_written), AfterValidator(_of_our_time)]
"""Without a zone it is meant in the desk's own."""
Names = Annotated[list[OneLine], Field(max_length=MOST_ENTRIES)]
TextByLocale = Annotated[dict[OneLine, Text], Field(max_length=100)]


class Wanted(BaseModel):
    """What a caller hands in; an unknown field is a mistake and refused."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class Told(BaseModel):
    """What the service answers."""

    model_config = ConfigDict(frozen=True, defer_build=True)

    @classmethod
    def of(cls, row: object, **derived: Any) -> Self:
        """Made of what a row has under the same names; ``derived`` is what it has under no name, or not so."""
        own = {name: getattr(row, name) for name in cls.model_fields if name not in derived and hasattr(row, name)}
        return cls.model_validate(own | derived)


class Ordered(Told):
    """Something that is ordered of a store. Its state is what is wanted; ``seen`` is what the store was last seen to hold."""

    confirmed: bool = Field(description="whether everything ordered is confirmed by the store")
    pending: list[OrderKind] = Field(description="what is ordered and not confirmed yet, in its sequence")
