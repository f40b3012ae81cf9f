"""Releases, their legs and their rounds of review."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any

from sqlalchemy import ForeignKey, LargeBinary, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.rollout import ROLLOUT, RolloutState
from restless_tide.core.round import ROUND, RoundState
from restless_tide.core.rulebook import PRODUCTION
from restless_tide.records.columns import Base, SharedJson, key, sighting_of

if TYPE_CHECKING:
    from restless_tide.records.tables.apps import App, Berth
    from restless_tide.records.tables.builds import Build
    from restless_tide.records.tables.matters import Matter
    from restless_tide.records.tables.orders import Sighting
    from restless_tide.records.tables.reviewing import ReviewMessage


class Release(Base):
    """A version of an app going to production. ``revision`` rises with every change to the draft.

    ``pace`` as core's Pace writes it; None: each store for itself.
    """

    __tablename__ = "releases"
    __table_args__ = (UniqueConstraint("app_id", "version"),)

    id: Mapped[str] = key("r")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    version: Mapped[str]
    notes: Mapped[dict[str, Any]] = mapped_column(default=dict)
    revision: Mapped[int] = mapped_column(default=1)
    pace: Mapped[dict[str, Any] | None]
    created_at: Mapped[datetime]
    app: Mapped[App] = relationship()
    legs: Mapped[list[Leg]] = relationship(back_populates="release", order_by="Leg.created_at")


class Leg(Base):
    """A release at one store, on one of its tracks: its build, conditions and ladder, and the desk's side of its rollout.

    ``submits_itself``: it is handed in as soon as the store has its build ready. ``ended_at`` is when it was taken down
    or something took its place. ``given_out_since`` is when it was launched or resumed last; None while it is stopped.
    ``conditions`` are those of its launch, as core's conditions write them; ``looks_at`` is when they are to be looked at again
    because of the clock alone.
    """

    __tablename__ = "legs"
    __table_args__ = (UniqueConstraint("release_id", "berth_id", "track"),)

    id: Mapped[str] = key("l")
    release_id: Mapped[str] = mapped_column(ForeignKey("releases.id"))
    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), index=True)
    track: Mapped[str] = mapped_column(default=PRODUCTION, server_default=PRODUCTION)
    build_id: Mapped[str] = mapped_column(ForeignKey("builds.id"), index=True)
    created_at: Mapped[datetime]
    submits_itself: Mapped[bool] = mapped_column(default=False, server_default="0")
    ladder: Mapped[dict[str, Any]] = mapped_column(SharedJson)
    conditions: Mapped[list[Any]] = mapped_column(SharedJson, default=list, server_default="[]")
    looks_at: Mapped[datetime | None] = mapped_column(index=True)
    state: Mapped[RolloutState] = mapped_column(default=ROLLOUT.initial, index=True)
    stage: Mapped[int] = mapped_column(default=-1)
    share: Mapped[float] = mapped_column(default=0.0)
    held_before_seconds: Mapped[float] = mapped_column(default=0.0)
    running_since: Mapped[datetime | None]
    given_out_since: Mapped[datetime | None]
    stage_ends_at: Mapped[datetime | None] = mapped_column(index=True)
    pauses_used: Mapped[int] = mapped_column(default=0)
    launched_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    release: Mapped[Release] = relationship(back_populates="legs")
    berth: Mapped[Berth] = relationship()
    build: Mapped[Build] = relationship()
    rounds: Mapped[list[Round]] = relationship(back_populates="leg", order_by="Round.number")
    sighting: Mapped[Sighting | None] = sighting_of("Leg")
    matters: Mapped[list[Matter]] = relationship(
        back_populates="leg", order_by="Matter.number", cascade="all, delete-orphan"
    )
    go_aheads: Mapped[list[GoAheadGiven]] = relationship(order_by="GoAheadGiven.given_at", cascade="all, delete-orphan")


class GoAheadGiven(Base):
    """The go-ahead of one person for the launch of one leg. One that was withdrawn, or that a halt took back, counts no more."""

    __tablename__ = "go_aheads"

    id: Mapped[str] = key("ga")
    leg_id: Mapped[str] = mapped_column(ForeignKey("legs.id"), index=True)
    person: Mapped[str]
    given_at: Mapped[datetime]
    reason: Mapped[str] = mapped_column(default="")
    withdrawn_at: Mapped[datetime | None]


class Round(Base):
    """One attempt of a leg at the store's review."""

    __tablename__ = "rounds"
    __table_args__ = (UniqueConstraint("leg_id", "number"),)

    id: Mapped[str] = key("ro")
    leg_id: Mapped[str] = mapped_column(ForeignKey("legs.id"))
    number: Mapped[int]
    build_id: Mapped[str] = mapped_column(ForeignKey("builds.id"))
    state: Mapped[RoundState] = mapped_column(default=ROUND.initial)
    submitted_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    store_ref: Mapped[str | None] = mapped_column(index=True)
    reasons: Mapped[list[str]] = mapped_column(default=list)
    notes: Mapped[dict[str, Any] | None]
    """The notes as they were handed in, by locale; None: not known, since an earlier release did not keep them."""
    taken_up_at: Mapped[datetime | None]
    decided_at: Mapped[datetime | None] = mapped_column(index=True)
    long_after: Mapped[datetime | None] = mapped_column(index=True)
    """From when on its wait is longer than usual; None once people have heard of it, and when it is decided."""
    for_reviewer: Mapped[str] = mapped_column(default="", server_default="")
    """What this round said to the reviewer."""
    in_spite_of: Mapped[str] = mapped_column(default="", server_default="")
    """Why it was handed in while a matter was open."""
    items: Mapped[list[dict[str, Any]]] = mapped_column(default=list, server_default="[]")
    """What went to review together, each with the store's verdict on it alone, where it gave one."""
    look: Mapped[str | None]
    """The digest of what was looked at before it was handed in; None: an earlier release did not keep it."""
    sealed_sign_in: Mapped[bytes | None] = mapped_column(LargeBinary, deferred=True)
    files: Mapped[list[dict[str, Any]]] = mapped_column(default=list, server_default="[]")
    """Documents that went along for the reviewer."""
    appeals: Mapped[int] = mapped_column(default=0, server_default="0")
    leg: Mapped[Leg] = relationship(back_populates="rounds")
    build: Mapped[Build] = relationship()
    sighting: Mapped[Sighting | None] = sighting_of("Round")
    messages: Mapped[list[ReviewMessage]] = relationship(back_populates="round", order_by="ReviewMessage.at")
