"""Lanes as the records keep them: rows read into core's values, and orders placed.

Nothing is decided here; core/lane.py decides. ``Order`` rows that are pending are a lane's entries, the
subject's own row holds what is wanted, and its ``Sighting`` what was seen and what was done about it.
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any, TypeVar

from sqlalchemy import Select, bindparam, func, select
from sqlalchemy.orm import Session, selectinload
from sqlalchemy.orm.attributes import set_committed_value

from restless_tide.core import lane as core
from restless_tide.core.errors import Conflict
from restless_tide.core.lane import Entry, Held, Lane, Level, Moment, Placed, Settle
from restless_tide.core.order import ORDER, PENDING, RULES, OrderEvent, OrderKind, OrderState, Subject
from restless_tide.core.step import STEP, StepEvent, StepState
from restless_tide.desk import naming
from restless_tide.records.columns import Base, new_id
from restless_tide.records.tables import (
    App,
    Berth,
    Build,
    Consignment,
    GoAheadGiven,
    Leg,
    Order,
    Release,
    Round,
    Showing,
    Sighting,
    Step,
    Store,
    Trial,
)
from restless_tide.request import request_id

if TYPE_CHECKING:
    from restless_tide.desk.desk import Act

Row = TypeVar("Row")

# These are asked in every act and turn, so each is made once.
_PENDING_OF_LANES = (
    select(Order)
    .where(Order.lane.in_(bindparam("lanes", expanding=True)), Order.state.in_(PENDING))
    .order_by(Order.position)
)
_SIGHTINGS = select(Sighting).where(Sighting.subject.in_(bindparam("subjects", expanding=True)))
_SHOWN_SINCE = (
    select(Showing.subject, func.max(Showing.at))
    .where(Showing.subject.in_(bindparam("subjects", expanding=True)))
    .group_by(Showing.subject)
)
_LEGS = (
    select(Leg, Sighting, Round, Release, App, Berth, Store)
    .join(Release, Leg.release_id == Release.id)
    .join(App, Release.app_id == App.id)
    .join(Berth, Leg.berth_id == Berth.id)
    .join(Store, Berth.store_id == Store.id)
    .outerjoin(Sighting, Sighting.subject == Leg.id)
    .outerjoin(Round, Round.leg_id == Leg.id)
    .order_by(Round.number)
)
"""Rows side by side: joined loading is prepared anew for each statement, which takes about as long as reading them."""
_LEGS_ALONE = select(Leg).where(Leg.id.in_(bindparam("ids", expanding=True)))
_LEGS_WITH_ROUNDS = _LEGS_ALONE.options(selectinload(Leg.rounds))
_STORES = select(Store).where(Store.id.in_(bindparam("ids", expanding=True)))
_LEGS_BY_ID = _LEGS.where(Leg.id.in_(bindparam("ids", expanding=True)))
_OF_RELEASE = select(Release.id).join(App).where(naming.THE_APP, naming.THE_RELEASE)
_LEGS_BY_RELEASE = _LEGS.where(Leg.release_id.in_(_OF_RELEASE))
_LEGS_OF_RELEASE = _LEGS.where(Leg.release_id == bindparam("release"))
_BUILDS = select(Build).where(Build.id.in_(bindparam("ids", expanding=True)))
_GO_AHEADS = (
    select(GoAheadGiven)
    .where(GoAheadGiven.leg_id.in_(bindparam("legs", expanding=True)))
    .order_by(GoAheadGiven.given_at)
)

TABLES: dict[Subject, type[Base]] = {
    Subject.STORE: Store,
    Subject.BERTH: Berth,
    Subject.CONSIGNMENT: Consignment,
    Subject.TRIAL: Trial,
    Subject.ROUND: Round,
    Subject.LEG: Leg,
}


def needed(session: Session, table: type[Row], row_id: str) -> Row:
    """A row that another one speaks of; it cannot be missing, since they are written together."""
    row = session.get(table, row_id)
    assert row is not None, f"{table.__name__} {row_id} is missing"
    return row


def subject_of(session: Session, order: Order) -> Any:
    """The row that an order is about."""
    return needed(session, TABLES[RULES[order.kind].subject], order.subject)


def lane_of(subject: Subject, row: Any) -> str:
    """The lane in which the orders about a row go one after the other; a round's go in its leg's, drills in one apart."""
    if subject is Subject.ROUND:
        return str(row.leg_id)
    return f"drill {row.id}" if subject is Subject.STORE else str(row.id)


def wanted_of(subject: Subject, row: Any) -> Held:
    """What is wanted of a subject, as its row keeps it."""
    match subject:
        case Subject.LEG:
            return Held(str(row.state), row.share)
        case Subject.BERTH:
            return offered(row.availability)
        case Subject.STORE:
            return Held("")
    return Held(str(row.state))


def offered(availability: dict[str, Any]) -> Held:
    """What a berth offers, as one comparable value."""
    return Held(json.dumps(availability, sort_keys=True))


def availability_of(held: Held) -> dict[str, Any]:
    """The reverse of ``offered``."""
    return dict(json.loads(held.state))


def seen_at(berth: Berth) -> dict[str, Any]:
    """What the store was last seen to offer of a berth."""
    return availability_of(Held(berth.sighting.state)) if berth.sighting is not None else {}


def entry_of(order: Order) -> Entry:
    asks = Held("", float(order.payload.get("share", 0.0)))
    if order.kind is OrderKind.SET_AVAILABILITY:
        asks = offered(order.payload["availability"])
    return Entry(
        order.id, order.kind, order.subject, asks, order.attempts, order.try_after, order.with_person, order.again
    )


class _Known:
    """What one transaction knows of lanes without asking again: it alone may change them while it lasts."""

    def __init__(self) -> None:
        self.pending: dict[str, list[Order]] = {}
        self.seen: dict[str, Sighting | None] = {}
        self.shown_since: dict[str, datetime | None] = {}


def _known(session: Session) -> _Known:
    found: _Known = session.info.setdefault("lanes", _Known())
    return found


def forget_known(session: Session) -> None:
    """Ask the records again, since orders were changed by another way."""
    session.info["lanes"] = _Known()


def pending(session: Session, lane: str) -> list[Order]:
    """The orders of a lane that are not settled, in the sequence in which they were placed."""
    return pending_by_lane(session, [lane])[lane]


def pending_by_lane(session: Session, of: Collection[str]) -> dict[str, list[Order]]:
    """The orders of several lanes that are not settled, read at once."""
    known = _known(session).pending
    unknown = [lane for lane in of if lane not in known]
    if unknown:
        known.update({lane: [] for lane in unknown})
        for order in session.scalars(_PENDING_OF_LANES, {"lanes": unknown}):
            known[order.lane].append(order)
    return {lane: list(known[lane]) for lane in of}


@dataclass(frozen=True)
class OnItsWay:
    """Of one kind of orders of a lane: the payloads that are not settled, in their sequence, and the last one's if it was
    refused, with the reason."""

    payloads: tuple[dict[str, Any], ...]
    refused: dict[str, Any] | None
    because: str


def on_its_way(session: Session, lane: str, kind: OrderKind) -> OnItsWay:
    """What of one kind was ordered in a lane and is not settled, or was refused last."""
    payloads = tuple(order.payload for order in pending(session, lane) if order.kind is kind)
    sent = select(Order).where(Order.lane == lane, Order.kind == kind)
    last = session.scalar(sent.order_by(Order.position.desc()).limit(1))
    no = last is not None and last.state is OrderState.REFUSED
    return OnItsWay(payloads, last.payload if last and no else None, (last.trouble or "") if last and no else "")


def pending_payloads(session: Session, kind: OrderKind) -> list[dict[str, Any]]:
    """The payloads of all orders of a kind that are not settled."""
    return list(session.scalars(select(Order.payload).where(Order.kind == kind, Order.state.in_(PENDING))))


def latest(session: Session, lane: str, limit: int) -> Sequence[Order]:
    """The latest orders of a lane, newest first, settled or not."""
    return session.scalars(select(Order).where(Order.lane == lane).order_by(Order.position.desc()).limit(limit)).all()


def sightings_of(session: Session, subjects: Collection[str]) -> dict[str, Sighting | None]:
    """What the stores were last seen to hold of several subjects, read at once."""
    known = _known(session).seen
    unknown = [subject for subject in subjects if subject not in known]
    if unknown:
        known.update(dict.fromkeys(unknown))
        for row in session.scalars(_SIGHTINGS, {"subjects": unknown}):
            known[row.subject] = row
    return {subject: known[subject] for subject in subjects}


def sighting_of(session: Session, subject: str) -> Sighting | None:
    return sightings_of(session, [subject])[subject]


def shown_since(session: Session, subjects: Collection[str]) -> dict[str, datetime | None]:
    """From when on the stores hold of several subjects what is held now, as far as it was written down; read at once."""
    known = _known(session).shown_since
    unknown = [subject for subject in subjects if subject not in known]
    if unknown:
        known.update(dict.fromkeys(unknown))
        known.update((subject, since) for subject, since in session.execute(_SHOWN_SINCE, {"subjects": unknown}))
    return {subject: known[subject] for subject in subjects}


FEW = 2
"""So few legs are read one by one; reading ahead would cost more."""


def legs_ahead(session: Session, ids: Collection[str]) -> list[Leg]:
    """Legs with everything that steering and carrying them asks for, read in a few queries."""
    if len(ids) > FEW:
        return _read_ahead(session, _LEGS_BY_ID, {"ids": list(ids)})
    return [leg for leg in (session.get(Leg, leg_id) for leg_id in ids) if leg is not None]


def for_calls(session: Session, legs: Collection[str], stores: Collection[str], *, rounds: bool) -> None:
    """Read legs and stores of many calls at once; of the legs only what beginning or answering a call asks for.

    A store's rulebook is long, so each store is read once and not beside each leg.
    """
    session.scalars(_STORES, {"ids": list(stores)}).all()
    session.scalars(_LEGS_WITH_ROUNDS if rounds else _LEGS_ALONE, {"ids": list(legs)}).all()
    sightings_of(session, legs)


def legs_of(session: Session, app: str, version: str) -> list[Leg]:
    """The legs of a release as people call it, in the sequence in which they were added, read ahead; none for an unknown one."""
    found = _read_ahead(session, _LEGS_BY_RELEASE, {"app": app, "version": version})
    return sorted(found, key=lambda leg: leg.created_at)


def read_for_showing(session: Session, release: Release) -> None:
    """Read at once what the legs of a release are shown with; each leg would ask for each of it alone."""
    legs = sorted(_read_ahead(session, _LEGS_OF_RELEASE, {"release": release.id}), key=lambda leg: leg.created_at)
    _take_as_read(release, "legs", legs)
    if not legs:
        return
    rounds = [round_ for leg in legs for round_ in leg.rounds]
    seen = sightings_of(session, [round_.id for round_ in rounds])
    used = {leg.build_id for leg in legs} | {round_.build_id for round_ in rounds}
    builds = {build.id: build for build in session.scalars(_BUILDS, {"ids": list(used)})}
    for round_ in rounds:
        _take_as_read(round_, "sighting", seen[round_.id])
        _take_as_read(round_, "build", builds[round_.build_id])
    go_aheads: defaultdict[str, list[GoAheadGiven]] = defaultdict(list)
    for row in session.scalars(_GO_AHEADS, {"legs": [leg.id for leg in legs]}):
        go_aheads[row.leg_id].append(row)
    for leg in legs:
        _take_as_read(leg, "build", builds[leg.build_id])
        _take_as_read(leg, "go_aheads", go_aheads[leg.id])


def _read_ahead(session: Session, wanted: Select[*tuple[Any, ...]], given: dict[str, Any]) -> list[Leg]:
    known, rounds, found = _known(session), dict[str, list[Round]](), list[Leg]()
    for leg, seen, round_, release, app, berth, store in session.execute(wanted, given):
        if leg.id not in rounds:
            for row, name, value in (
                (leg, "release", release),
                (release, "app", app),
                (leg, "berth", berth),
                (berth, "store", store),
            ):
                _take_as_read(row, name, value)
            rounds[leg.id] = []
            found.append(leg)
            known.seen.setdefault(leg.id, seen)
            _take_as_read(leg, "sighting", known.seen[leg.id])
        if round_ is not None:
            rounds[leg.id].append(round_)
    for leg in found:
        _take_as_read(leg, "rounds", rounds[leg.id])
    pending_by_lane(session, list(rounds))
    return found


def _take_as_read(row: Any, name: str, value: Any) -> None:
    if name not in row.__dict__:
        set_committed_value(row, name, value)


def read(
    session: Session,
    subject: Subject,
    row: Any,
    orders: Sequence[Order],
    *,
    calls: frozenset[str] = frozenset(),
    heard: int = 0,
) -> Lane:
    """The lane of a subject as core sees it. ``orders`` are those of the lane that are pending."""
    seen = sighting_of(session, row.id) if subject is not Subject.STORE else None
    level = Level(row.id, subject, wanted_of(subject, row))
    if seen is not None:
        level = level._replace(
            seen=Held(seen.state, seen.share),
            sequence=seen.sequence,
            ours=seen.ours,
            stranger=seen.stranger,
            asked=seen.asked,
            repeated_at=seen.repeated_at,
            repeats=seen.repeats,
        )
    return Lane(level, tuple(entry_of(order) for order in orders), calls, heard)


def keep(session: Session, before: Level, after: Level, now: datetime, at: datetime | None = None) -> None:
    """Write down what was seen, and what was done about it, where it has changed. ``at`` is the store's instant."""
    if after.seen is None or after._replace(wanted=before.wanted) == before:
        return
    row = sighting_of(session, after.id)
    if row is None:
        row = _known(session).seen[after.id] = Sighting(subject=after.id, at=now, seen_at=now)
        session.add(row)
    if (after.seen, after.sequence) != (before.seen, before.sequence):
        row.at, row.seen_at = at or now, now
    row.state, row.share, row.sequence = after.seen.state, after.seen.share, after.sequence
    row.ours, row.stranger, row.asked = after.ours, after.stranger, after.asked
    row.repeated_at, row.repeats = after.repeated_at, after.repeats
    if after.seen != before.seen and after.subject in SHOWN_OVER_TIME:
        _show(session, after, now, at)


