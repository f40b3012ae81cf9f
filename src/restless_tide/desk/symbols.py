"""The symbol files of a build, kept by its id, and read once for many crashes."""

from __future__ import annotations

import threading
from collections import OrderedDict

from sqlalchemy import select

from restless_tide.core.crashes import Symbols, read_symbols
from restless_tide.core.errors import Conflict, TideError
from restless_tide.desk import find
from restless_tide.desk.desk import Desk
from restless_tide.records.tables import SymbolFile

MOST_KEPT_BYTES = 64 * 1024 * 1024
"""Of symbol files that are kept read, counted as they lie on the disk; the last one always."""
_read: OrderedDict[str, tuple[int, Symbols]] = OrderedDict()
_lock = threading.Lock()


def keep(desk: Desk, person: str, build_id: str, name: str, content: bytes) -> SymbolFile:
    """Keep a symbol file. Raises Invalid where it brings no names or takes too much to read, Conflict where the build has
    it already.
    """
    sha256 = desk.symbols.keep(content)
    try:
        found = desk.reader.look_at_symbols(desk.symbols.path(sha256), name)
    except TideError:
        with desk.look() as session:
            if session.scalar(select(SymbolFile.id).where(SymbolFile.sha256 == sha256).limit(1)) is None:
                desk.symbols.drop(sha256)
        raise
    with desk.act(person) as act:
        build = find.build(act.session, build_id)
        if act.session.scalar(
            select(SymbolFile.id).where(SymbolFile.build_id == build.id, SymbolFile.sha256 == sha256)
        ):
            raise Conflict(f"{build.label} has this file already.", code="symbols-known")
        row = SymbolFile(
            build_id=build.id,
            name=name[:200],
            kind=found.kind,
            identity=found.identity,
            sha256=sha256,
            size_bytes=len(content),
            stored_at=act.now,
            stored_by=act.person,
        )
        act.session.add(row)
        act.session.flush()
        after = {"name": row.name, "kind": row.kind, "identity": row.identity}
        act.log("symbols kept", f"build {build.id}", app=build.app.name, after=after)
    return row


def files(desk: Desk, build_id: str) -> list[SymbolFile]:
    with desk.look() as session:
        wanted = select(SymbolFile).where(SymbolFile.build_id == build_id).order_by(SymbolFile.stored_at)
        return list(session.scalars(wanted))


def of_build(desk: Desk, build_id: str) -> list[Symbols]:
    """The symbol files of a build, read."""
    return [_symbols(desk, row) for row in files(desk, build_id)]


def _symbols(desk: Desk, row: SymbolFile) -> Symbols:
    key = f"{row.sha256} {row.name}"
    with _lock:
        known = _read.get(key)
        if known is not None:
            _read.move_to_end(key)
            return known[1]
    found = read_symbols(desk.symbols.read(row.sha256), row.name)
    with _lock:
        _read[key] = row.size_bytes, found
        while len(_read) > 1 and sum(size for size, _ in _read.values()) > MOST_KEPT_BYTES:
            _read.popitem(last=False)
    return found
