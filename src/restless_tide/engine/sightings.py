"""Taking sightings: what a store tells of itself is read in its order and told to the lanes.

Events are pulled, and pushed where the store does that; each is taken in the store's sequence and in
the same transaction as the cursor, so none is lost and none counts twice. An event under the key of an
order whose answer is not written down yet, about something unknown so far, waits for that answer; an
event about something that nobody here ordered is passed over.

No event can stop the ones after it. One that cannot be taken, whatever the reason, is kept as it came,
with the reason; the store shows trouble, people are told, and it can be tried again.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any, NamedTuple

import structlog
from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.consignment import CONSIGNMENT, ConsignmentEvent
from restless_tide.core.errors import LostLease
from restless_tide.core.lane import Held, Restored, Sighted
from restless_tide.core.notice import NoticeKind
from restless_tide.core.order import PENDING, OrderState, Subject
from restless_tide.core.step import STEP, StepEvent, StepState
from restless_tide.desk import dossiers, invitations, lanes, parts, tracks
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.find import berth_subject
from restless_tide.desk.lanes import needed
from restless_tide.engine import field_reports, follow, reviewing
from restless_tide.engine.follow import Word
from restless_tide.gateways import protocol
from restless_tide.gateways.protocol import StoreEvent
from restless_tide.records.tables import (
    Berth,
    Build,
    Consignment,
    Leg,
    Order,
    Round,
    Sighting,
    Step,
    Store,
    Trial,
    UntakenEvent,
)

_log = structlog.get_logger("engine")
LONGEST_WHY = 500
RESTORED = "restored"
MOST_HEARD = 1000
"""Of one store's pushed events that wait to be taken; what comes beyond is asked for later."""
MOST_KEPT = 1000
"""Of one store's events that could not be taken; the cursor moves on all the same."""


class TooEarly(Exception):
    """The event is about something whose order is not settled yet; it is taken once the answer is written down."""


def take(desk: Desk, store_id: str, events: Sequence[StoreEvent], *, pushed: bool = False) -> int:
    """Write down events in the store's sequence, as far as there is no gap; returns how many were taken.

    They are taken together first, and each on its own when one of them cannot be.
    """
    try:
        with desk.act(ENGINE) as act:
            return _take(desk, act, store_id, events, pushed=pushed, each=False)
    except _CannotTake:
        with desk.act(ENGINE) as act:
            return _take(desk, act, store_id, events, pushed=pushed, each=True)


class _CannotTake(Exception):
    """One of the events raised."""


def _take(desk: Desk, act: Act, store_id: str, events: Sequence[StoreEvent], *, pushed: bool, each: bool) -> int:
    """Take a store's events in this transaction. Raises _CannotTake for one that raised, unless each is taken alone."""
    taken, passed = 0, set[tuple[int, str]]()
    store = needed(act.session, Store, store_id)
    by_store = act.as_person(f"store:{store.name}")
    store.reached_at = act.now
    if pushed:
        store.pushed_at = act.now
    told = desk.background.answered.setdefault(store_id, set())
    known = _read_ahead(act.session, store, [event for event in events if (event.sequence, event.key) not in told])
    for event in sorted(events, key=lambda event: event.sequence):
        if event.sequence <= store.events_seen:
            continue
        if event.sequence > store.events_seen + 1:
            if pushed:
                act.afterwards(partial(desk.background.gaps.add, store_id))
            break
        try:
            if (event.sequence, event.key) in told:
                passed.add((event.sequence, event.key or ""))
            elif each:
                with act.attempt():
                    apply(desk, by_store, store, event, known)
            else:
                apply(desk, by_store, store, event, known)
        except TooEarly:
            if pushed:
                act.afterwards(partial(desk.background.gaps.add, store_id))
            break
        except Exception as wrong:  # nobody can tell what a store will send
            if not each:
                raise _CannotTake from wrong
            keep_untaken(act, store, event, wrong)
        store.events_seen, store.last_event_at, store.last_event = event.sequence, event.time, event.id
        taken += 1
        if event.type.startswith(("rulebook.", "account.")):
            act.afterwards(partial(desk.background.news.add, store_id))
    act.afterwards(partial(told.difference_update, passed))
    if taken == len(events):
        act.taken_up.add(Store)  # nothing of it calls for asking the store
    return taken


