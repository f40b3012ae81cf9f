"""People and how they sign in."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey
from sqlalchemy.orm import Mapped, mapped_column, relationship

from restless_tide.records.columns import Base, key


class Person(Base):
    """Someone who works at the desk. The id is the pseudonym that stands in the logbook."""

    __tablename__ = "people"

    id: Mapped[str] = key("p")
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

    id: Mapped[str] = key("t")
    person_id: Mapped[str] = mapped_column(ForeignKey("people.id"))
    label: Mapped[str]
    token_digest: Mapped[str] = mapped_column(unique=True)
    created_at: Mapped[datetime]
    expires_at: Mapped[datetime | None]
    revoked_at: Mapped[datetime | None]
    apps: Mapped[list[str]] = mapped_column(default=list, server_default="[]")
    person: Mapped[Person] = relationship()
