"""Stores by name, and their rules."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.availability import Availability
from restless_tide.core.errors import Invalid
from restless_tide.core.rulebook import Rulebook
from restless_tide.records.tables import App, Berth, Store, UntakenEvent

_read: dict[str, tuple[dict[str, Any], Rulebook]] = {}
_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,39}")


def slug(text: str, noun: str) -> str:
    """A short name that can be typed. Raises Invalid."""
    name = text.strip().lower()
    if not _NAME.fullmatch(name):
        raise Invalid(
            f"{text!r} cannot be the name of {noun}.",
            remedy="Use up to 40 small letters, digits and hyphens, beginning with a letter or digit.",
            code="name-unfit",
        )
    return name


def offered(berth: Berth) -> Availability:
    """Where, for how much and to whom an app is offered at its berth, as ordered."""
    return Availability.model_validate(berth.availability or {})


def rules_of(store: Store) -> Rulebook:
    """The store's rulebook as rules; read anew only when it has changed."""
    known = _read.get(store.id)
    if known is None or (known[0] is not store.rulebook and known[0] != store.rulebook):
        known = _read[store.id] = (store.rulebook, Rulebook.model_validate(store.rulebook))
    return known[1]


def every(session: Session) -> list[Store]:
    return list(session.scalars(select(Store).order_by(Store.name)))


def carrying(session: Session, app: App) -> list[Store]:
    """The stores in use that carry a platform of the app."""
    platforms = {entry.platform for entry in app.identifiers}
    return [store for store in every(session) if store.in_use and platforms & set(rules_of(store).platforms)]


def untaken(session: Session, store: Store) -> Sequence[UntakenEvent]:
    """The store's events that could not be taken, oldest first."""
    found = select(UntakenEvent).where(UntakenEvent.store_id == store.id).order_by(UntakenEvent.sequence)
    return session.scalars(found).all()
