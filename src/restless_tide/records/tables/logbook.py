"""The logbook and the live feed."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import Index
from sqlalchemy.orm import Mapped, mapped_column

from restless_tide.records.columns import Base


class LogbookLine(Base):
    """An append-only line. People stand in it by id only."""

    __tablename__ = "logbook"
    __table_args__ = (Index("logbook_by_app", "app", "id"),)

    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    at: Mapped[datetime]
    person: Mapped[str]
    act: Mapped[str]
    subject: Mapped[str]
    app: Mapped[str | None]
    reason: Mapped[str] = mapped_column(default="")
    before: Mapped[dict[str, Any] | None]
    after: Mapped[dict[str, Any] | None]
    digest: Mapped[str]


class Change(Base):
    """One event of the live feed; its id is the Last-Event-ID."""

    __tablename__ = "changes"

    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    at: Mapped[datetime]
    kind: Mapped[str]
    app: Mapped[str | None]
    subject: Mapped[str]
    said: Mapped[str]
