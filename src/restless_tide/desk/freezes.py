"""Freezes: set, ended, and lifted for one release when two people agree."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Denied, ImpossibleAct, Invalid, NotFound
from restless_tide.core.freeze import MOST_FREEZES, Freeze, frozen_until
from restless_tide.core.notice import NoticeKind
from restless_tide.desk import find
from restless_tide.desk.desk import Act
from restless_tide.records.tables import FreezeOverride, FreezeRow, Leg


def freeze_of(row: FreezeRow) -> Freeze:
    return Freeze(
        name=row.name, begins=row.begins, ends=row.ends, zone=row.zone, yearly=row.yearly,
        apps=tuple(row.apps), stores=tuple(row.stores),
    )  # fmt: skip


_KNOWN = "freezes"
"""Where a session keeps its freezes once they are read: they are asked for again for each leg."""


def every(session: Session) -> list[FreezeRow]:
    """The freezes that were not ended, in the order in which they were set."""
    if _KNOWN not in session.info:
        rows = select(FreezeRow).where(FreezeRow.ended_at.is_(None)).order_by(FreezeRow.created_at)
        session.info[_KNOWN] = session.scalars(rows).all()
    return list(session.info[_KNOWN])


def _read_anew(session: Session) -> None:
    session.info.pop(_KNOWN, None)


def set_freeze(act: Act, wanted: Freeze, reason: str) -> FreezeRow:
    """Set a freeze. Raises Conflict for a name that is taken, Invalid for one that is over, or names what is unknown."""
    if _named(act.session, wanted.name) is not None:
        raise Conflict(f"There is a freeze called {wanted.name!r} already.", code="freeze-known")
    for app in wanted.apps:
        find.app(act.session, app)
    for store in wanted.stores:
        find.store(act.session, store)
    if wanted.window(act.now) is None:
        raise Invalid("This freeze is over already.", remedy="Name days that are still to come.", code="freeze-over")
    count = select(func.count()).select_from(FreezeRow).where(FreezeRow.ended_at.is_(None))
    if (act.session.scalar(count) or 0) >= MOST_FREEZES:
        raise Invalid(f"There are {MOST_FREEZES} freezes at most.", code="too-many-freezes")
    row = FreezeRow(
        name=wanted.name, begins=wanted.begins, ends=wanted.ends, zone=wanted.zone, yearly=wanted.yearly,
        apps=list(wanted.apps), stores=list(wanted.stores), reason=reason, created_at=act.now,
    )  # fmt: skip
    act.session.add(row)
    act.session.flush()
    _read_anew(act.session)
    act.log("freeze set", f"freeze {row.name}", reason=reason, after=_told(wanted))
    return row


def _told(freeze: Freeze) -> dict[str, Any]:
    return {
        "begins": freeze.begins.isoformat(timespec="minutes"),
        "ends": freeze.ends.isoformat(timespec="minutes"),
        "zone": freeze.zone,
        "yearly": freeze.yearly,
        "apps": list(freeze.apps) or "all",
        "stores": list(freeze.stores) or "all",
    }


def end(act: Act, name: str, reason: str) -> None:
    """End a freeze before its time, or for good where it is yearly. Raises Invalid without a reason."""
    row = _named(act.session, name)
    if row is None:
        raise NotFound(f"No freeze is called {name!r}.", remedy="See: tide freeze list", code="freeze-unknown")
    if not reason.strip():
        raise Invalid("Say why: ending a freeze needs a reason.", remedy="Add --reason.", code="reason-missing")
    row.ended_at = act.now
    act.session.flush()
    _read_anew(act.session)
    act.log("freeze ended", f"freeze {row.name}", reason=reason, before=_told(freeze_of(row)))


def _named(session: Session, name: str) -> FreezeRow | None:
    return session.scalar(select(FreezeRow).where(FreezeRow.name == name, FreezeRow.ended_at.is_(None)))


def holding(session: Session, leg: Leg, now: datetime) -> tuple[str, datetime] | None:
    """The freeze that holds a leg now, and until when; None where none does, or two people have lifted it for its release."""
    rows = every(session)
    if not rows:
        return None
    found = frozen_until(map(freeze_of, rows), leg.release.app.name, leg.berth.store.name, now)
    return None if found is None or lifted(session, leg.release_id, now) else found


def lifted(session: Session, release_id: str, now: datetime) -> bool:
    """Whether two people have agreed that no freeze holds a release for now."""
    agreed = select(FreezeOverride.id).where(
        FreezeOverride.release_id == release_id, FreezeOverride.agreed_at.is_not(None), FreezeOverride.until > now
    )
    return session.scalar(agreed.limit(1)) is not None


def ask_override(act: Act, app_name: str, version: str, reason: str) -> FreezeOverride:
    """Ask that a release rise in spite of a freeze; a second person has to agree. Raises Invalid without a reason, ImpossibleAct
    where nothing holds it.
    """
    if not reason.strip():
        raise Invalid("Say why: this needs a reason.", remedy="Add --reason.", code="reason-missing")
    release = find.release(act.session, find.app(act.session, app_name), version)
    held = [found for leg in release.legs if (found := holding(act.session, leg, act.now)) is not None]
    if not held:
        raise ImpossibleAct(f"No freeze holds {version} now.", possible=[])
    name, until = max(held, key=lambda found: found[1])
    row = FreezeOverride(release_id=release.id, asked_by=act.person, asked_at=act.now, reason=reason, until=until)
    row.release = release
    act.session.add(row)
    act.session.flush()
    act.log("freeze override asked", f"release {version}", app=app_name, reason=reason, after={"freeze": name})
    said = f"{release.app.title} {version} is to rise in spite of the freeze {name}: {reason} A second person has to agree."
    place = f"/apps/{app_name}/releases/{version}"
    act.notice(NoticeKind.STEP_WAITING, f"{row.id}/asked", f"release {version}", said, place=place, app=app_name)
    return row


def agree(act: Act, override_id: str) -> FreezeOverride:
    """Agree as the second person; until the freeze ends it does not hold this release. Raises Denied for the one who asked."""
    row = act.session.get(FreezeOverride, override_id)
    if row is None:
        raise NotFound(f"There is no request {override_id!r}.", remedy="See: tide freeze list", code="override-unknown")
    if row.asked_by == act.person:
        raise Denied("Who has asked cannot agree as well; it needs a second person.", code="second-person-needed")
    if row.agreed_at is not None:
        raise ImpossibleAct("It is agreed already.", possible=[])
    if row.until <= act.now:
        raise ImpossibleAct("The freeze is over; nothing has to be lifted any more.", possible=[])
    row.agreed_by, row.agreed_at = act.person, act.now
    release = row.release
    act.log("freeze lifted", f"release {release.version}", app=release.app.name, reason=row.reason)
    return row


def overrides(session: Session, now: datetime) -> list[FreezeOverride]:
    """Those that were asked for and matter still, the newest first."""
    asked = select(FreezeOverride).where(FreezeOverride.until > now).order_by(FreezeOverride.asked_at.desc())
    return list(session.scalars(asked))
