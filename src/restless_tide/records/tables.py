"""The desk's tables. What is wanted (orders, and the states that acts lead to) and what was seen
(sightings) never share a column."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, LargeBinary, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.invitation import InvitationState
from restless_tide.core.order import OrderKind, OrderState
from restless_tide.core.rollout import RolloutState
from restless_tide.core.round import RoundState
from restless_tide.core.rulebook import CohortKind
from restless_tide.core.trial import TrialState
from restless_tide.records.columns import Base, new_id


def _key(prefix: str) -> Mapped[str]:
    return mapped_column(primary_key=True, default=lambda: new_id(prefix))


class Person(Base):
    """Somebody who works at the desk. The id is the pseudonym that stands in the logbook."""

    __tablename__ = "people"

    id: Mapped[str] = _key("p")
    name: Mapped[str]
    email: Mapped[str] = mapped_column(unique=True)
    password_hash: Mapped[str]
    created_at: Mapped[datetime]


class SignIn(Base):
    """A console session. Only the digest of its token is kept."""

    __tablename__ = "sign_ins"

    token_digest: Mapped[str] = mapped_column(primary_key=True)
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id"))
    created_at: Mapped[datetime]
    expires_at: Mapped[datetime]
    person: Mapped[Person] = relationship()


class Token(Base):
    """A revocable bearer token for the command line, a script or a build server."""

    __tablename__ = "tokens"

    id: Mapped[str] = _key("t")
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id"))
    label: Mapped[str]
    token_digest: Mapped[str] = mapped_column(unique=True)
    created_at: Mapped[datetime]
    expires_at: Mapped[datetime | None]
    revoked_at: Mapped[datetime | None]
    person: Mapped[Person] = relationship()


class Store(Base):
    """One account at one store. ``sealed_key`` is the private key, sealed."""

    __tablename__ = "stores"

    id: Mapped[str] = _key("s")
    name: Mapped[str] = mapped_column(unique=True)
    address: Mapped[str]
    client_id: Mapped[str]
    sealed_key: Mapped[bytes] = mapped_column(LargeBinary)
    may: Mapped[list[str]]
    rulebook: Mapped[dict[str, Any]]
    connected_at: Mapped[datetime]
    events_seen: Mapped[int] = mapped_column(default=0)
    reached_at: Mapped[datetime | None]
    trouble: Mapped[str | None]


class App(Base):
    __tablename__ = "apps"

    id: Mapped[str] = _key("a")
    name: Mapped[str] = mapped_column(unique=True)
    title: Mapped[str]
    created_at: Mapped[datetime]
    identifiers: Mapped[list[AppIdentifier]] = relationship(back_populates="app", order_by="AppIdentifier.platform")
    berths: Mapped[list[Berth]] = relationship(back_populates="app", order_by="Berth.created_at")


class AppIdentifier(Base):
    """The identifier of an app on a platform, fixed for life once a build was handed in."""

    __tablename__ = "app_identifiers"

    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"), primary_key=True)
    platform: Mapped[str] = mapped_column(primary_key=True)
    identifier: Mapped[str]
    app: Mapped[App] = relationship(back_populates="identifiers")


class Berth(Base):
    """An app's place at a store. ``store_ref`` is the store's own name for it, once open."""

    __tablename__ = "berths"
    __table_args__ = (UniqueConstraint("app_id", "store_id"),)

    id: Mapped[str] = _key("be")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"))
    listed_name: Mapped[str]
    platform: Mapped[str]
    identifier: Mapped[str]
    language: Mapped[str]
    created_at: Mapped[datetime]
    store_ref: Mapped[str | None]
    refused_because: Mapped[str | None]
    app: Mapped[App] = relationship(back_populates="berths")
    store: Mapped[Store] = relationship()


class Package(Base):
    """A package file, kept by digest."""

    __tablename__ = "packages"

    sha256: Mapped[str] = mapped_column(primary_key=True)
    size_bytes: Mapped[int]
    facts: Mapped[dict[str, Any]]
    received_at: Mapped[datetime]


class Build(Base):
    """One version and number of an app for one platform: one or more packages."""

    __tablename__ = "builds"
    __table_args__ = (Index("builds_by_app", "app_id", "created_at"),)

    id: Mapped[str] = _key("b")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    platform: Mapped[str]
    version: Mapped[str]
    number: Mapped[int]
    created_at: Mapped[datetime]
    created_by: Mapped[str]
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


class Consignment(Base):
    """A build on its way to a berth. ``sent_bytes`` of ``size_bytes`` have reached the store."""

    __tablename__ = "consignments"
    __table_args__ = (UniqueConstraint("build_id", "berth_id"),)

    id: Mapped[str] = _key("c")
    build_id: Mapped[str] = mapped_column(ForeignKey("builds.id"))
    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), index=True)
    state: Mapped[ConsignmentState] = mapped_column(default=ConsignmentState.QUEUED)
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


class Tester(Base):
    """Somebody who tests; belongs to the desk, not to a cohort."""

    __tablename__ = "testers"

    id: Mapped[str] = _key("te")
    email: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    created_at: Mapped[datetime]


class Cohort(Base):
    __tablename__ = "cohorts"
    __table_args__ = (UniqueConstraint("app_id", "name"),)

    id: Mapped[str] = _key("co")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    name: Mapped[str]
    kind: Mapped[CohortKind]
    created_at: Mapped[datetime]
    app: Mapped[App] = relationship()
    members: Mapped[list[Membership]] = relationship(cascade="all, delete-orphan", order_by="Membership.joined_at")
    trials: Mapped[list[Trial]] = relationship(back_populates="cohort", order_by="Trial.created_at.desc()")


class Membership(Base):
    __tablename__ = "memberships"

    cohort_id: Mapped[str] = mapped_column(ForeignKey("cohorts.id"), primary_key=True)
    tester_id: Mapped[str] = mapped_column(ForeignKey("testers.id"), primary_key=True)
    joined_at: Mapped[datetime]
    tester: Mapped[Tester] = relationship()


class Trial(Base):
    """A build handed to a cohort at one store."""

    __tablename__ = "trials"

    id: Mapped[str] = _key("tr")
    cohort_id: Mapped[str] = mapped_column(ForeignKey("cohorts.id"))
    consignment_id: Mapped[str] = mapped_column(ForeignKey("consignments.id"))
    state: Mapped[TrialState] = mapped_column(default=TrialState.DRAFTED)
    notes: Mapped[str]
    contact: Mapped[str]
    created_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    store_ref: Mapped[str | None] = mapped_column(index=True)
    reason: Mapped[str | None]
    cohort: Mapped[Cohort] = relationship(back_populates="trials")
    consignment: Mapped[Consignment] = relationship()
    invitations: Mapped[list[Invitation]] = relationship(back_populates="trial", order_by="Invitation.created_at")


class Invitation(Base):
    __tablename__ = "invitations"
    __table_args__ = (UniqueConstraint("trial_id", "tester_id"),)

    id: Mapped[str] = _key("in")
    trial_id: Mapped[str] = mapped_column(ForeignKey("trials.id"))
    tester_id: Mapped[str] = mapped_column(ForeignKey("testers.id"))
    state: Mapped[InvitationState] = mapped_column(default=InvitationState.QUEUED, index=True)
    created_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    attempts: Mapped[int] = mapped_column(default=0)
    try_after: Mapped[datetime | None]
    trouble: Mapped[str | None]
    trial: Mapped[Trial] = relationship(back_populates="invitations")
    tester: Mapped[Tester] = relationship()


class Release(Base):
    """A version of an app going to production. ``revision`` rises with every change to the draft."""

    __tablename__ = "releases"
    __table_args__ = (UniqueConstraint("app_id", "version"),)

    id: Mapped[str] = _key("r")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    version: Mapped[str]
    notes: Mapped[dict[str, Any]] = mapped_column(default=dict)
    revision: Mapped[int] = mapped_column(default=1)
    created_at: Mapped[datetime]
    app: Mapped[App] = relationship()
    legs: Mapped[list[Leg]] = relationship(back_populates="release", order_by="Leg.created_at")


class Leg(Base):
    """A release at one store: its build, its conditions, its ladder, and the desk's side of its rollout."""

    __tablename__ = "legs"
    __table_args__ = (UniqueConstraint("release_id", "berth_id"),)

    id: Mapped[str] = _key("l")
    release_id: Mapped[str] = mapped_column(ForeignKey("releases.id"))
    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), index=True)
    build_id: Mapped[str] = mapped_column(ForeignKey("builds.id"))
    created_at: Mapped[datetime]
    ladder: Mapped[dict[str, Any]]
    needs_word: Mapped[bool] = mapped_column(default=False)
    not_before: Mapped[datetime | None]
    with_other_legs: Mapped[bool] = mapped_column(default=False)
    word_given_at: Mapped[datetime | None]
    state: Mapped[RolloutState] = mapped_column(default=RolloutState.WAITING, index=True)
    stage: Mapped[int] = mapped_column(default=-1)
    share: Mapped[float] = mapped_column(default=0.0)
    held_before_seconds: Mapped[float] = mapped_column(default=0.0)
    running_since: Mapped[datetime | None]
    stage_ends_at: Mapped[datetime | None] = mapped_column(index=True)
    pauses_used: Mapped[int] = mapped_column(default=0)
    launched_at: Mapped[datetime | None]
    release: Mapped[Release] = relationship(back_populates="legs")
    berth: Mapped[Berth] = relationship()
    build: Mapped[Build] = relationship()
    rounds: Mapped[list[Round]] = relationship(back_populates="leg", order_by="Round.number")
    sighting: Mapped[Sighting | None] = relationship()


