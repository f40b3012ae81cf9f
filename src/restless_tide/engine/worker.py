"""The loop of the background: orders, sightings, tides and mail, as long as the service lives.

Orders of one lane go one after the other, the most urgent first; lanes go beside each other. Only a
halt does not wait for its turn: it goes beside whatever of its lane is in flight, on hands of its
own, and is ordered again when what was in flight may have reached the store after it. An order is marked as sent before its call is made, so that a desk killed in between knows afterwards
that the store may have acted, and asks again under the same idempotency key.
"""

from __future__ import annotations

import threading
from collections import defaultdict
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import datetime, timedelta

import structlog
from sqlalchemy import Row, select

from restless_tide.core.errors import StoreUnreachable, TideError
from restless_tide.core.order import (
    ORDER,
    PENDING,
    OrderEvent,
    OrderKind,
    OrderState,
    is_urgent,
    pause_before_retry_seconds,
    urgency,
)
from restless_tide.core.rollout import RolloutState
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.engine import mail, sightings, tides
from restless_tide.engine.carriers import CARRIERS, needed
from restless_tide.gateways.protocol import ACT_IMPOSSIBLE
from restless_tide.records.tables import Leg, Order, Store

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
        self._hands_for_halts = ThreadPoolExecutor(HANDS, thread_name_prefix="halt")
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
        self._hands_for_halts.shutdown(wait=True)

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
            try:
                sightings.take(self._desk, store_id)
            except Exception:  # noqa: BLE001  (what one store tells must not keep the others from being heard)
                _log.exception("what a store tells could not be taken", store=store_id)

    def _carry_out(self) -> None:
        self._busy = {lane: future for lane, future in self._busy.items() if not future.done()}
        for lane, (order_id, kind) in self._due().items():
            halt = kind is OrderKind.HALT
            slot = f"{lane} halt" if halt else lane
            if slot not in self._busy and (halt or f"{lane} halt" not in self._busy):
                hands = self._hands_for_halts if halt else self._hands
                self._busy[slot] = hands.submit(self._carry_safely, order_id)

    def _due(self) -> dict[str, tuple[str, OrderKind]]:
        """The next order of every lane, where it may go now."""
        now = self._desk.clock.now()
        with self._desk.look() as session:
            pending = session.execute(
                select(Order.id, Order.lane, Order.kind, Order.position, Order.try_after).where(
                    Order.state.in_(PENDING)
                )
            ).all()
        lanes: dict[str, list[Row[str, str, OrderKind, int, datetime | None]]] = defaultdict(list)
        for row in pending:
            lanes[row.lane].append(row)
        first = {lane: min(rows, key=lambda row: (urgency(row.kind), row.position)) for lane, rows in lanes.items()}
        return {
            lane: (row.id, row.kind) for lane, row in first.items() if row.try_after is None or row.try_after <= now
        }

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
                order.settled_at, order.trouble = act.now, wrong.detail
                if order.payload.get("again") and wrong.code == ACT_IMPOSSIBLE:  # it had stayed halted: as was wanted
                    order.state = ORDER.after(order.state, OrderEvent.DROP)
                    return
                order.state = ORDER.after(order.state, OrderEvent.REFUSE)
                carrier.refused(act, order, wrong.detail)
            _log.warning("refused", order=order_id, kind=str(kind), store=store.name, code=wrong.code)
            return
        with desk.act(f"store:{store.name}") as act:
            order = needed(act.session, Order, order_id)
            if order.state is OrderState.DROPPED:
                _halt_again(act, order)
            else:
                order.state = ORDER.after(order.state, OrderEvent.CONFIRM)
                order.settled_at, order.trouble = act.now, None
            carrier.confirmed(act, order, answer)
            act.tell(f"{kind} confirmed", f"{store.name}, order {order_id}")
        sightings.take(desk, store.id)

    def _postpone(self, order_id: str, trouble: str) -> None:
        with self._desk.act(ENGINE) as act:
            order = needed(act.session, Order, order_id)
            if order.state not in PENDING:
                _halt_again(act, order)
                return
            order.try_after = act.now + timedelta(
                seconds=pause_before_retry_seconds(order.attempts, urgent=is_urgent(order.kind))
            )
            if order.trouble != trouble:
                order.trouble = trouble
                act.tell(f"{order.kind} waits", f"{order.store.name}, order {order_id}", said=trouble)


def _halt_again(act: Act, overtaken: Order) -> None:
    """A step was in flight when a halt overtook it, and may have reached the store after it: halt once more."""
    leg = act.session.get(Leg, overtaken.subject)
    if leg is None or leg.state is not RolloutState.HALTED:
        return
    waiting = select(Order.id).where(Order.lane == leg.id, Order.kind == OrderKind.HALT, Order.state.in_(PENDING))
    if act.session.scalar(waiting) is None:
        payload = {"again": True, "reason": f"{overtaken.kind} was in flight when it was halted"}
        act.order(OrderKind.HALT, lane=leg.id, store=leg.berth.store, subject=leg.id, payload=payload)
