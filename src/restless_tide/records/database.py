"""The database file: opened, migrated, and two kinds of sessions over it."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import alembic.command
import alembic.config
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, Engine, Executable, Row, UpdateBase, create_engine, event
from sqlalchemy.orm import ORMExecuteState, Session

BUSY_MILLISECONDS = 30_000
"""So long a connection waits for one of another process that writes."""
_MIGRATIONS = Path(__file__).parent / "migrations"


class WritingSession(Session):
    """A session that keeps every row it has read until its end, and knows which tables it has changed."""

    def __init__(self, bind: Engine) -> None:
        super().__init__(bind, expire_on_commit=False)
        self.held: list[object] = []
        """A plain session forgets what nobody holds, and reads it again the next time."""
        self.changed: set[type] = set()
        self.touched: set[object] = set()
        """The rows that were written by the session itself, not by a statement."""


@event.listens_for(WritingSession, "loaded_as_persistent")
def _hold(session: WritingSession, row: object) -> None:
    session.held.append(row)


@event.listens_for(WritingSession, "after_flush")
def _note_changed(session: WritingSession, _context: object) -> None:
    for rows in (session.new, session.dirty, session.deleted):
        session.changed.update(map(type, rows))
        session.touched.update(rows)


@event.listens_for(WritingSession, "do_orm_execute")
def _note_changed_at_once(state: ORMExecuteState) -> None:
    if not state.is_select and state.bind_mapper is not None and isinstance(state.session, WritingSession):
        state.session.changed.add(state.bind_mapper.class_)


def _config() -> alembic.config.Config:
    config = alembic.config.Config()
    config.set_main_option("script_location", str(_MIGRATIONS))
    return config


def migrations() -> ScriptDirectory:
    """The forms that the tables have had, in their order."""
    return ScriptDirectory.from_config(_config())


class Database:
    """SQLite in WAL mode. Readers never wait; writers take turns from their first statement on."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._engine = create_engine(
            f"sqlite:///{path}", connect_args={"timeout": 30, "check_same_thread": False}, hide_parameters=True
        )
        event.listen(self._engine, "connect", _prepare)
        event.listen(self._engine, "begin", _begin)
        self._writer = threading.Lock()
        self._watching = threading.Lock()
        self._watcher: Connection | None = None
        self._writing = self._engine.execution_options(immediate=True)
        self._asking = self._engine.execution_options(apart=True)

    def migrate(self) -> None:
        """Bring the tables to this release's form."""
        config = _config()
        # a table that others point to can be rebuilt only while SQLite does not follow the pointers
        engine = create_engine(f"sqlite:///{self.path}", connect_args={"timeout": 30}, hide_parameters=True)
        event.listen(engine, "connect", lambda connection, _: setattr(connection, "isolation_level", None))
        event.listen(engine, "begin", lambda connection: connection.exec_driver_sql("BEGIN IMMEDIATE"))
        with engine.connect() as connection:
            config.attributes["connection"] = connection
            alembic.command.upgrade(config, "head")
            connection.commit()
        engine.dispose()

    @property
    def engine(self) -> Engine:
        return self._engine

    def version(self) -> int:
        """Another number whenever anything was written since the last time, by whomever (SQLite's ``data_version``).

        What ``aside`` writes is left out.
        """
        with self._watching:
            return int(self._watch().exec_driver_sql("PRAGMA data_version").scalar_one())

    def row(self, asked: Executable, values: dict[str, Any]) -> Row[Any] | None:
        """The first row of one statement, in columns: for what every request asks, since rows as objects take several times as long."""
        with self._asking.connect() as connection:
            return connection.execute(asked, values).first()

    def aside(self, write: UpdateBase, values: dict[str, Any] | None = None) -> Any:
        """One statement that changes nothing anybody remembers an answer of: ``version`` stays. Returns its first value.

        SQLite counts what other connections write; this goes by the one that it is asked on.
        """
        with self._writer, self._watching:
            return self._watch().execute(write, values).scalar()

    def _watch(self) -> Connection:
        if self._watcher is None:
            self._watcher = self._asking.connect()
        return self._watcher

    @contextmanager
    def reading(self) -> Iterator[Session]:
        with Session(self._engine, autoflush=False) as session:
            yield session

    @contextmanager
    def asking(self) -> Iterator[Session]:
        """For single statements: each sees the records as they are at its own time."""
        with Session(self._asking, autoflush=False) as session:
            yield session

    @contextmanager
    def writing(self) -> Iterator[WritingSession]:
        """One transaction: committed at the end, rolled back when anything is raised.

        Writers of this process wait for each other here and go on at once; SQLite would have them look again after
        growing pauses, as writers of other processes do.
        """
        with self._writer, WritingSession(self._writing) as session, session.begin():
            yield session

    def scrub(self) -> bool:
        """Write the file anew and empty its write-ahead log, so that nothing that was deleted is left in either.

        False when someone reads just now and the log could not be emptied; then it is to be done again.
        """
        connection = self._engine.raw_connection()
        try:
            cursor = connection.cursor()
            cursor.execute("PRAGMA busy_timeout=0")  # while it waited for readers, nobody could write
            cursor.execute("VACUUM")
            cursor.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            busy, _, _ = cursor.fetchone() or (1, 0, 0)
        except sqlite3.OperationalError:
            return False
        finally:
            connection.cursor().execute(f"PRAGMA busy_timeout={BUSY_MILLISECONDS}")
            connection.close()
        return not busy

    def close(self) -> None:
        if self._watcher is not None:
            self._watcher.close()
        self._engine.dispose()


def _prepare(connection: Any, _record: object) -> None:
    connection.isolation_level = None  # SQLAlchemy says BEGIN itself, see _begin
    cursor = connection.cursor()
    busy = f"busy_timeout={BUSY_MILLISECONDS}"
    for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON", busy, "secure_delete=ON"):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


def _begin(connection: Connection) -> None:
    options = connection.get_execution_options()
    if not options.get("apart", False):
        connection.exec_driver_sql("BEGIN IMMEDIATE" if options.get("immediate", False) else "BEGIN")
