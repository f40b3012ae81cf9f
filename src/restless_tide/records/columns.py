"""Column types that SQLite lacks, and identifiers."""

from __future__ import annotations

import enum
import secrets
from datetime import UTC, datetime
from typing import Any

import sqlalchemy
from sqlalchemy import JSON, DateTime, Dialect
from sqlalchemy.orm import DeclarativeBase
from sqlalchemy.types import TypeDecorator

_ALPHABET = "23456789abcdefghjkmnpqrstuvwxyz"


class AwareUtc(TypeDecorator[datetime]):
    """An aware instant, kept in UTC. A naive one is a mistake and refused."""

    impl = DateTime
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Dialect) -> datetime | None:
        if value is None:
            return None
        if value.tzinfo is None:
            raise ValueError("an instant without a zone cannot be kept")
        return value.astimezone(UTC).replace(tzinfo=None)

    def process_result_value(self, value: datetime | None, dialect: Dialect) -> datetime | None:
        return None if value is None else value.replace(tzinfo=UTC)


def _values(kind: type[enum.Enum]) -> list[str]:
    return [str(member.value) for member in kind]


class Base(DeclarativeBase):
    """The root of all tables."""

    type_annotation_map = {  # noqa: RUF012  (SQLAlchemy's own way to declare it)
        datetime: AwareUtc(),
        dict[str, Any]: JSON(),
        list[str]: JSON(),
        list[dict[str, Any]]: JSON(),
        enum.Enum: sqlalchemy.Enum(enum.Enum, native_enum=False, length=32, values_callable=_values),
    }


def new_id(prefix: str) -> str:
    """A fresh identifier such as ``b-7k2m9qx4``: short enough to type, too many to guess by accident."""
    return f"{prefix}-" + "".join(secrets.choice(_ALPHABET) for _ in range(8))
