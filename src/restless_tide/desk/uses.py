"""When sessions and tokens were used last: noted in memory with each request, and written now and then."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import update

from restless_tide.records.database import Database
from restless_tide.records.tables import SignIn, Token

EXACT_TO = timedelta(minutes=10)
"""So far behind may be what is kept: a request must not wait until that is written."""


class Uses:
    """The last use of each session and token that is not written yet."""

    def __init__(self) -> None:
        self._latest: dict[tuple[type[SignIn] | type[Token], str], datetime] = {}

    def note(self, row: SignIn | Token, now: datetime) -> None:
        if row.last_used_at is None or now - row.last_used_at >= EXACT_TO:
            self._latest[type(row), row.id] = now

    def write(self, database: Database) -> None:
        """Write what was noted."""
        while self._latest:
            (table, row_id), at = self._latest.popitem()
            database.aside(update(table).where(table.id == row_id).values(last_used_at=at).returning(table.id))
