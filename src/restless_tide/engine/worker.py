"""The loop of the background: orders, sightings, tides, mail and notices, as long as the service lives.

Orders of one lane go one after the other, the most urgent first; lanes go beside each other. Only a
halt does not wait for its turn: it goes beside whatever of its lane is in flight, on hands of its
own, through an open breaker and past a store's wish to be left alone, and is ordered again when what
was in flight may have reached the store after it. An order is marked as sent before its call is made,
so that a desk killed in between knows afterwards that the store may have acted, and asks again under
the same idempotency key. Only the engine that holds the lease works; another one waits for it.
"""

from __future__ import annotations

import random
import threading
import time
from collections import defaultdict
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import datetime, timedelta
from typing import Any

import httpx
import structlog
from sqlalchemy import select

from restless_tide.core.breaker import Breaker, BreakerState
from restless_tide.core.errors import LostLease, StoreUnreachable, TideError
from restless_tide.core.notice import NoticeKind
from restless_tide.core.order import (
    FAILING_AFTER_ATTEMPTS,
    ORDER,
    PENDING,
    OrderEvent,
    OrderKind,
    OrderState,
    goes_first,
    is_urgent,
    pause_before_retry_seconds,
    urgency,
)
from restless_tide.core.step import StepState
from restless_tide.desk import uploads
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.engine import asking, carried, notices, replies, sightings, tides
from restless_tide.engine.by_hand import ByHand, NeedsPerson
from restless_tide.engine.carriers import CARRIERS, Carrier, needed
from restless_tide.engine.inlet import Inlet
from restless_tide.engine.lease import RENEW_SECONDS, EngineLease
from restless_tide.engine.mail import Postman
from restless_tide.gateways.client import NOT_YET, request_id
from restless_tide.gateways.protocol import ACT_IMPOSSIBLE
from restless_tide.gateways.way import Way
from restless_tide.records.tables import Leg, Order, Step, Store

_log = structlog.get_logger("engine")

HANDS = 8
ASKERS = 6
IDLE_SECONDS = 0.25
BREATH_SECONDS = 0.1
SHORT_BREATH_SECONDS = 0.01
"""Between a change and the look that it calls for, so that a burst of changes is one look; orders go almost at once."""
TROUBLED_PAUSE_SECONDS = 1.0
PUSH_TRUSTED_POLLS = 30
POLLS_SKIPPED_WHILE_PUSHED = 10
LONGEST_POLL_PAUSE_SECONDS = 15.0
LAPSES_EVERY_SECONDS = 60.0


