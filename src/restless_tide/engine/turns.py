"""Orders on their way to the stores, turn by turn.

A turn is one transaction: what came back of the calls is told to the lanes, the lanes that are due begin
their next calls, and only then are these made, each on a thread of its own. Calls of one lane go one
after the other, halts beside all others and on threads kept for them. A turn takes a bounded number of
answers, so that a halt waits for one short turn at most.

What waits for no other, a halt above all, begins in the transaction of the act that orders it.

A call is written down as sent before it is made. A desk that is killed in between knows afterwards that
the store may have acted, and asks again under the same idempotency key.
"""

from __future__ import annotations

import json
import random
import threading
import time
from collections import defaultdict
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextvars import copy_context
from dataclasses import dataclass, field
from datetime import datetime
from functools import partial
from queue import Empty, SimpleQueue
from typing import Any

import structlog
from sqlalchemy import bindparam, func, select
from sqlalchemy.orm import Session, aliased

from restless_tide.core import lane as core
from restless_tide.core.breaker import Breaker, BreakerState
from restless_tide.core.errors import LostLease, StoreUnreachable, TideError
from restless_tide.core.lane import Answered, Began, Handed, Happening, Outcome, Refused, Silent, Wait
from restless_tide.core.notice import NoticeKind
from restless_tide.core.order import PENDING, RULES, OrderKind, OrderState, Subject
from restless_tide.core.rulebook import PRODUCTION
from restless_tide.core.step import StepState
from restless_tide.core.tracks import review_holds
from restless_tide.desk import lanes, legs, tracks
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.lanes import needed
from restless_tide.desk.stores import rules_of
from restless_tide.engine import asking, carried, follow
from restless_tide.engine.by_hand import ByHand, NeedsPerson
from restless_tide.engine.carriers import CARRIERS, held_in
from restless_tide.engine.follow import Word
from restless_tide.gateways.client import NOT_YET
from restless_tide.gateways.way import Way
from restless_tide.records.tables import Leg, Order, Round, Step, Store, Trial
from restless_tide.request import request_id

_log = structlog.get_logger("engine")

HANDS = 8
MOST_ANSWERS_A_TURN = 24
MOST_REMEMBERED = 10_000
SEVERAL_IN_FLIGHT = 2
GATHER_SECONDS, BUSY_SECONDS = 0.12, 0.3
"""While several calls are under way, their answers are waited for so long: what is written together takes far less time.
A turn that was written within the longer time tells that more are to come."""
_UNREADABLE = StoreUnreachable("the desk could not carry this out; its log has the details", code="desk-failed")


@dataclass
class SentCall:
    """One call: what it is about, and what became of it. ``wrong`` is an error, or the step that a person has to do.

    ``troubled``: the store was not reached, or failed, when the call began.
    """

    order: str
    lane: str
    kind: OrderKind
    store: str
    store_name: str
    call: Callable[[Way], Any] | None
    way: Way | None
    request: str
    troubled: bool
    began: float = field(default_factory=time.monotonic)
    answered_at: datetime | None = None
    answer: Any = None
    wrong: Exception | None = None


