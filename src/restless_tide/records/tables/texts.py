"""What is written about an app for its stores, and what each store was last seen to hold of it."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any, Self

from sqlalchemy import ForeignKey, Index
from sqlalchemy import text as sql
from sqlalchemy.orm import Mapped, mapped_column

from restless_tide.records.columns import Base, key


class AppText(Base):
    """A text as it is written here. Of all stores, ``field`` is its meaning; of one berth, that store's own key of it.

    An emptied text keeps its row, so that its revision goes on rising.
    """

    __tablename__ = "app_texts"
    __table_args__ = (
        Index("app_texts_common_once", "app_id", "locale", "field", unique=True, sqlite_where=sql("berth_id IS NULL")),
        Index("app_texts_own_once", "app_id", "berth_id", "locale", "field", unique=True),
    )

    id: Mapped[str] = key("tx")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    berth_id: Mapped[str | None] = mapped_column(ForeignKey("berths.id"))
    locale: Mapped[str]
    field: Mapped[str]
    text: Mapped[str]
    revision: Mapped[int] = mapped_column(default=1)
    changed_at: Mapped[datetime]
    changed_by: Mapped[str]


class HeldThing:
    """What a store holds of something that is written here. ``kept``: it shall be sent as soon as a lock is open."""

    seen_at: Mapped[datetime | None]
    sequence: Mapped[int] = mapped_column(default=0)
    kept: Mapped[bool] = mapped_column(default=False, index=True)

    if TYPE_CHECKING:
        berth_id: Mapped[str]

        @property
        def place(self) -> Any:
            """What is held: its place within a berth's dossier."""

        @classmethod
        def new(cls, berth_id: str, place: Any) -> Self:
            """A row of which nothing is known yet."""

        def holds(self, value: Any) -> None:
            """The store holds this now."""


class HeldText(HeldThing, Base):
    """A text at a store, as it was last seen to hold it."""

    __tablename__ = "held_texts"

    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), primary_key=True)
    locale: Mapped[str] = mapped_column(primary_key=True)
    field: Mapped[str] = mapped_column(primary_key=True)
    text: Mapped[str] = mapped_column(default="")

    @property
    def place(self) -> tuple[str, str]:
        return self.locale, self.field

    @classmethod
    def new(cls, berth_id: str, place: tuple[str, str]) -> Self:
        return cls(berth_id=berth_id, locale=place[0], field=place[1], text="", sequence=0, kept=False)

    def holds(self, value: str) -> None:
        self.text = value
