"""The live feed: every change that was reported, in its order."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from restless_tide.desk.desk import Desk
from restless_tide.records.tables import Change

KEPT_FOR = timedelta(days=7)
_AT_ONCE = 2_000


def newest(session: Session) -> int:
    """The id of the newest change; 0 where there is none."""
    return session.scalar(select(func.max(Change.id))) or 0


def oldest(session: Session) -> int:
    """The id of the oldest change that is kept; 0 where there is none."""
    return session.scalar(select(func.min(Change.id))) or 0


def drop_old(desk: Desk) -> None:
    """Drop what is older than any follower comes back for; the newest stays, so that ids never begin anew."""
    limit = desk.clock.now() - KEPT_FOR
    with desk.look() as session:
        newest_old = session.scalar(select(func.max(Change.id)).where(Change.at < limit)) or 0
        last = min(newest_old, newest(session) - 1)
        first = oldest(session)
    for end in range(first + _AT_ONCE, last + _AT_ONCE, _AT_ONCE):
        desk.database.aside(delete(Change).where(Change.id <= min(end, last)).returning(Change.id))


def after(session: Session, change_id: int, limit: int) -> list[Change]:
    """The changes after one, oldest first."""
    return list(session.scalars(select(Change).where(Change.id > change_id).order_by(Change.id).limit(limit)))
