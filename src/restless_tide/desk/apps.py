"""Apps and their berths."""

from __future__ import annotations

import re
from collections.abc import Mapping

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Invalid
from restless_tide.core.order import OrderKind
from restless_tide.desk import find
from restless_tide.desk.desk import Act
from restless_tide.desk.stores import rules_of, slug
from restless_tide.records.tables import App, AppIdentifier, Berth

_IDENTIFIER = re.compile(r"[A-Za-z][A-Za-z0-9_-]*(\.[A-Za-z0-9][A-Za-z0-9_-]*)+")
_LANGUAGE = re.compile(r"[A-Za-z]{2,3}(-[A-Za-z0-9]{2,8})*")


def register(act: Act, name: str, title: str, identifiers: Mapping[str, str]) -> App:
    """Register an app with its identifier on each platform. Raises Invalid or Conflict."""
    app_name = slug(name, "an app")
    if act.session.scalar(select(App).where(App.name == app_name)):
        raise Conflict(f"An app called {app_name} is registered already.", code="app-known")
    if not identifiers:
        raise Invalid("An app needs an identifier on at least one platform.", code="identifier-missing")
    for platform, identifier in identifiers.items():
        if not _IDENTIFIER.fullmatch(identifier):
            raise Invalid(
                f"{identifier!r} is no identifier for {platform}.",
                remedy="Write it as the project does, with dots: org.example.marram",
                code="identifier-unfit",
            )
    app = App(name=app_name, title=title.strip() or app_name, created_at=act.now)
    app.identifiers = [AppIdentifier(platform=platform, identifier=value) for platform, value in identifiers.items()]
    act.session.add(app)
    act.session.flush()
    act.log(
        "app registered", f"app {app.name}", app=app.name, after={"title": app.title, "identifiers": dict(identifiers)}
    )
    return app


def every(session: Session) -> list[App]:
    return list(session.scalars(select(App).order_by(App.title)))


def open_berth(act: Act, app_name: str, store_name: str, listed_name: str, language: str) -> Berth:
    """Order the app's place at a store, or try again after a refusal. The store's answer comes back by the order."""
    app, store = find.app(act.session, app_name), find.store(act.session, store_name)
    rules = rules_of(store)
    if not _LANGUAGE.fullmatch(language):
        raise Invalid(
            f"{language!r} is no language tag.", remedy="Write it like en or de-AT (BCP 47).", code="language-unfit"
        )
    platforms = {entry.platform: entry.identifier for entry in app.identifiers}
    platform = next((candidate for candidate in rules.platforms if candidate in platforms), None)
    if platform is None:
        raise Invalid(
            f"{rules.store} carries {', '.join(rules.platforms)}; {app.title} has an identifier only for {', '.join(platforms)}.",
            code="platform-missing",
        )
    berth = act.session.scalar(select(Berth).where(Berth.app_id == app.id, Berth.store_id == store.id))
    if berth is not None and berth.refused_because is None:
        state = "open" if berth.store_ref else "ordered"
        raise Conflict(f"The berth of {app.title} at {rules.store} is {state} already.", code="berth-known")
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
    berth.listed_name, berth.language, berth.refused_because = listed_name.strip() or app.title, language, None
    act.session.flush()
    act.order(OrderKind.OPEN_BERTH, lane=berth.id, store=store, subject=berth.id)
    act.log(
        "berth ordered", f"berth {app.name} at {store.name}", app=app.name, after={"listed name": berth.listed_name}
    )
    return berth
