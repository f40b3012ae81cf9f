"""The readiness sheet of a release: store by store, what is there, what is missing, and what the planned day brings.

It exists before a release or a build does: then it says what an app will need at every store that carries
one of its platforms.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core import sheet as core
from restless_tide.core.errors import Invalid, NotFound
from restless_tide.core.known import Known
from restless_tide.core.rulebook import PRODUCTION, Rulebook
from restless_tide.core.sheet import Sheet, Verdict
from restless_tide.core.tracks import Address, parse_address
from restless_tide.core.versions import parse_version
from restless_tide.desk import find, known, legs, naming, rulebooks, stores
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Berth, Release, Store


@dataclass(frozen=True)
class PlaceSheet:
    """The sheet of one place, by ``rules``. ``announced`` says what another rulebook changes until the planned day, or after it."""

    address: Address
    store_title: str
    place_title: str
    day: datetime
    rules: Rulebook
    sheet: Sheet
    announced: tuple[str, ...]
    first_release: bool


@dataclass(frozen=True)
class ReleaseSheets:
    """The sheets of all places of a release. ``drafted``: the version is a release already."""

    app: App
    version: str | None
    drafted: bool
    places: tuple[PlaceSheet, ...]

    @property
    def verdict(self) -> Verdict:
        """The worst of all places."""
        order = list(Verdict)
        return max((place.sheet.verdict for place in self.places), key=order.index, default=Verdict.BLOCKED)


def sheets(
    session: Session,
    app_name: str,
    version: str | None,
    now: datetime,
    *,
    place: str | None = None,
    day: datetime | None = None,
) -> ReleaseSheets:
    """The sheets of a version of an app, of the release to come without one, at one place or at all.

    ``day`` is when it is to go out; without it, a leg's own date, or now. Raises NotFound for a place that has no sheet.
    """
    app = find.app(session, app_name)
    number = str(parse_version(version)) if version is not None else None
    given = {"app": app.name, "version": number}
    release = (
        session.scalar(select(Release).join(App).where(naming.THE_APP, naming.THE_RELEASE), given) if number else None
    )
    found = _of_release(session, release, now, day) if release is not None else []
    taken = {one.address.store for one in found}
    if release is None or not found:
        placed = {berth.store.name for berth in app.berths}
        found += [
            _of_store(session, app, store, number, now, day)
            for store in stores.carrying(session, app)
            if store.name not in taken and (number is None or not placed or store.name in placed)
        ]
    if place is not None:
        wanted = parse_address(place)
        names = ", ".join(str(one.address) for one in found) or "no store"
        found = [one for one in found if one.address == wanted]
        if not found:
            raise NotFound(
                f"{app.title} {number or ''} has no sheet for {wanted}.".replace("  ", " "),
                remedy=f"It has one for: {names}.",
                code="place-unknown",
            )
    if not found:
        raise Invalid(
            f"No store carries a platform of {app.title}.",
            remedy="Connect a store first: tide store connect",
            code="no-store",
        )
    return ReleaseSheets(app, number, release is not None, tuple(found))


def _of_release(session: Session, release: Release, now: datetime, day: datetime | None) -> list[PlaceSheet]:
    return [
        _place(
            session,
            leg.berth.store,
            leg.berth,
            find.place_of(leg),
            legs.place_title(leg),
            known.of_leg(session, leg, now),
            day,
            release.version,
        )
        for leg in sorted(release.legs, key=lambda leg: (rules_of(leg.berth.store).store, leg.track != PRODUCTION))
    ]


def _of_store(
    session: Session, app: App, store: Store, version: str | None, now: datetime, day: datetime | None
) -> PlaceSheet:
    berth = session.scalar(select(Berth).where(Berth.app_id == app.id, Berth.store_id == store.id))
    if berth is None:
        seen = known.nowhere(session, app, store, now)
    else:
        build = find.newest_build(session, app, [berth.platform], version)
        seen = known.at_berth(session, berth, now, build=build)
    address = Address(store.name, PRODUCTION)
    return _place(session, store, berth, address, rules_of(store).store, seen, day, version)


def _place(
    session: Session,
    store: Store,
    berth: Berth | None,
    address: Address,
    title: str,
    seen: Known,
    day: datetime | None,
    version: str | None,
) -> PlaceSheet:
    seen = known.on_day(seen, day or seen.day)
    rules, told = _rules_on(session, store, berth, version, seen)
    return PlaceSheet(
        address=address,
        store_title=rules.store,
        place_title=title,
        day=seen.day,
        rules=rules,
        sheet=core.sheet(rules, seen),
        announced=told,
        first_release=not seen.standing.live,
    )


def _rules_on(
    session: Session, store: Store, berth: Berth | None, version: str | None, seen: Known
) -> tuple[Rulebook, tuple[str, ...]]:
    """The rules that hold on the planned day, and what the announced ones mean for this release."""
    current, following = rules_of(store), rulebooks.announced(store)
    if following is None:
        return current, ()
    hits = [
        said
        for hit in (rulebooks.hits_at(session, berth, following, seen.now) if berth is not None else ())
        if hit.version in (None, version)
        for said in hit.said
    ]
    begins = f"{following.in_force_since:%d %b %Y}"
    if following.in_force_since <= seen.day:
        told = f"The rules that {current.store} announced for {begins} hold on the planned day; this sheet is by them."
        return following, (told, *hits)
    if not hits:
        return current, ()
    return current, (f"From {begins} on {current.store} has other rules, after the planned day:", *hits)
