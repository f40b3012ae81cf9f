"""A new desk of a test begins with a copy of empty records, made once by all migrations.

Bringing each new file up through every migration took half of the processor time of small tests. What exists already is
migrated as ever, and tests/service/test_records.py tests the migrations themselves.
"""

from __future__ import annotations

import tempfile
from functools import cache
from pathlib import Path

from restless_tide.records.database import Database

_migrate = Database.migrate


@cache
def empty() -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        database = Database(Path(folder) / "empty.sqlite")
        _migrate(database)
        assert database.scrub()
        database.close()
        return database.path.read_bytes()


def _begin_or_migrate(self: Database) -> None:
    if self.path.exists():
        _migrate(self)
    else:
        self.path.write_bytes(empty())


def install() -> None:
    Database.migrate = _begin_or_migrate  # type: ignore[method-assign]
