"""What was counted by the hour: added as sources report it, corrected, added up to days when it is old, and read for guards."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from typing import Any, NamedTuple, Self, cast

import numpy as np
from sqlalchemy import Select, bindparam, delete, func, select
from sqlalchemy import Table as DatabaseTable
from sqlalchemy.dialects.sqlite import insert as upsert
from sqlalchemy.orm import Session

from restless_tide.core.errors import Invalid
from restless_tide.core.gauges import COUNTED, KEPT_BY_THE_HOUR, Counts, hour_number, hour_of, what_is_wrong
from restless_tide.core.guarding import Table
from restless_tide.desk import find
from restless_tide.desk.desk import Act
from restless_tide.records.tables import Berth, Build, GaugeCount, GaugeDay, GaugeHour

MOST_SOURCES = 20
"""Of one berth, besides the store itself."""
FOREVER = 2**40
"""The number of an hour that never comes."""
_COLUMNS = [getattr(GaugeCount, name) for name in COUNTED]


@dataclass(frozen=True)
class Cell:
    version: str
    number: str
    level: str
    device: str
    counts: Counts

    @property
    def named(self) -> str:
        kind = " ".join(part for part in (self.level, self.device) if part)
        return f"{self.version}{f' ({self.number})' if self.number else ''}{f', {kind}' if kind else ''}"


@dataclass(frozen=True)
class Hour:
    """One hour as a source tells it, whole. ``at`` is its beginning."""

    at: datetime
    revision: int
    complete: bool
    cells: tuple[Cell, ...]

    @classmethod
    def of(cls, told: Any) -> Self:
        """Made of an hour as a store's gateway or another source tells it; both have the same names."""
        cells = (Cell(one.version, one.number, one.level, one.device, Counts.of(one)) for one in told.cells)
        return cls(told.at, told.revision, told.complete, tuple(cells))


@dataclass(frozen=True)
class Taken:
    """What became of hours that were told: how many were new or corrected, and what was wrong with the others."""

    taken: int
    passed: int
    troubles: tuple[str, ...]


def take_in(act: Act, berth: Berth, source: str, hours: Sequence[Hour]) -> Taken:
    """Write hours down, each whole; one that cannot be so is left out with the reason, and keeps no other out.

    An hour of the same or an earlier revision than the one that is there is passed over.
    """
    taken, passed, troubles = 0, 0, []
    there = act.now + ahead_of(berth, source)
    oldest = hour_number(act.now - KEPT_BY_THE_HOUR)
    known = _known(act.session, berth.id, source, [hour_number(hour.at) for hour in hours])
    written: dict[int, dict[str, Any]] = {}
    cells: dict[int, list[dict[str, object]]] = {}
    there_before: set[int] = set()
    for hour in hours:
        number = hour_number(hour.at)
        wrong = what_is_wrong(hour.at, [(cell.named, cell.counts) for cell in hour.cells], there)
        doubled = _doubled(hour.cells)
        if wrong or doubled:
            troubles += [f"{hour.at:%Y-%m-%d %H:%M} UTC: {one}" for one in (*wrong, *doubled)]
            continue
        before = known.get(number)
        if number < oldest or (before is not None and before.revision >= hour.revision):
            passed += 1
            continue
        corrected = before.corrected + before.complete if before is not None else 0
        known[number] = _Known(hour.revision, hour.complete, corrected)
        if before is not None:
            there_before.add(number)
        written[number] = {
            "berth_id": berth.id, "source": source, "hour": number, "revision": hour.revision,
            "complete": hour.complete, "corrected": corrected, "taken_at": act.now,
        }  # fmt: skip
        cells[number] = [_row(berth.id, source, number, cell) for cell in hour.cells]
        taken += 1
    _write_down(
        act.session,
        berth.id,
        source,
        list(written.values()),
        there_before,
        [row for rows in cells.values() for row in rows],
    )
    return Taken(taken, passed, tuple(troubles))


