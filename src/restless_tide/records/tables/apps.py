"""Apps and their places at the stores."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any

from sqlalchemy import ForeignKey, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.records.columns import Base, key, sighting_of

if TYPE_CHECKING:
    from restless_tide.records.tables.orders import Sighting
    from restless_tide.records.tables.stores import Store


class App(Base):
    """An app. After ``retired_at`` it is out of use: nothing new begins with it."""

    __tablename__ = "apps"

    id: Mapped[str] = key("a")
    name: Mapped[str] = mapped_column(unique=True)
    title: Mapped[str]
    created_at: Mapped[datetime]
    retired_at: Mapped[datetime | None]
    second_person: Mapped[bool] = mapped_column(default=False, server_default="0")
    retention: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    identifiers: Mapped[list[AppIdentifier]] = relationship(back_populates="app", order_by="AppIdentifier.platform")
    berths: Mapped[list[Berth]] = relationship(back_populates="app", order_by="Berth.created_at")


class AppIdentifier(Base):
    """The identifier of an app on a platform, fixed for life once a build was handed in."""

    __tablename__ = "app_identifiers"

    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"), primary_key=True)
    platform: Mapped[str] = mapped_column(primary_key=True)
    identifier: Mapped[str]
    app: Mapped[App] = relationship(back_populates="identifiers")


class Berth(Base):
    """An app's place at a store. ``store_ref`` is the store's own name for it, once open.

    ``texts_seen_at``, ``pictures_seen_at``, ``answers_seen_at`` and ``goods_seen_at`` are when what the store holds was
    read; none: it is still to be read. ``gauges_cursor`` is up to where the store's counts were read, ``gauges_due`` how often
    it has told of more since, ``clock_ahead_seconds`` how far its clock was ahead of the desk's then, ``gauges_trouble`` what was wrong with those that could not be taken.
    """

    __tablename__ = "berths"
    __table_args__ = (UniqueConstraint("app_id", "store_id"),)

    id: Mapped[str] = key("be")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"))
    listed_name: Mapped[str]
    platform: Mapped[str]
    identifier: Mapped[str]
    language: Mapped[str]
    created_at: Mapped[datetime]
    store_ref: Mapped[str | None]
    refused_because: Mapped[str | None]
    texts_seen_at: Mapped[datetime | None]
    pictures_seen_at: Mapped[datetime | None]
    answers_seen_at: Mapped[datetime | None]
    goods_seen_at: Mapped[datetime | None]
    gauges_cursor: Mapped[str] = mapped_column(default="", server_default="")
    gauges_due: Mapped[int] = mapped_column(default=0, server_default="0")
    clock_ahead_seconds: Mapped[float] = mapped_column(default=0.0, server_default="0")
    gauges_trouble: Mapped[str] = mapped_column(default="", server_default="")
    availability: Mapped[dict[str, Any]] = mapped_column(default=dict)
    approved_look: Mapped[str | None]
    """The digest of what its store has approved of the app besides builds and notes, as a look of it."""
    app: Mapped[App] = relationship(back_populates="berths")
    store: Mapped[Store] = relationship()
    sighting: Mapped[Sighting | None] = sighting_of("Berth")
