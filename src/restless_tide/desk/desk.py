"""The desk itself: what every act needs, and the one way in which acts are written down.

An act is one transaction. In it the records change, the logbook gets its line, the orders to the
stores are placed and the live feed hears of it: all of that or nothing.
"""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Invalid, LostLease
from restless_tide.core.logbook import BEGINNING, Line, digest_of
from restless_tide.core.notice import NoticeKind
from restless_tide.core.order import ORDER, PENDING, OrderEvent, OrderKind, overtaken_by
from restless_tide.core.step import STEP, StepEvent, StepState
from restless_tide.desk.clock import Clock
from restless_tide.desk.settings import Settings
from restless_tide.gateways.client import Gateway, request_id
from restless_tide.gateways.protocol import ConnectionFile
from restless_tide.records.database import Database
from restless_tide.records.digest_files import DigestFiles
from restless_tide.records.package_files import PackageFiles
from restless_tide.records.seal import Seal, master_key
from restless_tide.records.tables import Change, Delivery, Lease, LogbookLine, Notice, Order, Step, Store, Subscription

ENGINE = "engine"
"""How the desk's own background stands in the logbook; a store stands there as ``store:NAME``."""


@dataclass
class Act:
    """One act of one person, under way."""

    session: Session
    now: datetime
    person: str
    seal: Seal

    def log(
        self,
        act: str,
        subject: str,
        *,
        app: str | None = None,
        reason: str = "",
        before: dict[str, Any] | None = None,
        after: dict[str, Any] | None = None,
    ) -> None:
        """Write the logbook line, chained to the one before, and tell the live feed."""
        previous = self.session.scalar(select(LogbookLine.digest).order_by(LogbookLine.id.desc()).limit(1))
        line = Line(self.now, self.person, act, subject, app, reason, before, after)
        self.session.add(
            LogbookLine(
                at=line.at,
                person=line.person,
                act=act,
                subject=subject,
                app=app,
                reason=reason,
                before=before,
                after=after,
                digest=digest_of(line, previous or BEGINNING),
            )
        )
        self.tell(act, subject, app=app, said=reason)

    def tell(self, kind: str, subject: str, *, app: str | None = None, said: str = "") -> None:
        """Tell the live feed of a change that deserves no logbook line, such as progress."""
        self.session.add(Change(at=self.now, kind=kind, subject=subject, app=app, said=said))
        self.session.flush()

    def order(
        self, kind: OrderKind, *, lane: str, store: Store, subject: str, payload: dict[str, Any] | None = None
    ) -> Order:
        """Place an order to a store; waiting orders of the lane that it overtakes are dropped with a trace."""
        overtaken = overtaken_by(kind)
        if overtaken:
            waiting = select(Order).where(Order.lane == lane, Order.state.in_(PENDING), Order.kind.in_(overtaken))
            for order in self.session.scalars(waiting):
                order.state = ORDER.after(order.state, OrderEvent.DROP)
                order.settled_at = self.now
                order.trouble = f"overtaken by {kind}"
                self.drop_steps(order)
        position = (self.session.scalar(select(func.max(Order.position))) or 0) + 1
        order = Order(
            position=position,
            kind=kind,
            lane=lane,
            store_id=store.id,
            subject=subject,
            payload=payload or {},
            ordered_at=self.now,
            ordered_by=self.person,
            request=request_id.get(),
        )
        self.session.add(order)
        self.session.flush()
        return order

    def drop_steps(self, order: Order) -> None:
        """Nobody need do by hand any more what this order asked for."""
        for step in self.session.scalars(select(Step).where(Step.order_id == order.id)):
            if step.state is StepState.WAITING:
                step.state, step.settled_at = STEP.after(step.state, StepEvent.DROP), self.now

    def notice(
        self, kind: NoticeKind, key: str, subject: str, said: str, *, place: str, app: str | None = None
    ) -> Notice | None:
        """Tell those who subscribed to it that something they wait for has happened; once for each ``key``."""
        if self.session.scalar(select(Notice.id).where(Notice.key == key)):
            return None
        notice = Notice(key=key, kind=kind, app=app, subject=subject, said=said, place=place, at=self.now)
        self.session.add(notice)
        self.session.flush()
        for subscription in self.session.scalars(select(Subscription).where(Subscription.ended_at.is_(None))):
            if kind in subscription.kinds and (app is None or not subscription.apps or app in subscription.apps):
                self.session.add(Delivery(notice_id=notice.id, subscription_id=subscription.id))
        self.session.flush()
        return notice


