"""Tracks of an app at a store, and the rules by which builds move up on them."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.own_track import OWN_TRACK, OwnTrackState
from restless_tide.records.columns import Base, key

if TYPE_CHECKING:
    from restless_tide.records.tables.apps import App, Berth


class Track(Base):
    """What is known of a track at a berth besides its rulebook: the people on it, and, where the team opened it, its life.

    ``people`` are those who may get builds over it, as the store told last; None: the store has not told.
    """

    __tablename__ = "tracks"
    __table_args__ = (UniqueConstraint("berth_id", "key"),)

    id: Mapped[str] = key("tk")
    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"))
    key: Mapped[str]
    title: Mapped[str]
    own: Mapped[bool] = mapped_column(default=False)
    state: Mapped[OwnTrackState] = mapped_column(default=OWN_TRACK.initial)
    people: Mapped[int | None]
    people_at: Mapped[datetime | None]
    created_at: Mapped[datetime]
    reason: Mapped[str | None]
    berth: Mapped[Berth] = relationship()


class TrackRule(Base):
    """When a build moves from one track of a berth to another automatically; what is None is not asked for."""

    __tablename__ = "track_rules"

    id: Mapped[str] = key("ru")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"), index=True)
    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"))
    source: Mapped[str]
    target: Mapped[str]
    hours: Mapped[float | None]
    people: Mapped[int | None]
    crash_free: Mapped[float | None]
    no_open: Mapped[list[str]] = mapped_column(default=list)
    needs_go_ahead: Mapped[bool] = mapped_column(default=False)
    created_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    app: Mapped[App] = relationship()
    berth: Mapped[Berth] = relationship()


class RuleRun(Base):
    """One build under one rule: whether the go-ahead was given, and what became of it."""

    __tablename__ = "rule_runs"
    __table_args__ = (Index("rule_runs_by_build", "build_id"),)

    rule_id: Mapped[str] = mapped_column(ForeignKey("track_rules.id"), primary_key=True)
    build_id: Mapped[str] = mapped_column(ForeignKey("builds.id"), primary_key=True)
    go_ahead_at: Mapped[datetime | None]
    moved_at: Mapped[datetime | None]
    trouble: Mapped[str | None]
    rule: Mapped[TrackRule] = relationship()
