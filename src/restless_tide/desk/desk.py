"""The desk itself: what every act needs, and the one way in which acts are written down.

An act is one transaction. In it the records change, the logbook gets its line, the orders to the
stores are placed and the live feed hears of it: all of that or nothing.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

from sqlalchemy import insert, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Invalid, LostLease, StaleView
from restless_tide.core.logbook import BEGINNING, Line, digest_of
from restless_tide.core.notice import NoticeKind
from restless_tide.core.order import OrderKind, OrderState
from restless_tide.core.rights import Right, standing_of
from restless_tide.desk import lanes, launch_facts
from restless_tide.desk.background import Background
from restless_tide.desk.clock import Clock
from restless_tide.desk.launch_facts import Fact
from restless_tide.desk.reading import PackageReader
from restless_tide.desk.settings import Settings
from restless_tide.desk.uses import Uses
from restless_tide.expectation import Expectation, expectation
from restless_tide.gateways.client import Gateway
from restless_tide.gateways.protocol import ConnectionFile
from restless_tide.records.database import Database, WritingSession
from restless_tide.records.digest_files import DigestFiles
from restless_tide.records.package_files import PackageFiles
from restless_tide.records.seal import Seal, master_key
from restless_tide.records.tables import (
    Change,
    Delivery,
    KeptAnswer,
    Lease,
    LogbookLine,
    Notice,
    Order,
    Person,
    Store,
    Subscription,
)

Changed = frozenset[type] | None
"""Which tables were changed; None: anything may have."""
Listener = Callable[[Changed], None]
ENGINE = "engine"
"""How the desk's own background stands in the logbook; a store stands there as ``store:NAME``."""


_ENDS = f"""
    SELECT (SELECT digest FROM {LogbookLine.__tablename__} ORDER BY id DESC LIMIT 1),
           (SELECT max(position) FROM {Order.__tablename__}),
           (SELECT fence FROM {Lease.__tablename__} WHERE name = ?)
"""  # noqa: S608
"""Asked in every act, so it goes to SQLite as it stands."""
_INSERTS = {table: insert(table) for table in (LogbookLine, Change, KeptAnswer)}


@dataclass
class Ends:
    """Where the records end as an act begins, and how far they have grown in it: the newest line of the logbook, the
    last order's place, and the fence of the engine that holds the lease."""

    digest: str
    position: int
    fence: int | None


