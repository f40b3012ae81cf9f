"""What is answered about an app for its stores, and what each store was last seen to hold of it."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Self

from sqlalchemy import JSON, ForeignKey, Index
from sqlalchemy import text as sql
from sqlalchemy.orm import Mapped, mapped_column

from restless_tide.records.columns import Base, key
from restless_tide.records.tables.texts import HeldThing


class AppAnswer(Base):
    """An answer as it is given here. Of all stores, ``question`` is its topic; of one berth, that store's own key of it.

    An answer that was taken out keeps its row with null, so that its revision goes on rising.
    """

    __tablename__ = "app_answers"
    __table_args__ = (
        Index("app_answers_common_once", "app_id", "question", unique=True, sqlite_where=sql("berth_id IS NULL")),
        Index("app_answers_own_once", "app_id", "berth_id", "question", unique=True),
    )

    id: Mapped[str] = key("an")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    berth_id: Mapped[str | None] = mapped_column(ForeignKey("berths.id"))
    question: Mapped[str]
    answer: Mapped[Any | None] = mapped_column(JSON(none_as_null=True))
    revision: Mapped[int] = mapped_column(default=1)
    changed_at: Mapped[datetime]
    changed_by: Mapped[str]


class HeldAnswer(HeldThing, Base):
    """An answer at a store: what it was last seen to hold, in its own choices; null: nothing."""

    __tablename__ = "held_answers"

    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), primary_key=True)
    question: Mapped[str] = mapped_column(primary_key=True)
    answer: Mapped[Any | None] = mapped_column(JSON(none_as_null=True))

    @property
    def place(self) -> str:
        return self.question

    @classmethod
    def new(cls, berth_id: str, place: str) -> Self:
        return cls(berth_id=berth_id, question=place, answer=None, sequence=0, kept=False)

    def holds(self, value: Any) -> None:
        self.answer = value
