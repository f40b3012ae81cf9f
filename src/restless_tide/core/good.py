"""A good that is sold inside an app: what is said of it, here and at stores."""

from __future__ import annotations

import re
from decimal import Decimal
from enum import StrEnum
from typing import Annotated, Any

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from restless_tide.core.errors import Invalid
from restless_tide.core.limits import LONGEST_GOOD_NAME, LONGEST_GOOD_TEXT, LONGEST_REFERENCE, MOST_LOCALES
from restless_tide.core.locales import locale_of

_REFERENCE = re.compile(rf"[a-z0-9][a-z0-9._-]{{0,{LONGEST_REFERENCE - 1}}}")
LONGEST_MONTHS, MOST_STORES = 24, 100
_DECIMALS = 2


def _known_locale(text: str) -> str:
    try:
        return locale_of(text)
    except Invalid as wrong:
        raise ValueError(wrong.detail) from None


Locale = Annotated[str, AfterValidator(_known_locale)]
"""BCP 47, such as en or de-AT."""


class GoodKind(StrEnum):
    """What becomes of a good after someone has bought it: it is used up, kept for ever, or renewed until it is ended."""

    USED_UP = "used-up"
    KEPT = "kept"
    RENEWED = "renewed"


def reference_of(text: str) -> str:
    """The reference of a good. Raises Invalid for one that no store and no folder could hold."""
    if _REFERENCE.fullmatch(text):
        return text
    raise Invalid(
        f"{text[:80]!r} is no reference of a good.",
        remedy=f"Use small letters, digits, dots and dashes, {LONGEST_REFERENCE} at most, such as map-of-the-north.",
        code="good-reference",
    )


class _Value(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


def price_text(price: Decimal) -> str:
    """A price as people write it, such as 4.50, the same for equal prices."""
    plain = format(price.normalize(), "f")
    return f"{price:.2f}" if len(plain.partition(".")[2]) < _DECIMALS else plain


class GoodText(_Value):
    """What people read of a good in one language."""

    name: str = Field(min_length=1, max_length=LONGEST_GOOD_NAME)
    description: str = Field(default="", max_length=LONGEST_GOOD_TEXT)


class SoldGood(_Value):
    """A good as a store has it. ``picture`` is the digest of the file there."""

    kind: GoodKind
    price: Decimal = Field(gt=0, max_digits=13, decimal_places=4)
    currency: str = Field(pattern=r"^[A-Z]{3}$", description="ISO 4217")
    months: int | None = Field(default=None, ge=1, le=LONGEST_MONTHS, description="of a renewed good")
    on_sale: bool = True
    texts: dict[Locale, GoodText] = Field(min_length=1, max_length=MOST_LOCALES)
    picture: str | None = Field(default=None, pattern=r"^[0-9a-f]{64}$")

    @model_validator(mode="after")
    def _renews_or_not(self) -> SoldGood:
        if (self.kind is GoodKind.RENEWED) != (self.months is not None):
            raise ValueError("a renewed good says after how many months, and no other does")
        return self


class Good(SoldGood):
    """A good as it is entered here. ``picture`` is the digest of an original; ``stores``: only these sell it."""

    stores: tuple[Annotated[str, Field(max_length=100)], ...] = Field(default=(), max_length=MOST_STORES)


def read_sold(value: Any) -> SoldGood:
    """A good as a store or an order has it in JSON."""
    return SoldGood.model_validate(value)