class Turns:
    """The orders of one desk. ``turn`` is called by one thread; the calls are made by others."""

    def __init__(self, desk: Desk, wake: Callable[[], None]) -> None:
        self._desk = desk
        self._wake = wake
        self._back: SimpleQueue[SentCall] = SimpleQueue()
        self._in_flight: dict[str, SentCall] = {}
        self._hands = ThreadPoolExecutor(HANDS, thread_name_prefix="order")
        self._hands_for_halts = ThreadPoolExecutor(HANDS, thread_name_prefix="halt")
        self._marking = threading.Lock()
        self._answered = threading.Event()
        self._written_at = 0.0
        self.may_begin = True

    def restart(self) -> None:
        """Which calls another engine had in flight is unknown; lanes whose wanted and seen differ look again."""
        self._desk.background.in_flight.clear()
        with self._desk.act(ENGINE) as act:
            for subject, row in follow.differing(act.session):
                store = follow.store_of(subject, row)
                if not store.in_use:
                    continue
                heard = store.events_seen
                follow.happen(self._desk, act, subject, row, core.Restarted(), heard=heard)

    def turn(self) -> float | None:
        """One turn. Returns after how many seconds there is something to do again; None: nobody knows."""
        came, due, rows = self._came_back(), list[str](), list[Any]()
        now = self._desk.clock.now()
        if not came:
            with self._desk.look() as session:
                rows = self._waiting(session)
            due = self._due(rows, now)
            if not due:
                return _next_due(rows, now)
        try:
            try:
                begun = self._write_turn(came, due, rows, alone=False)
            except LostLease:
                raise
            except Exception:  # noqa: BLE001  (each on its own then, and whatever goes wrong is logged there)
                begun = self._write_turn(came, due, rows, alone=True)
        except BaseException:
            for sent in came:  # nothing was written: they come again
                self._back.put(sent)
            raise
        self._written_at = time.monotonic()
        for sent in came:
            self._note(sent)
        for sent in begun:
            self._mark_call(sent)
            self._send_off(sent)
        return 0.0 if len(came) == 1 or not self._back.empty() else None

    def begin_urgent(self, act: Act) -> None:
        """Begin an act's urgent orders in its own transaction, where this engine works; the next turn finds all others.

        Their calls are made when the act is committed. What goes wrong here is met again by the turn that begins them.
        """
        if not self.may_begin or self._desk.background.fence is None:
            return
        try:
            self._desk.demand_lease(act.ends)
        except LostLease:
            return
        begun = 0
        for order in act.urgent:
            try:
                sent = self._begin(act.as_person(ENGINE), order) if self._is_next(act, order) else None
            except Exception:  # noqa: BLE001  (the order stands, and the next turn begins it)
                _log.exception("an order could not begin at once", order=order.id)
                continue
            if sent is not None:
                begun += 1
                self._mark_call(sent)
                act.otherwise(partial(self._forget_call, sent))
                act.afterwards(partial(self._send_off, sent))
        if begun == len(act.placed):
            act.taken_up.add(Order)

    def _is_next(self, act: Act, order: Order) -> bool:
        """Whether an order that was just placed may go before everything else of its lane."""
        waiting = tuple(lanes.entry_of(one) for one in lanes.pending(act.session, order.lane))
        return self._next_of(order.lane, waiting, act.now, alone=True) == order.id

    def _next_of(self, lane_id: str, entries: tuple[core.Entry, ...], now: datetime, *, alone: bool) -> str | None:
        """The order of a lane whose call is to be made now; for that its entries are enough, and the calls in flight."""
        level = core.Level(lane_id, Subject.STORE, core.Held(""))
        lane = core.Lane(level, entries, self._desk.background.in_flight.get(lane_id, frozenset()))
        return core.next_call(lane, now, alone=alone)

    def _send_off(self, sent: SentCall) -> None:
        """Have the call made; one that can no longer be made, since the engine stops, is made by the next engine."""
        hands = self._hands_for_halts if RULES[sent.kind].beside else self._hands
        try:
            hands.submit(copy_context().run, self._make, sent)
        except RuntimeError:
            self._forget_call(sent)

    def _mark_call(self, sent: SentCall) -> None:
        with self._marking:
            self._in_flight[sent.order] = sent
            self._desk.background.in_flight[sent.lane] = self._desk.background.in_flight.get(sent.lane, frozenset()) | {
                sent.order
            }

    def _write_turn(self, came: list[SentCall], due: list[str], rows: list[Any], *, alone: bool) -> list[SentCall]:
        """One transaction: what came back is written, and what is due begins. ``alone``: each undone by itself if it fails.

        An order that was settled since it was found due does not begin; one that was placed since is found by the next turn.
        """
        with self._desk.act(ENGINE) as act:
            _read_for_answers(act.session, came)
            _read_for_calls(act.session, due, rows)
            for sent in came:
                if alone:
                    self._write_alone(act, sent)
                else:
                    self._write_one(act, sent)
            if len(came) > 1:  # after a single answer the next turn looks, and the answer is written sooner
                rows = self._waiting(act.session)
                due = self._due(rows, act.now)
                _read_for_calls(act.session, due, rows)
            begin = self._begin_alone if alone else self._begin
            begun = [begin(act, needed(act.session, Order, key)) for key in due]
        return [sent for sent in begun if sent is not None]

    @property
    def several_in_flight(self) -> bool:
        return len(self._in_flight) >= SEVERAL_IN_FLIGHT

    def gather(self) -> None:
        """Wait a moment for the answers of the other calls that are under way; in a quiet hour no longer than for the last one."""
        now = time.monotonic()
        until, busy = now + GATHER_SECONDS, now - self._written_at < BUSY_SECONDS
        while self.several_in_flight and (busy or self._back.qsize() < len(self._in_flight)):
            left = until - time.monotonic()
            if left <= 0:
                return
            if busy:
                time.sleep(left)
            else:
                self._answered.wait(left)
                self._answered.clear()

    @property
    def idle(self) -> bool:
        return not self._in_flight and self._back.empty()

    def close(self) -> None:
        """Wait for the calls that are being made."""
        for hands in (self._hands, self._hands_for_halts):
            hands.shutdown(wait=True)

    def _came_back(self) -> list[SentCall]:
        came: list[SentCall] = []
        while len(came) < MOST_ANSWERS_A_TURN:
            try:
                came.append(self._back.get_nowait())
            except Empty:
                break
        for sent in came:
            self._forget_call(sent)
        return came

    def _forget_call(self, sent: SentCall) -> None:
        with self._marking:
            self._in_flight.pop(sent.order, None)
            left = self._desk.background.in_flight.get(sent.lane, frozenset()) - {sent.order}
            if left:
                self._desk.background.in_flight[sent.lane] = left
            else:
                self._desk.background.in_flight.pop(sent.lane, None)

    # what is due

    def _waiting(self, session: Session) -> list[Any]:
        """What waits in the lanes that could begin a call, with its store's breaker."""
        session.flush()
        with self._marking:
            in_flight = json.dumps(list(self._in_flight))
        return list(session.connection().execute(_WAITING, {"in_flight": in_flight}).all())

    def _due(self, rows: list[Any], now: datetime) -> list[str]:
        """The next order of every lane, where it may go now; halts first."""
        if not rows or not self.may_begin:
            return []
        by_lane: dict[str, list[Any]] = defaultdict(list)
        breakers: dict[str, BreakerState] = {}
        for row in rows:
            by_lane[row.lane].append(row)
            if row.store_id not in breakers:
                breakers[row.store_id] = Breaker(row.breaker_failures, row.breaker_rests_until).state(now)
        due: list[tuple[int, int, str]] = []
        tried: set[str] = set()
        for lane_id, of_lane in by_lane.items():
            store = of_lane[0].store_id
            alone = breakers[store] is BreakerState.OPEN or (breakers[store] is BreakerState.TRYING and store in tried)
            entries = tuple(
                core.Entry(
                    row.id,
                    row.kind,
                    row.lane,
                    attempts=row.attempts,
                    try_after=row.try_after,
                    with_person=row.with_person,
                )
                for row in of_lane
            )
            key = self._next_of(lane_id, entries, now, alone=alone)
            if key is None:
                continue
            row = next(row for row in of_lane if row.id == key)
            if breakers[store] is BreakerState.TRYING and not RULES[row.kind].beside:
                tried.add(store)
            due.append((RULES[row.kind].turn, row.position, key))
        return [key for _, _, key in sorted(due)]

    # a call

    def _begin(self, act: Act, order: Order) -> SentCall | None:
        """Write down that an order is sent, and make its call ready. None when it was settled meanwhile."""
        if order.state not in PENDING:
            return None
        call = CARRIERS[order.kind].prepare(self._desk, act.session, order)
        way = _by_hand(act.session, order) if order.store.hand_carried else self._desk.gateway(order.store)
        self._tell(act, order, Began(order.id))
        return SentCall(
            order.id, order.lane, order.kind, order.store_id, order.store.name, call, way, order.request or order.id,
            order.store.trouble is not None or order.store.breaker_failures > 0,
        )  # fmt: skip

    def _begin_alone(self, act: Act, order: Order) -> SentCall | None:
        """The same for one order apart from the others: one that cannot begin waits, and the others begin."""
        try:
            with act.attempt():
                return self._begin(act, order)
        except Exception as wrong:  # noqa: BLE001  (it waits, and the others begin)
            _log.exception("an order could not be sent", order=order.id)
            act.session.refresh(order)
            order.attempts += 1
            self._silent(act, order, wrong if isinstance(wrong, TideError) else _UNREADABLE)
            return None

    def _make(self, sent: SentCall) -> None:
        """Make the call, on a thread of its own, and bring back the result."""
        token = request_id.set(sent.request)
        told = structlog.contextvars.bound_contextvars(request=sent.request, order=sent.order, store=sent.store_name)
        try:
            with told:
                assert sent.call is not None
                assert sent.way is not None
                sent.answer = sent.call(sent.way)
                sent.answered_at = self._desk.clock.now()
                took = round((time.monotonic() - sent.began) * 1000, 1)
                _log.info("answered", act=str(sent.kind), took_ms=took)
        except (TideError, NeedsPerson) as wrong:
            sent.wrong = wrong
            _log.info("not done", act=str(sent.kind), why=str(wrong), code=getattr(wrong, "code", None))
        except Exception:  # noqa: BLE001  (it comes back as a failed call)
            _log.exception("an order could not be carried", order=sent.order)
            sent.wrong = _UNREADABLE
        finally:
            request_id.reset(token)
            self._back.put(sent)
            self._answered.set()
            self._wake()

    # what came of it

    def _write_alone(self, act: Act, sent: SentCall) -> None:
        """Write down what came of a call; whatever goes wrong with it, the others are written all the same."""
        try:
            with act.attempt():
                self._write_one(act, sent)
        except Exception:  # noqa: BLE001  (the others are written all the same)
            _log.exception("what came of an order could not be written down", order=sent.order)
            with act.attempt():
                self._silent(act, needed(act.session, Order, sent.order), _UNREADABLE)

    def _write_one(self, act: Act, sent: SentCall) -> None:
        order = needed(act.session, Order, sent.order)
        match sent.wrong:
            case None:
                self._confirmed(act.as_person(f"store:{sent.store_name}"), order, sent)
            case NeedsPerson() as needs:
                self._tell(act, order, Handed(order.id))
                if order.state in PENDING:
                    carried.hand_to_person(act, order, needs.prepared)
            case StoreUnreachable() as wrong:
                self._silent(act, order, wrong)
            case TideError() as wrong:
                self._refused(act.as_person(f"store:{sent.store_name}"), order, wrong)

    def _confirmed(self, act: Act, order: Order, sent: SentCall) -> None:
        answer = sent.answer
        carrier, by_hand, waited = CARRIERS[order.kind], order.store.hand_carried, order.state in PENDING
        if by_hand and waited:
            carried.remember_before(act, order)
            answer = carried.as_seen(act.session, order, answer)
        if waited:
            carrier.confirmed(act, order, answer)
        word = Word(act.now, order.id, answer)
        self._tell(act, order, Answered(order.id, held_in(answer), getattr(answer, "sequence", None)), word)
        if waited and order.state not in PENDING:
            order.settled_at = sent.answered_at  # answers are written in groups, some later than they came
        if by_hand and waited:
            carried.follow_up(act, order, answer)
        self._remember_answered(act, order, getattr(answer, "sequence", None))
        act.tell(f"{order.kind} confirmed", f"{order.store.name}, order {order.id}")

    def _remember_answered(self, act: Act, order: Order, sequence: int | None) -> None:
        """The event that reports this answer will bring nothing new, if wanted and seen agree by it."""
        subject, row = RULES[order.kind].subject, lanes.subject_of(act.session, order)
        seen = lanes.sighting_of(act.session, order.subject)
        if subject is Subject.LEG and seen is not None and seen.sequence == sequence:
            agreed = lanes.wanted_of(subject, row) == core.Held(seen.state, seen.share)
            told, entry = self._desk.background.answered.setdefault(order.store_id, set()), (sequence, order.id)
            if agreed and not seen.asked and len(told) < MOST_REMEMBERED:
                act.afterwards(lambda: told.add(entry))

    def _refused(self, act: Act, order: Order, wrong: TideError) -> None:
        outcomes = self._tell(act, order, Refused(order.id))
        if not follow.settled(outcomes, order.id, OrderState.REFUSED):
            return
        order.trouble = f"{wrong.detail} {wrong.remedy}".strip()
        app = follow.app_of(act.session, order)
        CARRIERS[order.kind].refused(act, order, wrong.detail)
        store, kind = order.store.name, order.kind
        said = f"{store} refused to {kind}: {wrong.detail} {wrong.remedy}".strip()
        key, name = f"{order.id}/refused", app.name if app else None
        act.notice(NoticeKind.ORDER_REFUSED, key, f"{kind} at {store}", said, place="/", app=name)

    def _silent(self, act: Act, order: Order, wrong: TideError) -> None:
        asked = wrong.wait_seconds if isinstance(wrong, StoreUnreachable) else 0.0
        what = Silent(order.id, asked, random.random(), expected=wrong.code == NOT_YET)  # noqa: S311
        outcomes = self._tell(act, order, what)
        if order.state not in PENDING:
            return
        if order.trouble != wrong.detail:
            order.trouble = wrong.detail
            act.tell(f"{order.kind} waits", f"{order.store.name}, order {order.id}", said=wrong.detail)
        if any(isinstance(outcome, Wait) and outcome.failing for outcome in outcomes):
            app = follow.app_of(act.session, order)
            said = f"{order.kind} at {order.store.name} was tried {order.attempts} times: {wrong.detail} It is tried again automatically."
            key, name = f"{order.id}/failing", app.name if app else None
            act.notice(NoticeKind.ORDER_FAILING, key, f"{order.kind} at {order.store.name}", said, place="/", app=name)

    def _tell(self, act: Act, order: Order, what: Happening, word: Word | None = None) -> list[Outcome]:
        subject, row = RULES[order.kind].subject, lanes.subject_of(act.session, order)
        heard = order.store.events_seen
        return follow.happen(self._desk, act, subject, row, what, word=word, lane=order.lane, heard=heard)

    def _note(self, sent: SentCall) -> None:
        """Whether the store can be reached, as this call has shown."""
        if isinstance(sent.way, ByHand) or isinstance(sent.wrong, NeedsPerson):
            return
        if isinstance(sent.wrong, StoreUnreachable):
            if sent.wrong.code not in (NOT_YET, _UNREADABLE.code):
                asking.note_failure(self._desk, sent.store, sent.wrong.detail, told=False)
        elif sent.wrong is None and sent.troubled:
            asking.note_success(self._desk, sent.store)


