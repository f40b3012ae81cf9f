"""The goods sold inside an app, and what each store was last seen to hold of them."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Self

from sqlalchemy import JSON, ForeignKey, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from restless_tide.core.good import SoldGood
from restless_tide.records.columns import Base, key
from restless_tide.records.tables.texts import HeldThing


class AppGood(Base):
    """A good as it is entered here, by its reference. One that was taken out keeps its row with null."""

    __tablename__ = "app_goods"
    __table_args__ = (UniqueConstraint("app_id", "reference"),)

    id: Mapped[str] = key("gd")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    reference: Mapped[str]
    good: Mapped[Any | None] = mapped_column(JSON(none_as_null=True))
    revision: Mapped[int] = mapped_column(default=1)
    changed_at: Mapped[datetime]
    changed_by: Mapped[str]


class HeldGood(HeldThing, Base):
    """A good at a store, as it was last seen to hold it; null: nothing is known of it."""

    __tablename__ = "held_goods"

    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), primary_key=True)
    reference: Mapped[str] = mapped_column(primary_key=True)
    good: Mapped[Any | None] = mapped_column(JSON(none_as_null=True))

    @property
    def place(self) -> str:
        return self.reference

    @classmethod
    def new(cls, berth_id: str, place: str) -> Self:
        return cls(berth_id=berth_id, reference=place, good=None, sequence=0, kept=False)

    def holds(self, value: SoldGood) -> None:
        self.good = value.model_dump(mode="json")
