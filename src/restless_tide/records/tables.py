"""The desk's tables. What is wanted (orders, and the states that acts lead to) and what was seen
(sightings) never share a column."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, LargeBinary, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.consignment import CONSIGNMENT, ConsignmentState
from restless_tide.core.invitation import InvitationState
from restless_tide.core.notice import DeliveryState
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.order import ORDER, OrderKind, OrderState
from restless_tide.core.report import ReportKind, ReportState
from restless_tide.core.rollout import ROLLOUT, RolloutState
from restless_tide.core.round import ROUND, RoundState
from restless_tide.core.rulebook import CohortKind
from restless_tide.core.signing import KeyHolder
from restless_tide.core.step import STEP, StepState
from restless_tide.core.trial import TRIAL, TrialState
from restless_tide.core.versions import version_order
from restless_tide.records.columns import Base, SharedJson, new_id


def _key(prefix: str) -> Mapped[str]:
    return mapped_column(primary_key=True, default=lambda: new_id(prefix))


def _sighting(table: str) -> Any:
    """What the store was last seen to hold of a row; written by the lanes alone."""
    return relationship(
        "Sighting",
        primaryjoin=f"foreign(Sighting.subject) == {table}.id",
        uselist=False,
        viewonly=True,
        sync_backref=False,
    )


def _version_order(context: Any) -> int:
    """The version as one number that sorts as versions do; what is no version sorts lowest."""
    return version_order(context.get_current_parameters()["version"])


def _number_order(context: Any) -> str:
    """The number as a text that sorts as numbers do, the same for equal ones."""
    number: BuildNumber = context.get_current_parameters()["number"]
    return number.order


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
    """A revocable bearer token. With ``apps`` it is a build server's: it reaches what builds of those apps need, no more."""

    __tablename__ = "tokens"

    id: Mapped[str] = _key("t")
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id"))
    label: Mapped[str]
    token_digest: Mapped[str] = mapped_column(unique=True)
    created_at: Mapped[datetime]
    expires_at: Mapped[datetime | None]
    revoked_at: Mapped[datetime | None]
    apps: Mapped[list[str]] = mapped_column(default=list, server_default="[]")
    person: Mapped[Person] = relationship()


class Store(Base):
    """One account at one store. ``sealed_key`` is the private key, sealed; without one the store is hand-carried."""

    __tablename__ = "stores"

    id: Mapped[str] = _key("s")
    name: Mapped[str] = mapped_column(unique=True)
    address: Mapped[str | None]
    client_id: Mapped[str | None]
    sealed_key: Mapped[bytes | None] = mapped_column(LargeBinary)
    may: Mapped[list[str]]
    rulebook: Mapped[dict[str, Any]] = mapped_column(SharedJson)
    next_rulebook: Mapped[dict[str, Any] | None] = mapped_column(SharedJson)
    rulebook_seen_at: Mapped[datetime | None]
    rulebook_trouble: Mapped[str | None]
    account: Mapped[dict[str, Any]] = mapped_column(default=dict)
    connected_at: Mapped[datetime]
    events_seen: Mapped[int] = mapped_column(default=0)
    last_event_at: Mapped[datetime | None]
    last_event: Mapped[str | None]
    pushed_at: Mapped[datetime | None]
    push_ref: Mapped[str | None]
    sealed_push_secret: Mapped[bytes | None] = mapped_column(LargeBinary)
    skew_seconds: Mapped[float] = mapped_column(default=0.0)
    breaker_failures: Mapped[int] = mapped_column(default=0)
    breaker_rests_until: Mapped[datetime | None]
    reached_at: Mapped[datetime | None]
    trouble: Mapped[str | None]

    @property
    def hand_carried(self) -> bool:
        return self.sealed_key is None


class RulebookRevision(Base):
    """A revision of a store's rulebook as it came in, with what changed against the one before it."""

    __tablename__ = "rulebook_revisions"
    __table_args__ = (UniqueConstraint("store_id", "revision"),)

    id: Mapped[str] = _key("rr")
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"))
    revision: Mapped[str]
    in_force_since: Mapped[datetime]
    announced_at: Mapped[datetime | None]
    taken_at: Mapped[datetime | None]
    changes: Mapped[list[dict[str, Any]]] = mapped_column(default=list)


class App(Base):
    __tablename__ = "apps"

    id: Mapped[str] = _key("a")
    name: Mapped[str] = mapped_column(unique=True)
    title: Mapped[str]
    created_at: Mapped[datetime]
    retention: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
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
    availability: Mapped[dict[str, Any]] = mapped_column(default=dict)
    app: Mapped[App] = relationship(back_populates="berths")
    store: Mapped[Store] = relationship()
    sighting: Mapped[Sighting | None] = _sighting("Berth")


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

    id: Mapped[str] = _key("u")
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id"))
    sha256: Mapped[str] = mapped_column(index=True)
    size_bytes: Mapped[int]
    filename: Mapped[str]
    created_at: Mapped[datetime]
    expires_at: Mapped[datetime]