def _read_for_answers(session: Session, came: Sequence[SentCall]) -> None:
    """Read what telling the lanes of many answers asks for, in a few queries."""
    if len(came) <= lanes.FEW:
        return
    lanes.pending_by_lane(session, {sent.lane for sent in came})
    about = {sent.lane for sent in came if RULES[sent.kind].subject is Subject.LEG}
    lanes.for_calls(session, about, {sent.store for sent in came}, rounds=False)


def _read_for_calls(session: Session, due: Sequence[str], rows: Sequence[Any]) -> None:
    """The same for many orders that begin; ``rows`` has what waits, they among it."""
    if len(due) <= lanes.FEW:
        return
    begin = [row for row in rows if row.id in set(due)]
    lanes.pending_by_lane(session, {row.lane for row in begin})
    about = {row.lane for row in begin if RULES[row.kind].subject is Subject.LEG}
    lanes.for_calls(session, about, {row.store_id for row in begin}, rounds=True)


_OTHERS = aliased(Order)
_NOT_IN_FLIGHT = select(func.json_each(bindparam("in_flight")).table_valued("value").c.value)
_WAITING = (
    select(
        Order.id, Order.lane, Order.kind, Order.position, Order.try_after, Order.store_id, Order.attempts,
        Order.with_person, Store.breaker_failures, Store.breaker_rests_until,
    )
    .join(Store)
    .where(
        Order.state.in_(PENDING),
        Order.lane.in_(select(_OTHERS.lane).where(_OTHERS.state.in_(PENDING), _OTHERS.id.not_in(_NOT_IN_FLIGHT))),
    )
    .order_by(Order.position)
)  # fmt: skip
"""The orders of every lane that has one which is neither settled nor in flight, in the sequence in which they were placed."""