@dataclass
class Act:
    """One act of one person, under way."""

    session: WritingSession
    now: datetime
    person: str
    seal: Seal
    ends: Ends
    urgent: list[Order] = field(default_factory=list)
    """Orders placed by this act that wait for no other; they begin with its end."""
    taken_up: set[type] = field(default_factory=set)
    """Tables that nobody need look at after this act, since what it changed there is on its way already."""
    to_draw: set[str] = field(default_factory=set)
    """Apps of which a store may get other pictures after this act."""
    to_judge: set[str] = field(default_factory=set)
    """Apps whose guards are to look after this act."""
    placed: list[Order] = field(default_factory=list)
    launch_facts: set[Fact] = field(default_factory=set)
    """What this act has changed by statements that launch conditions may read; what it changed in rows is found there."""
    _lines: list[dict[str, Any]] = field(default_factory=list)
    _told: list[dict[str, Any]] = field(default_factory=list)
    """Lines of the logbook and of the live feed that are not written yet; they go in together, which is several times faster."""
    _afterwards: list[Callable[[], None]] = field(default_factory=list)
    _otherwise: list[Callable[[], None]] = field(default_factory=list)

    def otherwise(self, then: Callable[[], None]) -> None:
        """Take back something that lives outside the records, should the act not be committed."""
        self._otherwise.append(then)

    def afterwards(self, then: Callable[[], None]) -> None:
        """Do something that lives outside the records, such as remembering, once the act is committed; else never."""
        self._afterwards.append(then)

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
        line = Line(self.now, self.person, act, subject, app, reason, before, after)
        self.ends.digest = digest_of(line, self.ends.digest)
        self._lines.append(line._asdict() | {"digest": self.ends.digest})
        self.tell(act, subject, app=app, said=reason)

    def judge(self, app: str) -> None:
        """Have the guards of an app look after this act."""
        self.to_judge.add(app)

    @contextmanager
    def attempt(self) -> Iterator[None]:
        """A part of this act that is undone alone when it raises; what is around it stays. No order's place is given twice."""
        self.write_lines()
        digest = self.ends.digest
        kept, urgent, placed = len(self._afterwards), len(self.urgent), len(self.placed)
        try:
            with self.session.begin_nested():
                yield
        except BaseException:
            self._lines.clear()
            self._told.clear()
            self.ends.digest = digest
            del self._afterwards[kept:], self.urgent[urgent:], self.placed[placed:]
            self.session.info.clear()  # what was read of the part that is undone is read again
            raise

    def as_person(self, person: str) -> Act:
        """The same act, in someone else's name."""
        return replace(self, person=person)

    def tell(self, kind: str, subject: str, *, app: str | None = None, said: str = "") -> None:
        """Tell the live feed of a change that deserves no logbook line, such as progress."""
        self._told.append({"at": self.now, "kind": kind, "subject": subject, "app": app, "said": said})

    def write_lines(self) -> None:
        """Write what was logged and told since the last time; an act does it at its end."""
        for table, rows in ((LogbookLine, self._lines), (Change, self._told)):
            if rows:
                self.session.connection().execute(_INSERTS[table], rows)
                self.session.changed.add(table)
                rows.clear()

    def order(
        self, kind: OrderKind, *, lane: str, store: Store, subject: str, payload: dict[str, Any] | None = None
    ) -> Order:
        """Place an order to a store; waiting orders of the lane that it overtakes are dropped with a trace."""
        return lanes.place(self, kind, lane=lane, store=store, subject=subject, payload=payload)[0]

    def drop(self, order: Order, why: str) -> None:
        """A waiting order has lost its meaning; nobody need do by hand any more what it asked for."""
        lanes.settle(self, order, OrderState.DROPPED, why)

    def notice(
        self, kind: NoticeKind, key: str, subject: str, said: str, *, place: str, app: str | None = None
    ) -> Notice | None:
        """Tell those who subscribed to it, and reach the app, that something they wait for has happened; once for each ``key``."""
        if self.session.scalar(select(Notice.id).where(Notice.key == key)):
            return None
        notice = Notice(key=key, kind=kind, app=app, subject=subject, said=said, place=place, at=self.now)
        self.session.add(notice)
        self.session.flush()
        running = select(Subscription, Person).join(Person, Person.id == Subscription.person_id)
        for subscription, person in self.session.execute(running.where(Subscription.ended_at.is_(None))):
            reached = standing_of(person.grants).over_all(Right.SUBSCRIBE, [app] if app is not None else [])
            wanted = app is None or not subscription.apps or app in subscription.apps
            if kind in subscription.kinds and wanted and reached:
                self.session.add(Delivery(notice_id=notice.id, subscription_id=subscription.id))
        self.session.flush()
        return notice


def _ends(session: Session) -> Ends:
    digest, position, fence = session.connection().exec_driver_sql(_ENDS, (ENGINE,)).one()
    return Ends(digest or BEGINNING, position or 0, fence)


