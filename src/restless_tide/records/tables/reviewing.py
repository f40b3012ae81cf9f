"""What reviewers are told and write: standing briefs, the correspondence of a round, and what was looked at before a hand-in."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any

from sqlalchemy import ForeignKey, LargeBinary, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.correspondence import MessageKind
from restless_tide.records.columns import Base, key

if TYPE_CHECKING:
    from restless_tide.records.tables.orders import Order
    from restless_tide.records.tables.releases import Round


class KeptLook(Base):
    """What was seen of a release at a store when it was handed in, as core's look packs it, under the digest of it."""

    __tablename__ = "looks"

    digest: Mapped[str] = mapped_column(primary_key=True)
    content: Mapped[bytes] = mapped_column(LargeBinary)


class ReviewerBrief(Base):
    """What the reviewers of an app at a store are told in every round. ``files`` are documents, by their digests."""

    __tablename__ = "reviewer_briefs"

    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), primary_key=True)
    note: Mapped[str] = mapped_column(default="")
    sign_in: Mapped[str] = mapped_column(default="")
    """The name to sign in with; the whole is sealed."""
    sealed_sign_in: Mapped[bytes | None] = mapped_column(LargeBinary)
    sealed_digest: Mapped[str] = mapped_column(default="")
    """Of what is sealed, so that another password is seen as a change."""
    files: Mapped[list[dict[str, Any]]] = mapped_column(default=list)
    changed_at: Mapped[datetime]
    changed_by: Mapped[str]


class ReviewMessage(Base):
    """One message of a round. ``person`` is empty where the reviewer wrote it; ``order`` carries one of ours to the store.

    ``reference`` is the store's own name of it. Of a reviewer's file ``kept`` says whether it is here, and ``trouble`` why not.
    """

    __tablename__ = "review_messages"
    __table_args__ = (UniqueConstraint("round_id", "reference"),)

    id: Mapped[str] = key("rm")
    round_id: Mapped[str] = mapped_column(ForeignKey("rounds.id"), index=True)
    kind: Mapped[MessageKind]
    person: Mapped[str] = mapped_column(default="")
    words: Mapped[str]
    files: Mapped[list[dict[str, Any]]] = mapped_column(default=list)
    files_due: Mapped[bool] = mapped_column(default=False, index=True)
    at: Mapped[datetime]
    reference: Mapped[str | None]
    order_id: Mapped[str | None] = mapped_column(ForeignKey("orders.id"))
    order: Mapped[Order | None] = relationship()
    round: Mapped[Round] = relationship(back_populates="messages")
