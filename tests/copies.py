"""Apps of tests, copied from the first one of a desk: its rows here and its things at the stores, under other names.

Registering an app and having two stores hold all that they ask about it takes two seconds of a processor, a copy some
hundredths. What happened on the way is not copied: neither the logbook nor a store's events and its record of acts.
"""

from __future__ import annotations

import json
import re
import secrets
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from restless_tide.core.order import PENDING

Row = dict[str, Any]
_IDS = re.compile(r"[a-z]{1,4}-[0-9a-z]{8}")
_SHARED = frozenset(
    {
        "alembic_version", "changes", "logbook", "packages", "people", "testers", "sign_ins", "tokens", "leases", "notices",
        "rulebook_revisions", "subscriptions", "deliveries", "steps", "stores", "uploads", "untaken_events", "showings",
    }
)  # fmt: skip
"""Tables whose rows belong to no app, or tell what happened."""
_KINDS = ("berth", "dossier")
"""What a store holds of an app for which nothing was handed in yet."""
_IN_HAND = f"SELECT count(*) FROM orders WHERE state IN ({', '.join('?' * len(PENDING))})"


@dataclass(frozen=True)
class Original:
    """An app as it stands: its rows by table, and its things by store and kind."""

    name: str
    rows: dict[str, list[Row]]
    things: dict[str, dict[str, list[Row]]]
    ids: tuple[str, ...]
    at: dict[str, datetime]
    """What each store's clock showed."""


def _opened(desk: Path) -> sqlite3.Connection:
    records = sqlite3.connect(desk / "desk.sqlite", timeout=30, isolation_level=None)
    records.row_factory = sqlite3.Row
    return records


def _tables(records: sqlite3.Connection) -> Iterator[str]:
    for (name,) in records.execute("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY rowid").fetchall():
        if name not in _SHARED:
            yield name


def at_rest(desk: Path) -> bool:
    """Whether no order is on its way."""
    with closing(_opened(desk)) as records:
        return not records.execute(_IN_HAND, [*PENDING]).fetchone()[0]


def original(
    desk: Path, name: str, things_of: Callable[[str, str], list[Row]], clocks: dict[str, datetime]
) -> Original:
    """Everything that belongs to an app: the rows that hold its id, or the id of such a row."""
    with closing(_opened(desk)) as records:
        every = {table: [dict(row) for row in records.execute(f"SELECT * FROM {table}")] for table in _tables(records)}
    (app,) = (row["id"] for row in every["apps"] if row["name"] == name)
    owned, rows = {app}, dict[str, list[Row]]()
    while True:
        rows = {table: [row for row in found if _holds(row, owned)] for table, found in every.items()}
        more = {row["id"] for found in rows.values() for row in found if _IDS.fullmatch(str(row.get("id")))}
        if more <= owned:
            break
        owned |= more
    berths = {row["store_ref"] for row in rows["berths"]}
    things = {
        store: {kind: [thing for thing in things_of(store, kind) if thing["id"] in berths] for kind in _KINDS}
        for store in clocks
    }
    return Original(name, {table: found for table, found in rows.items() if found}, things, (*owned, *berths), clocks)


def _holds(row: Row, ids: set[str]) -> bool:
    return any(isinstance(value, str) and any(one in ids for one in _IDS.findall(value)) for value in row.values())


def copy(
    of: Original, name: str, desk: Path, shelve: Callable[[str, str, list[Row]], None], clocks: dict[str, datetime]
) -> None:
    """Put a copy of an app under another name at the stores and into the desk's records. What is due there is due as much later."""
    fresh = {one: _like(one) for one in of.ids} | {of.name: name, of.name.title(): name.title()}
    pattern = re.compile("|".join(sorted((re.escape(one) + r"(?![0-9a-z])" for one in fresh), key=len, reverse=True)))

    def renamed(text: str) -> str:
        return pattern.sub(lambda found: fresh[found.group()], text)

    for store, kinds in of.things.items():
        for kind, things in kinds.items():
            later = clocks[store] - of.at[store]
            copied = json.loads(renamed(json.dumps(things)))
            shelve(store, kind, [one | _due(one, later) for one in copied])
    with closing(_opened(desk)) as records:
        records.execute("PRAGMA foreign_keys=OFF")
        records.execute("BEGIN IMMEDIATE")
        (position,) = records.execute("SELECT coalesce(max(position), 0) FROM orders").fetchone()
        for table, found in of.rows.items():
            for row in found:
                values = {key: renamed(value) if isinstance(value, str) else value for key, value in row.items()}
                if table == "orders":
                    position += 1
                    values["position"] = position
                places = ", ".join("?" * len(values))
                records.execute(f"INSERT INTO {table} ({', '.join(values)}) VALUES ({places})", list(values.values()))
        records.execute("COMMIT")


def _due(thing: Row, later: timedelta) -> Row:
    at = thing.get("due_at")
    return {"due_at": (datetime.fromisoformat(at) + later).isoformat()} if at else {}


def _like(one: str) -> str:
    """Another id of the same form."""
    kind, _, rest = one.rpartition("-")
    return f"{kind}-{secrets.token_hex(len(rest) // 2)}"
