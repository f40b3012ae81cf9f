"""Guards: set up for an app, changed, ended, silenced for a while; each watches every rollout of the app."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Invalid, NotFound
from restless_tide.core.guard import LONGEST_SILENCE, MOST_GUARDS, GuardRule, OnBreach
from restless_tide.desk import find, retiring
from restless_tide.desk.desk import Act
from restless_tide.records.tables import App, Berth, Guard, GuardWatch, Release, Store


@dataclass(frozen=True)
class Setting:
    """A guard as it is set up. ``stores`` none: all; ``source`` empty: what the stores count themselves.

    ``together``: the legs of a release are judged as one. ``every_store``: what it does, it does at every store.
    """

    name: str
    rule: GuardRule
    on_breach: OnBreach = OnBreach.TELL
    every_store: bool = False
    together: bool = True
    stores: tuple[str, ...] = ()
    source: str = ""

    def told(self) -> dict[str, Any]:
        """As it stands in the logbook."""
        return {
            "watches": str(self.rule.watched),
            "compared with": str(self.rule.against),
            "accepts": self.rule.accepted,
            "wrong at most once in": round(1 / self.rule.error_bound),
            "does": str(self.on_breach),
            "at": "every store" if self.every_store else "its own store",
        }


def setting_of(row: Guard) -> Setting:
    return Setting(row.name, rule_of(row), row.on_breach, row.every_store, row.together, tuple(row.stores), row.source)


def rule_of(row: Guard) -> GuardRule:
    return GuardRule.model_validate(row.rule)


def set_up(act: Act, app_name: str, wanted: Setting) -> Guard:
    """Have a guard watch every rollout of an app from now on, those under way included.

    Raises Invalid for a store where the app has no place, or one guard too many; Conflict for a name that is taken.
    """
    app = retiring.app_in_use(act.session, app_name)
    _demand(act.session, app, wanted)
    if _named(act.session, app, wanted.name) is not None:
        raise Conflict(
            f"{app.title} has a guard called {wanted.name!r} already.",
            remedy=f'Change it: tide guard change "{wanted.name}" --app {app_name}',
            code="guard-known",
        )
    count = select(func.count()).select_from(Guard).where(Guard.app_id == app.id, Guard.ended_at.is_(None))
    if (act.session.scalar(count) or 0) >= MOST_GUARDS:
        raise Invalid(f"An app has {MOST_GUARDS} guards at most.", code="too-many-guards")
    row = Guard(app_id=app.id, created_at=act.now)
    _write(row, wanted)
    row.app = app
    act.session.add(row)
    act.session.flush()
    act.judge(app.name)
    act.log("guard set up", f"guard {row.name}", app=app.name, after=wanted.told())
    return row


def change(act: Act, app_name: str, name: str, wanted: Setting) -> Guard:
    """Change a guard; the rollouts under way are judged by its new rule, from the counts that are there.

    What it has only told people so far, it may act on from now on; what it has stopped is not stopped once more.
    """
    row = needed(act.session, app_name, name)
    _demand(act.session, row.app, wanted)
    if wanted.name != row.name and _named(act.session, row.app, wanted.name) is not None:
        raise Conflict(f"Another guard is called {wanted.name!r}.", code="guard-known")
    before = setting_of(row)
    _write(row, wanted)
    if before.on_breach is OnBreach.TELL:
        for watch in act.session.scalars(select(GuardWatch).where(GuardWatch.guard_id == row.id)):
            watch.breached_at, watch.acted = None, ""
    act.judge(row.app.name)
    act.log("guard changed", f"guard {row.name}", app=row.app.name, before=before.told(), after=wanted.told())
    return row


def _write(row: Guard, wanted: Setting) -> None:
    row.name, row.rule, row.on_breach = wanted.name, wanted.rule.model_dump(mode="json"), wanted.on_breach
    row.every_store, row.together = wanted.every_store, wanted.together
    row.stores, row.source = list(wanted.stores), wanted.source


def end(act: Act, app_name: str, name: str, reason: str) -> None:
    """The guard watches no more; what it found stays."""
    row = needed(act.session, app_name, name)
    row.ended_at = act.now
    act.log("guard ended", f"guard {row.name}", app=row.app.name, reason=reason, before=setting_of(row).told())


def silence(act: Act, app_name: str, version: str, name: str, until: datetime | None, reason: str) -> list[GuardWatch]:
    """Have a guard do nothing at one release for a time, regardless of what it finds; it continues to count. No instant: speak again.

    Raises Invalid without a reason, for an instant that is past, or one that is too far away.
    """
    row = needed(act.session, app_name, name)
    release = find.release(act.session, row.app, version)
    if until is not None:
        if not reason.strip():
            raise Invalid("Say why: silencing a guard needs a reason.", remedy="Add --reason.", code="reason-missing")
        if not act.now < until <= act.now + LONGEST_SILENCE:
            days = LONGEST_SILENCE.days
            raise Invalid(f"A guard is silent until an instant within the next {days} days.", code="instant-unfit")
    found = [watch for watch in watches(act.session, release) if watch.guard_id == row.id]
    if not found:
        raise Invalid(
            f"{row.name} does not watch {version}: it is not being rolled out.",
            remedy="A guard begins with the launch.",
            code="not-watching",
        )
    for watch in found:
        watch.silent_until, watch.silent_reason = until, reason if until is not None else ""
        watch.silent_by = act.person if until is not None else ""
    act.judge(app_name)
    said = "guard silenced" if until is not None else "guard speaks again"
    after = {"until": until.isoformat()} if until is not None else None
    act.log(said, f"guard {row.name} at {version}", app=app_name, reason=reason, after=after)
    return found


def needed(session: Session, app_name: str, name: str) -> Guard:
    found = _named(session, find.app(session, app_name), name)
    if found is None:
        raise NotFound(
            f"No guard is called {name!r}.", remedy=f"See: tide guard list --app {app_name}", code="guard-unknown"
        )
    return found


def _named(session: Session, app: App, name: str) -> Guard | None:
    return session.scalar(select(Guard).where(Guard.app_id == app.id, Guard.name == name, Guard.ended_at.is_(None)))


def of_app(session: Session, app: App) -> list[Guard]:
    """The guards of an app, in the order of their names."""
    return list(
        session.scalars(select(Guard).where(Guard.app_id == app.id, Guard.ended_at.is_(None)).order_by(Guard.name))
    )


def watches(session: Session, release: Release) -> Sequence[GuardWatch]:
    """What each guard says of a release, those included that have ended meanwhile and said something."""
    found = session.scalars(
        select(GuardWatch)
        .join(Guard)
        .where(GuardWatch.release_id == release.id)
        .order_by(Guard.name, GuardWatch.leg_id)
    )
    return [
        one
        for one in found
        if one.breached_at is not None or (one.guard.ended_at is None and (one.leg_id is None) == one.guard.together)
    ]


def _demand(session: Session, app: App, wanted: Setting) -> None:
    """Raise Invalid for a store at which the app has no place."""
    here = set(
        session.scalars(select(Store.name).join(Berth, Berth.store_id == Store.id).where(Berth.app_id == app.id))
    )
    strange = sorted(set(wanted.stores) - here)
    if strange:
        raise Invalid(
            f"{app.title} has no place at {', '.join(strange)}.",
            remedy=f"It is at {', '.join(sorted(here)) or 'no store yet'}.",
            code="berth-unknown",
        )


def breach_of(session: Session, release_id: str) -> str:
    """What a guard was sure of when it stopped a release; empty where none did."""
    asked = (
        select(GuardWatch)
        .join(Guard)
        .where(
            GuardWatch.release_id == release_id, GuardWatch.breached_at.is_not(None), Guard.on_breach != OnBreach.TELL
        )
    )
    found = session.scalar(asked.order_by(GuardWatch.breached_at.desc()).limit(1))
    return str((found.breach or {}).get("said", found.said)) if found is not None else ""
