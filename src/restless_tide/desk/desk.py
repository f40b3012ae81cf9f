"""The desk itself: what every act needs, and the one way in which acts are written down.

An act is one transaction. In it the records change, the logbook gets its line, the orders to the
stores are placed and the live feed hears of it: all of that or nothing.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.logbook import BEGINNING, Line, digest_of
from restless_tide.core.order import ORDER, PENDING, OrderEvent, OrderKind, overtaken_by
from restless_tide.desk.clock import Clock
from restless_tide.desk.settings import Settings
from restless_tide.gateways.client import Gateway
from restless_tide.gateways.protocol import ConnectionFile
from restless_tide.records.database import Database
from restless_tide.records.package_files import PackageFiles
from restless_tide.records.seal import Seal, master_key
from restless_tide.records.tables import Change, LogbookLine, Order, Store

ENGINE = "engine"
"""How the desk's own background stands in the logbook; a store stands there as ``store:NAME``."""


@dataclass
class Act:
    """One act of one person, under way."""

    session: Session
    now: datetime
    person: str

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
        )
        self.session.add(order)
        self.session.flush()
        return order


class Desk:
    """Everything an act needs: records, package files, seal, clock, and the gateways to the stores."""

    def __init__(self, settings: Settings, clock: Clock) -> None:
        settings.data.mkdir(parents=True, exist_ok=True)
        self.settings = settings
        self.clock = clock
        self.database = Database(settings.data / "desk.sqlite")
        self.database.migrate()
        self.files = PackageFiles(settings.data / "packages")
        self.seal = Seal(master_key(settings.data, settings.master_key))
        self._gateways: dict[str, tuple[bytes, Gateway]] = {}
        self._lock = threading.Lock()
        self._listeners: list[Callable[[], None]] = []

    @contextmanager
    def act(self, person: str) -> Iterator[Act]:
        """One act of ``person``: committed at the end, undone when anything is raised."""
        with self.database.writing() as session:
            yield Act(session, self.clock.now(), person)
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
        """The gateway of a store, its key unsealed only here."""
        with self._lock:
            known = self._gateways.get(store.id)
            if known is not None and known[0] == store.sealed_key:
                return known[1]
            key = self.seal.open(store.sealed_key, f"store {store.id}")
            connection = ConnectionFile.model_validate_json(key)
            gateway = Gateway(connection, name=store.name)
            self._gateways[store.id] = (store.sealed_key, gateway)
            return gateway

    def close(self) -> None:
        for _, gateway in self._gateways.values():
            gateway.close()
        self.database.close()