SHOWN_OVER_TIME = frozenset({Subject.LEG, Subject.BERTH})
"""Of these the desk keeps what was seen over time."""


def _show(session: Session, level: Level, now: datetime, at: datetime | None) -> None:
    """Write down from when on the store holds this, by the desk's clock.

    What we have ordered is so from now on; what someone did there from the instant that the store tells, as far as that fits.
    """
    assert level.seen is not None
    since, known = now, _known(session).shown_since
    if at is not None and not level.ours:
        leg = level.subject is Subject.LEG
        berth = needed(session, Leg, level.id).berth if leg else needed(session, Berth, level.id)
        told = min(at - timedelta(seconds=berth.clock_ahead_seconds), now)
        before = shown_since(session, [level.id])[level.id]
        since = max(told, before) if before is not None else told
    if level.id in known:
        known[level.id] = max(since, known[level.id] or since)
    session.add(Showing(subject=level.id, at=since, state=level.seen.state, share=level.seen.share))


def place(
    act: Act, kind: OrderKind, *, lane: str, store: Store, subject: str, payload: dict[str, Any] | None = None
) -> tuple[Order, Held]:
    """Place an order; waiting orders that it overtakes are dropped with a trace.

    Returns it, and what is wanted of its subject once it is carried out. Raises Conflict for a store that is disconnected.
    """
    if not store.in_use:
        raise Conflict(
            f"{store.name} is disconnected; nothing is ordered of it.",
            remedy=f"Connect it again under the same name: tide store connect {store.name} FILE",
            code="store-disconnected",
        )
    order = write_order(act, kind, lane=lane, store_id=store.id, subject=subject, payload=payload or {})
    waiting = pending(act.session, lane)
    row = subject_of(act.session, order)
    before = read(act.session, RULES[kind].subject, row, waiting)
    after, outcomes = core.step(before, Placed(entry_of(order)), Moment(act.now, ""))
    by_id = {entry.id: entry for entry in waiting}
    for outcome in outcomes:
        if isinstance(outcome, Settle):
            settle(act, by_id[outcome.key], outcome.state, outcome.why)
    keep(act.session, before.level, after.level, act.now)
    set_committed_value(order, "store", store)
    add(act.session, order)
    if RULES[kind].beside:
        act.urgent.append(order)
    return order, after.level.wanted


