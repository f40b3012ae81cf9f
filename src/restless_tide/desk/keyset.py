"""A page of a long list: those that come after the last one seen, whatever was added meanwhile."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, TypeVar

from sqlalchemy import Select, literal, tuple_

Wanted = TypeVar("Wanted", bound=Select[*tuple[Any, ...]])


def page(query: Wanted, keys: Sequence[Any], *, after: Sequence[Any] | None, falls: bool, limit: int) -> Wanted:
    """``query`` in the order of ``keys`` (the last of them tells rows apart), beyond the row with the values ``after``."""
    if after is not None:
        here = tuple_(*(literal(value) for value in after))
        query = query.where(tuple_(*keys) < here if falls else tuple_(*keys) > here)
    return query.order_by(*(key.desc() if falls else key for key in keys)).limit(limit)
