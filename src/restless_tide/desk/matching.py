"""Finding rows by a few words, the same way in every list: each word has to stand somewhere in one of the columns."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ColumnElement, String, and_, cast, func, or_, true

MOST_WORDS = 8
"""More words than these narrow nothing down."""


def holds(text: str, *columns: Any) -> ColumnElement[bool]:
    """Whether every word of ``text`` stands in one of these columns, in capitals or not; no words fit everything."""
    words = text.lower().split()[:MOST_WORDS]
    return and_(true(), *(or_(*(_in(column, word) for column in columns)) for word in words))


def _in(column: Any, word: str) -> ColumnElement[bool]:
    return func.lower(cast(column, String)).contains(word, autoescape=True)
