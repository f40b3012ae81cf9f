"""The goods sold inside an app: entered once, and what each store gets of them."""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal
from typing import Annotated

from pydantic import Field

from restless_tide.core.good import Good, GoodKind, SoldGood
from restless_tide.core.limits import MOST_GOODS
from restless_tide.core.texts import TextState
from restless_tide.wire.base import OneLine, Told, Wanted
from restless_tide.wire.problems import FindingTold

GoodsByReference = Annotated[dict[OneLine, Good], Field(max_length=MOST_GOODS)]


class GoodWanted(Wanted):
    """A good as it is to be, whole."""

    good: Good | None = Field(default=None, description="none: it is taken out")


class GoodTold(Told):
    """A good as it is entered here. Its revision is its ETag."""

    reference: str
    good: Good
    revision: int
    changed_at: datetime
    changed_by: str


class StoreGoodsRulesTold(Told):
    """What a store wants of goods; ``told`` is the same in words."""

    told: str

    kinds: list[GoodKind]
    fewest: int
    most: int
    name_limit: int
    description_limit: int
    counted_in: str
    description_required: bool
    locales_required: list[str]
    currencies: list[str]
    lowest_price: Decimal | None
    highest_price: Decimal | None
    months: list[int]
    picture: str = Field(description="what a picture of a good has to be, in words; empty: goods have none there")
    picture_required: bool


class StoreGoodTold(Told):
    """A good as a store gets it, and where it stands there."""

    reference: str
    good: SoldGood | None = Field(description="none: it cannot be sent as it is; the findings say why")
    entered: bool = Field(description="false: the store alone holds it")
    state: TextState
    held: SoldGood | None


class StoreGoodsTold(Told):
    """The goods of an app at one store."""

    store: str
    store_title: str
    language: str
    rules: StoreGoodsRulesTold
    goods: list[StoreGoodTold]
    findings: list[FindingTold]
    unwritten: int = Field(description="how many goods the store holds that nobody entered here; they stay there")
    differing: int = Field(description="how many goods differ from what the store holds")
    refused_because: str = Field(description="why the store did not take the goods it was sent last")
    lock: str = Field(description="why goods cannot change now, or when they lock; empty: they may change any time")
    hand_carried: bool


class GoodsTold(Told):
    app: str
    locales: list[str]
    goods: list[GoodTold]
    stores: list[StoreGoodsTold]