def keep_untaken(act: Act, store: Store, event: StoreEvent, wrong: Exception) -> None:
    """Keep an event that could not be taken, so that nothing is lost, and tell people."""
    why = _reason(wrong)
    _log.warning("an event could not be taken", store=store.name, type=event.type, why=type(wrong).__name__)
    kept = (
        select(UntakenEvent).where(UntakenEvent.store_id == store.id).order_by(UntakenEvent.sequence).limit(MOST_KEPT)
    )
    rows = act.session.scalars(kept).all()
    same = next((row for row in rows if row.sequence == event.sequence), None)
    if same is not None:
        same.why = why
        return
    if len(rows) >= MOST_KEPT:
        act.session.delete(rows[0])
    act.session.add(
        UntakenEvent(
            store_id=store.id, sequence=event.sequence, body=event.model_dump(mode="json"), why=why, at=act.now
        )
    )
    said = f"{store.name} told of {event.type} (its event {event.sequence}), and the desk cannot take it: {why}"
    act.log("event not taken", f"store {store.name}", reason=said)
    key = f"{store.id}/untaken/{event.sequence}"
    act.notice(NoticeKind.EVENT_UNTAKEN, key, f"store {store.name}", said, place="/stores")


def _reason(wrong: Exception) -> str:
    """What is wrong with an event, without repeating what it holds."""
    if isinstance(wrong, ValidationError):
        told = "; ".join(f"{'.'.join(map(str, error['loc']))}: {error['msg']}" for error in wrong.errors()[:5])
        return f"it does not hold what the gateway protocol asks for ({told})."[:LONGEST_WHY]
    return f"taking it failed ({type(wrong).__name__}); the desk's log has the details."[:LONGEST_WHY]


def try_untaken(desk: Desk, person: str, store_name: str) -> tuple[int, int]:
    """Try the events again that could not be taken; returns how many were taken now, and how many are left."""
    with desk.look() as session:
        store = session.scalars(select(Store).where(Store.name == store_name)).one()
        store_id = store.id
        found = select(UntakenEvent).where(UntakenEvent.store_id == store_id).order_by(UntakenEvent.sequence)
        rows = [(row.id, row.body) for row in session.scalars(found)]
    taken = 0
    for row_id, body in rows:
        with desk.act(person) as act:
            store = needed(act.session, Store, store_id)
            event = StoreEvent.model_validate(body)
            try:
                with act.attempt():
                    apply(desk, act.as_person(f"store:{store.name}"), store, event)
            except Exception as wrong:  # noqa: BLE001  (it stays where it is, with the reason)
                needed(act.session, UntakenEvent, row_id).why = _reason(wrong)
                continue
            act.session.delete(needed(act.session, UntakenEvent, row_id))
            taken += 1
    if rows:
        with desk.act(person) as act:
            act.log("events tried again", f"store {store_name}", after={"taken": taken, "left": len(rows) - taken})
    return taken, len(rows) - taken


def hear(desk: Desk, store_id: str, events: Sequence[StoreEvent]) -> None:
    """A store has pushed events, already verified; they are taken in a moment, together with others that came.

    Should the desk die before, the event is asked for again, since the cursor has not moved.
    """
    with desk.background.hearing:
        heard = desk.background.heard.setdefault(store_id, [])
        heard += events[: MOST_HEARD - len(heard)]
    desk.background.ring_heard()


def take_heard(desk: Desk) -> float | None:
    """Take what was pushed; where something is missing before it, the store is asked for it. Nothing else is due then.

    All stores are taken in one transaction, or each in its own when something is wrong with one of them.
    """
    background = desk.background
    with background.hearing:
        heard, background.heard = background.heard, {}
    if not heard:
        return None
    try:
        with desk.act(ENGINE) as act:
            for store_id, events in heard.items():
                _take(desk, act, store_id, events, pushed=True, each=False)
    except LostLease:
        raise
    except Exception:  # noqa: BLE001  (each on its own then)
        for store_id, events in heard.items():
            _take_alone(desk, store_id, events)
    background.gaps.update(background.news & heard.keys())
    if background.gaps & heard.keys():
        desk.ring()
    return None


