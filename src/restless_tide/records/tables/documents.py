"""The documents that answer questions of stores. The files lie on disk under their digests."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy.orm import Mapped, mapped_column

from restless_tide.records.columns import Base


class Document(Base):
    """A document that answers a question; ``name`` is the one under which it was sent last."""

    __tablename__ = "documents"

    sha256: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str]
    format: Mapped[str]
    size_bytes: Mapped[int]
    kept_at: Mapped[datetime]
