"""What a store wants of the goods that are sold inside an app, as data."""

from __future__ import annotations

from decimal import Decimal
from functools import cached_property

from pydantic import Field, model_validator

from restless_tide.core.good import GoodKind
from restless_tide.core.limits import LONGEST_REFERENCE, MOST_GOODS
from restless_tide.core.picture_rules import PictureClasses, PictureRules
from restless_tide.core.rule import CountedIn, Rules

PICTURE = "good"
"""The class of pictures that goods have."""


class GoodsRules(Rules):
    """Of every good that is sold inside an app."""

    kinds: tuple[GoodKind, ...] = Field(min_length=1, description="the kinds taken")
    most: int = Field(default=MOST_GOODS, ge=1, le=MOST_GOODS, description="so many of one app at most")
    fewest: int = Field(
        default=0,
        ge=0,
        le=MOST_GOODS,
        description="a release is not reviewed with fewer on sale; with a thing of kind goods",
    )
    longest_reference: int = Field(default=LONGEST_REFERENCE, ge=1, le=LONGEST_REFERENCE, description="characters")
    name_limit: int = Field(default=60, gt=0, description="counted as counted_in says")
    description_limit: int = Field(default=300, gt=0, description="the same")
    counted_in: CountedIn = "characters"
    description_required: bool = Field(default=False, description="in every language that a good has")
    locales_required: tuple[str, ...] = Field(
        default=(), description="languages that a good has to have, besides the app's first one"
    )
    currencies: tuple[str, ...] = Field(default=(), description="ISO 4217 codes taken; none: any")
    lowest_price: Decimal | None = None
    highest_price: Decimal | None = None
    months: tuple[int, ...] = Field(default=(), description="after how many months a good may be renewed; none: any")
    picture: PictureRules | None = Field(
        default=None, description="of each good; with fewest 1 it is demanded; none: goods have no pictures"
    )

    @cached_property
    def classes(self) -> PictureClasses:
        """The pictures of goods as a class of their own; empty where goods have none."""
        return PictureClasses(pictures={PICTURE: self.picture} if self.picture is not None else {})

    @model_validator(mode="after")
    def _fits_together(self) -> GoodsRules:
        if self.fewest > self.most:
            raise ValueError(f"goods: fewest is {self.fewest} and most {self.most}; nothing is between them")
        low, high = self.lowest_price, self.highest_price
        if low is not None and high is not None and low > high:
            raise ValueError("goods: the lowest price is above the highest")
        if self.months and GoodKind.RENEWED not in self.kinds:
            raise ValueError("goods: months are of renewed goods, and those are not taken")
        if self.picture is not None and self.picture.said(("every_size", "also_from", "by_locale", "means", "form")):
            raise ValueError(
                "goods.picture: a good has one picture for all languages, in one size, and no other class's"
            )
        _ = self.classes
        return self