class Build(Base):
    """One version and number of an app for one platform: one or more packages. ``revision`` is its source's."""

    __tablename__ = "builds"
    __table_args__ = (
        Index("builds_by_app", "app_id", "created_at", "id"),
        Index("builds_by_version", "app_id", "version_order", "number_order", "id"),
        Index("builds_by_number", "app_id", "number_order", "version_order", "id"),
        Index("builds_same", "app_id", "platform", "version", "number_order"),
    )

    id: Mapped[str] = _key("b")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    platform: Mapped[str]
    version: Mapped[str]
    number: Mapped[BuildNumber]
    version_order: Mapped[int] = mapped_column(default=_version_order, server_default="0")
    number_order: Mapped[str] = mapped_column(default=_number_order, server_default="")
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

    id: Mapped[str] = _key("re")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    version: Mapped[str]
    number: Mapped[BuildNumber]
    number_order: Mapped[str] = mapped_column(default=_number_order, server_default="")
    stores: Mapped[list[str]]
    label: Mapped[str]
    reserved_by: Mapped[str]
    reserved_at: Mapped[datetime]
    build_id: Mapped[str | None] = mapped_column(ForeignKey("builds.id"))


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

    id: Mapped[str] = _key("td")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    platform: Mapped[str]
    name: Mapped[str]
    identifier: Mapped[str]
    registered_at: Mapped[datetime]
    lapses_at: Mapped[datetime | None]


class LockerFile(Base):
    """A certificate, key or profile file, sealed. The newest of a name counts; older ones are kept as replaced."""

    __tablename__ = "locker_files"
    __table_args__ = (Index("locker_by_app", "app_id", "name"),)

    id: Mapped[str] = _key("lf")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    platform: Mapped[str]
    kind: Mapped[str]
    name: Mapped[str]
    sealed: Mapped[bytes] = mapped_column(LargeBinary)
    sha256: Mapped[str]
    size_bytes: Mapped[int]
    told: Mapped[str] = mapped_column(default="")
    lapses_at: Mapped[datetime | None]
    stored_at: Mapped[datetime]
    stored_by: Mapped[str]
    replaced_at: Mapped[datetime | None]


class StandingAnswer(Base):
    """An answer that is given by itself whenever the same question is asked again in the same words."""

    __tablename__ = "standing_answers"
    __table_args__ = (UniqueConstraint("berth_id", "code"),)

    id: Mapped[str] = _key("sa")
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

    id: Mapped[str] = _key("c")
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
    sighting: Mapped[Sighting | None] = _sighting("Consignment")


class Tester(Base):
    """Somebody who tests; belongs to the desk, not to a cohort. Whoever was forgotten leaves the id alone."""

    __tablename__ = "testers"

    id: Mapped[str] = _key("te")
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

    id: Mapped[str] = _key("co")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    name: Mapped[str]
    kind: Mapped[CohortKind]
    created_at: Mapped[datetime]
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
    """A cohort at a berth. ``by_itself``: every new build that is ready there goes to the cohort without anybody's hand."""

    __tablename__ = "attachments"

    cohort_id: Mapped[str] = mapped_column(ForeignKey("cohorts.id"), primary_key=True)
    berth_id: Mapped[str] = mapped_column(ForeignKey("berths.id"), primary_key=True)
    by_itself: Mapped[bool] = mapped_column(default=False)
    attached_at: Mapped[datetime]
    trouble: Mapped[str | None]
    cohort: Mapped[Cohort] = relationship(back_populates="attachments")
    berth: Mapped[Berth] = relationship()


class Membership(Base):
    """Somebody in a cohort. After ``declined_at`` they are mailed nothing more and hold no seat."""

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

    id: Mapped[str] = _key("tr")
    cohort_id: Mapped[str] = mapped_column(ForeignKey("cohorts.id"))
    consignment_id: Mapped[str] = mapped_column(ForeignKey("consignments.id"))
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
    sighting: Mapped[Sighting | None] = _sighting("Trial")


class TrialUsage(Base):
    """What a store tells of a trial's day: how often the build was used, and how often that ended in a crash."""

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

    id: Mapped[str] = _key("in")
    trial_id: Mapped[str] = mapped_column(ForeignKey("trials.id"))
    tester_id: Mapped[str] = mapped_column(ForeignKey("testers.id"))
    state: Mapped[InvitationState] = mapped_column(default=InvitationState.QUEUED, index=True)
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