def add(session: Session, order: Order) -> None:
    """Have a new order wait in its lane."""
    session.add(order)
    pending(session, order.lane)
    _known(session).pending[order.lane].append(order)


def write_order(
    act: Act,
    kind: OrderKind,
    *,
    lane: str,
    store_id: str,
    subject: str,
    payload: dict[str, Any],
    order_id: str | None = None,
    again: bool = False,
    try_after: datetime | None = None,
) -> Order:
    """A new order, last in its lane; it is not added to the session yet."""
    act.ends.position += 1
    order = Order(
        id=order_id or new_id("o"),
        position=act.ends.position,
        state=ORDER.initial,
        kind=kind,
        lane=lane,
        store_id=store_id,
        subject=subject,
        payload=payload,
        attempts=0,
        with_person=False,
        again=again,
        try_after=try_after,
        ordered_at=act.now,
        ordered_by=act.person,
        request=request_id.get(),
    )
    act.placed.append(order)
    return order


def keep_entries(after: Lane, orders: Sequence[Order]) -> None:
    """Write down how often the orders that still wait were sent, and what they wait for."""
    entries = {entry.key: entry for entry in after.orders}
    for order in orders:
        entry = entries.get(order.id)
        if entry is None:
            continue
        if entry.attempts > order.attempts:
            order.state, order.attempts = ORDER.after(order.state, OrderEvent.SEND), entry.attempts
        order.try_after, order.with_person = entry.try_after, entry.with_person


