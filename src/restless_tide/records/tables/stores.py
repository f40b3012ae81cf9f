"""Stores, and the revisions of their rulebooks."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, LargeBinary, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from restless_tide.records.columns import Base, SharedJson, key


class Store(Base):
    """One account at one store. ``sealed_key`` is the private key, sealed; one without an address is hand-carried.

    After ``disconnected_at`` it is out of use: it has no key and nothing is ordered of it, until it is connected again.
    """

    __tablename__ = "stores"

    id: Mapped[str] = key("s")
    name: Mapped[str] = mapped_column(unique=True)
    address: Mapped[str | None]
    client_id: Mapped[str | None]
    sealed_key: Mapped[bytes | None] = mapped_column(LargeBinary)
    may: Mapped[list[str]]
    rulebook: Mapped[dict[str, Any]] = mapped_column(SharedJson)
    next_rulebook: Mapped[dict[str, Any] | None] = mapped_column(SharedJson)
    rulebook_seen_at: Mapped[datetime | None]
    rulebook_trouble: Mapped[str | None]
    account: Mapped[dict[str, Any]] = mapped_column(default=dict)
    connected_at: Mapped[datetime]
    disconnected_at: Mapped[datetime | None]
    events_seen: Mapped[int] = mapped_column(default=0)
    last_event_at: Mapped[datetime | None]
    last_event: Mapped[str | None]
    pushed_at: Mapped[datetime | None]
    push_ref: Mapped[str | None]
    sealed_push_secret: Mapped[bytes | None] = mapped_column(LargeBinary)
    skew_seconds: Mapped[float] = mapped_column(default=0.0)
    breaker_failures: Mapped[int] = mapped_column(default=0)
    breaker_rests_until: Mapped[datetime | None]
    reached_at: Mapped[datetime | None]
    trouble: Mapped[str | None]

    @property
    def hand_carried(self) -> bool:
        return self.address is None

    @property
    def reached_by_gateway(self) -> bool:
        """Whether the desk can call it now."""
        return self.sealed_key is not None

    @property
    def in_use(self) -> bool:
        return self.disconnected_at is None


class RulebookRevision(Base):
    """A revision of a store's rulebook as it came in, with what changed against the one before it."""

    __tablename__ = "rulebook_revisions"
    __table_args__ = (UniqueConstraint("store_id", "revision"),)

    id: Mapped[str] = key("rr")
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"))
    revision: Mapped[str]
    in_force_since: Mapped[datetime]
    announced_at: Mapped[datetime | None]
    taken_at: Mapped[datetime | None]
    changes: Mapped[list[dict[str, Any]]] = mapped_column(default=list)


class UntakenEvent(Base):
    """An event of a store that could not be taken: kept as it came, with the reason, until someone has it tried again."""

    __tablename__ = "untaken_events"
    __table_args__ = (UniqueConstraint("store_id", "sequence"),)

    id: Mapped[str] = key("ue")
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"))
    sequence: Mapped[int]
    body: Mapped[dict[str, Any]]
    why: Mapped[str]
    at: Mapped[datetime]