class Engine:
    """One background of one desk. ``start`` and ``stop`` may each be called once."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._lease = EngineLease(desk.database)
        self._working = threading.Event()
        self._bells: list[threading.Event] = []
        self._stopping = threading.Event()
        self._hands = ThreadPoolExecutor(HANDS, thread_name_prefix="order")
        self._hands_for_halts = ThreadPoolExecutor(HANDS, thread_name_prefix="halt")
        self._askers = ThreadPoolExecutor(ASKERS, thread_name_prefix="asker")
        self._http = httpx.Client(timeout=10.0, trust_env=False)
        self._postman = Postman(desk, self._stopping.is_set)
        self._busy: dict[str, Future[None]] = {}
        self._asked: dict[str, Future[None]] = {}
        self._ask_after: dict[str, float] = {}
        self._silent_asks: dict[str, int] = {}
        self._lapses_after = 0.0
        self._threads = [
            threading.Thread(target=self._repeat, args=(work, pause, self._bell()), name=name, daemon=True)
            for name, work, pause in (
                ("orders", self._carry_out, IDLE_SECONDS),
                ("tides", lambda: tides.rise(desk), IDLE_SECONDS),
                ("sightings", self._ask_stores, min(desk.settings.poll_seconds, IDLE_SECONDS)),
                ("mail", self._send_mail, IDLE_SECONDS),
                ("notices", self._tell_people, IDLE_SECONDS),
            )
        ]
        self._inlet: Inlet | None = None
        self._keeper = threading.Thread(target=self._keep_lease, name="lease", daemon=True)
        desk.on_change(self._ring)

    @property
    def working(self) -> bool:
        """Whether this engine holds the lease and its threads live."""
        return self._working.is_set() and all(thread.is_alive() for thread in self._threads)

    @property
    def standing_by(self) -> bool:
        """Whether another engine works on this database."""
        return not self._working.is_set()

    def start(self) -> None:
        self._take_lease()
        for thread in (*self._threads, self._keeper):
            thread.start()

    def stop(self) -> None:
        """Finish what is in hand, begin nothing new, and let the next engine begin at once."""
        self._stopping.set()
        self._ring()
        for thread in self._threads:
            thread.join()
        for hands in (self._hands, self._hands_for_halts, self._askers):
            hands.shutdown(wait=True)
        self._keeper.join()
        if self._inlet is not None:
            self._inlet.stop()
        self._http.close()
        if self._working.is_set():
            self._lease.release()

    def _bell(self) -> threading.Event:
        """What wakes one loop as soon as anything has changed; nothing has to be looked for in between."""
        bell = threading.Event()
        self._bells.append(bell)
        return bell

    def _ring(self) -> None:
        for bell in self._bells:
            bell.set()

    def _take_lease(self) -> None:
        fence = self._lease.take()
        if fence is None:
            if self._working.is_set():
                _log.warning("another engine works here now; this one stands by")
            self._working.clear()
            return
        self._desk.fence = fence
        if not self._working.is_set():
            _log.info("this engine works", fence=fence)
            self._working.set()

    def _keep_lease(self) -> None:
        while not self._stopping.wait(RENEW_SECONDS if self._working.is_set() else RENEW_SECONDS / 4):
            try:
                self._take_lease()
            except Exception:  # noqa: BLE001  (a lease that cannot be renewed lapses by itself)
                _log.exception("the lease could not be renewed")
        while any(thread.is_alive() for thread in self._threads):
            if self._working.is_set():
                self._take_lease()
            time.sleep(RENEW_SECONDS / 10)

    def _repeat(self, work: Callable[[], object], pause_seconds: float, bell: threading.Event) -> None:
        while not self._stopping.is_set():
            if not self._working.wait(pause_seconds):
                continue
            try:
                work()
            except LostLease as lost:
                _log.warning("the lease is lost", why=lost.detail)
                self._working.clear()
            except Exception:  # noqa: BLE001  (the loop outlives whatever one turn of it meets)
                _log.exception("the background stumbled and goes on")
                self._stopping.wait(TROUBLED_PAUSE_SECONDS)
            if bell.wait(pause_seconds):
                bell.clear()
                self._stopping.wait(SHORT_BREATH_SECONDS if work == self._carry_out else BREATH_SECONDS)

    # sightings

    def _ask_stores(self) -> None:
        """Ask every store that it is time for, side by side: one that hangs keeps no other from being heard."""
        with self._desk.look() as session:
            stores = session.execute(select(Store.id, Store.pushed_at).where(Store.sealed_key.is_not(None))).all()
        now = time.monotonic()
        for store_id, pushed_at in stores:
            running = self._asked.get(store_id)
            early = store_id in self._desk.gaps
            if (running is not None and not running.done()) or (now < self._ask_after.get(store_id, 0.0) and not early):
                continue
            self._desk.gaps.discard(store_id)
            self._ask_after[store_id] = now + self._pause_between_asks(store_id, pushed_at)
            self._asked[store_id] = self._askers.submit(self._ask, store_id)

    def _pause_between_asks(self, store_id: str, pushed_at: datetime | None) -> float:
        poll = self._desk.settings.poll_seconds
        unanswered = self._silent_asks.get(store_id, 0)
        if unanswered:
            return float(min(poll * 2 ** min(unanswered, 8), max(LONGEST_POLL_PAUSE_SECONDS, poll)))
        age = (self._desk.clock.now() - pushed_at).total_seconds() if pushed_at else None
        heard = age is not None and 0 <= age < poll * PUSH_TRUSTED_POLLS
        return poll * POLLS_SKIPPED_WHILE_PUSHED if heard else poll

    def _ask(self, store_id: str) -> None:
        try:
            answered = asking.ask(self._desk, store_id)
            self._silent_asks[store_id] = 0 if answered else self._silent_asks.get(store_id, 0) + 1
        except LostLease:
            self._working.clear()
        except Exception:  # noqa: BLE001  (what one store tells must not keep the others from being heard)
            _log.exception("what a store tells could not be taken", store=store_id)

    # notices, and what people carry by hand

    def _tell_people(self) -> None:
        carried.take_words(self._desk)
        carried.remind(self._desk)
        notices.deliver_waiting(self._desk, self._http)
        if time.monotonic() >= self._lapses_after:
            self._lapses_after = time.monotonic() + LAPSES_EVERY_SECONDS
            self._open_inlet()
            notices.notice_lapses(self._desk)
            uploads.drop_lapsed(self._desk, ENGINE)
        if self._desk.to_scrub:
            self._desk.scrub()

    def _send_mail(self) -> None:
        self._postman.send_waiting()
        replies.send_waiting(self._desk)

    def _open_inlet(self) -> None:
        """Only the engine that works takes mails in; where the port is taken it is tried again with the next look."""
        if self._inlet is not None or self._desk.settings.inlet_port is None:
            return
        inlet = Inlet(self._desk)
        try:
            inlet.start()
        except OSError as wrong:
            _log.warning("the inlet for mail cannot be opened", port=self._desk.settings.inlet_port, why=wrong.strerror)
            return
        self._inlet = inlet

    # orders

    def _carry_out(self) -> None:
        self._busy = {slot: future for slot, future in self._busy.items() if not future.done()}
        for lane, (order_id, kind) in self._due().items():
            first = goes_first(kind)
            slot = f"{lane} halt" if first else lane
            if slot not in self._busy and (first or f"{lane} halt" not in self._busy):
                hands = self._hands_for_halts if first else self._hands
                self._busy[slot] = hands.submit(self._carry_safely, order_id)

    def _due(self) -> dict[str, tuple[str, OrderKind]]:
        """The next order of every lane, where it may go now."""
        now = self._desk.clock.now()
        with self._desk.look() as session:
            pending = session.execute(
                select(Order.id, Order.lane, Order.kind, Order.position, Order.try_after, Order.store_id).where(
                    Order.state.in_(PENDING)
                )
            ).all()
            if not pending:
                return {}
            with_people = set(
                session.scalars(
                    select(Step.order_id).where(Step.state == StepState.WAITING, Step.order_id.is_not(None))
                )
            )
            breakers = {
                row.id: Breaker(row.breaker_failures, row.breaker_rests_until).state(now)
                for row in session.execute(select(Store.id, Store.breaker_failures, Store.breaker_rests_until))
            }
        lanes: dict[str, list[Any]] = defaultdict(list)
        for row in pending:
            lanes[row.lane].append(row)
        due: dict[str, tuple[str, OrderKind]] = {}
        tried: set[str] = set()
        for lane, rows in lanes.items():
            row = min(rows, key=lambda row: (urgency(row.kind), row.position))
            if row.id in with_people or (row.try_after is not None and row.try_after > now):
                continue
            if not goes_first(row.kind) and breakers[row.store_id] is not BreakerState.CLOSED:
                if breakers[row.store_id] is BreakerState.OPEN or row.store_id in tried:
                    continue
                tried.add(row.store_id)
            due[lane] = (row.id, row.kind)
        return due

    def _carry_safely(self, order_id: str) -> None:
        try:
            self._carry(order_id)
        except LostLease as lost:
            _log.warning("the lease is lost", why=lost.detail, order=order_id)
            self._working.clear()
        except Exception:  # noqa: BLE001  (an order must never get lost in a thread)
            _log.exception("an order could not be carried", order=order_id)
            self._postpone(order_id, StoreUnreachable("the desk stumbled over it; see its log"))
        finally:
            self._ring()

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
            way = self._by_hand(order) if store.hand_carried else None
            asked_by = order.request or order_id
        told = structlog.contextvars.bound_contextvars(request=asked_by, order=order_id, store=store.name)
        token = request_id.set(asked_by)
        try:
            with told:
                self._call(order_id, kind, store, carrier, call, way)
        finally:
            request_id.reset(token)

    def _by_hand(self, order: Order) -> ByHand:
        """The way by hand, with what a person has said of the order's step. Reads within the order's session."""
        with self._desk.look() as session:
            said = session.scalar(
                select(Step)
                .where(Step.order_id == order.id, Step.state.in_((StepState.CONFIRMED, StepState.REFUSED)))
                .order_by(Step.settled_at.desc())
                .limit(1)
            )
            app = carried.app_of(session, order)
            leg = session.get(Leg, order.subject)
            title, version = app.title if app else "", leg.release.version if leg else ""
        return ByHand(order.store.rulebook["store"], title, version, carried.settled_of(said))

    def _call(
        self,
        order_id: str,
        kind: OrderKind,
        store: Store,
        carrier: Carrier,
        call: Callable[[Way], Any],
        way: Way | None,
    ) -> None:
        desk, began = self._desk, time.monotonic()
        try:
            answer = call(way or desk.gateway(store))
        except NeedsPerson as needs:
            with desk.act(ENGINE) as act:
                order = needed(act.session, Order, order_id)
                if order.state in PENDING:
                    carried.hand_to_person(act, order, needs.prepared)
            return
        except StoreUnreachable as wrong:
            _log.info("not answered", act=str(kind), why=wrong.detail)
            if wrong.code != NOT_YET:
                asking.note_failure(desk, store.id, wrong.detail, told=False)
            self._postpone(order_id, wrong)
            return
        except TideError as wrong:
            self._refused(order_id, kind, store, carrier, wrong)
            return
        with desk.act(f"store:{store.name}") as act:
            order = needed(act.session, Order, order_id)
            if order.state is OrderState.DROPPED:
                _halt_again(act, order)
            elif order.state in PENDING:
                order.state = ORDER.after(order.state, OrderEvent.CONFIRM)
                order.settled_at, order.trouble = act.now, None
            else:
                return
            carrier.confirmed(act, order, answer)
            if way is not None:
                carried.follow_up(act, order, answer)
            _reconcile(act, order)
            act.tell(f"{kind} confirmed", f"{store.name}, order {order_id}")
        _log.info("confirmed", act=str(kind), took_ms=round((time.monotonic() - began) * 1000, 1))
        if way is None:
            asking.note_success(desk, store.id)
            self._desk.gaps.add(store.id)

    def _refused(self, order_id: str, kind: OrderKind, store: Store, carrier: Carrier, wrong: TideError) -> None:
        with self._desk.act(f"store:{store.name}") as act:
            order = needed(act.session, Order, order_id)
            if order.state not in PENDING:
                return
            order.settled_at, order.trouble = act.now, f"{wrong.detail} {wrong.remedy}".strip()
            if order.payload.get("again") and wrong.code == ACT_IMPOSSIBLE:  # it had stayed halted: as was wanted
                order.state = ORDER.after(order.state, OrderEvent.DROP)
                _reconcile(act, order)
                return
            order.state = ORDER.after(order.state, OrderEvent.REFUSE)
            app = _app_name(act, order)
            carrier.refused(act, order, wrong.detail)
            _reconcile(act, order)
            said = f"{store.name} refused to {kind}: {wrong.detail} {wrong.remedy}".strip()
            act.notice(
                NoticeKind.ORDER_REFUSED, f"{order.id}/refused", f"{kind} at {store.name}", said, place="/", app=app
            )
        _log.warning("refused", act=str(kind), code=wrong.code)

    def _postpone(self, order_id: str, wrong: StoreUnreachable) -> None:
        with self._desk.act(ENGINE) as act:
            order = needed(act.session, Order, order_id)
            if order.state not in PENDING:
                if order.state is OrderState.DROPPED:
                    _halt_again(act, order)
                return
            pause = pause_before_retry_seconds(
                order.attempts,
                urgent=is_urgent(order.kind),
                asked_seconds=wrong.wait_seconds,
                dice=random.random(),  # noqa: S311
            )
            order.try_after = act.now + timedelta(seconds=pause)
            if order.trouble != wrong.detail:
                order.trouble = wrong.detail
                act.tell(f"{order.kind} waits", f"{order.store.name}, order {order_id}", said=wrong.detail)
            if order.attempts == FAILING_AFTER_ATTEMPTS and wrong.code != NOT_YET:
                said = (
                    f"{order.kind} at {order.store.name} was tried {order.attempts} times: {wrong.detail} It goes on."
                )
                key, app = f"{order.id}/failing", _app_name(act, order)
                act.notice(
                    NoticeKind.ORDER_FAILING, key, f"{order.kind} at {order.store.name}", said, place="/", app=app
                )


def _reconcile(act: Act, order: Order) -> None:
    leg = act.session.get(Leg, order.subject)
    if leg is not None:
        act.session.flush()
        sightings.reconcile(act, leg)


def _app_name(act: Act, order: Order) -> str | None:
    app = carried.app_of(act.session, order)
    return app.name if app else None


def _halt_again(act: Act, overtaken: Order) -> None:
    """A step was in flight when a halt overtook it, and may have reached the store after it: halt once more."""
    leg = act.session.get(Leg, overtaken.subject)
    if leg is None:
        return
    later = select(Order).where(Order.lane == leg.id, Order.position > overtaken.position).order_by(Order.position)
    since = act.session.scalars(later).all()
    if not since or since[0].kind is not OrderKind.HALT or any(order.kind is not OrderKind.HALT for order in since):
        return
    if not any(order.state in PENDING for order in since):
        payload = {"again": True, "reason": f"{overtaken.kind} was in flight when it was halted"}
        act.order(OrderKind.HALT, lane=leg.id, store=leg.berth.store, subject=leg.id, payload=payload)
