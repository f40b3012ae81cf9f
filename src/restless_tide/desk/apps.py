"""Apps and their berths."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import datetime

import pycountry
from sqlalchemy import func, select
from sqlalchemy.orm import Session, selectinload

from restless_tide.core.availability import Availability, consequences
from restless_tide.core.berth import state_of
from restless_tide.core.errors import Conflict, Finding, Invalid
from restless_tide.core.locales import locale_of
from restless_tide.core.order import OrderKind
from restless_tide.core.readiness import demand_name, demand_ready
from restless_tide.core.sheet import Line, offer_findings, sheet
from restless_tide.desk import find, known, lanes, retiring
from restless_tide.desk.desk import Act
from restless_tide.desk.stores import offered, rules_of, slug
from restless_tide.records.tables import App, AppIdentifier, Berth

_IDENTIFIER = re.compile(r"[A-Za-z][A-Za-z0-9_-]*(\.[A-Za-z0-9][A-Za-z0-9_-]*)+")


def register(act: Act, name: str, title: str, identifiers: Mapping[str, str]) -> App:
    """Register an app with its identifier on each platform. Raises Invalid or Conflict."""
    app_name = slug(name, "an app")
    if act.session.scalar(select(App).where(App.name == app_name)):
        raise Conflict(f"An app called {app_name} is registered already.", code="app-known")
    if not identifiers:
        raise Invalid("An app needs an identifier on at least one platform.", code="identifier-missing")
    for platform, identifier in identifiers.items():
        demand_identifier(platform, identifier)
    app = App(name=app_name, title=title.strip() or app_name, created_at=act.now)
    app.identifiers = [AppIdentifier(platform=platform, identifier=value) for platform, value in identifiers.items()]
    act.session.add(app)
    act.session.flush()
    act.log(
        "app registered", f"app {app.name}", app=app.name, after={"title": app.title, "identifiers": dict(identifiers)}
    )
    return app


def demand_identifier(platform: str, identifier: str) -> None:
    """Raise Invalid for what is no identifier of an app."""
    if not _IDENTIFIER.fullmatch(identifier):
        raise Invalid(
            f"{identifier!r} is no identifier for {platform}.",
            remedy="Write it as the project does, with dots: org.example.marram",
            code="identifier-unfit",
        )


def number(session: Session) -> int:
    """How many apps there are, those out of use among them."""
    return session.scalar(select(func.count()).select_from(App)) or 0


def every(session: Session) -> list[App]:
    """All apps by title, with their identifiers, their berths and what waits in those, read in a few queries."""
    berths = selectinload(App.berths)
    rows = session.scalars(
        select(App)
        .options(selectinload(App.identifiers), berths.selectinload(Berth.store), berths.selectinload(Berth.sighting))
        .order_by(App.title)
    ).all()
    lanes.pending_by_lane(session, [berth.id for row in rows for berth in row.berths])
    return list(rows)


def open_berth(act: Act, app_name: str, store_name: str, listed_name: str, language: str) -> Berth:
    """Order the app's place at a store, or try again after a refusal. The store's answer comes back by the order."""
    app, store = retiring.app_in_use(act.session, app_name), find.store(act.session, store_name)
    rules, language = rules_of(store), locale_of(language)
    platforms = {entry.platform: entry.identifier for entry in app.identifiers}
    platform = next((candidate for candidate in rules.platforms if candidate in platforms), None)
    if platform is None:
        raise Invalid(
            f"{rules.store} carries {', '.join(rules.platforms)}; {app.title} has an identifier only for {', '.join(platforms)}.",
            code="platform-missing",
        )
    berth = act.session.scalar(select(Berth).where(Berth.app_id == app.id, Berth.store_id == store.id))
    if berth is not None and berth.refused_because is None:
        state = state_of(berth.store_ref, berth.refused_because)
        raise Conflict(f"The berth of {app.title} at {rules.store} is {state} already.", code="berth-known")
    name = listed_name.strip() or app.title
    demand_name(rules, name)
    if berth is None:
        berth = Berth(
            app_id=app.id,
            store_id=store.id,
            platform=platform,
            identifier=platforms[platform],
            created_at=act.now,
            listed_name="",
            language="",
        )
        act.session.add(berth)
    berth.listed_name, berth.language, berth.refused_because = name, language, None
    act.session.flush()
    act.to_draw.add(app.name)
    act.order(OrderKind.OPEN_BERTH, lane=berth.id, store=store, subject=berth.id)
    act.log(
        "berth ordered", f"berth {app.name} at {store.name}", app=app.name, after={"listed name": berth.listed_name}
    )
    return berth


def rename_berth(act: Act, app_name: str, store_name: str, name: str, reason: str) -> Berth:
    """Order another name for an app at a store; the name changes when the store has confirmed it.

    Raises Invalid for a name that the store's rulebook does not take.
    """
    app, store = find.app(act.session, app_name), find.store(act.session, store_name)
    berth, wanted, rules = find.berth(act.session, app, store), name.strip(), rules_of(store)
    if not wanted:
        raise Invalid("An app needs a name at the store.", code="name-missing")
    demand_name(rules, wanted)
    if wanted == berth.listed_name and not lanes.pending(act.session, berth.id):
        return berth
    act.order(OrderKind.RENAME_BERTH, lane=berth.id, store=store, subject=berth.id, payload={"name": wanted})
    act.log(
        "new name ordered",
        f"berth {app.name} at {store.name}",
        app=app.name,
        reason=reason,
        before={"listed name": berth.listed_name},
        after={"listed name": wanted},
    )
    return berth


def check_availability(
    session: Session, berth: Berth, wanted: Availability, now: datetime
) -> tuple[list[Finding], list[str]]:
    """What stands against offering the app so, and what a person should know before."""
    rules, seen = rules_of(berth.store), replace(known.at_berth(session, berth, now), wanted_offer=wanted)
    return offer_findings(rules, seen), consequences(rules, seen.offered, wanted, seen.standing)


def demand_codes(wanted: Availability) -> None:
    """Raise Invalid for a country (ISO 3166) or a currency (ISO 4217) that does not exist."""
    unknown = [code for code in wanted.countries if pycountry.countries.get(alpha_2=code) is None]
    if unknown:
        raise Invalid(
            f"{', '.join(unknown)} is no country.", remedy="Use two letters, such as DE or NO.", code="country-unknown"
        )
    if wanted.currency is not None and pycountry.currencies.get(alpha_3=wanted.currency) is None:
        raise Invalid(
            f"{wanted.currency} is no currency.", remedy="Use three letters, such as EUR.", code="currency-unknown"
        )


def set_availability(act: Act, app_name: str, store_name: str, wanted: Availability, reason: str) -> Berth:
    """Order where, for how much and to whom an app is offered. Raises NotReady with the store's rules against it."""
    app, store = find.app(act.session, app_name), find.store(act.session, store_name)
    berth = find.berth(act.session, app, store)
    demand_codes(wanted)
    before = offered(berth)
    if wanted == before:
        return berth
    findings, _ = check_availability(act.session, berth, wanted, act.now)
    demand_ready(findings, f"Offering {app.title} so at {store.name}")
    berth.availability = wanted.model_dump(mode="json")
    payload = {"availability": berth.availability}
    act.order(OrderKind.SET_AVAILABILITY, lane=berth.id, store=store, subject=berth.id, payload=payload)
    subject = f"berth {app.name} at {store.name}"
    told = {"before": {"offered": before.told()}, "after": {"offered": wanted.told()}}
    act.log("availability ordered", subject, app=app.name, reason=reason, **told)
    return berth


def things_at(session: Session, berth: Berth, now: datetime) -> Sequence[Line]:
    """The store's prerequisite graph for this berth: what is done, what waits for what, what locks when."""
    return sheet(
        rules_of(berth.store), known.at_berth(session, berth, now, build=known.last_sent(session, berth))
    ).lines
