"""Finding a thing by the name or id a person gives, and saying what there is when it is not found."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from difflib import get_close_matches
from typing import NoReturn

from sqlalchemy import or_, select
from sqlalchemy.orm import InstrumentedAttribute, Session

from restless_tide.core.errors import Invalid, NotFound
from restless_tide.core.tracks import Address, parse_address
from restless_tide.desk import naming
from restless_tide.records.tables import (
    App,
    Berth,
    Build,
    Cohort,
    Consignment,
    FieldReport,
    Leg,
    Membership,
    Person,
    Release,
    Store,
    Tester,
    Trial,
)


def app(session: Session, name: str) -> App:
    found = session.scalar(select(App).where(naming.THE_APP), {"app": name})
    return found or _missing("app", name, session.scalars(select(App.name)).all(), "Register it with: tide app add")


def person_with(session: Session, address: str) -> Person | None:
    """Who has a mail address; None: no one who works here."""
    wanted = select(Person).where(Person.email == address.strip().lower(), Person.removed_at.is_(None))
    return session.scalar(wanted)


def store(session: Session, name: str) -> Store:
    found = session.scalar(select(Store).where(or_(Store.name == name.lower(), Store.id == name)))
    return found or _missing(
        "store", name, session.scalars(select(Store.name)).all(), "Connect it with: tide store connect"
    )


def berth(session: Session, app_row: App, store_row: Store) -> Berth:
    """The open berth of an app at a store. Raises NotFound, or Invalid while it is not open."""
    found = session.scalar(select(Berth).where(Berth.app_id == app_row.id, Berth.store_id == store_row.id))
    if found is None:
        raise NotFound(
            f"{app_row.title} has no berth at {store_row.name}.",
            remedy=f"Open it with: tide berth open --app {app_row.name} --store {store_row.name}",
            code="berth-unknown",
        )
    if found.store_ref is None:
        why = f"refused: {found.refused_because}" if found.refused_because else "ordered, not confirmed yet"
        raise Invalid(
            f"The berth of {app_row.title} at {store_row.name} is not open ({why}).",
            remedy="Try again with another name."
            if found.refused_because
            else "Wait until the store has confirmed it.",
            code="berth-not-open",
        )
    return found


def build(session: Session, name: str) -> Build:
    """A build by whatever people call it; see desk/naming.py. Without an app its name has to be one in the whole desk."""
    return naming.build(session, name)


def build_of(session: Session, app_row: App, name: str, platform: str | None = None) -> Build:
    return naming.build(session, name, app=app_row, platform=platform)


def consignment(session: Session, consignment_id: str) -> Consignment:
    found: Consignment = naming.by_id(
        session, Consignment, "consignment", consignment_id, "See: tide build list --app APP"
    )
    return found


def cohort(session: Session, app_row: App, name: str) -> Cohort:
    found = session.scalar(
        select(Cohort).where(Cohort.app_id == app_row.id, or_(Cohort.name == name, Cohort.id == name))
    )
    names = session.scalars(select(Cohort.name).where(Cohort.app_id == app_row.id)).all()
    return found or _missing("cohort", name, names, f"Make it with: tide cohort add {name} --app {app_row.name}")


def cohorts(session: Session, app_row: App, names: Sequence[str]) -> list[Cohort]:
    return [cohort(session, app_row, name) for name in dict.fromkeys(names)]


def tester(session: Session, who: str) -> Tester:
    """A tester by id or address."""
    return testers(session, [who])[0]


_ASKED_AT_ONCE = 1000
"""SQLite takes a bounded number of values in one statement."""


def testers_with(session: Session, column: InstrumentedAttribute[str], values: Sequence[str]) -> Iterator[Tester]:
    """The testers whose id or address is one of these, however many there are."""
    for begin in range(0, len(values), _ASKED_AT_ONCE):
        yield from session.scalars(select(Tester).where(column.in_(values[begin : begin + _ASKED_AT_ONCE])))


def testers(session: Session, wanted: Sequence[str]) -> list[Tester]:
    """Testers by id or address, each once, in the order in which they are named."""
    named = {who: who.strip().lower() for who in wanted}
    rows = session.scalars(
        select(Tester).where(or_(Tester.id.in_(named), Tester.email.in_(named.values())), Tester.forgotten_at.is_(None))
    )
    known = {name: row for row in rows for name in (row.id, row.email)}
    found = {}
    for who, address in named.items():
        row = known.get(who) or known.get(address)
        if row is None:
            _missing("tester", who, [], "See: tide tester list --find TEXT")
        found[row.id] = row
    return list(found.values())


def tester_of(session: Session, app: App, who: str) -> Tester:
    """Someone in a cohort of an app, by id or address. Whoever else the desk knows is not found by this."""
    found = session.scalar(
        select(Tester)
        .join(Membership, Membership.tester_id == Tester.id)
        .join(Cohort, Cohort.id == Membership.cohort_id)
        .where(
            Cohort.app_id == app.id,
            or_(Tester.id == who, Tester.email == who.strip().lower()),
            Tester.forgotten_at.is_(None),
        )
        .limit(1)
    )
    if found is None:
        raise NotFound(
            f"No tester of {app.title} is called {who!r}.",
            remedy=f"Put them into one of its cohorts: tide tester add {who} --app {app.name} --cohort COHORT",
            code="tester-unknown",
        )
    return found


def tester_at(session: Session, address: str) -> Tester | None:
    """Whoever the desk knows by an address."""
    return session.scalar(select(Tester).where(Tester.email == address.strip().lower()))


def report(session: Session, report_id: str) -> FieldReport:
    found: FieldReport = naming.by_id(session, FieldReport, "report", report_id, "See: tide report list --app APP")
    return found


def trial(session: Session, trial_id: str) -> Trial:
    found: Trial = naming.by_id(session, Trial, "trial", trial_id, "See: tide trial list --app APP")
    return found


def release(session: Session, app_row: App, version: str) -> Release:
    wanted = select(Release).where(Release.app_id == app_row.id, naming.THE_RELEASE)
    found = session.scalar(wanted, {"version": version})
    if found is not None:
        return found
    versions = session.scalars(select(Release.version).where(Release.app_id == app_row.id)).all()
    return _missing(
        "release",
        version,
        versions,
        f"Draft it with: tide release draft {version} --app {app_row.name} --leg STORE=BUILD",
    )


def leg(release_row: Release, place: str) -> Leg:
    """The leg at a store, or on a track of it (``openfield/early``). A store alone is its leg in production, or its only one."""
    wanted = parse_address(place)
    there = [row for row in release_row.legs if wanted.store in (row.berth.store.name, row.berth.store_id)]
    for candidate in there:
        if candidate.track == wanted.track:
            return candidate
    if len(there) == 1 and "/" not in place:
        return there[0]
    return _missing(
        "leg",
        place,
        [str(place_of(candidate)) for candidate in release_row.legs],
        "Add the store to the release first.",
    )


def berth_subject(berth_row: Berth) -> str:
    """How a berth stands in the logbook."""
    return f"berth {berth_row.app.name} at {berth_row.store.name}"


def place_of(leg_row: Leg) -> Address:
    """Where a leg is: its store, and its track where that is not production."""
    return Address(leg_row.berth.store.name, leg_row.track)


def _missing(noun: str, name: str, known: Sequence[str], remedy: str) -> NoReturn:
    near = get_close_matches(name, known, n=1)
    if near:
        remedy = f"Did you mean {near[0]}?"
    elif known:
        remedy = f"Known: {', '.join(sorted(known))}. {remedy}"
    raise NotFound(f"No {noun} is called {name!r}.", remedy=remedy, code=f"{noun}-unknown")


def newest_build(session: Session, app: App, platforms: Collection[str], version: str | None = None) -> Build | None:
    """The build of an app for one of these platforms that was entered last, of a version or of any."""
    found = select(Build).where(Build.app_id == app.id, Build.platform.in_(platforms))
    if version is not None:
        found = found.where(Build.version == version)
    return session.scalar(found.order_by(Build.created_at.desc()).limit(1))
