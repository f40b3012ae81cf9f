"""Builds, their packages, and their way to the stores."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.consignment import CONSIGNMENT, ConsignmentState
from restless_tide.core.numbers import BuildNumber
from restless_tide.records.columns import Base, key, number_order_of, sighting_of, version_order_of

if TYPE_CHECKING:
    from restless_tide.records.tables.apps import App, Berth
    from restless_tide.records.tables.orders import Sighting


class Package(Base):
    """A package file, kept by digest. After ``cleared_at`` only its facts are left."""

    __tablename__ = "packages"

    sha256: Mapped[str] = mapped_column(primary_key=True)
    size_bytes: Mapped[int]
    facts: Mapped[dict[str, Any]]
    received_at: Mapped[datetime]
    cleared_at: Mapped[datetime | None]


class Upload(Base):
    """A package file on its way to the desk. How far it has come is the size of the file it is written to."""

    __tablename__ = "uploads"

    id: Mapped[str] = key("u")
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id"))
    sha256: Mapped[str] = mapped_column(index=True)
    size_bytes: Mapped[int]
    filename: Mapped[str]
    created_at: Mapped[datetime]
    expires_at: Mapped[datetime]
    finished_at: Mapped[datetime | None]


class Build(Base):
    """One version and number of an app for one platform: one or more packages. ``revision`` is its source's."""

    __tablename__ = "builds"
    __table_args__ = (
        Index("builds_by_app", "app_id", "created_at", "id"),
        Index("builds_by_version", "app_id", "version_order", "number_order", "id"),
        Index("builds_by_number", "app_id", "number_order", "version_order", "id"),
        Index("builds_same", "app_id", "platform", "version", "number_order"),
    )

    id: Mapped[str] = key("b")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    platform: Mapped[str]
    version: Mapped[str]
    number: Mapped[BuildNumber]
    version_order: Mapped[int] = mapped_column(default=version_order_of, server_default="0")
    number_order: Mapped[str] = mapped_column(default=number_order_of, server_default="")
    created_at: Mapped[datetime]
    created_by: Mapped[str]
    revision: Mapped[str | None]
    repository: Mapped[str | None]
    app: Mapped[App] = relationship()
    packages: Mapped[list[BuildPackage]] = relationship(order_by="BuildPackage.position")
    consignments: Mapped[list[Consignment]] = relationship(back_populates="build", order_by="Consignment.created_at")

    @property
    def label(self) -> str:
        return f"{self.version} ({self.number})"


class BuildPackage(Base):
    __tablename__ = "build_packages"

    build_id: Mapped[str] = mapped_column(ForeignKey("builds.id"), primary_key=True)
    position: Mapped[int] = mapped_column(primary_key=True)
    sha256: Mapped[str] = mapped_column(ForeignKey("packages.sha256"), index=True)
    package: Mapped[Package] = relationship()


class Reservation(Base):
    """A version and number held for a build that is still being made; over when that build came."""

    __tablename__ = "reservations"
    __table_args__ = (UniqueConstraint("app_id", "version", "number_order"),)

    id: Mapped[str] = key("re")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    version: Mapped[str]
    number: Mapped[BuildNumber]
    number_order: Mapped[str] = mapped_column(default=number_order_of, server_default="")
    stores: Mapped[list[str]]
    label: Mapped[str]
    reserved_by: Mapped[str]
    reserved_at: Mapped[datetime]
    build_id: Mapped[str | None] = mapped_column(ForeignKey("builds.id"))


class StandingAnswer(Base):
    """An answer that is given automatically whenever the same question is asked again in the same words."""

    __tablename__ = "standing_answers"
    __table_args__ = (UniqueConstraint("berth_id", "code"),)

    id: Mapped[str] = key("sa")
    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"))
    code: Mapped[str]
    text: Mapped[str]
    answer: Mapped[str]
    given_at: Mapped[datetime]
    given_by: Mapped[str]
    berth: Mapped[Berth] = relationship()


class Consignment(Base):
    """A build on its way to a berth. ``sent_bytes`` of ``size_bytes`` have reached the store."""

    __tablename__ = "consignments"
    __table_args__ = (UniqueConstraint("build_id", "berth_id"),)

    id: Mapped[str] = key("c")
    build_id: Mapped[str] = mapped_column(ForeignKey("builds.id"))
    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), index=True)
    state: Mapped[ConsignmentState] = mapped_column(default=CONSIGNMENT.initial)
    created_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    sent_bytes: Mapped[int] = mapped_column(default=0)
    size_bytes: Mapped[int]
    store_ref: Mapped[str | None] = mapped_column(index=True)
    uploads: Mapped[dict[str, Any]] = mapped_column(default=dict)
    questions: Mapped[list[dict[str, Any]]] = mapped_column(default=list)
    answers: Mapped[dict[str, Any]] = mapped_column(default=dict)
    reason: Mapped[str | None]
    build: Mapped[Build] = relationship(back_populates="consignments")
    berth: Mapped[Berth] = relationship()
    sighting: Mapped[Sighting | None] = sighting_of("Consignment")


class SymbolFile(Base):
    """A file that brings names back into the stacks of one build."""

    __tablename__ = "symbol_files"

    id: Mapped[str] = key("sy")
    build_id: Mapped[str] = mapped_column(ForeignKey("builds.id"), index=True)
    name: Mapped[str]
    kind: Mapped[str]
    identity: Mapped[str]
    sha256: Mapped[str] = mapped_column(index=True)
    size_bytes: Mapped[int]
    stored_at: Mapped[datetime]
    stored_by: Mapped[str]
