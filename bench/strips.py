"""What was live where, over two years at many stores."""

from __future__ import annotations

import sqlite3
from datetime import UTC, datetime, timedelta
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from bench.filling import a_store, an_app
from bench.measuring import say, timed
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.rollout import RolloutState
from restless_tide.demo.processes import STORES
from restless_tide.desk import strips
from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.settings import Settings
from restless_tide.plots import of
from restless_tide.plots.child import drawn
from restless_tide.records import tables

APPS, BERTHS, DAYS = 3, 4, 730
EVERY_DAYS = 14
"""A release every two weeks."""
SHARES = (0.05, 0.2, 0.5)


def live_strips(folder: Path) -> None:
    """Three apps at four stores with a release every two weeks for two years."""
    print("\nWhat was live where")
    desk = Desk(Settings(data=folder / "strips"), RealClock())
    now = datetime.now(UTC)
    _fill(desk, now)
    with desk.look() as session:
        names = list(session.scalars(select(tables.App.name)))
        since = now - timedelta(days=DAYS)
        strip = timed(lambda: [strips.of_app(session, name, since, now) for name in names], 10)
        live = timed(lambda: strips.live(session, None, now), 10)
        picture = of.strip(session, names[0], since, now)
    with sqlite3.connect(desk.database.path) as plain:
        asked = (
            "SELECT l.berth_id, s.at, r.version, s.state, s.share FROM showings s JOIN legs l ON l.id = s.subject"
            " JOIN releases r ON r.id = l.release_id ORDER BY s.at, s.id"
        )
        raw = timed(lambda: plain.execute(asked).fetchall(), 10)
    say(f"strips of {APPS} apps at {BERTHS} stores over two years", strip, "one SELECT of their rows by sqlite3", raw)
    say("what is live at all of them now", live, "the same SELECT", raw)
    say("a strip as a picture, in a process of its own", timed(lambda: drawn(picture), 3), "the same SELECT", raw)
    desk.close()


def _fill(desk: Desk, now: datetime) -> None:
    with desk.database.writing() as session:
        stores = [a_store(name) for name in STORES] + [a_store(STORES[0])]
        stores[-1].name = "fourth"
        session.add_all(stores)
        session.flush()
        for number in range(APPS):
            app, first = an_app(session, f"app{number}")
            session.delete(first)
            for store in stores:
                _a_berth(session, app, store, now)
            session.flush()
            for count, day in enumerate(range(DAYS, 0, -EVERY_DAYS)):
                _a_release(session, app, f"1.{count}.0", now - timedelta(days=day))


def _a_berth(session: Session, app: tables.App, store: tables.Store, now: datetime) -> None:
    session.add(
        tables.Berth(
            app_id=app.id, store_id=store.id, listed_name=app.title, platform=store.rulebook["platforms"][0],
            identifier=f"org.example.{app.name}", language="en", created_at=now, store_ref=f"{app.name} at {store.name}",
        )
    )  # fmt: skip


def _a_release(session: Session, app: tables.App, version: str, at: datetime) -> None:
    """It rises in three steps within six days, and takes the place of the one before."""
    release = tables.Release(app_id=app.id, version=version, created_at=at)
    build = tables.Build(
        app_id=app.id, platform="android", version=version, number=BuildNumber(1), created_at=at, created_by="bench"
    )
    session.add_all([release, build])
    session.flush()
    for berth in session.scalars(select(tables.Berth).where(tables.Berth.app_id == app.id)).all():
        leg = tables.Leg(
            release_id=release.id, berth_id=berth.id, build_id=build.id, created_at=at, ladder={}, launched_at=at,
            state=RolloutState.COMPLETE, share=1.0,
        )  # fmt: skip
        session.add(leg)
        session.flush()
        for step, share in enumerate((*SHARES, 1.0)):
            state = RolloutState.COMPLETE if share == 1 else RolloutState.RISING
            session.add(tables.Showing(subject=leg.id, at=at + timedelta(days=2 * step), state=state, share=share))