class FieldReport(Base):
    """What somebody sent back. ``source_ref`` is the store's own name for it; ``stack`` as it came in, ``frames`` with names."""

    __tablename__ = "field_reports"
    __table_args__ = (
        UniqueConstraint("store_id", "source_ref"),
        Index("reports_by_app", "app_id", "received_at", "id"),
        Index("reports_alike", "app_id", "fingerprint"),
        Index("reports_by_build", "build_id"),
        Index("reports_by_tester", "tester_id"),
    )

    id: Mapped[str] = _key("fr")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"))
    build_id: Mapped[str | None] = mapped_column(ForeignKey("builds.id"))
    trial_id: Mapped[str | None] = mapped_column(ForeignKey("trials.id"))
    tester_id: Mapped[str | None] = mapped_column(ForeignKey("testers.id"))
    store_id: Mapped[str | None] = mapped_column(ForeignKey("stores.id"))
    source: Mapped[str]
    source_ref: Mapped[str | None]
    kind: Mapped[ReportKind]
    state: Mapped[ReportState] = mapped_column(default=ReportState.NEW)
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

    id: Mapped[str] = _key("rw")
    report_id: Mapped[str] = mapped_column(ForeignKey("field_reports.id"))
    at: Mapped[datetime]
    person_id: Mapped[str | None]
    text: Mapped[str]
    state: Mapped[DeliveryState | None]
    attempts: Mapped[int] = mapped_column(default=0)
    try_after: Mapped[datetime | None]
    trouble: Mapped[str | None]
    report: Mapped[FieldReport] = relationship(back_populates="words")


class SymbolFile(Base):
    """A file that brings names back into the stacks of one build."""

    __tablename__ = "symbol_files"

    id: Mapped[str] = _key("sy")
    build_id: Mapped[str] = mapped_column(ForeignKey("builds.id"), index=True)
    name: Mapped[str]
    kind: Mapped[str]
    identity: Mapped[str]
    sha256: Mapped[str] = mapped_column(index=True)
    size_bytes: Mapped[int]
    stored_at: Mapped[datetime]
    stored_by: Mapped[str]


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
    state: Mapped[RolloutState] = mapped_column(default=ROLLOUT.initial, index=True)
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
    sighting: Mapped[Sighting | None] = _sighting("Leg")


class Round(Base):
    """One attempt of a leg at the store's review."""

    __tablename__ = "rounds"
    __table_args__ = (UniqueConstraint("leg_id", "number"),)

    id: Mapped[str] = _key("ro")
    leg_id: Mapped[str] = mapped_column(ForeignKey("legs.id"))
    number: Mapped[int]
    build_id: Mapped[str] = mapped_column(ForeignKey("builds.id"))
    state: Mapped[RoundState] = mapped_column(default=ROUND.initial)
    submitted_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    store_ref: Mapped[str | None] = mapped_column(index=True)
    reasons: Mapped[list[str]] = mapped_column(default=list)
    leg: Mapped[Leg] = relationship(back_populates="rounds")
    build: Mapped[Build] = relationship()
    sighting: Mapped[Sighting | None] = _sighting("Round")


class Sighting(Base):
    """What a store was last seen to hold of a leg, round, trial, consignment or berth, and what was done about it.

    ``sequence`` and ``at`` are the store's own. The other columns are the level's of core/lane.py, which explains them.
    """

    __tablename__ = "sightings"

    subject: Mapped[str] = mapped_column(primary_key=True)
    state: Mapped[str]
    share: Mapped[float] = mapped_column(default=0.0)
    sequence: Mapped[int] = mapped_column(default=0)
    at: Mapped[datetime]
    seen_at: Mapped[datetime]
    ours: Mapped[bool] = mapped_column(default=True, server_default="1")
    stranger: Mapped[bool] = mapped_column(default=False, server_default="0")
    asked: Mapped[bool] = mapped_column(default=False, server_default="0")
    repeated_at: Mapped[int] = mapped_column(default=-1, server_default="-1")
    repeats: Mapped[int] = mapped_column(default=0, server_default="0")


class UntakenEvent(Base):
    """An event of a store that could not be taken: kept as it came, with the reason, until somebody has it tried again."""

    __tablename__ = "untaken_events"
    __table_args__ = (UniqueConstraint("store_id", "sequence"),)

    id: Mapped[str] = _key("ue")
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"))
    sequence: Mapped[int]
    body: Mapped[dict[str, Any]]
    why: Mapped[str]
    at: Mapped[datetime]


