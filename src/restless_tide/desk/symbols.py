"""The symbol files of a build, kept by its id; what they name is looked up in an index that is made when they come."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

import structlog
from sqlalchemy import select

from restless_tide.core.crashes import Symbols
from restless_tide.core.errors import Conflict, TideError
from restless_tide.desk import find
from restless_tide.desk.desk import Desk
from restless_tide.records import symbol_index
from restless_tide.records.tables import SymbolFile

_log = structlog.get_logger("service")


def keep(desk: Desk, person: str, build_id: str, name: str, content: bytes) -> SymbolFile:
    """Keep a symbol file. Raises Invalid where it brings no names or takes too much to read, Conflict where the build has
    it already.
    """
    with desk.look() as session:
        find.build(session, build_id)  # before anything is kept
    sha256 = desk.symbols.keep(content)
    try:
        found = desk.reader.index_symbols(desk.symbols.path(sha256), name, _index_of(desk, sha256))
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


@contextmanager
def of_build(desk: Desk, build_id: str) -> Iterator[list[Symbols]]:
    """The symbol files of a build, each by its index; one that cannot be read any more is passed over."""
    with ExitStack() as opened:
        yield [
            opened.enter_context(symbol_index.opened(index, row.name))
            for row in files(desk, build_id)
            if (index := _index(desk, row)) is not None
        ]


def _index_of(desk: Desk, sha256: str) -> Path:
    return desk.symbols.path(sha256).with_suffix(f".names-{symbol_index.FORM}")


def _index(desk: Desk, row: SymbolFile) -> Path | None:
    """The index of a symbol file, made where it is not there yet, as for files that an earlier release kept."""
    index = _index_of(desk, row.sha256)
    if not index.exists():
        try:
            desk.reader.index_symbols(desk.symbols.path(row.sha256), row.name, index)
        except TideError as wrong:
            _log.warning("a symbol file cannot be read", file=row.id, why=wrong.detail)
            return None
    return index
