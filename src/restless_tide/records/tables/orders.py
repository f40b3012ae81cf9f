"""What is ordered of stores and people, and what was seen: never in the same column."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any

from sqlalchemy import ForeignKey, Index
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.order import ORDER, OrderKind, OrderState
from restless_tide.core.step import STEP, StepState
from restless_tide.records.columns import Base, key

if TYPE_CHECKING:
    from restless_tide.records.tables.stores import Store


class Sighting(Base):
    """What a store was last seen to hold of a leg, round, trial, consignment or berth, and what was done about it.

    ``sequence`` and ``at`` are the store's own. The other columns are the level's of core/lane.py, which explains them.
    """

    __tablename__ = "sightings"

    subject: Mapped[str] = mapped_column(primary_key=True)
    state: Mapped[str]
    share: Mapped[float] = mapped_column(default=0.0)
    sequence: Mapped[int] = mapped_column(default=0)
    at: Mapped[datetime]
    seen_at: Mapped[datetime]
    ours: Mapped[bool] = mapped_column(default=True, server_default="1")
    stranger: Mapped[bool] = mapped_column(default=False, server_default="0")
    asked: Mapped[bool] = mapped_column(default=False, server_default="0")
    repeated_at: Mapped[int] = mapped_column(default=-1, server_default="-1")
    repeats: Mapped[int] = mapped_column(default=0, server_default="0")


class Showing(Base):
    """What a store was seen to hold of a leg or berth from an instant of the desk's clock on; never changed afterwards."""

    __tablename__ = "showings"
    __table_args__ = (Index("ix_showings_of", "subject", "at"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    subject: Mapped[str]
    at: Mapped[datetime]
    state: Mapped[str]
    share: Mapped[float]


class Order(Base):
    """A durable instruction to a store. Its id is its idempotency key; its lane keeps the sequence.

    ``with_person``: a step waits for a person. ``again``: the lane placed it by itself.
    """

    __tablename__ = "orders"
    __table_args__ = (Index("orders_pending", "state", "try_after"), Index("orders_by_lane", "lane", "position"))

    id: Mapped[str] = key("o")
    position: Mapped[int] = mapped_column(index=True)
    lane: Mapped[str]
    kind: Mapped[OrderKind]
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"))
    subject: Mapped[str] = mapped_column(index=True)
    payload: Mapped[dict[str, Any]]
    state: Mapped[OrderState] = mapped_column(default=ORDER.initial)
    ordered_at: Mapped[datetime]
    ordered_by: Mapped[str]
    attempts: Mapped[int] = mapped_column(default=0)
    try_after: Mapped[datetime | None]
    settled_at: Mapped[datetime | None]
    trouble: Mapped[str | None]
    request: Mapped[str] = mapped_column(default="")
    with_person: Mapped[bool] = mapped_column(default=False, server_default="0")
    again: Mapped[bool] = mapped_column(default=False, server_default="0")
    store: Mapped[Store] = relationship(viewonly=True)


class Step(Base):
    """What a person does at a store by hand. ``order_id`` is None for a step that only watches for the store's word."""

    __tablename__ = "steps"
    __table_args__ = (Index("steps_waiting", "state", "store_id"),)

    id: Mapped[str] = key("st")
    order_id: Mapped[str | None] = mapped_column(ForeignKey("orders.id"), index=True)
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"))
    app: Mapped[str | None]
    subject: Mapped[str] = mapped_column(index=True)
    title: Mapped[str]
    todo: Mapped[list[str]]
    texts: Mapped[dict[str, Any]] = mapped_column(default=dict)
    files: Mapped[list[dict[str, Any]]] = mapped_column(default=list)
    look_for: Mapped[str] = mapped_column(default="")
    outcomes: Mapped[list[str]]
    urgent: Mapped[bool] = mapped_column(default=False)
    state: Mapped[StepState] = mapped_column(default=STEP.initial)
    outcome: Mapped[str | None]
    said: Mapped[str] = mapped_column(default="")
    before: Mapped[dict[str, Any] | None]
    reminded: Mapped[int] = mapped_column(default=0)
    applied: Mapped[bool] = mapped_column(default=False)
    created_at: Mapped[datetime]
    settled_at: Mapped[datetime | None]
    settled_by: Mapped[str | None]
    store: Mapped[Store] = relationship()
    order: Mapped[Order | None] = relationship()


class Lease(Base):
    """Which engine works on this database. The fence rises with every new holder; ``until`` is real time."""

    __tablename__ = "leases"

    name: Mapped[str] = mapped_column(primary_key=True)
    holder: Mapped[str]
    fence: Mapped[int]
    until: Mapped[datetime]