class Order(Base):
    """A durable instruction to a store. Its id is its idempotency key; its lane keeps the sequence.

    ``with_person``: a step waits for a person. ``again``: the lane placed it by itself.
    """

    __tablename__ = "orders"
    __table_args__ = (Index("orders_pending", "state", "try_after"), Index("orders_by_lane", "lane", "position"))

    id: Mapped[str] = _key("o")
    position: Mapped[int] = mapped_column(index=True)
    lane: Mapped[str]
    kind: Mapped[OrderKind]
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"))
    subject: Mapped[str] = mapped_column(index=True)
    payload: Mapped[dict[str, Any]]
    state: Mapped[OrderState] = mapped_column(default=ORDER.initial)
    ordered_at: Mapped[datetime]
    ordered_by: Mapped[str]
    attempts: Mapped[int] = mapped_column(default=0)
    try_after: Mapped[datetime | None]
    settled_at: Mapped[datetime | None]
    trouble: Mapped[str | None]
    request: Mapped[str] = mapped_column(default="")
    with_person: Mapped[bool] = mapped_column(default=False, server_default="0")
    again: Mapped[bool] = mapped_column(default=False, server_default="0")
    store: Mapped[Store] = relationship()


class Step(Base):
    """What a person does at a store by hand. ``order_id`` is None for a step that only watches for the store's word."""

    __tablename__ = "steps"
    __table_args__ = (Index("steps_waiting", "state", "store_id"),)

    id: Mapped[str] = _key("st")
    order_id: Mapped[str | None] = mapped_column(ForeignKey("orders.id"), index=True)
    store_id: Mapped[str] = mapped_column(ForeignKey("stores.id"))
    app: Mapped[str | None]
    subject: Mapped[str] = mapped_column(index=True)
    title: Mapped[str]
    todo: Mapped[list[str]]
    texts: Mapped[dict[str, Any]] = mapped_column(default=dict)
    files: Mapped[list[dict[str, Any]]] = mapped_column(default=list)
    look_for: Mapped[str] = mapped_column(default="")
    outcomes: Mapped[list[str]]
    urgent: Mapped[bool] = mapped_column(default=False)
    state: Mapped[StepState] = mapped_column(default=STEP.initial)
    outcome: Mapped[str | None]
    said: Mapped[str] = mapped_column(default="")
    before: Mapped[dict[str, Any] | None]
    reminded: Mapped[int] = mapped_column(default=0)
    applied: Mapped[bool] = mapped_column(default=False)
    created_at: Mapped[datetime]
    settled_at: Mapped[datetime | None]
    settled_by: Mapped[str | None]
    store: Mapped[Store] = relationship()
    order: Mapped[Order | None] = relationship()


class Lease(Base):
    """Which engine works on this database. The fence rises with every new holder; ``until`` is real time."""

    __tablename__ = "leases"

    name: Mapped[str] = mapped_column(primary_key=True)
    holder: Mapped[str]
    fence: Mapped[int]
    until: Mapped[datetime]


class Subscription(Base):
    """Who is told of what, and how: by mail to an address, or by signed webhook."""

    __tablename__ = "subscriptions"

    id: Mapped[str] = _key("su")
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id"))
    channel: Mapped[str]
    address: Mapped[str]
    sealed_secret: Mapped[bytes | None] = mapped_column(LargeBinary)
    kinds: Mapped[list[str]]
    apps: Mapped[list[str]]
    created_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]


class Notice(Base):
    """Something a person waits for has happened. ``key`` keeps the same thing from being told twice."""

    __tablename__ = "notices"

    id: Mapped[str] = _key("no")
    key: Mapped[str] = mapped_column(unique=True)
    kind: Mapped[str]
    app: Mapped[str | None]
    subject: Mapped[str]
    said: Mapped[str]
    place: Mapped[str]
    at: Mapped[datetime]


class Delivery(Base):
    """A notice on its way to one subscriber."""

    __tablename__ = "deliveries"
    __table_args__ = (
        UniqueConstraint("notice_id", "subscription_id"),
        Index("deliveries_waiting", "state", "try_after"),
    )

    id: Mapped[str] = _key("de")
    notice_id: Mapped[str] = mapped_column(ForeignKey("notices.id"))
    subscription_id: Mapped[str] = mapped_column(ForeignKey("subscriptions.id"))
    state: Mapped[DeliveryState] = mapped_column(default=DeliveryState.QUEUED)
    attempts: Mapped[int] = mapped_column(default=0)
    try_after: Mapped[datetime | None]
    settled_at: Mapped[datetime | None]
    trouble: Mapped[str | None]
    notice: Mapped[Notice] = relationship()
    subscription: Mapped[Subscription] = relationship()


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
