"""What came of refusals: matters, and the standing checks that they have taught."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

from sqlalchemy import ForeignKey, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.check import CheckKind
from restless_tide.core.matter import MATTER, MatterState
from restless_tide.records.columns import Base, key

if TYPE_CHECKING:
    from restless_tide.records.tables.apps import App
    from restless_tide.records.tables.releases import Leg


class Matter(Base):
    """One reason of a store's refusal. ``words`` are the store's; ``thing`` is the node of its graph that it names, if it does.

    ``said`` is what was done about it; ``first_round`` and ``last_round`` are those in which the store gave it.
    """

    __tablename__ = "matters"
    __table_args__ = (UniqueConstraint("leg_id", "number"),)

    id: Mapped[str] = key("m")
    leg_id: Mapped[str] = mapped_column(ForeignKey("legs.id"), index=True)
    number: Mapped[int]
    words: Mapped[str]
    thing: Mapped[str | None]
    item: Mapped[str | None]
    """What of the submission it is about, where the store names it."""
    state: Mapped[MatterState] = mapped_column(default=MATTER.initial, index=True)
    first_round: Mapped[int]
    last_round: Mapped[int]
    said: Mapped[str] = mapped_column(default="")
    taken_by: Mapped[str | None]
    ticket: Mapped[str] = mapped_column(default="")
    due_on: Mapped[str | None]
    """A day, as 2026-12-01."""
    created_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    leg: Mapped[Leg] = relationship(back_populates="matters")


class StandingCheck(Base):
    """What is looked at before every hand-in of an app, since a matter has taught it."""

    __tablename__ = "checks"

    id: Mapped[str] = key("ch")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"), index=True)
    kind: Mapped[CheckKind]
    text: Mapped[str]
    matter_id: Mapped[str | None] = mapped_column(ForeignKey("matters.id"))
    created_at: Mapped[datetime]
    created_by: Mapped[str]
    ended_at: Mapped[datetime | None]
    app: Mapped[App] = relationship()


class CheckTick(Base):
    """A person has answered a check with yes for one release."""

    __tablename__ = "check_ticks"

    check_id: Mapped[str] = mapped_column(ForeignKey("checks.id"), primary_key=True)
    release_id: Mapped[str] = mapped_column(ForeignKey("releases.id"), primary_key=True)
    person: Mapped[str]
    at: Mapped[datetime]
