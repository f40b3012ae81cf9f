"""Column types that SQLite lacks, and identifiers."""

from __future__ import annotations

import enum
import json
import secrets
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any

import sqlalchemy
from sqlalchemy import JSON, DateTime, Dialect, String
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship
from sqlalchemy.types import TypeDecorator

from restless_tide.core.numbers import BuildNumber
from restless_tide.core.rights import Grant, Role
from restless_tide.core.versions import version_order

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


@lru_cache(maxsize=128)
def _read_shared(text: str) -> Any:
    return json.loads(text)


class SharedJson(TypeDecorator[dict[str, Any]]):
    """A large JSON document that is read often and seldom written: equal texts are one value, which nobody changes in place."""

    impl = JSON
    cache_ok = True

    def bind_processor(self, dialect: Dialect) -> Any:
        return lambda value: None if value is None else json.dumps(value)

    def result_processor(self, dialect: Dialect, coltype: object) -> Any:
        return lambda text: None if text is None else _read_shared(text)


@lru_cache(maxsize=1024)
def _read_grants(text: str) -> tuple[Grant, ...]:
    return tuple(
        Grant(Role(entry["role"]), None if entry["apps"] is None else tuple(entry["apps"]))
        for entry in json.loads(text)
    )


class GrantsJson(TypeDecorator[tuple[Grant, ...]]):
    """What someone may do, as JSON. It is read with every request, so equal texts are one value."""

    impl = JSON
    cache_ok = True

    def bind_processor(self, dialect: Dialect) -> Any:
        return lambda grants: json.dumps(
            [{"role": one.role, "apps": None if one.apps is None else list(one.apps)} for one in grants]
        )

    def result_processor(self, dialect: Dialect, coltype: object) -> Any:
        return lambda text: _read_grants(text)


class NumberText(TypeDecorator[BuildNumber]):
    """A build's number as it was written; ``BuildNumber.order`` in a column beside it sorts and compares."""

    impl = String
    cache_ok = True

    def process_bind_param(self, value: BuildNumber | None, dialect: Dialect) -> str | None:
        return None if value is None else value.text

    def process_result_value(self, value: str | None, dialect: Dialect) -> BuildNumber | None:
        return None if value is None else BuildNumber(value)


def _values(kind: type[enum.Enum]) -> list[str]:
    return [str(member.value) for member in kind]


class Base(DeclarativeBase):
    """The root of all tables."""

    type_annotation_map = {  # noqa: RUF012  (SQLAlchemy's own way to declare it)
        datetime: AwareUtc(),
        BuildNumber: NumberText(),
        tuple[Grant, ...]: GrantsJson(),
        dict[str, Any]: JSON(),
        list[str]: JSON(),
        list[dict[str, Any]]: JSON(),
        enum.Enum: sqlalchemy.Enum(enum.Enum, native_enum=False, length=32, values_callable=_values),
    }


def new_id(prefix: str) -> str:
    """A fresh identifier such as ``b-7k2m9qx4``: short enough to type, too many to guess by accident."""
    number, letters = secrets.randbelow(len(_ALPHABET) ** 8), []
    for _ in range(8):
        number, place = divmod(number, len(_ALPHABET))
        letters.append(_ALPHABET[place])
    return f"{prefix}-{''.join(letters)}"


def key(prefix: str) -> Mapped[str]:
    return mapped_column(primary_key=True, default=lambda: new_id(prefix))


def sighting_of(table: str) -> Any:
    """What the store was last seen to hold of a row; written by the lanes alone."""
    return relationship(
        "Sighting",
        primaryjoin=f"foreign(Sighting.subject) == {table}.id",
        uselist=False,
        viewonly=True,
        sync_backref=False,
    )


def version_order_of(context: Any) -> int:
    """The version as one number that sorts as versions do; what is no version sorts lowest."""
    return version_order(context.get_current_parameters()["version"])


def number_order_of(context: Any) -> str:
    """The number as a text that sorts as numbers do, the same for equal ones."""
    number: BuildNumber = context.get_current_parameters()["number"]
    return number.order
