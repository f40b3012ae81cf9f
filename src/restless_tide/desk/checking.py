"""Checking a desk: whether its records are whole, its logbook is as it was written, and its files are what they are called."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import TideError
from restless_tide.desk import logbook
from restless_tide.desk.desk import Desk
from restless_tide.desk.files_kept import Told, named, on_disk, place_of
from restless_tide.records.digest_files import digest_of
from restless_tide.records.tables import KeptAnswer, PersonalLink, SignIn, Store, Token, Upload


class Weight(StrEnum):
    """How much a line matters."""

    GOOD = "good"
    NOTE = "note"
    BROKEN = "broken"


@dataclass(frozen=True)
class Checked:
    """One line of a check: what was looked at, what was found, and how to fix it."""

    what: str
    weight: Weight
    said: str
    remedy: str = ""


def check(desk: Desk, *, quick: bool = False, told: Told = lambda done, of: None) -> list[Checked]:
    """Look at everything; ``quick`` compares sizes and not digests of files. Nothing is changed."""
    with desk.look() as session:
        return [
            _integrity(session),
            _pointers(session),
            _chain(session),
            *_seals(desk, session),
            *_files(desk, session, quick, told),
            *_ended(desk, session),
        ]


def is_broken(lines: list[Checked]) -> bool:
    """Whether anything needs someone."""
    return any(line.weight is Weight.BROKEN for line in lines)


def _integrity(session: Session) -> Checked:
    found = [str(row[0]) for row in session.connection().exec_driver_sql("PRAGMA integrity_check(5)")]
    if found == ["ok"]:
        return Checked("records", Weight.GOOD, "SQLite finds the file whole")
    return Checked("records", Weight.BROKEN, "; ".join(found), "Restore a backup: tide desk restore FOLDER")


def _pointers(session: Session) -> Checked:
    found = session.connection().exec_driver_sql("PRAGMA foreign_key_check").all()
    if not found:
        return Checked("references", Weight.GOOD, "every row that is pointed to is there")
    tables = ", ".join(sorted({str(row[0]) for row in found}))
    return Checked("references", Weight.BROKEN, f"{len(found)} rows of {tables} point to nothing", "Restore a backup.")


def _chain(session: Session) -> Checked:
    count, broken = logbook.verify(session)
    if broken is None:
        return Checked("logbook", Weight.GOOD, f"{count} lines, each as it was written")
    return Checked("logbook", Weight.BROKEN, f"line {broken} is not as it was written", "Compare it with a backup.")


def _seals(desk: Desk, session: Session) -> Iterator[Checked]:
    stores = [store for store in session.scalars(select(Store).order_by(Store.name)) if store.sealed_key is not None]
    closed = []
    for store in stores:
        try:
            desk.seal.open(store.sealed_key or b"", f"store {store.id}")
        except TideError:
            closed.append(store.name)
    if closed:
        yield Checked(
            "master key",
            Weight.BROKEN,
            f"the keys of {', '.join(closed)} do not open with it",
            "Start with the master key they were sealed under, or connect them again: tide store connect",
        )
    else:
        yield Checked("master key", Weight.GOOD, f"it opens the keys of {len(stores)} stores")


def _files(desk: Desk, session: Session, quick: bool, told: Told) -> Iterator[Checked]:
    data = desk.settings.data
    wanted = list(named(session))
    missing, altered = [], []
    for at, (folder, sha256) in enumerate(wanted, 1):
        path = place_of(data, folder, sha256)
        if not path.is_file():
            missing.append(f"{folder}/{sha256[:12]}")
        elif not quick and digest_of(path) != sha256:
            altered.append(f"{folder}/{sha256[:12]}")
        told(at, len(wanted))
    for found, word in ((missing, "missing"), (altered, "altered")):
        if found:
            shown = ", ".join(found[:5]) + (" …" if len(found) > 5 else "")
            yield Checked("files", Weight.BROKEN, f"{len(found)} are {word}: {shown}", "Copy them from a backup.")
    if not missing and not altered:
        how = "are there" if quick else "are there, and each is what its digest says"
        yield Checked("files", Weight.GOOD, f"{len(wanted)} {how}")
    known = set(wanted)
    left = [one for one in on_disk(data) if (one.folder, one.sha256) not in known]
    if left:
        size = sum(one.path.stat().st_size for one in left)
        yield Checked("left-over files", Weight.NOTE, f"{len(left)} files of {size:,} bytes are named by nothing")


def _ended(desk: Desk, session: Session) -> Iterator[Checked]:
    now = desk.clock.now()
    for what, table, column in (
        ("sessions", SignIn, SignIn.expires_at),
        ("tokens", Token, Token.expires_at),
        ("links", PersonalLink, PersonalLink.expires_at),
        ("uploads", Upload, Upload.expires_at),
    ):
        count = session.scalar(select(func.count()).select_from(table).where(column <= now)) or 0
        if count:
            yield Checked(what, Weight.NOTE, f"{count} have expired and are still kept")
    kept = session.scalar(select(func.count()).select_from(KeptAnswer)) or 0
    yield Checked("repeated acts", Weight.NOTE, f"answers to {kept} acts are kept for a day")
