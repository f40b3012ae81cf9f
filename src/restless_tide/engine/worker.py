"""The loop of the background: orders, sightings, tides and mail, as long as the service lives.

Orders of one lane go one after the other, the most urgent first; lanes go beside each other. An
order is marked as sent before its call is made, so that a desk killed in between knows afterwards
that the store may have acted, and asks again under the same idempotency key.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import timedelta

import structlog
from sqlalchemy import or_, select

from restless_tide.core.errors import StoreUnreachable, TideError
from restless_tide.core.order import (
    ORDER,
    PENDING,
    OrderEvent,
    OrderState,
    is_urgent,
    pause_before_retry_seconds,
    urgency,
)
from restless_tide.desk.desk import ENGINE, Desk
from restless_tide.engine import mail, sightings, tides
from restless_tide.engine.carriers import CARRIERS, needed
from restless_tide.records.tables import Order, Store

_log = structlog.get_logger("engine")

HANDS = 8
IDLE_SECONDS = 0.25
TROUBLED_PAUSE_SECONDS = 1.0


class Engine:
    """One background of one desk. ``start`` and ``stop`` may each be called once."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._nudged = threading.Event()
        self._stopping = threading.Event()
        self._hands = ThreadPoolExecutor(HANDS, thread_name_prefix="order")
        self._busy: dict[str, Future[None]] = {}
        idle = min(IDLE_SECONDS, desk.settings.poll_seconds)
        self._threads = [
            threading.Thread(target=self._repeat, args=(work, pause), name=name, daemon=True)
            for name, work, pause in (
                ("orders", self._carry_out, idle),
                ("tides", lambda: tides.rise(desk), idle),
                ("sightings", self._take_sightings, desk.settings.poll_seconds),
                ("mail", lambda: mail.send_waiting(desk), idle),
            )
        ]
        desk.on_change(self._nudged.set)

    def start(self) -> None:
        for thread in self._threads:
            thread.start()

    def stop(self) -> None:
        """Finish what is in hand, begin nothing new."""
        self._stopping.set()
        self._nudged.set()
        for thread in self._threads:
            thread.join()
        self._hands.shutdown(wait=True)

    def _repeat(self, work: Callable[[], object], pause_seconds: float) -> None:
        while not self._stopping.is_set():
            try:
                work()
            except Exception:  # noqa: BLE001  (the loop outlives whatever one turn of it meets)
                _log.exception("the background stumbled and goes on")
                self._stopping.wait(TROUBLED_PAUSE_SECONDS)
            if work == self._carry_out:
                self._nudged.wait(pause_seconds)
                self._nudged.clear()
            else:
                self._stopping.wait(pause_seconds)

    def _take_sightings(self) -> None:
        with self._desk.look() as session:
            stores = session.scalars(select(Store.id)).all()
        for store_id in stores:
            sightings.take(self._desk, store_id)

    def _carry_out(self) -> None:
        self._busy = {lane: future for lane, future in self._busy.items() if not future.done()}
        for lane, order_id in self._due().items():
            if lane not in self._busy:
                self._busy[lane] = self._hands.submit(self._carry_safely, order_id)

    def _due(self) -> dict[str, str]:
        """The next order of every lane that may go now."""
        now = self._desk.clock.now()
        with self._desk.look() as session:
            waiting = session.execute(
                select(Order.id, Order.lane, Order.kind, Order.position).where(
                    Order.state.in_(PENDING), or_(Order.try_after.is_(None), Order.try_after <= now)
                )
            ).all()
            lanes = {row.lane for row in waiting}
            first = {
                lane: min(
                    session.execute(
                        select(Order.id, Order.kind, Order.position).where(Order.lane == lane, Order.state.in_(PENDING))
                    ),
                    key=lambda row: (urgency(row.kind), row.position),
                ).id
                for lane in lanes
            }
        ready = {row.id for row in waiting}
        return {lane: order_id for lane, order_id in first.items() if order_id in ready}

    def _carry_safely(self, order_id: str) -> None:
        try:
            self._carry(order_id)
        except Exception:  # noqa: BLE001  (an order must never get lost in a thread)
            _log.exception("an order could not be carried", order=order_id)
            self._postpone(order_id, "the desk stumbled over it; see its log")
        finally:
            self._nudged.set()

    def _carry(self, order_id: str) -> None:
        desk = self._desk
        with desk.act(ENGINE) as act:
            order = needed(act.session, Order, order_id)
            if order.state not in PENDING:
                return
            order.state = ORDER.after(order.state, OrderEvent.SEND)
            order.attempts += 1
            order.try_after = None
        with desk.look() as session:
            order = needed(session, Order, order_id)
            carrier, store, kind = CARRIERS[order.kind], order.store, order.kind
            call = carrier.prepare(desk, session, order)
        try:
            answer = call(desk.gateway(store))
        except StoreUnreachable as wrong:
            self._postpone(order_id, wrong.detail)
            return
        except TideError as wrong:
            with desk.act(f"store:{store.name}") as act:
                order = needed(act.session, Order, order_id)
                if order.state not in PENDING:
                    return
                order.state, order.settled_at = ORDER.after(order.state, OrderEvent.REFUSE), act.now
                order.trouble = wrong.detail
                carrier.refused(act, order, wrong.detail)
            _log.warning("refused", order=order_id, kind=str(kind), store=store.name, code=wrong.code)
            return
        with desk.act(f"store:{store.name}") as act:
            order = needed(act.session, Order, order_id)
            if order.state is not OrderState.DROPPED:
                order.state, order.settled_at, order.trouble = (
                    ORDER.after(order.state, OrderEvent.CONFIRM),
                    act.now,
                    None,
                )
            carrier.confirmed(act, order, answer)
            act.tell(f"{kind} confirmed", f"order {order_id}")
        sightings.take(desk, store.id)

    def _postpone(self, order_id: str, trouble: str) -> None:
        with self._desk.act(ENGINE) as act:
            order = needed(act.session, Order, order_id)
            if order.state not in PENDING:
                return
            order.try_after = act.now + timedelta(
                seconds=pause_before_retry_seconds(order.attempts, urgent=is_urgent(order.kind))
            )
            if order.trouble != trouble:
                order.trouble = trouble
                act.tell("order waits", f"order {order_id}", said=trouble)
