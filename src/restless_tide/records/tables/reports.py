"""What testers send back."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.notice import DeliveryState
from restless_tide.core.report import REPORT, ReportKind, ReportState
from restless_tide.records.columns import Base, key

if TYPE_CHECKING:
    from restless_tide.records.tables.apps import App
    from restless_tide.records.tables.builds import Build
    from restless_tide.records.tables.stores import Store
    from restless_tide.records.tables.testing import Tester, Trial


ALIKE = (
    "app_id", "fingerprint", "received_at", "id", "state", "symbolised", "device", "build_id", "tester_id",
)  # fmt: skip
"""Crashes are put together from this index alone."""


class FieldReport(Base):
    """What someone sent back. ``source_ref`` is the store's own name for it; ``stack`` as it came in, ``frames`` with names."""

    __tablename__ = "field_reports"
    __table_args__ = (
        UniqueConstraint("store_id", "source_ref"),
        Index("reports_by_app", "app_id", "received_at", "id"),
        Index("reports_alike", *ALIKE),
        Index("reports_by_build", "build_id"),
        Index("reports_by_tester", "tester_id"),
    )

    id: Mapped[str] = key("fr")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    build_id: Mapped[str | None] = mapped_column(ForeignKey("builds.id"))
    trial_id: Mapped[str | None] = mapped_column(ForeignKey("trials.id"))
    tester_id: Mapped[str | None] = mapped_column(ForeignKey("testers.id"))
    store_id: Mapped[str | None] = mapped_column(ForeignKey("stores.id"))
    source: Mapped[str]
    source_ref: Mapped[str | None]
    kind: Mapped[ReportKind]
    state: Mapped[ReportState] = mapped_column(default=REPORT.initial)
    text: Mapped[str] = mapped_column(default="")
    device: Mapped[str] = mapped_column(default="")
    system: Mapped[str] = mapped_column(default="")
    language: Mapped[str] = mapped_column(default="")
    at: Mapped[datetime]
    received_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    stack: Mapped[str] = mapped_column(default="")
    frames: Mapped[list[dict[str, Any]]] = mapped_column(default=list)
    thrown: Mapped[str] = mapped_column(default="")
    headline: Mapped[str] = mapped_column(default="")
    symbolised: Mapped[bool] = mapped_column(default=False)
    fingerprint: Mapped[str | None]
    fixed_in: Mapped[str | None] = mapped_column(ForeignKey("builds.id"))
    duplicate_of: Mapped[str | None] = mapped_column(ForeignKey("field_reports.id"))
    ticket: Mapped[str] = mapped_column(default="")
    pictures_due: Mapped[int] = mapped_column(default=0)
    app: Mapped[App] = relationship()
    build: Mapped[Build | None] = relationship(foreign_keys=[build_id])
    fixed_build: Mapped[Build | None] = relationship(foreign_keys=[fixed_in])
    trial: Mapped[Trial | None] = relationship()
    tester: Mapped[Tester | None] = relationship()
    store: Mapped[Store | None] = relationship()
    pictures: Mapped[list[ReportPicture]] = relationship(
        order_by="ReportPicture.position", cascade="all, delete-orphan"
    )
    words: Mapped[list[ReportWord]] = relationship(order_by="ReportWord.at", cascade="all, delete-orphan")


class ReportPicture(Base):
    """A picture of a report, made anew from what was sent, so that nothing but the picture is in it."""

    __tablename__ = "report_pictures"

    report_id: Mapped[str] = mapped_column(ForeignKey("field_reports.id"), primary_key=True)
    position: Mapped[int] = mapped_column(primary_key=True)
    sha256: Mapped[str] = mapped_column(index=True)
    media_type: Mapped[str]
    width: Mapped[int]
    height: Mapped[int]
    size_bytes: Mapped[int]


class ReportWord(Base):
    """A word in a report's conversation: from the desk to the tester by mail, or back."""

    __tablename__ = "report_words"
    __table_args__ = (Index("words_waiting", "state", "try_after"),)

    id: Mapped[str] = key("rw")
    report_id: Mapped[str] = mapped_column(ForeignKey("field_reports.id"))
    at: Mapped[datetime]
    person_id: Mapped[str | None]
    text: Mapped[str]
    state: Mapped[DeliveryState | None]
    attempts: Mapped[int] = mapped_column(default=0)
    try_after: Mapped[datetime | None]
    trouble: Mapped[str | None]
    report: Mapped[FieldReport] = relationship(back_populates="words")
