"""Taking back what was a slip: names corrected, drafts discarded, legs dropped, what nothing hangs on removed.

What can no longer be taken back is refused with what hangs on it and what may be done instead. The logbook keeps its
lines whatever is removed.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any, NoReturn

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, ImpossibleAct, Invalid
from restless_tide.core.leg import LegAct, possible
from restless_tide.core.versions import parse_version, version_order
from restless_tide.desk import (
    app_answers,
    app_goods,
    app_pictures,
    find,
    launching,
    legs,
    options,
    releases,
    retiring,
    texts,
)
from restless_tide.desk.apps import demand_identifier
from restless_tide.desk.desk import Act
from restless_tide.desk.releases import LegWish
from restless_tide.desk.stores import slug
from restless_tide.records.tables import App, AppIdentifier, Build, Cohort, FieldReport, Leg, Membership, Release


def change_app(act: Act, name: str, title: str | None, identifiers: Mapping[str, str]) -> App:
    """Correct an app's title, or its identifier on platforms where no build was handed in and no berth opened yet.

    An empty identifier takes the platform out. Raises Invalid, and Conflict with what hangs on an identifier.
    """
    app = find.app(act.session, name)
    before = _told(app)
    if title is not None:
        if not title.strip():
            raise Invalid("An app needs a title.", code="title-missing")
        app.title = title.strip()
    known = {entry.platform: entry for entry in app.identifiers}
    for platform, identifier in identifiers.items():
        if platform in known and known[platform].identifier != identifier:
            _demand_identifier_free(act.session, app, platform)
        if not identifier.strip():
            if platform in known:
                act.session.delete(known.pop(platform))
            continue
        demand_identifier(platform, identifier)
        if platform in known:
            known[platform].identifier = identifier
        else:
            act.session.add(AppIdentifier(app_id=app.id, platform=platform, identifier=identifier))
    act.session.flush()
    act.session.refresh(app, ["identifiers"])
    if not app.identifiers:
        raise Invalid("An app needs an identifier on at least one platform.", code="identifier-missing")
    act.log("app changed", f"app {app.name}", app=app.name, before=before, after=_told(app))
    return app


def _told(app: App) -> dict[str, object]:
    return {"title": app.title, **{entry.platform: entry.identifier for entry in app.identifiers}}


def _demand_identifier_free(session: Session, app: App, platform: str) -> None:
    builds = session.scalar(
        select(func.count()).select_from(Build).where(Build.app_id == app.id, Build.platform == platform)
    )
    at = [berth.store.name for berth in app.berths if berth.platform == platform]
    if builds or at:
        hangs = [f"{builds} build(s)"] * bool(builds) + [f"its place at {', '.join(at)}"] * bool(at)
        raise Conflict(
            f"The identifier of {app.title} for {platform} is fixed: {' and '.join(hangs)} use it.",
            remedy="Register another app for another identifier.",
            code="identifier-fixed",
        )


def remove_app(act: Act, name: str) -> None:
    """Remove an app that nothing hangs on. Raises Conflict with what does."""
    app = find.app(act.session, name)
    counts: dict[str, Any] = {"build": Build, "release": Release, "cohort": Cohort, "field report": FieldReport}
    hangs = [f"its place at {berth.store.name}" for berth in app.berths]
    for noun, table in counts.items():
        number = act.session.scalar(select(func.count()).select_from(table).where(table.app_id == app.id))
        hangs += [f"{number} {noun}{'s' if number > 1 else ''}"] if number else []
    if hangs:
        _hangs(app.title, hangs, "An app that has gone out stays, with its history.")
    before = _told(app)
    texts.remove_of(act, app)
    app_pictures.remove_of(act, app)
    app_answers.remove_of(act, app)
    app_goods.remove_of(act, app)
    for entry in list(app.identifiers):
        act.session.delete(entry)
    act.session.flush()
    act.session.refresh(app, ["identifiers"])
    act.session.delete(app)
    act.log("app removed", f"app {app.name}", app=app.name, before=before)


def rename_cohort(act: Act, app_name: str, name: str, new_name: str) -> Cohort:
    """Call a cohort otherwise; its members, trials and link stay. Raises Invalid, and Conflict for a name that is taken."""
    app = find.app(act.session, app_name)
    cohort = find.cohort(act.session, app, name)
    before, after = cohort.name, slug(new_name, "a cohort")
    if after != before:
        if act.session.scalar(select(Cohort).where(Cohort.app_id == app.id, Cohort.name == after)):
            raise Conflict(f"{app.title} has a cohort called {after} already.", code="cohort-known")
        cohort.name = after
        act.log("cohort renamed", f"cohort {after}", app=app.name, before={"name": before}, after={"name": after})
    return cohort


def remove_cohort(act: Act, app_name: str, name: str) -> int:
    """Remove a cohort that was never handed a build; returns how many people were in it. Raises Conflict with its trials."""
    app = find.app(act.session, app_name)
    cohort = find.cohort(act.session, app, name)
    if not removable(cohort):
        trials = len(cohort.trials)
        _hangs(cohort.name, [f"{trials} trial{'s' if trials > 1 else ''}"], "Close its trials and rename it instead.")
    members = act.session.scalars(select(Membership).where(Membership.cohort_id == cohort.id)).all()
    for member in members:
        act.session.delete(member)
    act.session.flush()
    act.session.delete(cohort)
    act.log("cohort removed", f"cohort {cohort.name}", app=app.name, before={"people": len(members)})
    return len(members)


def removable(cohort: Cohort) -> bool:
    """Whether a cohort was never handed a build."""
    return not cohort.trials


def add_leg(act: Act, app_name: str, version: str, store_name: str, wish: LegWish) -> Leg:
    """Take one more store, or track of a store, into a release. Raises Conflict where it is in already."""
    release = find.release(act.session, retiring.app_in_use(act.session, app_name), version)
    leg = releases.add_leg(act, release, store_name, wish)
    launching.demand_possible(act.session, release, act.now, str(find.place_of(leg)))
    releases.touch(act, release)
    act.log("leg added", legs.leg_subject(leg), app=release.app.name, after={"build": leg.build_id})
    return leg


def drop_leg(act: Act, app_name: str, version: str, store_name: str) -> Release:
    """Take a store out of a release, before it was ever handed in there. Raises ImpossibleAct when it is too late."""
    release = find.release(act.session, find.app(act.session, app_name), version)
    leg = find.leg(release, store_name)
    _demand_droppable(leg, act.now)
    if len(release.legs) == 1:
        raise ImpossibleAct(
            f"{store_name} is the only store of {release.version}; discard the draft instead.", possible=["discard"]
        )
    subject, before = legs.leg_subject(leg), {"build": leg.build_id}
    act.session.delete(leg)
    release.legs.remove(leg)
    launching.demand_possible(act.session, release, act.now)
    releases.touch(act, release)
    act.log("leg dropped", subject, app=release.app.name, before=before)
    return release


def rename_release(act: Act, app_name: str, version: str, new_version: str) -> Release:
    """Give a draft that was handed in nowhere another version; each leg gets the newest build of that version.

    Raises ImpossibleAct, Conflict for a version that is drafted, and Invalid where a store has no build of it.
    """
    app = find.app(act.session, app_name)
    release = find.release(act.session, app, version)
    before, after = release.version, str(parse_version(new_version))
    if after == before:
        return release
    for leg in release.legs:
        _demand_droppable(leg, act.now)
    if act.session.scalar(select(Release).where(Release.app_id == app.id, Release.version == after)):
        raise Conflict(f"{app.title} {after} is drafted already.", code="release-known")
    release.version = after
    act.session.flush()
    subject = f"release {after}"
    act.log("release renamed", subject, app=app.name, before={"version": before}, after={"version": after})
    for leg in release.legs:
        build = _newest(act.session, app, leg.berth.platform, after)
        releases.change_leg(act, app.name, after, str(find.place_of(leg)), LegWish(build=build.id))
    return release


def _newest(session: Session, app: App, platform: str, version: str) -> Build:
    same = Build.version_order == version_order(version)
    wanted = select(Build).where(Build.app_id == app.id, Build.platform == platform, same)
    found = session.scalar(wanted.order_by(Build.number_order.desc()).limit(1))
    if found is None:
        raise Invalid(
            f"{app.title} has no build of {version} for {platform}.",
            remedy="Push one first, or discard the draft.",
            code="build-unknown",
        )
    return found


def discard(act: Act, app_name: str, version: str) -> None:
    """Discard a draft that was handed in nowhere; its builds stay. Raises ImpossibleAct when it is too late."""
    release = find.release(act.session, find.app(act.session, app_name), version)
    for leg in release.legs:
        _demand_droppable(leg, act.now)
    before = {"stores": [str(find.place_of(leg)) for leg in release.legs], "notes": sorted(release.notes)}
    for leg in list(release.legs):
        act.session.delete(leg)
    act.session.flush()
    act.session.delete(release)
    act.log("draft discarded", f"release {release.version}", app=release.app.name, before=before)


def _demand_droppable(leg: Leg, now: datetime) -> None:
    phase = legs.phase(leg)
    acts = possible(phase, ever_sent=bool(leg.rounds))
    if LegAct.DROP in acts:
        return
    steering = [option.act for option in options.possible(leg, now=now).values() if option.possible]
    raise ImpossibleAct(
        f"{leg.release.version} was handed in at {find.place_of(leg)} and is {phase}; it stays, with its history.",
        possible=[*acts, *steering],
    )


def _hangs(name: str, what: list[str], remedy: str) -> NoReturn:
    raise Conflict(f"{name} cannot be removed: {', '.join(what)}.", remedy=remedy, code="not-empty")
