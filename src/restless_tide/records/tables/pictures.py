"""The pictures and films of an app, what was made of them, and what each store was last seen to hold. The files lie on
disk under their digests."""

from __future__ import annotations

from datetime import datetime
from typing import Self

from sqlalchemy import JSON, ForeignKey, Index
from sqlalchemy import text as sql
from sqlalchemy.orm import Mapped, mapped_column

from restless_tide.records.columns import Base, key
from restless_tide.records.tables.texts import HeldThing


class PictureFile(Base):
    """An original, with what was read out of it. Sides in pixels."""

    __tablename__ = "picture_files"

    sha256: Mapped[str] = mapped_column(primary_key=True)
    format: Mapped[str]
    width: Mapped[int]
    height: Mapped[int]
    size_bytes: Mapped[int]
    transparent: Mapped[bool]
    plain: Mapped[bool]
    seconds: Mapped[float | None]
    codec: Mapped[str | None]
    kept_at: Mapped[datetime]


class MadePicture(Base):
    """A file that was made of an original, by the digest of its recipe. With ``trouble`` it could not be made, and has no
    digest."""

    __tablename__ = "made_pictures"

    recipe: Mapped[str] = mapped_column(primary_key=True)
    original: Mapped[str] = mapped_column(ForeignKey("picture_files.sha256", ondelete="CASCADE"), index=True)
    sha256: Mapped[str] = mapped_column(index=True)
    format: Mapped[str]
    width: Mapped[int]
    height: Mapped[int]
    size_bytes: Mapped[int]
    trouble: Mapped[str] = mapped_column(default="")


class IconLikeness(Base):
    """How far an original is from the icon inside a package; null: that icon cannot be drawn here."""

    __tablename__ = "icon_likenesses"

    original: Mapped[str] = mapped_column(ForeignKey("picture_files.sha256", ondelete="CASCADE"), primary_key=True)
    package: Mapped[str] = mapped_column(primary_key=True)
    apart: Mapped[float | None]


class AppPictureSet(Base):
    """The pictures of one class in one locale, in their order: digests of originals. Of all stores, ``picture_class`` is
    its meaning; of one berth, that store's own key of it.

    A set that was taken out keeps its row, so that its revision goes on rising.
    """

    __tablename__ = "app_picture_sets"
    __table_args__ = (
        Index(
            "app_picture_sets_common_once", "app_id", "locale", "picture_class", unique=True,
            sqlite_where=sql("berth_id IS NULL"),
        ),
        Index("app_picture_sets_own_once", "app_id", "berth_id", "locale", "picture_class", unique=True),
    )  # fmt: skip

    id: Mapped[str] = key("ps")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    berth_id: Mapped[str | None] = mapped_column(ForeignKey("berths.id"))
    locale: Mapped[str]
    picture_class: Mapped[str]
    pictures: Mapped[list[str]] = mapped_column(JSON)
    revision: Mapped[int] = mapped_column(default=1)
    changed_at: Mapped[datetime]
    changed_by: Mapped[str]


class HeldPictures(HeldThing, Base):
    """The pictures of one class in one locale at a store, as it was last seen to hold them: digests of files."""

    __tablename__ = "held_pictures"

    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), primary_key=True)
    locale: Mapped[str] = mapped_column(primary_key=True)
    picture_class: Mapped[str] = mapped_column(primary_key=True)
    files: Mapped[list[str]] = mapped_column(JSON)

    @property
    def place(self) -> tuple[str, str]:
        return self.locale, self.picture_class

    @classmethod
    def new(cls, berth_id: str, place: tuple[str, str]) -> Self:
        return cls(berth_id=berth_id, locale=place[0], picture_class=place[1], files=[], sequence=0, kept=False)

    def holds(self, value: list[str] | tuple[str, ...]) -> None:
        self.files = list(value)
