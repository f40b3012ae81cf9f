"""Apps of tests, copied from the first one of a run: its rows here and its things at the stores, under other names.

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
_BY_DIGEST = ("picture_files", "made_pictures")
"""Rows about files, which several apps may share."""
_SHARED = frozenset(
    {
        "alembic_version", "changes", "logbook", "packages", "people", "testers", "sign_ins", "tokens", "leases", "notices",
        "rulebook_revisions", "subscriptions", "deliveries", "steps", "stores", "uploads", "untaken_events", "showings",
        *_BY_DIGEST,
    }
)  # fmt: skip
"""Tables whose rows belong to no app, or tell what happened."""
_FILES = ("desk/dossier-files/**/*", "*/files/*")
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
    folder: Path
    stores: dict[str, str]
    """The desk's ids of the stores, by name."""
    shared: dict[str, list[Row]]
    files: dict[str, bytes]
    """What is kept by its digest, here and at the stores, by its place within ``folder``."""


def _opened(folder: Path) -> sqlite3.Connection:
    records = sqlite3.connect(folder / "desk/desk.sqlite", timeout=30, isolation_level=None)
    records.row_factory = sqlite3.Row
    return records


def _tables(records: sqlite3.Connection) -> Iterator[str]:
    for (name,) in records.execute("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY rowid").fetchall():
        if name not in _SHARED:
            yield name


def at_rest(folder: Path) -> bool:
    """Whether no order is on its way."""
    with closing(_opened(folder)) as records:
        return not records.execute(_IN_HAND, [*PENDING]).fetchone()[0]


def original(
    folder: Path, name: str, things_of: Callable[[str, str], list[Row]], clocks: dict[str, datetime]
) -> Original:
    """Everything that belongs to an app: the rows that hold its id, or the id of such a row. ``folder`` is the harbour's."""
    with closing(_opened(folder)) as records:
        every = {table: _rows(records, table) for table in _tables(records)}
        shared = {table: _rows(records, table) for table in _BY_DIGEST}
        stores = _stores(records)
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
    files = {
        str(file.relative_to(folder)): file.read_bytes()
        for pattern in _FILES
        for file in folder.glob(pattern)
        if file.is_file()
    }
    kept = {table: found for table, found in rows.items() if found}
    return Original(name, kept, things, (*owned, *berths), clocks, folder, stores, shared, files)


def _rows(records: sqlite3.Connection, table: str) -> list[Row]:
    return [dict(row) for row in records.execute(f"SELECT * FROM {table}")]


def _stores(records: sqlite3.Connection) -> dict[str, str]:
    return dict(records.execute("SELECT name, id FROM stores").fetchall())


def _holds(row: Row, ids: set[str]) -> bool:
    return any(isinstance(value, str) and any(one in ids for one in _IDS.findall(value)) for value in row.values())


def copy(
    of: Original, name: str, folder: Path, shelve: Callable[[str, str, list[Row]], None], clocks: dict[str, datetime]
) -> None:
    """Put a copy of an app under another name at the stores and into the desk's records. What is due there is due as much later."""
    fresh = {one: _like(one) for one in of.ids} | {of.name: name, of.name.title(): name.title()}
    if folder != of.folder:
        for place, content in of.files.items():
            (folder / place).parent.mkdir(parents=True, exist_ok=True)
            (folder / place).write_bytes(content)
    with closing(_opened(folder)) as records:
        here = _stores(records)
        fresh |= {of.stores[store]: here[store] for store in clocks}
        pattern = re.compile(
            "|".join(sorted((re.escape(one) + r"(?![0-9a-z])" for one in fresh), key=len, reverse=True))
        )

        def renamed(text: str) -> str:
            return pattern.sub(lambda found: fresh[found.group()], text)

        for store, kinds in of.things.items():
            later = clocks[store] - of.at[store]
            for kind, things in kinds.items():
                shelve(store, kind, [one | _due(one, later) for one in json.loads(renamed(json.dumps(things)))])
        records.execute("PRAGMA foreign_keys=OFF")
        records.execute("BEGIN IMMEDIATE")
        (position,) = records.execute("SELECT coalesce(max(position), 0) FROM orders").fetchone()
        for table, row in [(table, row) for table, found in of.rows.items() for row in found]:
            values = {key: renamed(value) if isinstance(value, str) else value for key, value in row.items()}
            if table == "orders":
                position += 1
                values["position"] = position
            _insert(records, table, values)
        for table, row in [(table, row) for table, found in of.shared.items() for row in found]:
            _insert(records, table, row, "OR IGNORE")
        records.execute("COMMIT")


def _insert(records: sqlite3.Connection, table: str, values: Row, known: str = "") -> None:
    places = ", ".join("?" * len(values))
    records.execute(f"INSERT {known} INTO {table} ({', '.join(values)}) VALUES ({places})", list(values.values()))


def _due(thing: Row, later: timedelta) -> Row:
    at = thing.get("due_at")
    return {"due_at": (datetime.fromisoformat(at) + later).isoformat()} if at else {}


def _like(one: str) -> str:
    """Another id of the same form."""
    kind, _, rest = one.rpartition("-")
    return f"{kind}-{secrets.token_hex(len(rest) // 2)}"
