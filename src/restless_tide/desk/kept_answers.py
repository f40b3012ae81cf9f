"""Answers kept for a day under the key that an act came with, so that a repetition gets the same one. They are sealed: an
answer may hold a secret that is shown once."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import bindparam, delete, select, update

from restless_tide.desk.desk import Desk
from restless_tide.records.tables import KeptAnswer

KEPT_FOR = timedelta(hours=24)
# These are asked with every act, so each is made once.
_BY_KEY = select(KeptAnswer.request, KeptAnswer.status, KeptAnswer.headers, KeptAnswer.sealed_body).where(
    KeptAnswer.key == bindparam("sought")
)
_KEEP = update(KeptAnswer).where(KeptAnswer.key == bindparam("sought")).returning(KeptAnswer.key)


@dataclass(frozen=True)
class Kept:
    """An act that was done, and its answer; without ``status`` the answer was lost."""

    request: str
    status: int | None
    headers: str
    body: bytes


def find(desk: Desk, key: str) -> Kept | None:
    """What is kept under a key."""
    row = desk.database.row(_BY_KEY, {"sought": key})
    if row is None:
        return None
    body = desk.seal.open(row.sealed_body, f"answer {key}") if row.sealed_body is not None else b""
    return Kept(row.request, row.status, row.headers, body)


def keep(desk: Desk, key: str, status: int, headers: str, body: bytes) -> None:
    """Keep the answer of an act that was done under this key."""
    sealed = desk.seal.close(body, f"answer {key}")
    desk.database.aside(_KEEP, {"sought": key, "status": status, "headers": headers, "sealed_body": sealed})


def drop_old(desk: Desk) -> None:
    """Drop what was kept for its day."""
    desk.database.aside(delete(KeptAnswer).where(KeptAnswer.at < desk.clock.now() - KEPT_FOR).returning(KeptAnswer.key))
