"""What was live where, from what the stores were seen to hold over time."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session, joinedload

from restless_tide.core.availability import Availability
from restless_tide.core.lane import Held
from restless_tide.core.rollout import RolloutState
from restless_tide.core.rulebook import PRODUCTION
from restless_tide.core.strip import (
    Layer,
    Mark,
    OfferShown,
    Shown,
    Stretch,
    at_instant,
    marks,
    offered_in,
    stretches,
    told_where,
)
from restless_tide.desk import find, lanes
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Berth, Leg, Release, Showing

CSV_HEADER = ("app", "store", "since", "until", "version", "state", "part of new people", "countries")


@dataclass(frozen=True)
class Live:
    """What one store offers new people of an app at an instant. ``since``: nothing is known of the time before."""

    berth: Berth
    title: str
    layers: tuple[Layer, ...]
    offer: Availability | None
    since: datetime | None


@dataclass(frozen=True)
class BerthStrip:
    """One store's strip. ``since``: nothing is known of the time before."""

    berth: Berth
    title: str
    stretches: list[Stretch]
    marks: list[Mark]
    since: datetime | None


def live(session: Session, app_name: str | None, at: datetime, country: str | None = None) -> list[Live]:
    """What every store offered of an app, or of all, at an instant; with a country only where it was offered there.

    Raises NotFound for an app that is unknown.
    """
    apps = [find.app(session, app_name)] if app_name is not None else _apps(session)
    found = []
    for berth, shown, offers in _seen(session, apps, at):
        brings_back = rules_of(berth.store).rollout.withdraw_restores_previous
        now, offer = at_instant(shown, offers, at, brings_back=brings_back)
        if country is not None and not offered_in(country, offer):
            now = ()
        found.append(Live(berth, rules_of(berth.store).store, now, offer, _first(shown)))
    return found


def of_app(session: Session, app_name: str, since: datetime, until: datetime) -> list[BerthStrip]:
    """The strip of every store of an app over a time."""
    app = find.app(session, app_name)
    found = []
    for berth, shown, offers in _seen(session, [app], until):
        brings_back = rules_of(berth.store).rollout.withdraw_restores_previous
        one = stretches(shown, offers, since, until, brings_back=brings_back)
        begin = _first(shown)
        if begin is not None:
            one = [part for part in one if part.until > begin]
        found.append(BerthStrip(berth, rules_of(berth.store).store, one, marks(shown, since, until), begin))
    return found


def first_seen(session: Session, app_name: str) -> datetime | None:
    """When a store was first seen to hold a version of an app."""
    asked = select(func.min(Showing.at)).join(Leg, Leg.id == Showing.subject).join(Berth, Berth.id == Leg.berth_id)
    found: datetime | None = session.scalar(asked.where(Berth.app_id == find.app(session, app_name).id))
    return found


def rows(strips: Iterable[BerthStrip]) -> list[Sequence[object]]:
    """A line for each version in each stretch, for CSV; one without a version where nothing was offered."""
    found: list[Sequence[object]] = []
    for strip in strips:
        place = (strip.berth.app.name, strip.berth.store.name)
        for part in strip.stretches:
            when = (part.since.isoformat(timespec="seconds"), part.until.isoformat(timespec="seconds"))
            where = told_where(part.offer)
            if not part.layers:
                found.append((*place, *when, "", "", 0, where))
            for layer in part.layers:
                found.append((*place, *when, layer.version, layer.state, round(layer.part, 6), where))
    return found


def _apps(session: Session) -> list[App]:
    return list(session.scalars(select(App).order_by(App.title)))


def _first(shown: Sequence[Shown]) -> datetime | None:
    return shown[0].at if shown else None


def _seen(session: Session, apps: Sequence[App], until: datetime) -> list[tuple[Berth, list[Shown], list[OfferShown]]]:
    """Each berth of some apps with what was seen there until an instant, in order."""
    of_apps = select(Berth).where(Berth.app_id.in_([app.id for app in apps]), Berth.store_ref.is_not(None))
    berths = session.scalars(of_apps.options(joinedload(Berth.app), joinedload(Berth.store))).all()
    ids = [berth.id for berth in berths]
    shown: dict[str, list[Shown]] = defaultdict(list)
    asked = (
        select(Leg.berth_id, Showing.at, Release.version, Showing.state, Showing.share)
        .join(Leg, Leg.id == Showing.subject)
        .join(Release, Release.id == Leg.release_id)
        .where(Leg.berth_id.in_(ids), Leg.track == PRODUCTION, Showing.at <= until)
        .order_by(Showing.at, Showing.id)
    )
    for berth_id, at, version, state, share in session.execute(asked):
        shown[berth_id].append(Shown(at, version, RolloutState(state), share))
    offers: dict[str, list[OfferShown]] = defaultdict(list)
    seen = select(Showing).where(Showing.subject.in_(ids), Showing.at <= until).order_by(Showing.at, Showing.id)
    for row in session.scalars(seen):
        document = lanes.availability_of(Held(row.state))
        offers[row.subject].append(OfferShown(row.at, Availability.model_validate(document)))
    by_title = sorted(berths, key=lambda berth: (berth.app.title, rules_of(berth.store).store))
    return [(berth, shown[berth.id], offers[berth.id]) for berth in by_title]