def _take_alone(desk: Desk, store_id: str, events: Sequence[StoreEvent]) -> None:
    """Take what one store pushed; where that cannot be, the store is asked for it, and the others are taken."""
    try:
        take(desk, store_id, events, pushed=True)
    except LostLease:
        raise
    except Exception:  # noqa: BLE001  (the other stores are taken all the same)
        _log.exception("what a store pushed could not be taken", store=store_id)
        desk.background.gaps.add(store_id)


class Cursor(NamedTuple):
    """How far a store's events were taken: the place of the last one, and its name."""

    seen: int
    last: str | None


def cursor_of(store: Store) -> Cursor:
    return Cursor(store.events_seen, store.last_event)


def was_restored(cursor: Cursor, events: Sequence[StoreEvent]) -> bool:
    """Whether the store no longer has the event that was taken last: it was restored from a backup.

    ``events`` are what it tells from that event on, asked for when the cursor stood there.
    """
    return bool(cursor.seen and cursor.last) and (not events or (events[0].sequence, events[0].id) != cursor)


def restore(desk: Desk, store_id: str, cursor: Cursor, events: Sequence[StoreEvent]) -> None:
    """Take a store as it is after it was restored: everything it has ever told, the last of each subject.

    What differs now from what is wanted is ordered again by the lanes. Nothing is done when events were taken since
    the cursor was read: then the next look tells whether it was restored.
    """
    newest = {(event.type, event.subject): event for event in events}
    last = max((event.sequence for event in events), default=0)
    with desk.act(ENGINE) as act:
        store = needed(act.session, Store, store_id)
        if cursor_of(store) != cursor:
            return
        _log.warning("a store was restored from a backup", store=store.name)
        by_store = act.as_person(f"store:{store.name}")
        before, store.events_seen = store.events_seen, last
        store.last_event = next((event.id for event in events if event.sequence == last), None)
        said = (
            f"{store.name} went back in its own record: {before} events were known, {last} are there now."
            " It was probably restored from a backup. What is wanted is ordered again where it differs."
        )
        act.log("store restored", f"store {store.name}", reason=said)
        key = f"{store.id}/restored/{act.now.isoformat()}"
        act.notice(NoticeKind.CHANGED_AT_STORE, key, f"store {store.name}", said, place="/stores")
        for subject, row in _seen_after(act.session, store, last):
            follow.happen(desk, act, subject, row, Restored(last), heard=last)
        for event in sorted(newest.values(), key=lambda event: event.sequence):
            if event.type == "report.filed":
                continue
            try:
                with act.attempt():
                    apply(desk, by_store, store, event, restored=True)
            except TooEarly:
                continue
            except Exception as wrong:  # noqa: BLE001  (as in take)
                keep_untaken(act, store, event, wrong)


def _seen_after(session: Session, store: Store, sequence: int) -> list[tuple[Subject, Any]]:
    """Everything at a store whose sighting has a place after ``sequence``."""
    found: list[tuple[Subject, Any]] = []
    late = select(Sighting.subject).where(Sighting.sequence > sequence)
    of_store = {
        Subject.BERTH: select(Berth),
        Subject.CONSIGNMENT: select(Consignment).join(Berth),
        Subject.TRIAL: select(Trial).join(Consignment).join(Berth),
        Subject.ROUND: select(Round).join(Leg).join(Berth),
        Subject.LEG: select(Leg).join(Berth),
    }
    for subject, rows in of_store.items():
        table: Any = lanes.TABLES[subject]
        wanted = rows.where(Berth.store_id == store.id, table.id.in_(late))
        found += [(subject, row) for row in session.scalars(wanted)]
    return found


class Known:
    """What a page of events speaks of, read at once: rounds by the store's names, and keys of ours."""

    def __init__(self) -> None:
        self.rounds: dict[str, Round] = {}
        self.keys: set[str] = set()


_READ_AHEAD_FROM = 20


