"""The live feed: every change that was reported, in its order."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.records.tables import Change


def newest(session: Session) -> int:
    """The id of the newest change; 0 where there is none."""
    return session.scalar(select(func.max(Change.id))) or 0


def after(session: Session, change_id: int, limit: int) -> list[Change]:
    """The changes after one, oldest first."""
    return list(session.scalars(select(Change).where(Change.id > change_id).order_by(Change.id).limit(limit)))
