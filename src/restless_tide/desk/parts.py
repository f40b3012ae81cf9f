"""The parts of a dossier as they go to stores: sent where they differ, kept while a lock is shut, noted as a store holds
them. What a part is made of, its own file says: texts.py, app_pictures.py, app_answers.py, app_goods.py.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Generic, TypeVar

from sqlalchemy.orm import Session

from restless_tide.core.graph import open_and_locked
from restless_tide.core.order import OrderKind
from restless_tide.core.rulebook import LocksAt, Rulebook
from restless_tide.desk import held
from restless_tide.desk.desk import Act
from restless_tide.desk.locks import standing_at
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import Berth
from restless_tide.records.tables.texts import HeldThing

THERE = "there"
"""In an order: the files that the store held when it was placed. Every try of it sends the same, whatever was seen since."""
P = TypeVar("P")
"""Where something stands in a part: a locale and a field, a locale and a class, a question, or a good's reference."""


@dataclass(frozen=True)
class Wanting(Generic[P]):
    """What a store would have to be sent of a part, by place. ``ordered`` is what it was ordered and has not confirmed,
    ``kept`` what is kept until a lock opens; ``payload`` makes an order's of some of it."""

    values: Mapping[P, Any]
    ordered: Mapping[P, Any]
    kept: frozenset[P]
    payload: Callable[[Mapping[P, Any]], Any]


@dataclass(frozen=True)
class Part(Generic[P]):
    """One part of a dossier. ``noun`` is what it is called in the gateway's messages, in the logbook and in an order.

    ``by_place`` reads a message's part; ``lock`` is when a place can no longer be changed; ``files`` are the digests of the
    files that what a store holds names.
    """

    noun: str
    kind: OrderKind
    table: type[HeldThing]
    wanting: Callable[[Session, Berth, datetime], Wanting[P]]
    lock: Callable[[Rulebook, P], LocksAt]
    by_place: Callable[[Any], Mapping[P, Any]]
    told: Callable[[P], str]
    files: Callable[[Mapping[P, Any]], set[str]] = lambda rows: set()

    @property
    def seen_at(self) -> str:
        """The column of a berth that says when this part was read at its store."""
        return f"{self.noun}_seen_at"

    def of(self, message: Any) -> Mapping[P, Any]:
        """What a gateway's message says of this part, by place."""
        return self.by_place(getattr(message, self.noun))

    def about(self, berth: Berth) -> str:
        """How this part of an app's dossier stands in the logbook."""
        return f"{self.noun} {berth.app.name} at {berth.store.name}"


T = TypeVar("T")


def flat(told: Mapping[str, Mapping[str, T]]) -> dict[tuple[str, str], T]:
    """By locale and key what is told by locale, then by key."""
    return {(locale, key): value for locale, inner in told.items() for key, value in inner.items()}


def nested(values: Mapping[tuple[str, str], T]) -> dict[str, dict[str, T]]:
    """The other way round."""
    found: dict[str, dict[str, T]] = {}
    for (locale, key), value in values.items():
        found.setdefault(locale, {})[key] = value
    return found


def send(act: Act, berth: Berth, part: Part[P]) -> tuple[int, int]:
    """Order to a store what differs there; returns how much goes now, and how much is kept until a lock opens."""
    wanting = part.wanting(act.session, berth, act.now)
    changed = {
        place: value
        for place, value in wanting.values.items()
        if place not in wanting.ordered or wanting.ordered[place] != value
    }
    free, shut = _by_lock(act.session, berth, part, changed)
    held.keep(act, part.table, berth, shut)
    _order(act, berth, part, wanting, free)
    if free or shut:
        after = {"sent": _told(part, free), "kept until the review ends": _told(part, shut)}
        act.log(f"{part.noun} sent", part.about(berth), app=berth.app.name, after=after)
    return len(free), len(shut)


def _by_lock(
    session: Session, berth: Berth, part: Part[P], values: Mapping[P, Any]
) -> tuple[dict[P, Any], dict[P, Any]]:
    rules = rules_of(berth.store)
    return open_and_locked(values, lambda place: part.lock(rules, place), standing_at(session, berth))


def _told(part: Part[P], places: Iterable[P]) -> list[str]:
    return sorted(map(part.told, places))


def _order(act: Act, berth: Berth, part: Part[P], wanting: Wanting[P], values: Mapping[P, Any]) -> None:
    if values:
        payload = {
            part.noun: wanting.payload(values),
            THERE: sorted(part.files(held.rows(act.session, part.table, berth))),
        }
        act.order(part.kind, lane=berth.id, store=berth.store, subject=berth.id, payload=payload)


def opened(session: Session, berth: Berth, part: Part[P], now: datetime) -> bool:
    """Whether something that is kept at a berth can go now, or need not go any more."""
    free, needless = _kept(session, berth, part, part.wanting(session, berth, now))
    return bool(free or needless)


def _kept(session: Session, berth: Berth, part: Part[P], wanting: Wanting[P]) -> tuple[dict[P, Any], set[P]]:
    """What of the kept may go now, and which places are held as they are here already."""
    kept = {place: value for place, value in wanting.values.items() if place in wanting.kept}
    free, _ = _by_lock(session, berth, part, kept)
    return free, set(wanting.kept - wanting.values.keys())


def send_kept(act: Act, berth: Berth, part: Part[P]) -> None:
    """Send what was kept at a berth, as far as its locks are open now."""
    wanting = part.wanting(act.session, berth, act.now)
    free, needless = _kept(act.session, berth, part, wanting)
    for place, row in held.rows(act.session, part.table, berth).items():
        if row.kept and (place in free or place in needless):
            row.kept = False
    _order(act, berth, part, wanting, free)
    if free:
        act.log(f"kept {part.noun} sent", part.about(berth), app=berth.app.name, after={"sent": _told(part, free)})


def refused(act: Act, berth: Berth, part: Part[P], values: Mapping[P, Any]) -> None:
    """The store did not take these: those that were locked meanwhile are kept until the lock opens."""
    _, shut = _by_lock(act.session, berth, part, values)
    held.keep(act, part.table, berth, shut)


def seen(
    act: Act,
    berth: Berth,
    part: Part[P],
    values: Mapping[P, Any],
    sequence: int | None = None,
    at: datetime | None = None,
) -> None:
    """A store holds these now, by its answer or its event."""
    held.seen(act, part.table, berth, values, sequence, at)


def read_there(act: Act, berth: Berth, part: Part[P], values: Mapping[P, Any]) -> None:
    """A store was asked what it holds. What an answer or an event told already is newer."""
    known = {place for place, row in held.rows(act.session, part.table, berth).items() if row.sequence}
    seen(act, berth, part, {place: value for place, value in values.items() if place not in known})
    if values:
        after = {"held": _told(part, values)}
        act.log(f"{part.noun} read", part.about(berth), app=berth.app.name, after=after)
