"""Testers, cohorts, trials and invitations."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any

from sqlalchemy import ForeignKey, Index, LargeBinary, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.invitation import INVITATION, InvitationState
from restless_tide.core.rulebook import CohortKind
from restless_tide.core.trial import TRIAL, TrialState
from restless_tide.records.columns import Base, key, sighting_of

if TYPE_CHECKING:
    from restless_tide.records.tables.apps import App, Berth
    from restless_tide.records.tables.builds import Consignment
    from restless_tide.records.tables.orders import Sighting


class Tester(Base):
    """Someone who tests; belongs to the desk, not to a cohort. Whoever was forgotten leaves the id alone."""

    __tablename__ = "testers"

    id: Mapped[str] = key("te")
    email: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    created_at: Mapped[datetime]
    platforms: Mapped[list[str]] = mapped_column(default=list, server_default="[]")
    languages: Mapped[list[str]] = mapped_column(default=list, server_default="[]")
    devices: Mapped[list[str]] = mapped_column(default=list, server_default="[]")
    tags: Mapped[list[str]] = mapped_column(default=list, server_default="[]")
    lookalike: Mapped[str] = mapped_column(default="", server_default="", index=True)
    consented_at: Mapped[datetime | None]
    consent_how: Mapped[str] = mapped_column(default="", server_default="")
    mailed: Mapped[list[str]] = mapped_column(default=list, server_default="[]")
    bounced_at: Mapped[datetime | None]
    bounce_said: Mapped[str | None]
    forgotten_at: Mapped[datetime | None]


class Cohort(Base):
    """A group of testers of an app. ``brief`` and ``contact`` are what a trial says unless it says otherwise.

    A walk-in cohort has a link while ``join_open``; ``join_nonce`` makes it another one.
    """

    __tablename__ = "cohorts"
    __table_args__ = (UniqueConstraint("app_id", "name"),)

    id: Mapped[str] = key("co")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    name: Mapped[str]
    kind: Mapped[CohortKind]
    created_at: Mapped[datetime]
    retired_at: Mapped[datetime | None]
    brief: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    contact: Mapped[str] = mapped_column(default="", server_default="")
    join_open: Mapped[bool] = mapped_column(default=False, server_default="0")
    join_limit: Mapped[int | None]
    join_until: Mapped[datetime | None]
    join_nonce: Mapped[str] = mapped_column(default="", server_default="")
    app: Mapped[App] = relationship()
    attachments: Mapped[list[Attachment]] = relationship(
        back_populates="cohort", cascade="all, delete-orphan", order_by="Attachment.attached_at"
    )
    trials: Mapped[list[Trial]] = relationship(back_populates="cohort", order_by="Trial.created_at.desc()")


class Attachment(Base):
    """A cohort at a berth, on the track over which it gets builds there (None: the rulebook's for its kind). ``by_itself``: every new build that is ready there goes to the cohort without anybody's hand."""

    __tablename__ = "attachments"

    cohort_id: Mapped[str] = mapped_column(ForeignKey("cohorts.id"), primary_key=True)
    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), primary_key=True)
    by_itself: Mapped[bool] = mapped_column(default=False)
    track: Mapped[str | None]
    attached_at: Mapped[datetime]
    trouble: Mapped[str | None]
    cohort: Mapped[Cohort] = relationship(back_populates="attachments")
    berth: Mapped[Berth] = relationship()


class Membership(Base):
    """Someone in a cohort. After ``declined_at`` they are mailed nothing more and hold no seat."""

    __tablename__ = "memberships"
    __table_args__ = (Index("memberships_by_tester", "tester_id"),)

    cohort_id: Mapped[str] = mapped_column(ForeignKey("cohorts.id"), primary_key=True)
    tester_id: Mapped[str] = mapped_column(ForeignKey("testers.id"), primary_key=True)
    joined_at: Mapped[datetime]
    joined_how: Mapped[str] = mapped_column(default="", server_default="")
    accepted_at: Mapped[datetime | None]
    declined_at: Mapped[datetime | None]
    tester: Mapped[Tester] = relationship()


class Trial(Base):
    """A build handed to a cohort at one store. ``brief`` is what to look at, by locale; how the reviewer signs in is sealed."""

    __tablename__ = "trials"
    __table_args__ = (
        Index("trials_by_cohort", "cohort_id", "created_at"),
        Index("trials_by_consignment", "consignment_id"),
    )

    id: Mapped[str] = key("tr")
    cohort_id: Mapped[str] = mapped_column(ForeignKey("cohorts.id"))
    consignment_id: Mapped[str] = mapped_column(ForeignKey("consignments.id"))
    track: Mapped[str] = mapped_column(server_default="")
    state: Mapped[TrialState] = mapped_column(default=TRIAL.initial)
    brief: Mapped[dict[str, Any]] = mapped_column(default=dict)
    contact: Mapped[str]
    remarks_to: Mapped[str] = mapped_column(default="", server_default="")
    sealed_sign_in: Mapped[bytes | None] = mapped_column(LargeBinary)
    by_itself: Mapped[bool] = mapped_column(default=False, server_default="0")
    created_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    opened_at: Mapped[datetime | None]
    store_ref: Mapped[str | None] = mapped_column(index=True)
    store_page: Mapped[str | None]
    usage_asked_at: Mapped[datetime | None]
    reason: Mapped[str | None]
    cohort: Mapped[Cohort] = relationship(back_populates="trials")
    consignment: Mapped[Consignment] = relationship()
    sighting: Mapped[Sighting | None] = sighting_of("Trial")


class TrialUsage(Base):
    """What a store reports for one day of a trial: how often the build was used, and how often that ended in a crash."""

    __tablename__ = "trial_usage"

    trial_id: Mapped[str] = mapped_column(ForeignKey("trials.id"), primary_key=True)
    day: Mapped[str] = mapped_column(primary_key=True)
    sessions: Mapped[int]
    crashed: Mapped[int]


class Invitation(Base):
    """A tester and a trial. ``moments`` are the instants of its states; ``seated_at`` is when the store gave a seat.

    ``carried``: the tester has accepted before in this cohort, so the mail only tells of a new build.
    """

    __tablename__ = "invitations"
    __table_args__ = (
        UniqueConstraint("trial_id", "tester_id"),
        Index("invitations_of_trial", "trial_id", "state"),
        Index("invitations_by_tester", "tester_id"),
        Index("invitations_waiting", "state", "try_after"),
    )

    id: Mapped[str] = key("in")
    trial_id: Mapped[str] = mapped_column(ForeignKey("trials.id"))
    tester_id: Mapped[str] = mapped_column(ForeignKey("testers.id"))
    state: Mapped[InvitationState] = mapped_column(default=INVITATION.initial, index=True)
    created_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    moments: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    carried: Mapped[bool] = mapped_column(default=False, server_default="0")
    seated_at: Mapped[datetime | None]
    mails: Mapped[int] = mapped_column(default=0, server_default="0")
    mailed_at: Mapped[datetime | None]
    device: Mapped[str] = mapped_column(default="", server_default="")
    system: Mapped[str] = mapped_column(default="", server_default="")
    attempts: Mapped[int] = mapped_column(default=0)
    try_after: Mapped[datetime | None]
    trouble: Mapped[str | None]
    trial: Mapped[Trial] = relationship()
    tester: Mapped[Tester] = relationship()
