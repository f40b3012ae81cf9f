"""Drills: a halt goes its whole way to the stores and is measured there, and no release is touched."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Invalid
from restless_tide.core.order import OrderKind, OrderState, Subject
from restless_tide.desk import find, lanes
from restless_tide.desk.desk import Act
from restless_tide.records.tables import Order, Store


@dataclass(frozen=True)
class Drilled:
    """One drill at one store: ``seconds`` from the order to the store's confirmation; None: not confirmed yet."""

    order: str
    store: str
    state: OrderState
    seconds: float | None
    attempts: int
    trouble: str | None


def order_halts(act: Act, store_name: str | None) -> list[Order]:
    """Order one drill at each connected store, or at one. Raises Invalid where there is nothing to measure."""
    wanted = [find.store(act.session, store_name)] if store_name else list(act.session.scalars(select(Store)))
    connected = [store for store in wanted if store.reached_by_gateway]
    if not connected:
        raise Invalid(
            "There is no connected store to drill.",
            remedy="A hand-carried store's steps are done by a person; connect a store first.",
            code="nothing-to-drill",
        )
    orders = [
        act.order(OrderKind.DRILL, lane=lanes.lane_of(Subject.STORE, store), store=store, subject=store.id, payload={})
        for store in connected
    ]
    act.log("halt drilled", f"{len(connected)} store(s)", after={"stores": [store.name for store in connected]})
    return orders


def look(session: Session, orders: list[str]) -> list[Drilled]:
    """How the drills went so far."""
    rows = session.scalars(
        select(Order).where(Order.id.in_(orders), Order.kind == OrderKind.DRILL).order_by(Order.position)
    )
    return [so_far(row) for row in rows]


def so_far(order: Order) -> Drilled:
    """How one drill went so far."""
    return Drilled(
        order.id,
        order.store.name,
        order.state,
        (order.settled_at - order.ordered_at).total_seconds() if order.settled_at else None,
        order.attempts,
        order.trouble,
    )
