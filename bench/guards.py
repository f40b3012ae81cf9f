"""Guards: a verdict over many hours, an hour of many legs taken in and judged, counts read by the hour."""

from __future__ import annotations

import os
import sqlite3
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
from sqlalchemy import select

from bench.filling import rising_everywhere
from bench.measuring import say, timed
from restless_tide.core.gauges import HOUR, Counts, hour_number
from restless_tide.core.guard import Against, GuardRule, OnBreach
from restless_tide.core.sequential import Rows, rate_evidence
from restless_tide.desk import gauges, guards, judging
from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import ENGINE, Desk
from restless_tide.desk.settings import Settings
from restless_tide.records.tables import App, Berth

APPS, KNOWN_HOURS = int(os.environ.get("BENCH_APPS", "100")), int(os.environ.get("BENCH_HOURS", "72"))
"""Each app has a leg at three stores; BENCH_APPS=3334 BENCH_HOURS=3 are ten thousand legs."""
KINDS = 4


def guards_and_counts(folder: Path) -> None:
    print("\nGuards")
    _verdict()
    _an_hour(folder)


def _verdict() -> None:
    """One leg's verdict over 90 days of hours on four kinds of devices, in numpy alone."""
    dice, rows = np.random.default_rng(1), 90 * 24 * KINDS
    ours = dice.integers(20, 60, rows).astype(float)
    found = Rows(
        np.repeat(np.arange(90 * 24), KINDS),
        dice.poisson(ours * 0.005) * 1.0,
        ours,
        dice.poisson(ours * 0.09) * 1.0,
        ours * 19,
    )
    whole = timed(lambda: rate_evidence([found], tolerance=1.25, error_bound=0.01), 30)
    bare = timed(lambda: np.log(np.outer(found.exposed, np.ones(56)) + 1).sum(), 30)
    say("a verdict over 90 days of hours, four kinds of devices", whole, "its logarithms alone", bare)


def _an_hour(folder: Path) -> None:
    """One more hour of many legs: taken in, and judged by a guard each."""
    desk = Desk(Settings(data=folder / "counted"), RealClock())
    now = datetime.now(UTC)
    with desk.database.writing() as session:
        for leg in rising_everywhere(session, APPS):
            leg.launched_at = now - KNOWN_HOURS * HOUR
    with desk.look() as session:
        berths = list(session.scalars(select(Berth.id)))
        apps = list(session.scalars(select(App.name)))
    for name in apps:
        with desk.act(ENGINE) as act:
            guards.set_up(
                act, name, guards.Setting("crashes", GuardRule(against=Against.BOUND, bound=0.01), OnBreach.TELL)
            )

    def take(back: int) -> None:
        for begin in range(0, len(berths), 50):
            with desk.act(ENGINE) as act:
                for berth in berths[begin : begin + 50]:
                    gauges.take_in(act, act.session.get_one(Berth, berth), "", [_hour(now, back)])

    for back in range(KNOWN_HOURS, 1, -1):
        take(back)
    begun = time.perf_counter()
    take(1)
    taken = time.perf_counter() - begun
    begun = time.perf_counter()
    for name in apps:
        judging.judge_app(desk, name)
    judged = time.perf_counter() - begun
    print(
        f"an hour of {len(berths)} legs: taken in {1000 * taken / len(berths):.2f} ms a leg, judged {1000 * judged / len(apps):.1f} ms a release of three legs"
    )
    with desk.look() as session:
        berth = session.get_one(Berth, berths[0])
        since = now - timedelta(hours=KNOWN_HOURS)
        ours = timed(lambda: gauges.series(session, berth, "", [], since, now), 20)
    with sqlite3.connect(desk.database.path) as plain:
        asked = "SELECT hour, version, sum(sessions), sum(crashed_sessions) FROM gauge_counts WHERE berth_id = ? AND source = '' AND hour >= ? GROUP BY 1, 2"
        raw = timed(lambda: plain.execute(asked, (berth.id, hour_number(since))).fetchall(), 20)
    say(f"counts of {KNOWN_HOURS} hours of one berth", ours, "one SELECT by sqlite3", raw)
    desk.close()


def _hour(now: datetime, back: int) -> gauges.Hour:
    at = (now - back * HOUR).replace(minute=0, second=0, microsecond=0)
    cells = tuple(
        gauges.Cell(
            "1.0.0",
            "1",
            level,
            device,
            Counts(people=90, sessions=120, crashed_sessions=1, crashed_people=1, first_starts=5),
        )
        for level in ("old", "new")
        for device in ("phone", "tablet")
    )
    return gauges.Hour(at, 1, True, cells)
