"""What waits: orders store by store, steps for people, notices."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.notice import DeliveryState
from restless_tide.core.order import PENDING
from restless_tide.core.step import StepState
from restless_tide.records.tables import Delivery, Order, Step, Store


@dataclass(frozen=True)
class Queue:
    """The orders of one store that are not settled: how many, since when, and how often they were sent in all."""

    orders: int = 0
    oldest: datetime | None = None
    attempts: int = 0


def of_stores(session: Session) -> dict[str, Queue]:
    """The queues by the store's id; a store for which nothing waits has none."""
    counted = (
        select(Order.store_id, func.count(), func.min(Order.ordered_at), func.sum(Order.attempts))
        .where(Order.state.in_(PENDING))
        .group_by(Order.store_id)
    )
    return {store: Queue(count, oldest, attempts) for store, count, oldest, attempts in session.execute(counted)}


def orders_of(session: Session, store: Store) -> int:
    """How many orders wait for a store itself, and for no person."""
    waiting = Order.state.in_(PENDING), Order.with_person.is_(False)
    return session.scalar(select(func.count()).select_from(Order).where(Order.store_id == store.id, *waiting)) or 0


def steps_of(session: Session, store: Store | None = None) -> int:
    """How many steps wait for a person, at one store or at all."""
    counted = select(func.count()).select_from(Step).where(Step.state == StepState.WAITING)
    if store is not None:
        counted = counted.where(Step.store_id == store.id)
    return session.scalar(counted) or 0


def deliveries(session: Session) -> int:
    """How many notices are not delivered yet."""
    counted = select(func.count()).select_from(Delivery).where(Delivery.state == DeliveryState.QUEUED)
    return session.scalar(counted) or 0
