"""Rulebooks as the records keep them, changed by a migration."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

from alembic import op

_KEPT = ("rulebook", "next_rulebook")


def change(each: Callable[[dict[str, Any]], None]) -> None:
    """Change each kept rulebook in place, also an announced one."""
    connection = op.get_bind()
    for column in _KEPT:
        rows = connection.exec_driver_sql(f"SELECT id, {column} FROM stores WHERE {column} IS NOT NULL").all()  # noqa: S608  (both names are ours)
        for store, text in rows:
            rulebook = json.loads(text)
            if not rulebook:
                continue
            each(rulebook)
            told = (json.dumps(rulebook), store)
            connection.exec_driver_sql(f"UPDATE stores SET {column} = ? WHERE id = ?", told)  # noqa: S608