def _read_ahead(session: Session, store: Store, events: Sequence[StoreEvent]) -> Known | None:
    """Read what many events speak of in a few queries; a few events ask for themselves."""
    if len(events) < _READ_AHEAD_FROM:
        return None
    known = Known()
    subjects = {event.subject for event in events if event.type in ("rollout.changed", "submission.changed")}
    wanted = select(Round).join(Leg).join(Berth).where(Berth.store_id == store.id, Round.store_ref.in_(subjects))
    for row in session.scalars(wanted):
        known.rounds[row.store_ref or ""] = row
    keys = {event.key for event in events if event.key}
    known.keys = set(session.scalars(select(Order.id).where(Order.id.in_(keys))))
    legs = {row.leg_id for row in known.rounds.values()}
    lanes.legs_ahead(session, legs)
    lanes.sightings_of(session, [row.id for row in known.rounds.values()])
    lanes.shown_since(session, legs)
    return known


def apply(
    desk: Desk, act: Act, store: Store, event: StoreEvent, known: Known | None = None, *, restored: bool = False
) -> None:
    """Write one event down. Raises TooEarly, and ValidationError for one that does not say what its type asks for.

    ``restored``: it tells of what was so long ago and is so again, which is nobody's wish.
    """
    model = protocol.EVENT_DATA.get(event.type)
    if model is None:
        return
    data: Any = model.model_validate(event.data)
    key = RESTORED if restored else _key_of_ours(act, event, known)
    match event.type:
        case "rollout.changed":
            _rollout_changed(desk, act, store, event, data, key, known)
        case "submission.message":
            round_ = _row(act.session, Subject.ROUND, store, event.subject)
            if round_ is None:
                _demand_settled(act, key)
                return
            reviewing.message_told(act, round_, data)
        case "report.filed":
            field_reports.take_in(desk, act, store, event)
        case "tester.changed":
            trial = _row(act.session, Subject.TRIAL, store, event.subject)
            if trial is not None:
                invitations.seen_at_store(act, trial, data.address, data.state, data.device, data.system)
        case "berth.changed":
            _berth_changed(desk, act, store, event, data, key)
        case "gauges.changed":
            _counts_told(desk, act, store, event)
        case "track.changed":
            _track_told(act, store, event, data, key)
        case _:
            _subject_changed(desk, act, store, event, data, key, known)


def _counts_told(desk: Desk, act: Act, store: Store, event: StoreEvent) -> None:
    """More was counted at a berth; the hours are fetched the next time the store is asked, which is soon."""
    berth = _row(act.session, Subject.BERTH, store, event.subject)
    if berth is not None:
        berth.gauges_due += 1
        act.afterwards(partial(desk.background.gaps.add, store.id))
        act.afterwards(desk.background.ring_asking)


def _key_of_ours(act: Act, event: StoreEvent, known: Known | None) -> str | None:
    if event.key is None:
        return None
    if known is not None:
        return event.key if event.key in known.keys else None
    return event.key if act.session.get(Order, event.key) is not None else None


_SUBJECTS = {
    "consignment.changed": Subject.CONSIGNMENT,
    "submission.changed": Subject.ROUND,
    "trial.changed": Subject.TRIAL,
}


def _row(session: Session, subject: Subject, store: Store, reference: str) -> Any:
    """What a store calls so; None when nothing here is."""
    at = Berth.store_id == store.id
    wanted: dict[Subject, Any] = {
        Subject.BERTH: select(Berth).where(at, Berth.store_ref == reference),
        Subject.CONSIGNMENT: select(Consignment).join(Berth).where(at, Consignment.store_ref == reference),
        Subject.TRIAL: select(Trial).join(Consignment).join(Berth).where(at, Trial.store_ref == reference),
        Subject.ROUND: select(Round).join(Leg).join(Berth).where(at, Round.store_ref == reference),
    }
    return session.scalar(wanted[subject].limit(1))


def _subject_changed(
    desk: Desk, act: Act, store: Store, event: StoreEvent, data: Any, key: str | None, known: Known | None
) -> None:
    """A build, a submission or a trial stands elsewhere now."""
    subject = _SUBJECTS[event.type]
    row: Any = known.rounds.get(event.subject) if known and subject is Subject.ROUND else None
    row = row or _row(act.session, subject, store, event.subject)
    if row is None and subject is Subject.CONSIGNMENT:
        row = _handed_in_there(act, store, event.subject, data)
    if row is None:
        _demand_settled(act, key)
        return
    word = Word(event.time, event.id, data)
    follow.happen(
        desk, act, subject, row, Sighted(Held(data.state), event.sequence, key), word=word, heard=event.sequence
    )