class Round(Base):
    """One attempt of a leg at the store's review."""

    __tablename__ = "rounds"
    __table_args__ = (UniqueConstraint("leg_id", "number"),)

    id: Mapped[str] = _key("ro")
    leg_id: Mapped[str] = mapped_column(ForeignKey("legs.id"))
    number: Mapped[int]
    build_id: Mapped[str] = mapped_column(ForeignKey("builds.id"))
    state: Mapped[RoundState] = mapped_column(default=RoundState.QUEUED)
    submitted_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    store_ref: Mapped[str | None] = mapped_column(index=True)
    reasons: Mapped[list[str]] = mapped_column(default=list)
    leg: Mapped[Leg] = relationship(back_populates="rounds")
    build: Mapped[Build] = relationship()


class Sighting(Base):
    """What a store was last seen to hold of a leg's rollout. ``at`` is by the store's own clock."""

    __tablename__ = "sightings"

    leg_id: Mapped[str] = mapped_column(ForeignKey("legs.id"), primary_key=True)
    state: Mapped[str]
    share: Mapped[float]
    at: Mapped[datetime]
    seen_at: Mapped[datetime]


class Order(Base):
    """A durable instruction to a store. Its id is its idempotency key; its lane keeps the sequence."""

    __tablename__ = "orders"
    __table_args__ = (Index("orders_pending", "state", "try_after"), Index("orders_by_lane", "lane", "position"))

    id: Mapped[str] = _key("o")
    position: Mapped[int] = mapped_column(index=True)
    lane: Mapped[str]
    kind: Mapped[OrderKind]
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"))
    subject: Mapped[str] = mapped_column(index=True)
    payload: Mapped[dict[str, Any]]
    state: Mapped[OrderState] = mapped_column(default=OrderState.QUEUED)
    ordered_at: Mapped[datetime]
    ordered_by: Mapped[str]
    attempts: Mapped[int] = mapped_column(default=0)
    try_after: Mapped[datetime | None]
    settled_at: Mapped[datetime | None]
    trouble: Mapped[str | None]
    store: Mapped[Store] = relationship()


class LogbookLine(Base):
    """An append-only line. People stand in it by id only."""

    __tablename__ = "logbook"
    __table_args__ = (Index("logbook_by_app", "app", "id"),)

    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    at: Mapped[datetime]
    person: Mapped[str]
    act: Mapped[str]
    subject: Mapped[str]
    app: Mapped[str | None]
    reason: Mapped[str] = mapped_column(default="")
    before: Mapped[dict[str, Any] | None]
    after: Mapped[dict[str, Any] | None]
    digest: Mapped[str]


class Change(Base):
    """One event of the live feed; its id is the Last-Event-ID."""

    __tablename__ = "changes"

    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    at: Mapped[datetime]
    kind: Mapped[str]
    app: Mapped[str | None]
    subject: Mapped[str]
    said: Mapped[str]
