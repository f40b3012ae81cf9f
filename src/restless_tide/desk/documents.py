"""Documents: files that answer questions of stores, kept under their digests."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from restless_tide.core.documents import DRAWN, DocumentFormat, FileAnswer, is_document, read_document
from restless_tide.core.errors import Invalid, NotFound, TooLarge
from restless_tide.desk.desk import Act, Desk
from restless_tide.records.tables import Document, ReviewerBrief, ReviewMessage, Round


def keep_file(desk: Desk, person: str, part: Path, name: str) -> FileAnswer:
    """Keep the file at ``part`` under this name. Raises Invalid or TooLarge for what is no document."""
    found = read_document(part, name)
    if found.format in DRAWN:
        try:
            desk.reader.read_picture(part, found.sha256)
        except (Invalid, TooLarge) as wrong:
            raise type(wrong)(f"{name}: {wrong.detail}", remedy=wrong.remedy, code=wrong.code) from None
    desk.dossier_files.adopt(part)
    with desk.act(person) as act:
        row = act.session.get(Document, found.sha256) or Document(sha256=found.sha256)
        row.name, row.format, row.size_bytes, row.kept_at = name, found.format, found.size_bytes, act.now
        act.session.add(row)
    return found


def known(session: Session, answer: FileAnswer) -> FileAnswer:
    """The document that an answer names, as it was read here, under the answer's name. Raises NotFound."""
    row = session.get(Document, answer.sha256)
    if row is None:
        raise NotFound(
            f"The document {answer.name} was not sent to the desk.", remedy="Send it first.", code="document-unknown"
        )
    return replace(_of(row), name=answer.name)


def by_digest(session: Session, sha256: str) -> FileAnswer:
    """A document that was sent to the desk, under the name it came with. Raises NotFound."""
    row = session.get(Document, sha256)
    if row is None:
        raise NotFound(f"There is no document {sha256[:12]} here.", remedy="Send it first.", code="document-unknown")
    return _of(row)


def _of(row: Document) -> FileAnswer:
    return FileAnswer(row.sha256, row.name, DocumentFormat(row.format), row.size_bytes)


def place_of(desk: Desk, sha256: str) -> tuple[FileAnswer, Path]:
    """A document, and where its file lies. Raises NotFound."""
    with desk.look() as session:
        row = session.get(Document, sha256)
        found = _of(row) if row is not None else None
    place = desk.dossier_files.path(sha256)
    if found is None or not place.exists():
        raise NotFound(f"There is no document {sha256[:12]} here.", code="document-unknown")
    return found, place


def among(answers: Iterable[Any]) -> list[Mapping[str, Any]]:
    """The documents among answers as JSON has them."""
    return [one for one in answers if is_document(one)]


def named_in(answers: Iterable[Any]) -> set[str]:
    """Their digests."""
    return {str(one["sha256"]) for one in among(answers)}


def for_reviewers(session: Session) -> set[str]:
    """The digests of documents that a reviewer was sent or has sent, or that every round takes along."""
    kept = (ReviewerBrief.files, Round.files, ReviewMessage.files)
    return {str(one["sha256"]) for column in kept for files in session.scalars(select(column)) for one in files}


def drop_unused(act: Act, named: set[str], after_days: int) -> set[str]:
    """Forget documents that nothing has named for so long; returns their digests."""
    old = select(Document.sha256).where(Document.kept_at < act.now - timedelta(days=after_days))
    gone = {sha256 for sha256 in act.session.scalars(old) if sha256 not in named}
    if gone:
        act.session.execute(delete(Document).where(Document.sha256.in_(gone)))
    return gone
