"""What an app is signed with."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any

from sqlalchemy import ForeignKey, Index, LargeBinary, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.signing import KeyHolder
from restless_tide.records.columns import Base, key

if TYPE_CHECKING:
    from restless_tide.records.tables.apps import App


class Signing(Base):
    """The signing register's page for an app on a platform: whose signature is expected, and what is declared."""

    __tablename__ = "signings"

    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"), primary_key=True)
    platform: Mapped[str] = mapped_column(primary_key=True)
    holder: Mapped[KeyHolder] = mapped_column(default=KeyHolder.TEAM)
    certificates: Mapped[list[dict[str, Any]]] = mapped_column(default=list)
    declared: Mapped[list[str] | None]
    changed_at: Mapped[datetime]
    reason: Mapped[str] = mapped_column(default="")
    app: Mapped[App] = relationship()


class TestDevice(Base):
    """A device that profiles name, so that builds for tests run on it."""

    __tablename__ = "test_devices"
    __table_args__ = (UniqueConstraint("app_id", "identifier"),)

    id: Mapped[str] = key("td")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    platform: Mapped[str]
    name: Mapped[str]
    identifier: Mapped[str]
    registered_at: Mapped[datetime]
    expires_at: Mapped[datetime | None]


class LockerFile(Base):
    """A certificate, key or profile file, sealed. The newest of a name counts; older ones are kept as replaced."""

    __tablename__ = "locker_files"
    __table_args__ = (Index("locker_by_app", "app_id", "name"),)

    id: Mapped[str] = key("lf")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    platform: Mapped[str]
    kind: Mapped[str]
    name: Mapped[str]
    sealed: Mapped[bytes] = mapped_column(LargeBinary)
    sha256: Mapped[str]
    size_bytes: Mapped[int]
    told: Mapped[str] = mapped_column(default="")
    expires_at: Mapped[datetime | None]
    stored_at: Mapped[datetime]
    stored_by: Mapped[str]
    replaced_at: Mapped[datetime | None]
