"""When something becomes due, so that nobody has to look for it in between."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import InstrumentedAttribute

from restless_tide.desk.desk import Desk


def seconds_until(
    desk: Desk, column: InstrumentedAttribute[datetime | None], *where: ColumnElement[bool]
) -> float | None:
    """Seconds to the first instant in a column that is still to come, of the rows that are wanted; None: there is none."""
    now = desk.clock.now()
    with desk.look() as session:
        first = session.scalar(select(func.min(column)).where(column > now, *where))
    return (first - now).total_seconds() if first is not None else None


def soonest(*seconds: float | None) -> float | None:
    """The shortest of several waits."""
    known: list[Any] = [one for one in seconds if one is not None]
    return min(known, default=None)