def forget_waits(session: Session, store: Store) -> None:
    """The store answers again: what waited for another try goes at once."""
    for order in session.scalars(select(Order).where(Order.store_id == store.id, Order.state.in_(PENDING))):
        order.try_after = None


def person_settled(act: Act, order: Order) -> None:
    """A person has settled the step of an order: its call may be made again, and finds the answer."""
    waiting = pending(act.session, order.lane)
    row = subject_of(act.session, order)
    before = read(act.session, RULES[order.kind].subject, row, waiting)
    after, _ = core.step(before, core.Settled(order.id), Moment(act.now, ""))
    keep_entries(after, waiting)
    order.trouble = None


_EVENT_TO = {
    OrderState.CONFIRMED: OrderEvent.CONFIRM,
    OrderState.REFUSED: OrderEvent.REFUSE,
    OrderState.DROPPED: OrderEvent.DROP,
}


def settle(act: Act, order: Order, state: OrderState, why: str = "") -> None:
    """An order is over. Nobody need do by hand any more what a dropped one asked for."""
    order.state, order.settled_at = ORDER.after(order.state, _EVENT_TO[state]), act.now
    order.trouble, order.with_person, order.try_after = why or None, False, None
    waiting = _known(act.session).pending.get(order.lane)
    if waiting is not None and order in waiting:
        waiting.remove(order)
    if state is OrderState.DROPPED:
        for step in act.session.scalars(select(Step).where(Step.order_id == order.id)):
            if step.state is StepState.WAITING:
                step.state, step.settled_at = STEP.after(step.state, StepEvent.DROP), act.now