class Desk:
    """Everything an act needs: records, package files, seal, clock, and the gateways to the stores."""

    def __init__(self, settings: Settings, clock: Clock) -> None:
        settings.data.mkdir(parents=True, exist_ok=True)
        self.settings = settings
        self.clock = clock
        self.database = Database(settings.data / "desk.sqlite")
        self.database.migrate()
        self.files = PackageFiles(settings.data / "packages")
        self.reader = PackageReader()
        self.pictures = DigestFiles(settings.data / "pictures")
        self.dossier_files = DigestFiles(settings.data / "dossier-files")
        self.small_pictures = settings.data / "dossier-pictures-small"
        self.symbols = DigestFiles(settings.data / "symbols")
        self.seal = Seal(master_key(settings.data, settings.master_key))
        self._gateways: dict[str, tuple[bytes, Gateway]] = {}
        self._lock = threading.Lock()
        self._listeners: list[Listener] = []
        self.background = Background()
        self.uses = Uses()

    @contextmanager
    def act(self, person: str) -> Iterator[Act]:
        """One act of ``person``: committed at the end, undone when anything is raised.

        Raises LostLease when the engine acts and another engine has taken the lease meanwhile.
        """
        otherwise: list[Callable[[], None]] = []
        try:
            with self.database.writing() as session:
                ends = _ends(session)
                if self.background.fence is not None and (person == ENGINE or person.startswith("store:")):
                    self.demand_lease(ends)
                act = Act(session, self.clock.now(), person, self.seal, ends, _otherwise=otherwise)
                expected = expectation.get()
                if expected is not None and not expected.acted:
                    self._meet(act, expected)
                yield act
                if act.urgent:
                    self.background.begin_urgent(act)
                act.write_lines()
                session.flush()  # what would be written with the commit alone is a fact, too
                facts = act.launch_facts | launch_facts.of(session.touched)
        except BaseException:
            for then in otherwise:
                then()
            raise
        for then in act._afterwards:
            then()
        if act.to_draw:
            self.background.to_draw |= act.to_draw
            self.background.ring_drawing()
        if act.to_judge:
            self.background.to_judge |= act.to_judge
            self.background.ring_judging()
        if facts:
            with self.background.launching:
                self.background.launch_facts |= facts
            self.background.ring_launching()
        self.ring(frozenset(session.changed - act.taken_up))

    def _meet(self, act: Act, expected: Expectation) -> None:
        """The first act of a request with a condition or a key. Raises StaleView where something was written since the
        condition was found to hold; the caller looks again then."""
        if expected.version is not None and self.database.version() != expected.version:
            expected.moved = True
            raise StaleView("Something was written meanwhile.", code="moved")
        if expected.key:
            kept = {"key": expected.key, "request": expected.request, "at": act.now}
            act.session.connection().execute(_INSERTS[KeptAnswer], kept)
        act.afterwards(expected.done)

    def demand_lease(self, ends: Ends) -> None:
        """Raise LostLease where another engine than this desk's works on the records."""
        if ends.fence != self.background.fence:
            raise LostLease(
                f"The lease went from {self.background.fence} to {ends.fence}; another engine works here now."
            )

    def ring(self, changed: Changed = None) -> None:
        """Have everybody look who listens for changes; an act does it automatically, and tells which tables it changed."""
        for listener in self._listeners:
            listener(changed)

    @contextmanager
    def look(self) -> Iterator[Session]:
        with self.database.reading() as session:
            yield session

    @contextmanager
    def glance(self) -> Iterator[Session]:
        """For one statement, which needs no transaction around it."""
        with self.database.asking() as session:
            yield session

    def on_change(self, listener: Listener) -> None:
        """Have ``listener`` called after every act with the tables that it changed, from the thread that acted."""
        self._listeners.append(listener)

    def gateway(self, store: Store) -> Gateway:
        """The gateway of a store, its key unsealed only here. Raises Invalid for a store that is hand-carried or disconnected."""
        sealed = store.sealed_key
        if sealed is None:
            why = "its steps are carried by hand" if store.in_use else "it is disconnected"
            raise Invalid(f"{store.name} has no gateway; {why}.", code="no-gateway")
        with self._lock:
            known = self._gateways.get(store.id)
            if known is not None and known[0] == sealed:
                return known[1]
            key = self.seal.open(sealed, f"store {store.id}")
            connection = ConnectionFile.model_validate_json(key)
            gateway = Gateway(connection, name=store.name, outward=self.settings.forbid_inward)
            self._gateways[store.id] = (sealed, gateway)
            return gateway

    def scrub(self) -> None:
        """Leave nothing of what was deleted in the database's file and its log; the engine continues where readers block it."""
        self.background.to_scrub = not self.database.scrub()

    def close(self) -> None:
        for _, gateway in self._gateways.values():
            gateway.close()
        self.reader.close()
        self.database.close()
