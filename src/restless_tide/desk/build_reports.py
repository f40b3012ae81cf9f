"""The field reports about one build, counted."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.report import OPEN
from restless_tide.records.tables import FieldReport


def counted(session: Session, build_id: str) -> tuple[dict[str, int], dict[str, datetime]]:
    """How many are open, by kind; and when one of a kind was decided last."""
    is_open = FieldReport.state.in_(OPEN)
    asked = (
        select(FieldReport.kind, is_open, func.count(), func.max(FieldReport.changed_at))
        .where(FieldReport.build_id == build_id)
        .group_by(FieldReport.kind, is_open)
    )
    rows = session.execute(asked).all()
    open_ = {str(kind): number for kind, waits, number, _ in rows if waits}
    return open_, {str(kind): at for kind, waits, _, at in rows if not waits}
