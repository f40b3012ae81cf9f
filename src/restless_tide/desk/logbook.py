"""Reading the logbook, and checking that nobody altered it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.logbook import Line, first_broken
from restless_tide.desk import find, people
from restless_tide.desk.desk import ENGINE
from restless_tide.records.tables import LogbookLine


def lines(session: Session, app_name: str | None, before_id: int | None, limit: int) -> list[LogbookLine]:
    """The newest lines first; ``before_id`` goes on where an earlier page ended."""
    wanted = select(LogbookLine).order_by(LogbookLine.id.desc()).limit(limit)
    if app_name is not None:
        wanted = wanted.where(LogbookLine.app == find.app(session, app_name).name)
    if before_id is not None:
        wanted = wanted.where(LogbookLine.id < before_id)
    return list(session.scalars(wanted))


def names(session: Session, found: Sequence[LogbookLine]) -> dict[str, str]:
    """The names beside the logbook, by pseudonym; whoever was erased keeps the pseudonym."""
    wanted = {line.person for line in found}
    known = people.names(session, wanted)
    return {who: known.get(who) or _office(who) for who in wanted}


def _office(who: str) -> str:
    kind, _, name = who.partition(":")
    if who == ENGINE:
        return "the desk"
    if kind == "store":
        return f"{name} (store)"
    return "a tester" if kind == "tester" else who


def verify(session: Session) -> tuple[int, int | None]:
    """How many lines there are, and the id of the first that does not follow from the chain, if any."""
    rows = list(session.scalars(select(LogbookLine).order_by(LogbookLine.id)))
    broken = first_broken(_chain(rows))
    return len(rows), None if broken is None else rows[broken].id


def _chain(rows: Sequence[LogbookLine]) -> Iterator[tuple[Line, str]]:
    for row in rows:
        yield Line(row.at, row.person, row.act, row.subject, row.app, row.reason, row.before, row.after), row.digest
