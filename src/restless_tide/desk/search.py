"""Finding anything at the desk by a few words: apps, releases, builds, cohorts, testers, stores."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from urllib.parse import quote

from sqlalchemy import ColumnElement, or_, select, true
from sqlalchemy.orm import Session

from restless_tide.core.rights import Apps
from restless_tide.desk import find
from restless_tide.desk.matching import holds
from restless_tide.records.tables import App, AppIdentifier, Build, Cohort, Release, Store, Tester

OF_A_KIND = 6
"""So many of one kind are told."""


@dataclass(frozen=True)
class Found:
    """One thing that fits. ``place`` is its page in the console."""

    kind: str
    title: str
    about: str
    place: str


def found(session: Session, text: str, reach: Apps = None, *, testers: bool = True) -> list[Found]:
    """What fits every word of ``text``, kind by kind, the newest first; nothing for an empty text.

    With ``reach`` only of these apps; testers only with ``testers``.
    """
    if not text.strip():
        return []
    of_apps = [hit for kind in _OF_APPS for hit in kind(session, text, reach)]
    return [*of_apps, *(_testers(session, text) if testers else ()), *_stores(session, text)]


def _within(reach: Apps) -> ColumnElement[bool]:
    return true() if reach is None else App.name.in_(reach)


def _apps(session: Session, words: str, reach: Apps) -> Iterator[Found]:
    named = select(AppIdentifier.app_id).where(holds(words, AppIdentifier.identifier))
    wanted = (
        select(App).where(or_(holds(words, App.title, App.name), App.id.in_(named)), _within(reach)).order_by(App.title)
    )
    for app in session.scalars(wanted.limit(OF_A_KIND)):
        yield Found("app", app.title, app.name, f"/apps/{quote(app.name)}/releases")


def _releases(session: Session, words: str, reach: Apps) -> Iterator[Found]:
    wanted = select(Release).join(App).where(holds(words, Release.version, App.title, App.name), _within(reach))
    for release in session.scalars(wanted.order_by(Release.created_at.desc()).limit(OF_A_KIND)):
        stores = ", ".join(str(find.place_of(leg)) for leg in release.legs)
        place = f"/apps/{quote(release.app.name)}/releases/{quote(release.version)}"
        yield Found("release", f"{release.app.title} {release.version}", stores, place)


def _builds(session: Session, words: str, reach: Apps) -> Iterator[Found]:
    columns = (Build.version, Build.number, Build.id, Build.revision, App.title, App.name)
    wanted = select(Build).join(App).where(holds(words, *columns), _within(reach)).order_by(Build.created_at.desc())
    for build in session.scalars(wanted.limit(OF_A_KIND)):
        place = f"/apps/{quote(build.app.name)}/builds/{build.id}"
        yield Found("build", f"{build.app.title} {build.label}", f"for {build.platform}", place)


def _cohorts(session: Session, words: str, reach: Apps) -> Iterator[Found]:
    wanted = (
        select(Cohort)
        .join(App)
        .where(holds(words, Cohort.name, App.title, App.name), _within(reach))
        .order_by(Cohort.name)
    )
    for cohort in session.scalars(wanted.limit(OF_A_KIND)):
        place = f"/apps/{quote(cohort.app.name)}/cohorts/{quote(cohort.name)}"
        yield Found("cohort", cohort.name, f"{cohort.kind} of {cohort.app.title}", place)


def _testers(session: Session, words: str) -> Iterator[Found]:
    wanted = select(Tester).where(holds(words, Tester.name, Tester.email), Tester.forgotten_at.is_(None))
    for tester in session.scalars(wanted.order_by(Tester.name).limit(OF_A_KIND)):
        yield Found("tester", tester.name or tester.email, tester.email, f"/testers?find={quote(tester.email)}")


def _stores(session: Session, words: str) -> Iterator[Found]:
    wanted = select(Store).where(holds(words, Store.name, Store.rulebook["store"].as_string()))
    for store in session.scalars(wanted.order_by(Store.name).limit(OF_A_KIND)):
        yield Found("store", store.rulebook["store"], store.name, "/stores")


_OF_APPS = (_apps, _releases, _builds, _cohorts)