def _next_due(rows: list[Any], now: datetime) -> float | None:
    instants = (instant for row in rows for instant in (row.try_after, row.breaker_rests_until))
    later = [(instant - now).total_seconds() for instant in instants if instant is not None and instant > now]
    return min(later, default=None)


def _by_hand(session: Session, order: Order) -> ByHand:
    """The way by hand, with what a person has said of the order's step."""
    said = session.scalar(
        select(Step)
        .where(Step.order_id == order.id, Step.state.in_((StepState.CONFIRMED, StepState.REFUSED)))
        .order_by(Step.settled_at.desc())
        .limit(1)
    )
    app = follow.app_of(session, order)
    row = lanes.subject_of(session, order)
    leg = row.leg if isinstance(row, Round) else row
    title, version = app.title if app else "", leg.release.version if isinstance(leg, Leg) else ""
    track, reviewed = _track(session, order)
    return ByHand(rules_of(order.store), title, version, carried.settled_of(said), track, reviewed=reviewed)


def _track(session: Session, order: Order) -> tuple[str, bool]:
    """The title of the track that an order is about, where that is not production; and whether its store looks first."""
    row = lanes.subject_of(session, order)
    if isinstance(row, Trial):
        return tracks.title_of(row), True
    leg = row.leg if isinstance(row, Round) else row
    if not isinstance(leg, Leg):
        return "", True
    rules = rules_of(leg.berth.store)
    holds = leg.track in rules.ways and review_holds(
        rules, leg.track, tracks.reviewed_on(session, leg.berth, leg.build)
    )
    return legs.track_title(leg) if leg.track != PRODUCTION else "", not holds
