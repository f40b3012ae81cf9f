"""The names of one symbol file in a small SQLite file, made once and read crash by crash.

Only the process that makes it reads the symbol file; whoever brings names back reads a few rows.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from restless_tide.core.crashes.symbols import Method, NameMap, Symbols, SymbolTable

FORM = 1
"""Counted up with each change below: an index of another form is made anew."""
_TABLES = """
CREATE TABLE about (kind TEXT, identity TEXT);
CREATE TABLE classes (short TEXT PRIMARY KEY, name TEXT) WITHOUT ROWID;
CREATE TABLE methods (
    class TEXT, short TEXT, place INTEGER, owner TEXT, name TEXT,
    first INTEGER, last INTEGER, original_first INTEGER, original_last INTEGER,
    PRIMARY KEY (class, short, place)
) WITHOUT ROWID;
CREATE TABLE functions (begins INTEGER PRIMARY KEY, name TEXT);
"""


def write(place: Path, symbols: Symbols) -> None:
    """Write the index of a symbol file that was just read; ``place`` must not exist yet."""
    rows = sqlite3.connect(place)
    try:
        rows.execute("PRAGMA journal_mode=OFF")  # a file that is not finished is thrown away
        rows.executescript(_TABLES)
        rows.execute("INSERT INTO about VALUES (?, ?)", (symbols.kind, symbols.identity))
        if isinstance(symbols, NameMap):
            assert isinstance(symbols.classes, dict)
            rows.executemany("INSERT INTO classes VALUES (?, ?)", symbols.classes.items())
            rows.executemany("INSERT INTO methods VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", _methods(symbols))
        elif isinstance(symbols, SymbolTable):
            assert isinstance(symbols.functions, dict)
            rows.executemany("INSERT INTO functions VALUES (?, ?)", symbols.functions.items())
        rows.commit()
    finally:
        rows.close()


def _methods(names: NameMap) -> Iterator[tuple[str | int | None, ...]]:
    assert isinstance(names.methods, dict)
    for (owner, short), found in names.methods.items():
        for place, method in enumerate(found):
            yield (owner, short, place, *method)


@contextmanager
def opened(place: Path, name: str) -> Iterator[Symbols]:
    """The names of one symbol file, looked up row by row; ``name`` is the file's own."""
    rows = sqlite3.connect(f"{place.absolute().as_uri()}?mode=ro&immutable=1", uri=True)
    try:
        kind, identity = rows.execute("SELECT kind, identity FROM about").fetchone()
        if kind == NameMap.kind:
            yield NameMap(_Classes(rows), _Methods(rows), identity)
        else:
            yield SymbolTable(identity, name, _Functions(rows))
    finally:
        rows.close()


class _Classes:
    def __init__(self, rows: sqlite3.Connection) -> None:
        self._rows = rows

    def get(self, short: str) -> str | None:
        found = self._rows.execute("SELECT name FROM classes WHERE short = ?", (short,)).fetchone()
        return found[0] if found else None


class _Methods:
    def __init__(self, rows: sqlite3.Connection) -> None:
        self._rows = rows

    def get(self, called: tuple[str, str]) -> Sequence[Method]:
        wanted = (
            "SELECT owner, name, first, last, original_first, original_last FROM methods"
            " WHERE class = ? AND short = ? ORDER BY place"
        )
        return [Method(*row) for row in self._rows.execute(wanted, called)]


class _Functions:
    def __init__(self, rows: sqlite3.Connection) -> None:
        self._rows = rows

    def before(self, address: int) -> str | None:
        wanted = "SELECT name FROM functions WHERE begins <= ? ORDER BY begins DESC LIMIT 1"
        found = self._rows.execute(wanted, (address,)).fetchone()
        return found[0] if found else None
