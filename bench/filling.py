"""Records filled directly: playing hundreds of releases in through review would take an hour."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy.orm import Session

from restless_tide.core.ladder import USUAL_LADDER
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.rollout import RolloutState
from restless_tide.core.round import RoundState
from restless_tide.core.rulebook import read_rulebook
from restless_tide.demo.processes import STORES
from restless_tide.records import tables
from restless_tide.standins.__main__ import RULEBOOKS

NOW = datetime.now(UTC)


def a_store(name: str) -> tables.Store:
    """A store by the stand-in's rulebook, as if it were connected."""
    rules = read_rulebook((RULEBOOKS / f"{name}.toml").read_text(encoding="utf-8"))
    return tables.Store(name=name, may=[], rulebook=rules.model_dump(mode="json"), connected_at=NOW)


def an_app(session: Session, name: str) -> tuple[tables.App, tables.Release]:
    """An app with a release 1.0.0 that has no legs yet."""
    app = tables.App(name=name, title=name.capitalize(), created_at=NOW)
    session.add(app)
    session.flush()
    release = tables.Release(app_id=app.id, version="1.0.0", created_at=NOW)
    session.add(release)
    session.flush()
    return app, release


def a_rising_leg(
    session: Session, app: tables.App, release: tables.Release, store: tables.Store, reference: str
) -> tables.Leg:
    """The release rising at a store on its first stage, approved there as the submission ``reference``."""
    rules = store.rulebook
    ladder: dict[str, Any] = rules["rollout"]["dictated_ladder"] or USUAL_LADDER.model_dump(mode="json")
    platform = rules["platforms"][0]
    berth = tables.Berth(
        app_id=app.id, store_id=store.id, listed_name=app.title, platform=platform, identifier=f"org.example.{app.name}",
        language="en", created_at=NOW, store_ref=f"berth of {reference}",
    )  # fmt: skip
    build = tables.Build(
        app_id=app.id, platform=platform, version="1.0.0", number=BuildNumber(1), created_at=NOW, created_by="bench"
    )
    session.add_all([berth, build])
    session.flush()
    leg = tables.Leg(
        release_id=release.id, berth_id=berth.id, build_id=build.id, created_at=NOW, ladder=ladder,
        state=RolloutState.RISING, stage=0, share=ladder["stages"][0]["share"], running_since=NOW,
        stage_ends_at=NOW + timedelta(days=9), launched_at=NOW,
    )  # fmt: skip
    session.add(leg)
    session.flush()
    session.add(
        tables.Round(
            leg_id=leg.id, number=1, build_id=build.id, submitted_at=NOW, changed_at=NOW, store_ref=reference,
            state=RoundState.APPROVED,
        )
    )  # fmt: skip
    return leg


def rising_at(session: Session, name: str, legs: int) -> None:
    """So many apps, each with a release that rises at one store; their submissions there are ``sub-0`` and on."""
    store = a_store(name)
    session.add(store)
    session.flush()
    for number in range(legs):
        a_rising_leg(session, *an_app(session, f"app{number}"), store, f"sub-{number}")


def rising_everywhere(session: Session, apps: int) -> list[tables.Leg]:
    """So many apps, each with a release that rises at every stand-in's store."""
    stores = [a_store(name) for name in STORES]
    session.add_all(stores)
    session.flush()
    legs = []
    for number in range(apps):
        app, release = an_app(session, f"app{number}")
        legs += [a_rising_leg(session, app, release, store, f"sub-{number}") for store in stores]
    return legs
