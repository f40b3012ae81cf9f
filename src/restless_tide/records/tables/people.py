"""People, what they may do, and how they sign in."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

from sqlalchemy import ForeignKey, LargeBinary
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.core.personal_link import LinkKind
from restless_tide.core.rights import Grant, Role
from restless_tide.core.second_person import AskedAct
from restless_tide.records.columns import Base, key

if TYPE_CHECKING:
    from restless_tide.records.tables.apps import App


class Person(Base):
    """Someone who works at the desk. The id is the pseudonym that stands in the logbook.

    Without ``password_hash`` nobody signs in by password; after ``removed_at`` nobody signs in at all, and the address is
    gone. ``sealed_totp`` is the second factor: proven once ``totp_since`` is set. ``totp_step`` is the last step of time
    whose code was used (RFC 6238), so that none works twice; ``recovery`` are the digests of the codes that are left.
    """

    __tablename__ = "people"

    id: Mapped[str] = key("p")
    name: Mapped[str]
    email: Mapped[str] = mapped_column(unique=True)
    password_hash: Mapped[str]
    created_at: Mapped[datetime]
    grants: Mapped[tuple[Grant, ...]] = mapped_column(default=())
    removed_at: Mapped[datetime | None]
    sealed_totp: Mapped[bytes | None] = mapped_column(LargeBinary)
    totp_since: Mapped[datetime | None]
    totp_step: Mapped[int] = mapped_column(default=0, server_default="0")
    recovery: Mapped[list[str]] = mapped_column(default=list, server_default="[]")


class SignIn(Base):
    """A console session. Only the digest of its secret is kept; ``agent`` and ``place`` are the browser and the address.
    ``proven``: a second factor was given, or an identity provider has seen to it."""

    __tablename__ = "sign_ins"

    token_digest: Mapped[str] = mapped_column(primary_key=True)
    id: Mapped[str] = mapped_column(unique=True)
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id"), index=True)
    created_at: Mapped[datetime]
    expires_at: Mapped[datetime]
    proven: Mapped[bool] = mapped_column(default=False, server_default="0")
    agent: Mapped[str] = mapped_column(default="", server_default="")
    place: Mapped[str] = mapped_column(default="", server_default="")
    last_used_at: Mapped[datetime | None]
    person: Mapped[Person] = relationship()


class Token(Base):
    """A revocable bearer token. It reaches what its person reaches, held to ``role`` and ``apps`` where it has them (no apps:
    all). ``parent_id`` is the token that made it, with which it ends."""

    __tablename__ = "tokens"

    id: Mapped[str] = key("t")
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id"))
    label: Mapped[str]
    token_digest: Mapped[str] = mapped_column(unique=True)
    created_at: Mapped[datetime]
    expires_at: Mapped[datetime | None]
    revoked_at: Mapped[datetime | None]
    last_used_at: Mapped[datetime | None]
    role: Mapped[Role | None]
    apps: Mapped[list[str]] = mapped_column(default=list, server_default="[]")
    parent_id: Mapped[str | None] = mapped_column(ForeignKey("tokens.id"), index=True)
    person: Mapped[Person] = relationship()

    @property
    def grant(self) -> Grant | None:
        """What it is held to; None: to nothing, it reaches what its person reaches."""
        return Grant(self.role, tuple(self.apps) or None) if self.role is not None else None


class PersonalLink(Base):
    """A link by which someone chooses a password, once and within a time; ``sealed_code`` until its mail has left."""

    __tablename__ = "personal_links"

    code_digest: Mapped[str] = mapped_column(primary_key=True)
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id"), index=True)
    kind: Mapped[LinkKind]
    created_at: Mapped[datetime]
    expires_at: Mapped[datetime]
    by: Mapped[str] = mapped_column(default="", server_default="")
    sealed_code: Mapped[bytes | None] = mapped_column(LargeBinary)
    attempts: Mapped[int] = mapped_column(default=0, server_default="0")
    try_after: Mapped[datetime | None] = mapped_column(index=True)
    trouble: Mapped[str | None]
    person: Mapped[Person] = relationship()


class AccessRules(Base):
    """What the owners demand of everybody; one row."""

    __tablename__ = "access_rules"

    id: Mapped[int] = mapped_column(primary_key=True)
    second_factor: Mapped[bool] = mapped_column(default=False, server_default="0")


class KeptAnswer(Base):
    """An act that came with a key, and the answer to it; without ``status`` the answer is not made yet, or was lost.

    ``key`` and ``request`` are digests: of who asked and the key, and of what was asked.
    """

    __tablename__ = "kept_answers"

    key: Mapped[str] = mapped_column(primary_key=True)
    request: Mapped[str]
    at: Mapped[datetime] = mapped_column(index=True)
    status: Mapped[int | None]
    headers: Mapped[str] = mapped_column(default="[]", server_default="[]")
    sealed_body: Mapped[bytes | None] = mapped_column(LargeBinary)


class Proposal(Base):
    """An act that waits for a second person, as it was asked, sealed."""

    __tablename__ = "proposals"

    id: Mapped[str] = key("pr")
    app_id: Mapped[str] = mapped_column(ForeignKey("apps.id"), index=True)
    kind: Mapped[AskedAct]
    version: Mapped[str]
    said: Mapped[str]
    sealed_body: Mapped[bytes] = mapped_column(LargeBinary)
    asked_by: Mapped[str]
    asked_at: Mapped[datetime]
    until: Mapped[datetime]
    agreed_by: Mapped[str | None]
    agreed_at: Mapped[datetime | None]
    dropped_at: Mapped[datetime | None]
    app: Mapped[App] = relationship()
