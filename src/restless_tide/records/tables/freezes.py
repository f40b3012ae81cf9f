"""Freezes, and what two people have agreed in spite of them."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

from sqlalchemy import DateTime, ForeignKey
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.records.columns import Base, key

if TYPE_CHECKING:
    from restless_tide.records.tables.releases import Release


class FreezeRow(Base):
    """A freeze; ``begins`` and ``ends`` are wall-clock times of its zone."""

    __tablename__ = "freezes"

    id: Mapped[str] = key("fz")
    name: Mapped[str]
    begins: Mapped[datetime] = mapped_column(DateTime())
    ends: Mapped[datetime] = mapped_column(DateTime())
    zone: Mapped[str]
    yearly: Mapped[bool]
    apps: Mapped[list[str]]
    stores: Mapped[list[str]]
    reason: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]


class FreezeOverride(Base):
    """A release that is to rise in spite of a freeze: asked for by one person, agreed by another, until the freeze ends."""

    __tablename__ = "freeze_overrides"

    id: Mapped[str] = key("fo")
    release_id: Mapped[str] = mapped_column(ForeignKey("releases.id"), index=True)
    asked_by: Mapped[str]
    asked_at: Mapped[datetime]
    reason: Mapped[str]
    until: Mapped[datetime]
    agreed_by: Mapped[str | None]
    agreed_at: Mapped[datetime | None]
    release: Mapped[Release] = relationship()
