"""What was counted by the hour and by the day, and the guards that watch it."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any

from sqlalchemy import ForeignKey, Index, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.guard import OnBreach, Verdict
from restless_tide.records.columns import Base, SharedJson, key

if TYPE_CHECKING:
    from restless_tide.records.tables.apps import App
    from restless_tide.records.tables.releases import Leg, Release


class GaugeHour(Base):
    """An hour of a berth as one source last told it; ``hour`` is counted from 1970. An empty source is the store itself.

    ``corrected`` is how often it was told anew after it was complete.
    """

    __tablename__ = "gauge_hours"

    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), primary_key=True)
    source: Mapped[str] = mapped_column(primary_key=True)
    hour: Mapped[int] = mapped_column(primary_key=True)
    revision: Mapped[int]
    complete: Mapped[bool]
    corrected: Mapped[int] = mapped_column(default=0)
    taken_at: Mapped[datetime]


class _Counted:
    """The counts of gauges.py, of one version on one kind of device."""

    people: Mapped[int] = mapped_column(default=0)
    sessions: Mapped[int] = mapped_column(default=0)
    crashed_sessions: Mapped[int] = mapped_column(default=0)
    crashed_people: Mapped[int] = mapped_column(default=0)
    hangs: Mapped[int] = mapped_column(default=0)
    first_starts: Mapped[int] = mapped_column(default=0)
    stars_1: Mapped[int] = mapped_column(default=0)
    stars_2: Mapped[int] = mapped_column(default=0)
    stars_3: Mapped[int] = mapped_column(default=0)
    stars_4: Mapped[int] = mapped_column(default=0)
    stars_5: Mapped[int] = mapped_column(default=0)


class GaugeCount(_Counted, Base):
    """What was counted in one hour."""

    __tablename__ = "gauge_counts"
    __table_args__ = ({"sqlite_with_rowid": False},)

    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), primary_key=True)
    source: Mapped[str] = mapped_column(primary_key=True)
    hour: Mapped[int] = mapped_column(primary_key=True)
    version: Mapped[str] = mapped_column(primary_key=True)
    number: Mapped[str] = mapped_column(primary_key=True)
    level: Mapped[str] = mapped_column(primary_key=True)
    device: Mapped[str] = mapped_column(primary_key=True)


class GaugeDay(_Counted, Base):
    """What was counted in one day, once its hours are old; ``day`` is counted from 1970."""

    __tablename__ = "gauge_days"
    __table_args__ = ({"sqlite_with_rowid": False},)

    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), primary_key=True)
    source: Mapped[str] = mapped_column(primary_key=True)
    day: Mapped[int] = mapped_column(primary_key=True)
    version: Mapped[str] = mapped_column(primary_key=True)
    number: Mapped[str] = mapped_column(primary_key=True)
    level: Mapped[str] = mapped_column(primary_key=True)
    device: Mapped[str] = mapped_column(primary_key=True)


class Guard(Base):
    """A rule that watches every rollout of an app. No stores: all of them. An empty source: what the stores count."""

    __tablename__ = "guards"
    __table_args__ = (Index("ix_guards_of_app", "app_id", "name", unique=True, sqlite_where=text("ended_at IS NULL")),)

    id: Mapped[str] = key("gu")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    name: Mapped[str]
    rule: Mapped[dict[str, Any]]
    on_breach: Mapped[OnBreach]
    every_store: Mapped[bool]
    together: Mapped[bool]
    stores: Mapped[list[str]]
    source: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    app: Mapped[App] = relationship()


class GuardWatch(Base):
    """A guard at one rollout: a leg, or with ``leg_id`` null all legs of a release together; and what it said last.

    It counts from ``counts_since`` on, which a person's resume after a breach sets anew. ``found`` is what
    the guard said last, as figures; ``breach`` keeps the whole evidence of a breach as it was then.
    """

    __tablename__ = "guard_watches"
    __table_args__ = (Index("ix_guard_watches_of", "guard_id", "release_id", "leg_id", unique=True),)

    id: Mapped[str] = key("gw")
    guard_id: Mapped[str] = mapped_column(ForeignKey("guards.id"))
    release_id: Mapped[str] = mapped_column(ForeignKey("releases.id"), index=True)
    leg_id: Mapped[str | None] = mapped_column(ForeignKey("legs.id"))
    verdict: Mapped[Verdict | None]
    verdict_since: Mapped[datetime]
    judged_at: Mapped[datetime | None]
    counts_since: Mapped[datetime | None]
    blind: Mapped[str] = mapped_column(default="")
    said: Mapped[str] = mapped_column(default="")
    found: Mapped[dict[str, Any]] = mapped_column(default=dict)
    breached_at: Mapped[datetime | None]
    acted: Mapped[str] = mapped_column(default="")
    breach: Mapped[dict[str, Any] | None] = mapped_column(SharedJson)
    silent_until: Mapped[datetime | None]
    silent_reason: Mapped[str] = mapped_column(default="")
    silent_by: Mapped[str] = mapped_column(default="")
    guard: Mapped[Guard] = relationship()
    release: Mapped[Release] = relationship()
    leg: Mapped[Leg | None] = relationship()