def _write_down(
    session: Session,
    berth_id: str,
    source: str,
    hours: list[dict[str, Any]],
    there_before: set[int],
    cells: list[dict[str, object]],
) -> None:
    """Hours in place of those that were there before, in a few statements however many they are."""
    if not hours:
        return
    connection = session.connection()
    written = upsert(cast(DatabaseTable, GaugeHour.__table__))
    changed = {name: written.excluded[name] for name in ("revision", "complete", "corrected", "taken_at")}
    connection.execute(
        written.on_conflict_do_update(index_elements=["berth_id", "source", "hour"], set_=changed), hours
    )
    counts = cast(DatabaseTable, GaugeCount.__table__)
    if there_before:
        gone = counts.delete().where(
            counts.c.berth_id == berth_id, counts.c.source == source, counts.c.hour == bindparam("old_hour")
        )
        connection.execute(gone, [{"old_hour": number} for number in sorted(there_before)])
    if cells:
        connection.execute(counts.insert(), cells)


class _Known(NamedTuple):
    """An hour as its source reported it last."""

    revision: int
    complete: bool
    corrected: int


def _known(session: Session, berth_id: str, source: str, numbers: Sequence[int]) -> dict[int, _Known]:
    if not numbers:
        return {}
    within = GaugeHour.hour.between(min(numbers), max(numbers))
    asked = select(GaugeHour.hour, GaugeHour.revision, GaugeHour.complete, GaugeHour.corrected)
    here = asked.where(GaugeHour.berth_id == berth_id, GaugeHour.source == source, within)
    return {row[0]: _Known(row[1], row[2], row[3]) for row in session.execute(here)}


def _doubled(cells: Iterable[Cell]) -> list[str]:
    seen, found = set(), []
    for cell in cells:
        if (cell.version, cell.number, cell.level, cell.device) in seen:
            found.append(f"{cell.named} is told twice.")
        seen.add((cell.version, cell.number, cell.level, cell.device))
    return found


def _row(berth_id: str, source: str, hour: int, cell: Cell) -> dict[str, object]:
    place = {"berth_id": berth_id, "source": source, "hour": hour, "version": cell.version, "number": cell.number}
    return place | {"level": cell.level, "device": cell.device} | asdict(cell.counts)


def enter(act: Act, app_name: str, store_name: str, source: str, hours: Sequence[Hour]) -> Taken:
    """Counts that a person types in, or another source than the store sends, such as a crash collector of the team's own.

    Raises Invalid for a version that the app never had, for hours that cannot be so (then nothing is taken), and for one
    source too many.
    """
    app = find.app(act.session, app_name)
    berth = find.berth(act.session, app, find.store(act.session, store_name))
    known = set(act.session.scalars(select(Build.version).where(Build.app_id == app.id).distinct()))
    unknown = sorted({cell.version for hour in hours for cell in hour.cells} - known)
    if unknown:
        raise Invalid(
            f"{app.title} has no build of {', '.join(unknown)}.",
            remedy=f"See: tide build list --app {app_name}",
            code="version-unknown",
        )
    known_sources = sources(act.session, berth)
    if source and source not in known_sources and len(known_sources) >= MOST_SOURCES:
        raise Invalid(f"{store_name} has {MOST_SOURCES} other sources already.", code="too-many-sources")
    if source == "" and not berth.store.hand_carried:
        raise Invalid(
            f"{berth.store.name} counts automatically.",
            remedy="Name the source that these counts come from: --source NAME",
            code="source-missing",
        )
    told = take_in(act, berth, source, hours)
    if told.troubles:
        raise Invalid(
            " ".join(told.troubles), remedy="Nothing was taken. Correct it and send it again.", code="counts-unfit"
        )
    act.judge(app.name)
    named = source or "typed in"
    act.log(
        "counts entered",
        find.berth_subject(berth),
        app=app.name,
        after={"hours": told.taken, "by": named},
    )
    return told


