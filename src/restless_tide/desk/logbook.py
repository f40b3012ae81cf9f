"""Reading the logbook, and checking that nobody altered it."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, func, or_, select
from sqlalchemy.orm import Session

from restless_tide.core.logbook import Line, first_broken
from restless_tide.core.rights import Apps
from restless_tide.desk import find, people
from restless_tide.desk.desk import ENGINE
from restless_tide.desk.matching import holds
from restless_tide.desk.passwords import VISITOR
from restless_tide.records.tables import LogbookLine

MOST_EXPORTED = 1_000_000


@dataclass(frozen=True)
class Wanted:
    """Which lines; what is empty is not asked for. ``by`` is a person's id, address or part of a name, or as the
    logbook shows it: ``the desk``, ``a tester``, a store. ``until`` itself is left out. With ``reach`` only lines of these
    apps, and none of the desk as a whole.
    """

    app: str | None = None
    by: str = ""
    act: str = ""
    find: str = ""
    since: datetime | None = None
    until: datetime | None = None
    reach: Apps = None


def lines(session: Session, wanted: Wanted, before_id: int | None, limit: int) -> list[LogbookLine]:
    """The newest lines first; ``before_id`` continues where an earlier page ended."""
    query = select(LogbookLine).order_by(LogbookLine.id.desc()).limit(limit)
    if wanted.app is not None:
        query = query.where(LogbookLine.app == find.app(session, wanted.app).name)
    if wanted.reach is not None:
        query = query.where(LogbookLine.app.in_(wanted.reach))
    if wanted.by.strip():
        query = query.where(_by(session, wanted.by.strip()))
    if wanted.act:
        query = query.where(LogbookLine.act.contains(wanted.act, autoescape=True))
    query = query.where(holds(wanted.find, LogbookLine.subject, LogbookLine.act, LogbookLine.reason))
    if wanted.since is not None:
        query = query.where(LogbookLine.at >= wanted.since)
    if wanted.until is not None:
        query = query.where(LogbookLine.at < wanted.until)
    if before_id is not None:
        query = query.where(LogbookLine.id < before_id)
    return list(session.scalars(query))


def about(session: Session, app: str, subjects: Collection[str]) -> list[LogbookLine]:
    """What was done with some objects of an app, the newest first."""
    wanted = select(LogbookLine).where(LogbookLine.app == app, LogbookLine.subject.in_(subjects))
    return list(session.scalars(wanted.order_by(LogbookLine.id.desc()).limit(MOST_ABOUT)))


MOST_ABOUT = 1_000
GUARD = "guard"
"""How a guard stands in the logbook: ``guard:NAME``."""
HEADER = ("line", "at", "who", "act", "app", "object", "before", "after", "reason", "digest")


def export_rows(session: Session, wanted: Wanted) -> list[list[object]]:
    """Every line that fits, newest first, in the order of ``HEADER``."""
    found = lines(session, wanted, None, MOST_EXPORTED)
    who = names(session, found)
    return [
        [
            line.id, line.at.isoformat(), who[line.person], line.act, line.app or "", line.subject,
            _document(line.before), _document(line.after), line.reason, line.digest,
        ]
        for line in found
    ]  # fmt: skip


def _document(held: dict[str, Any] | None) -> str:
    return "" if held is None else json.dumps(held, ensure_ascii=False, sort_keys=True)


def _by(session: Session, who: str) -> ColumnElement[bool]:
    """Whose lines: of everybody whose name or address holds these words, or of the desk, a store or testers."""
    offices = [ENGINE] if who.lower() in ("the desk", ENGINE) else []
    fits: ColumnElement[bool] = LogbookLine.person.in_([*people.called(session, who), who, *offices])
    if who.lower() in ("a tester", "testers"):
        fits = or_(fits, LogbookLine.person.startswith("tester:"))
    offices = [f"{kind}:{who.lower().removesuffix(f' ({kind})')}" for kind in ("store", GUARD)]
    return or_(fits, func.lower(LogbookLine.person).in_(offices))


def names(session: Session, found: Sequence[LogbookLine]) -> dict[str, str]:
    """The names beside the logbook, by pseudonym; whoever was erased keeps the pseudonym."""
    wanted = {line.person for line in found}
    known = people.names(session, wanted)
    return {who: known.get(who) or _office(who) for who in wanted}


def _office(who: str) -> str:
    kind, _, name = who.partition(":")
    if who in (ENGINE, VISITOR):
        return "the desk" if who == ENGINE else "a visitor"
    if kind in ("store", GUARD):
        return f"{name} ({kind})"
    return "a tester" if kind == "tester" else who


def verify(session: Session) -> tuple[int, int | None]:
    """How many lines there are, and the id of the first that does not follow from the chain, if any."""
    rows = list(session.scalars(select(LogbookLine).order_by(LogbookLine.id)))
    broken = first_broken(_chain(rows))
    return len(rows), None if broken is None else rows[broken].id


def _chain(rows: Sequence[LogbookLine]) -> Iterator[tuple[Line, str]]:
    for row in rows:
        yield Line(row.at, row.person, row.act, row.subject, row.app, row.reason, row.before, row.after), row.digest
