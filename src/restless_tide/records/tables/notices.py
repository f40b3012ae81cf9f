"""Who is told of what."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, Index, LargeBinary, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.notice import DELIVERY, DeliveryState
from restless_tide.records.columns import Base, key


class Subscription(Base):
    """Who is told of what, and how: by mail to an address, or by signed webhook."""

    __tablename__ = "subscriptions"

    id: Mapped[str] = key("su")
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id"))
    channel: Mapped[str]
    address: Mapped[str]
    sealed_secret: Mapped[bytes | None] = mapped_column(LargeBinary)
    kinds: Mapped[list[str]]
    apps: Mapped[list[str]]
    created_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]


class Notice(Base):
    """Something a person waits for has happened. ``key`` keeps the same thing from being told twice."""

    __tablename__ = "notices"

    id: Mapped[str] = key("no")
    key: Mapped[str] = mapped_column(unique=True)
    kind: Mapped[str]
    app: Mapped[str | None]
    subject: Mapped[str]
    said: Mapped[str]
    place: Mapped[str]
    at: Mapped[datetime]


class Delivery(Base):
    """A notice on its way to one subscriber."""

    __tablename__ = "deliveries"
    __table_args__ = (
        UniqueConstraint("notice_id", "subscription_id"),
        Index("deliveries_waiting", "state", "try_after"),
    )

    id: Mapped[str] = key("de")
    notice_id: Mapped[str] = mapped_column(ForeignKey("notices.id"))
    subscription_id: Mapped[str] = mapped_column(ForeignKey("subscriptions.id"))
    state: Mapped[DeliveryState] = mapped_column(default=DELIVERY.initial)
    attempts: Mapped[int] = mapped_column(default=0)
    try_after: Mapped[datetime | None]
    settled_at: Mapped[datetime | None]
    trouble: Mapped[str | None]
    notice: Mapped[Notice] = relationship()
    subscription: Mapped[Subscription] = relationship()
