"""A stand-in's memory: things as JSON by kind and id, the record of acts, the events, the answers given."""

from __future__ import annotations

import json
import sqlite3
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

Thing = dict[str, Any]

_TABLES = """
CREATE TABLE IF NOT EXISTS things (kind TEXT, id TEXT, body TEXT, due_at TEXT, PRIMARY KEY (kind, id));
CREATE INDEX IF NOT EXISTS things_due ON things (due_at) WHERE due_at IS NOT NULL;
CREATE TABLE IF NOT EXISTS events (sequence INTEGER PRIMARY KEY AUTOINCREMENT, body TEXT);
CREATE TABLE IF NOT EXISTS acts (place INTEGER PRIMARY KEY AUTOINCREMENT, at TEXT, key TEXT, act TEXT, subject TEXT, outcome TEXT, request TEXT, arrived REAL);
CREATE TABLE IF NOT EXISTS answers (key TEXT PRIMARY KEY, digest TEXT, status INTEGER, body TEXT);
CREATE TABLE IF NOT EXISTS settings (name TEXT PRIMARY KEY, body TEXT);
"""


_FORM = 1
_NEW_WORDS = {"lapsed": "expired", "lapsing": "expiring", "turned down": "rejected"}


def _in_new_words(told: Any) -> Any:
    """The same, with the states and standings of an earlier release in this one's words."""
    if isinstance(told, dict):
        return {
            name: _NEW_WORDS.get(value, value)
            if name in ("state", "standing") and isinstance(value, str)
            else _in_new_words(value)
            for name, value in told.items()
        }
    return [_in_new_words(entry) for entry in told] if isinstance(told, list) else told


_ACT = ("at", "key", "act", "subject", "outcome", "request", "arrived")


class Shelf:
    """One SQLite file, one connection, one lock: a stand-in is a small shop."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._db = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
        self._db.execute("PRAGMA journal_mode=WAL")
        self._db.executescript(_TABLES)
        self._carry_over()
        self._lock = threading.RLock()
        self._depth = 0
        self.told = threading.Event()
        """Set by every event, until whoever pushes events clears it."""

    def _carry_over(self) -> None:
        """Bring what an earlier release kept to this one's words."""
        (form,) = self._db.execute("PRAGMA user_version").fetchone()
        if form >= _FORM:
            return
        self._db.execute("BEGIN IMMEDIATE")
        for table in ("things", "events", "answers", "settings"):
            for row, body in self._db.execute(f"SELECT rowid, body FROM {table}").fetchall():  # noqa: S608
                told = json.dumps(_in_new_words(json.loads(body)))
                self._db.execute(f"UPDATE {table} SET body = ? WHERE rowid = ?", (told, row))  # noqa: S608
        self._db.execute(f"PRAGMA user_version = {_FORM}")
        self._db.execute("COMMIT")

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """All or nothing; may be nested, the outermost decides."""
        with self._lock:
            if self._depth == 0:
                self._db.execute("BEGIN IMMEDIATE")
            self._depth += 1
            try:
                yield
            except BaseException:
                self._depth -= 1
                if self._depth == 0:
                    self._db.execute("ROLLBACK")
                raise
            self._depth -= 1
            if self._depth == 0:
                self._db.execute("COMMIT")

    def close(self) -> None:
        with self._lock:
            self._db.close()

    def put(self, kind: str, thing: Thing) -> Thing:
        with self._lock:
            self._db.execute(
                "INSERT OR REPLACE INTO things (kind, id, body, due_at) VALUES (?, ?, ?, ?)",
                (kind, thing["id"], json.dumps(thing), thing.get("due_at")),
            )
        return thing

    def get(self, kind: str, thing_id: str) -> Thing | None:
        with self._lock:
            row = self._db.execute("SELECT body FROM things WHERE kind = ? AND id = ?", (kind, thing_id)).fetchone()
        return json.loads(row[0]) if row else None

    def remove(self, kind: str, thing_id: str) -> None:
        with self._lock:
            self._db.execute("DELETE FROM things WHERE kind = ? AND id = ?", (kind, thing_id))

    def all(self, kind: str) -> list[Thing]:
        with self._lock:
            rows = self._db.execute("SELECT body FROM things WHERE kind = ? ORDER BY rowid", (kind,)).fetchall()
        return [json.loads(row[0]) for row in rows]

    def next_due(self, until: str) -> tuple[str, Thing] | None:
        """The thing that is due first, if any is by ``until``."""
        with self._lock:
            row = self._db.execute(
                "SELECT kind, body FROM things WHERE due_at IS NOT NULL AND due_at <= ? ORDER BY due_at LIMIT 1",
                (until,),
            ).fetchone()
        return (row[0], json.loads(row[1])) if row else None

    def add_event(self, event: Thing) -> int:
        with self._lock:
            self.told.set()
            return self._db.execute("INSERT INTO events (body) VALUES (?)", (json.dumps(event),)).lastrowid or 0

    def events_after(self, sequence: int, limit: int) -> list[Thing]:
        with self._lock:
            rows = self._db.execute(
                "SELECT sequence, body FROM events WHERE sequence > ? ORDER BY sequence LIMIT ?", (sequence, limit)
            ).fetchall()
        return [json.loads(body) | {"sequence": number} for number, body in rows]

    def record_act(
        self, at: str, key: str, act: str, subject: str, outcome: str, request: str = "", reached: float | None = None
    ) -> None:
        with self._lock:
            self._db.execute(
                f"INSERT INTO acts ({', '.join(_ACT)}) VALUES (?, ?, ?, ?, ?, ?, ?)",  # noqa: S608  (our own words)
                (at, key, act, subject, outcome, request, time.time() if reached is None else reached),
            )

    def acts(self) -> list[Thing]:
        with self._lock:
            rows = self._db.execute(f"SELECT {', '.join(_ACT)} FROM acts ORDER BY place").fetchall()  # noqa: S608
        return [dict(zip(_ACT, row, strict=True)) for row in rows]

    def last_event(self) -> int:
        with self._lock:
            row = self._db.execute("SELECT max(sequence) FROM events").fetchone()
        return row[0] or 0

    def given_answer(self, key: str) -> tuple[str, int, Thing] | None:
        with self._lock:
            row = self._db.execute("SELECT digest, status, body FROM answers WHERE key = ?", (key,)).fetchone()
        return (row[0], row[1], json.loads(row[2])) if row else None

    def keep_answer(self, key: str, digest: str, status: int, body: Thing) -> None:
        with self._lock:
            self._db.execute("INSERT INTO answers VALUES (?, ?, ?, ?)", (key, digest, status, json.dumps(body)))

    def setting(self, name: str) -> Any:
        with self._lock:
            row = self._db.execute("SELECT body FROM settings WHERE name = ?", (name,)).fetchone()
        return json.loads(row[0]) if row else None

    def keep_setting(self, name: str, body: Any) -> None:
        with self._lock:
            self._db.execute("INSERT OR REPLACE INTO settings VALUES (?, ?)", (name, json.dumps(body)))
