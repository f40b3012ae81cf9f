"""The command line as whole processes, and the overview of many apps."""

from __future__ import annotations

import sys
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import text

from bench.filling import rising_everywhere
from bench.measuring import run, say, timed
from restless_tide.demo.processes import STORES, Processes
from restless_tide.desk import overview
from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.settings import Settings
from restless_tide.service import shown
from restless_tide.standins.packages import PackageRecipe, write_apk

APPS = 500
_NOW = datetime.now(UTC)
_RAW = """
    SELECT apps.name, apps.title, stores.name, berths.platform, releases.version, legs.state, legs.share, legs.ladder,
           legs.stage_ends_at, builds.version, builds.number, sightings.state, sightings.share
    FROM berths JOIN apps ON apps.id = berths.app_id JOIN stores ON stores.id = berths.store_id
    JOIN legs ON legs.berth_id = berths.id JOIN releases ON releases.id = legs.release_id
    JOIN builds ON builds.id = legs.build_id LEFT JOIN sightings ON sightings.subject = legs.id
    WHERE legs.state != 'superseded' ORDER BY apps.title, stores.name
"""


def commands(processes: Processes, token: str, folder: Path) -> None:
    """Whole processes, from the shell's start to the end."""
    print("\nCommands, as whole processes")
    tide, python = Path(sys.executable).with_name("tide"), sys.executable
    reached = ("--url", processes.ports.address, "--token", token)
    package = write_apk(folder / "small.apk", PackageRecipe("org.example.small", "1.0.0", 1, "Small"))
    bare = timed(lambda: run(python, "-c", "import argparse, httpx"), 9)
    say("tide overview", timed(lambda: run(tide, "overview", *reached), 9), "import argparse, httpx", bare)
    say("tide --help", timed(lambda: run(tide, "--help"), 9), "import argparse, httpx", bare)
    nothing = timed(lambda: run(python, "-c", "pass"), 9)
    say("tide build inspect, a small package", timed(lambda: run(tide, "build", "inspect", package), 9), "python -c pass", nothing)  # fmt: skip


def many_apps(folder: Path) -> None:
    """The overview as the service makes it, of APPS apps at three stores, against one raw SELECT of the same figures."""
    desk = Desk(Settings(data=folder / "many"), RealClock())
    with desk.database.writing() as session:
        rising_everywhere(session, APPS)

    def ours() -> None:
        with desk.look() as session:
            rows = [shown.berth_row(view) for view in overview.look_over(session, desk.clock.now())]
            assert len(rows) == APPS * len(STORES)

    def raw() -> None:
        with desk.look() as session:
            assert len(session.connection().execute(text(_RAW)).all()) == APPS * len(STORES)

    say(f"the overview of {APPS} apps at three stores", timed(ours), "one SELECT of the same figures", timed(raw))
    desk.close()
