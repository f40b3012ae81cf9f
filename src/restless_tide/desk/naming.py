"""Finding things by what people call them: a version, a number, ``latest``, or the beginning of an id.

A name that fits several things is refused with what it fits, never guessed.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any, TypeVar

from sqlalchemy import bindparam, or_, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Invalid, NotFound
from restless_tide.core.numbers import BuildNumber
from restless_tide.records.tables import App, Build, Release

Row = TypeVar("Row")

LATEST = "latest"
LEAST_BEGINNING = 4
"""So much of an id is enough when only one begins with it: its letter, the dash and two more."""
_MOST_TOLD = 6
THE_APP = or_(App.name == bindparam("app"), App.id == bindparam("app"))
THE_RELEASE = or_(Release.version == bindparam("version"), Release.id == bindparam("version"))
"""What people call an app, and a release of one."""
_WITH_NUMBER = re.compile(r"(?P<version>.+?)\s*\((?P<number>[^()]+)\)")


def exactly(session: Session, table: type[Row], noun: str, given: str) -> Row:
    """What has just this id. Raises NotFound."""
    found = session.get(table, given)
    if found is None:
        raise NotFound(f"No {noun} has the id {given!r}.", code=f"{noun}-unknown")
    return found


def by_id(session: Session, table: Any, noun: str, given: str, remedy: str = "") -> Any:
    """What has this id, or alone has one that begins so. Raises NotFound, and Invalid where several begin so."""
    found = session.get(table, given)
    if found is not None:
        return found
    rows = _beginning(session, table, given)
    if len(rows) > 1:
        told = ", ".join(row.id for row in rows[:_MOST_TOLD])
        raise Invalid(f"Several ids begin with {given!r}: {told}.", remedy="Write more of it.", code="name-ambiguous")
    if not rows:
        raise NotFound(f"No {noun} is called {given!r}.", remedy=remedy, code=f"{noun}-unknown")
    return rows[0]


def _beginning(session: Session, table: Any, given: str) -> Sequence[Any]:
    if len(given) < LEAST_BEGINNING:
        return []
    wanted = select(table).where(table.id.startswith(given, autoescape=True)).order_by(table.id)
    return session.scalars(wanted.limit(_MOST_TOLD + 1)).all()


def build(session: Session, given: str, *, app: App | None = None, platform: str | None = None) -> Build:
    """A build by id, ``VERSION``, ``VERSION (NUMBER)``, ``NUMBER``, ``latest`` or the beginning of its id.

    Raises NotFound, and Invalid where the name fits several builds.
    """
    found = session.get(Build, given)
    if found is not None and (app is None or found.app_id == app.id):
        return found
    rows = _called(session, given, app, platform) if found is None else []
    rows = rows or [row for row in _beginning(session, Build, given) if app is None or row.app_id == app.id]
    if len(rows) > 1:
        told = ", ".join(_told(row, app) for row in rows[:_MOST_TOLD])
        more = f" and {len(rows) - _MOST_TOLD} more" if len(rows) > _MOST_TOLD else ""
        raise Invalid(
            f"{given!r} fits several builds: {told}{more}.",
            remedy="Name the number as well, the platform, or the beginning of the id.",
            code="name-ambiguous",
        )
    if not rows:
        of = f" of {app.title}" if app is not None else ""
        raise NotFound(f"No build{of} is called {given!r}.", remedy=_remedy(session, app), code="build-unknown")
    return rows[0]


def _called(session: Session, given: str, app: App | None, platform: str | None) -> list[Build]:
    wanted = select(Build).order_by(Build.created_at.desc(), Build.id)
    if app is not None:
        wanted = wanted.where(Build.app_id == app.id)
    if platform is not None:
        wanted = wanted.where(Build.platform == platform)
    if given == LATEST:
        newest: dict[tuple[str, str], Build] = {}
        for row in session.scalars(wanted):
            newest.setdefault((row.app_id, row.platform), row)
        return list(newest.values())
    both = _WITH_NUMBER.fullmatch(given)
    if both is not None:
        order = _order(both["number"])
        return list(session.scalars(wanted.where(Build.version == both["version"], Build.number_order == order)))
    return list(session.scalars(wanted.where((Build.version == given) | (Build.number_order == _order(given)))))


def _order(text: str) -> str | None:
    try:
        return BuildNumber(text).order
    except Invalid:
        return None


def _told(row: Build, app: App | None) -> str:
    title = f"{row.app.title} " if app is None else ""
    return f"{title}{row.label} for {row.platform} ({row.id})"


def _remedy(session: Session, app: App | None) -> str:
    if app is None:
        return "See: tide build list --app APP"
    newest = session.scalars(
        select(Build).where(Build.app_id == app.id).order_by(Build.created_at.desc()).limit(_MOST_TOLD)
    ).all()
    if not newest:
        return f"It has none yet. Push one with: tide build push FILE --app {app.name}"
    return f"The newest are {', '.join(row.label for row in newest)}. See: tide build list --app {app.name}"