def sources(session: Session, berth: Berth) -> list[str]:
    """The sources besides the store itself that counts of a berth came from."""
    asked = select(GaugeHour.source).where(GaugeHour.berth_id == berth.id, GaugeHour.source != "")
    return sorted(session.scalars(asked.distinct()))


def add_up(act: Act) -> int:
    """Add hours that are old up to days; returns how many hours went."""
    before = hour_number(act.now - KEPT_BY_THE_HOUR) // 24 * 24
    old = select(GaugeHour.berth_id, GaugeHour.source).where(GaugeHour.hour < before).distinct()
    gone = 0
    for berth_id, source in act.session.execute(old).all():
        here = (GaugeCount.berth_id == berth_id, GaugeCount.source == source, GaugeCount.hour < before)
        day = (GaugeCount.hour // 24).label("day")
        kind = (GaugeCount.version, GaugeCount.number, GaugeCount.level, GaugeCount.device)
        place = (GaugeCount.berth_id, GaugeCount.source, day, *kind)
        sums = [func.sum(column).label(column.key) for column in _COLUMNS]
        rows = act.session.execute(select(*place, *sums).where(*here).group_by(*place)).mappings().all()
        for row in rows:
            added = {name: getattr(GaugeDay, name) + row[name] for name in COUNTED}
            act.session.execute(
                upsert(GaugeDay)
                .values(dict(row))
                .on_conflict_do_update(
                    index_elements=["berth_id", "source", "day", "version", "number", "level", "device"], set_=added
                )
            )
        act.session.execute(delete(GaugeCount).where(*here))
        hours = (GaugeHour.berth_id == berth_id, GaugeHour.source == source, GaugeHour.hour < before)
        gone += act.session.scalar(select(func.count()).select_from(GaugeHour).where(*hours)) or 0
        act.session.execute(delete(GaugeHour).where(*hours))
    return gone


def table(
    session: Session,
    berth_id: str,
    source: str,
    version: str,
    kinds: dict[tuple[str, str], int],
    since: int,
    until: int,
) -> Table:
    """The complete hours of one version at one berth from ``since`` up to, not with, ``until`` (numbers of hours).

    ``kinds`` numbers the kinds of devices and grows as new ones are met; hand the same to tables that are compared.
    """
    here = (GaugeCount.berth_id == berth_id, GaugeCount.source == source, GaugeCount.version == version)
    sums = [func.sum(column) for column in _COLUMNS]
    place = (GaugeCount.hour, GaugeCount.level, GaugeCount.device)
    asked = (
        select(*place, *sums)
        .where(
            *here,
            GaugeCount.hour >= since,
            GaugeCount.hour < until,
            GaugeCount.hour.not_in(_unfinished(berth_id, source)),
        )
        .group_by(*place)
        .order_by(*place)
    )
    rows = session.execute(asked).all()
    numbered = [kinds.setdefault((row[1], row[2]), len(kinds)) for row in rows]
    figures = np.array([row[3:] for row in rows], float).reshape(len(rows), len(COUNTED))
    columns = {name: figures[:, place] for place, name in enumerate(COUNTED)}
    return Table(np.array([row[0] for row in rows], np.int64), np.array(numbered, np.int64), columns)


class Tables:
    """Tables of the hours of versions, all that are compared with each other: each version is read once, however often it is asked for."""

    def __init__(self) -> None:
        self._read: dict[tuple[str, str, str], Table] = {}
        self._kinds: defaultdict[tuple[str, str], dict[tuple[str, str], int]] = defaultdict(dict)

    def table(self, session: Session, berth_id: str, source: str, version: str, since: int, until: int) -> Table:
        """As ``table``, of what the session holds when the version is asked for first."""
        place = (berth_id, source, version)
        if place not in self._read:
            self._read[place] = table(session, *place, self._kinds[berth_id, source], 0, FOREVER)
        whole = self._read[place]
        within = slice(*np.searchsorted(whole.hour, (since, until)))
        columns = {name: column[within] for name, column in whole.columns.items()}
        return Table(whole.hour[within], whole.kind[within], columns)


def _unfinished(berth_id: str, source: str) -> Select[int]:
    """The hours of a source of which more is expected."""
    return select(GaugeHour.hour).where(
        GaugeHour.berth_id == berth_id, GaugeHour.source == source, GaugeHour.complete.is_(False)
    )


def ahead_of(berth: Berth, source: str) -> timedelta:
    """How far the clock by which a source counts is ahead of the desk's: a store counts by its own, all others by the desk's."""
    return timedelta() if source else timedelta(seconds=berth.clock_ahead_seconds)


def counted_since(
    session: Session, berth_id: str, source: str, version: str, since: datetime
) -> tuple[int, datetime | None]:
    """The sessions of a version in a source's complete hours from an instant of the store's clock on, and the end of the newest one."""
    asked = select(func.sum(GaugeCount.sessions), func.max(GaugeCount.hour)).where(
        GaugeCount.berth_id == berth_id,
        GaugeCount.source == source,
        GaugeCount.version == version,
        GaugeCount.hour >= hour_number(since),
        GaugeCount.hour.not_in(_unfinished(berth_id, source)),
    )
    sessions, newest = session.execute(asked).one()
    return int(sessions or 0), hour_of(newest + 1) if newest is not None else None


def corrected(session: Session, berth_id: str, source: str, since: int) -> int:
    """How many hours were told anew after they had been complete."""
    asked = select(func.count()).where(
        GaugeHour.berth_id == berth_id, GaugeHour.source == source, GaugeHour.hour >= since, GaugeHour.corrected > 0
    )
    return session.scalar(asked) or 0


@dataclass(frozen=True)
class Counted:
    """What was counted of one version at one store in one hour or day, all kinds of devices together."""

    at: datetime
    hours: int
    version: str
    complete: bool
    counts: Counts


def series(
    session: Session, berth: Berth, source: str, versions: Sequence[str], since: datetime, until: datetime
) -> list[Counted]:
    """What was counted from ``since`` to ``until``, hour by hour, and day by day where it is old; the oldest first."""
    ahead = ahead_of(berth, source)
    first, last = hour_number(since + ahead), hour_number(until + ahead)
    found = []
    days = GaugeDay.day
    sums = [func.sum(getattr(GaugeDay, name)) for name in COUNTED]
    here = [GaugeDay.berth_id == berth.id, GaugeDay.source == source, days.between(first // 24, last // 24)]
    if versions:
        here.append(GaugeDay.version.in_(versions))
    for row in session.execute(select(days, GaugeDay.version, *sums).where(*here).group_by(days, GaugeDay.version)):
        found.append(Counted(hour_of(row[0] * 24), 24, row[1], True, Counts(*map(int, row[2:]))))
    hourly = [GaugeCount.berth_id == berth.id, GaugeCount.source == source, GaugeCount.hour.between(first, last)]
    if versions:
        hourly.append(GaugeCount.version.in_(versions))
    joined = (GaugeHour.berth_id == GaugeCount.berth_id) & (GaugeHour.source == GaugeCount.source)
    asked = (
        select(GaugeCount.hour, GaugeCount.version, func.max(GaugeHour.complete), *map(func.sum, _COLUMNS))
        .join(GaugeHour, joined & (GaugeHour.hour == GaugeCount.hour))
        .where(*hourly)
        .group_by(GaugeCount.hour, GaugeCount.version)
    )
    for row in session.execute(asked):
        found.append(Counted(hour_of(row[0]), 1, row[1], bool(row[2]), Counts(*map(int, row[3:]))))
    return sorted(found, key=lambda one: (one.at, one.version))