def _track_told(act: Act, store: Store, event: StoreEvent, data: protocol.TrackChanged, key: str | None) -> None:
    """A track was opened, renamed or closed, or its people have changed."""
    berth = _row(act.session, Subject.BERTH, store, data.berth)
    if berth is None:
        _demand_settled(act, key)
        return
    tracks.told(act, berth, data, event.time)


def _demand_settled(act: Act, key: str | None) -> None:
    """Raise TooEarly when the order that an unknown subject comes from is still to be settled."""
    order = act.session.get(Order, key) if key is not None else None
    if order is not None and order.state in PENDING:
        raise TooEarly


def _rollout_changed(
    desk: Desk,
    act: Act,
    store: Store,
    event: StoreEvent,
    data: protocol.RolloutChanged,
    key: str | None,
    known: Known | None,
) -> None:
    round_ = known.rounds.get(event.subject) if known else _row(act.session, Subject.ROUND, store, event.subject)
    if round_ is None:
        return
    leg: Leg = round_.leg
    before = lanes.sighting_of(act.session, leg.id)
    old = (before.state, before.share) if before else None
    held = Held(data.state, data.share)
    what, word = Sighted(held, event.sequence, key), Word(event.time, event.id)
    follow.happen(desk, act, Subject.LEG, leg, what, word=word, heard=event.sequence)
    if old != (data.state, data.share):
        act.tell(
            "seen", f"release {leg.release.version} at {store.name}", app=leg.release.app.name,
            said=f"{data.state} at {data.share:.0%}",
        )  # fmt: skip


def _berth_changed(
    desk: Desk, act: Act, store: Store, event: StoreEvent, data: protocol.BerthChanged, key: str | None
) -> None:
    """Someone set availability on the store's own pages, or the name expired unused."""
    berth = _row(act.session, Subject.BERTH, store, event.subject)
    if berth is None:
        _demand_settled(act, key)
        return
    if data.state == "expired":
        subject, app = berth_subject(berth), berth.app.name
        berth.store_ref, berth.refused_because = None, "the name expired, because no build came in time"
        act.log("name expired", subject, app=app, reason=berth.refused_because)
        act.notice(
            NoticeKind.EXPIRING, f"{berth.id}/{event.id}", subject, "The name expired unused.", place="/stores", app=app
        )
        return
    for part in dossiers.PARTS:
        values = part.of(data)
        if values:
            parts.seen(act, berth, part, values, event.sequence, event.time)
        if values and key is None:
            after = {"changed": sorted(map(part.told, values))}
            act.log(f"{part.noun} changed at the store", part.about(berth), app=berth.app.name, after=after)
    if data.availability is not None:
        held = lanes.offered(data.availability.model_dump(mode="json"))
        what = Sighted(held, event.sequence, key)
        word = Word(event.time, event.id)
        follow.happen(desk, act, Subject.BERTH, berth, what, word=word, heard=event.sequence)


def _handed_in_there(act: Act, store: Store, reference: str, data: protocol.ConsignmentChanged) -> Consignment | None:
    """The consignment that someone took to the store's own pages, recognised by berth, version and number."""
    berth = _row(act.session, Subject.BERTH, store, data.berth or "")
    if berth is None or data.number is None:
        return None
    found = act.session.scalar(
        select(Consignment)
        .join(Build)
        .where(
            Consignment.berth_id == berth.id,
            Consignment.store_ref.is_(None),
            Build.version == data.version,
            Build.number_order == data.number.order,
        )
    )
    order = next(iter(lanes.pending(act.session, found.id)), None) if found is not None else None
    if found is None or order is None:
        return None
    found.store_ref, found.sent_bytes = reference, found.size_bytes
    found.state = CONSIGNMENT.after(CONSIGNMENT.initial, ConsignmentEvent.SEND)
    lanes.settle(act, order, OrderState.CONFIRMED)
    for step in act.session.scalars(select(Step).where(Step.order_id == order.id, Step.state == StepState.WAITING)):
        step.state, step.outcome, step.settled_at = STEP.after(step.state, StepEvent.CONFIRM), "done", act.now
        step.said, step.settled_by = "The desk recognised it.", act.person
    act.log("first build recognised", f"consignment {found.id}", app=berth.app.name, after={"build": found.build.label})
    return found
