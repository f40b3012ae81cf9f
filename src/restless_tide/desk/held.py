"""What stores were last seen to hold of what is written here: texts, pictures and answers, row by row."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any, TypeVar

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.desk.desk import Act
from restless_tide.records.tables import Berth
from restless_tide.records.tables.texts import HeldThing

R = TypeVar("R", bound=HeldThing)


def rows(session: Session, table: type[R], berth: Berth) -> dict[Any, R]:
    """What a store holds, by place."""
    return {row.place: row for row in session.scalars(select(table).where(table.berth_id == berth.id))}


def seen(
    act: Act,
    table: type[R],
    berth: Berth,
    values: Mapping[Any, Any],
    sequence: int | None = None,
    at: datetime | None = None,
) -> None:
    """A store holds these values now, by its answer or its event; what it told later already stays as it is."""
    there = rows(act.session, table, berth)
    for place, value in values.items():
        row = there.get(place)
        if row is None:
            row = table.new(berth.id, place)
            act.session.add(row)
        if sequence is not None and sequence < row.sequence:
            continue
        row.holds(value)
        row.seen_at, row.sequence = at or act.now, sequence or row.sequence
    act.session.flush()


def keep(act: Act, table: type[R], berth: Berth, places: Iterable[Any]) -> None:
    """Keep what is written at these places until a lock opens."""
    there = rows(act.session, table, berth)
    for place in places:
        row = there.get(place)
        if row is None:
            row = table.new(berth.id, place)
            act.session.add(row)
        row.kept = True
    act.session.flush()
