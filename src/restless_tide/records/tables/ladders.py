"""Ladders that are kept under a name."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy.orm import Mapped, mapped_column

from restless_tide.records.columns import Base


class LadderRow(Base):
    """A named ladder; ``stages`` as core's Ladder writes them."""

    __tablename__ = "ladders"

    name: Mapped[str] = mapped_column(primary_key=True)
    stages: Mapped[list[dict[str, Any]]]
    reason: Mapped[str] = mapped_column(default="")
    changed_at: Mapped[datetime]