class Desk:
    """Everything an act needs: records, package files, seal, clock, and the gateways to the stores."""

    def __init__(self, settings: Settings, clock: Clock) -> None:
        settings.data.mkdir(parents=True, exist_ok=True)
        self.settings = settings
        self.clock = clock
        self.database = Database(settings.data / "desk.sqlite")
        self.database.migrate()
        self.files = PackageFiles(settings.data / "packages")
        self.pictures = DigestFiles(settings.data / "pictures")
        self.symbols = DigestFiles(settings.data / "symbols")
        self.seal = Seal(master_key(settings.data, settings.master_key))
        self._gateways: dict[str, tuple[bytes, Gateway]] = {}
        self._lock = threading.Lock()
        self._listeners: list[Callable[[], None]] = []
        self.fence: int | None = None
        """The number under which this desk's engine holds the lease; what the engine writes is checked against it."""
        self.mail_trouble: str | None = None
        """Why no mail goes out just now; None: nothing is known to be in the way."""
        self.to_scrub = False
        """Whether something deleted may still lie in the write-ahead log."""
        self.gaps: set[str] = set()
        """Stores of which a pushed event came too early; they are asked at once."""
        self.news: set[str] = set()
        """Stores that told of another rulebook or standing; they are asked for it at once."""
        self.look_after: dict[str, float] = {}
        """When each store is next to be looked at for pictures and figures of use, by the process's own clock."""
        self.forged: Counter[str] = Counter()
        """Pushed events by store that did not prove where they came from, since this process began."""

    @contextmanager
    def act(self, person: str) -> Iterator[Act]:
        """One act of ``person``: committed at the end, undone when anything is raised.

        Raises LostLease when the engine acts and another engine has taken the lease meanwhile.
        """
        with self.database.writing() as session:
            if self.fence is not None and (person == ENGINE or person.startswith("store:")):
                held = session.scalar(select(Lease.fence).where(Lease.name == ENGINE))
                if held != self.fence:
                    raise LostLease(f"The lease went from {self.fence} to {held}; another engine works here now.")
            yield Act(session, self.clock.now(), person, self.seal)
        self.ring()

    def ring(self) -> None:
        """Have everybody look who listens for changes; an act does it by itself."""
        for listener in self._listeners:
            listener()

    @contextmanager
    def look(self) -> Iterator[Session]:
        with self.database.reading() as session:
            yield session

    def on_change(self, listener: Callable[[], None]) -> None:
        """Have ``listener`` called after every act, from the thread that acted."""
        self._listeners.append(listener)

    def gateway(self, store: Store) -> Gateway:
        """The gateway of a store, its key unsealed only here. Raises Invalid for a hand-carried store."""
        if store.sealed_key is None:
            raise Invalid(f"{store.name} has no gateway; its steps are carried by hand.", code="hand-carried")
        with self._lock:
            known = self._gateways.get(store.id)
            if known is not None and known[0] == store.sealed_key:
                return known[1]
            key = self.seal.open(store.sealed_key, f"store {store.id}")
            connection = ConnectionFile.model_validate_json(key)
            gateway = Gateway(connection, name=store.name)
            self._gateways[store.id] = (store.sealed_key, gateway)
            return gateway

    def scrub(self) -> None:
        """Leave nothing of what was deleted in the database's file and its log; the engine goes on where readers stand in the way."""
        self.to_scrub = not self.database.scrub()

    def close(self) -> None:
        for _, gateway in self._gateways.values():
            gateway.close()
        self.database.close()
