"""Tracks: the boards of many apps, and a promotion from the act to the store's word."""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable
from functools import partial
from pathlib import Path
from statistics import median

from sqlalchemy import text

from bench.filling import NOW, a_rising_leg, a_store, an_app
from bench.measuring import say, timed
from bench.stores import control, gateway_of
from restless_tide.client import Tide
from restless_tide.core.own_track import OwnTrackState
from restless_tide.demo.processes import Processes
from restless_tide.desk import tracks
from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.settings import Settings
from restless_tide.gateways import protocol
from restless_tide.records import tables
from restless_tide.service import shown_tracks
from restless_tide.standins.packages import PackageRecipe, write_apk

APPS, STORES, PROMOTIONS = 50, 4, 12
_RAW = """
    SELECT apps.name, stores.name, legs.track, releases.version, legs.state, legs.share, builds.version, builds.number,
           sightings.state, sightings.share
    FROM berths JOIN apps ON apps.id = berths.app_id JOIN stores ON stores.id = berths.store_id
    JOIN legs ON legs.berth_id = berths.id JOIN releases ON releases.id = legs.release_id
    JOIN builds ON builds.id = legs.build_id LEFT JOIN sightings ON sightings.subject = legs.id
"""


def boards(folder: Path) -> None:
    """The boards of APPS apps at STORES stores of five tracks each, against one raw SELECT of what stands on them."""
    desk = Desk(Settings(data=folder / "boards"), RealClock())
    with desk.database.writing() as session:
        stores = [a_store("openfield") for _ in range(STORES)]
        for number, store in enumerate(stores):
            store.name = f"store{number}"
        session.add_all(stores)
        session.flush()
        for number in range(APPS):
            app, release = an_app(session, f"app{number}")
            for store in stores:
                leg = a_rising_leg(session, app, release, store, f"sub-{number}-{store.name}")
                session.add(
                    tables.Leg(
                        release_id=release.id, berth_id=leg.berth_id, build_id=leg.build_id, track="early", created_at=NOW,
                        ladder=leg.ladder, state=leg.state, stage=0, share=leg.share, running_since=NOW, launched_at=NOW,
                    )
                )  # fmt: skip
                session.add(
                    tables.Track(
                        berth_id=leg.berth_id, key="pier", title="The pier", own=True, state=OwnTrackState.OPEN, created_at=NOW
                    )
                )  # fmt: skip

    def ours() -> None:
        with desk.look() as session:
            for number in range(APPS):
                app = session.query(tables.App).filter_by(name=f"app{number}").one()
                told = shown_tracks.board(app, tracks.board(session, app.name))
                assert sum(len(row.tracks) for row in told.stores) == STORES * 5

    def raw() -> None:
        with desk.look() as session:
            assert len(session.connection().execute(text(_RAW)).all()) == APPS * STORES * 2

    said = f"the boards of {APPS} apps at {STORES} stores of 5 tracks"
    say(said, timed(ours), "one SELECT of what stands on them", timed(raw))
    desk.close()


def promoting(processes: Processes, tide: Tide, folder: Path) -> None:
    """A promotion from the act to the store's word, against the same call made bare."""
    identifier = "org.example.saltgrass.shifting"
    tide.apps.register("shifting", title="Shifting", identifiers={"android": identifier})
    tide.apps.open_berth("shifting", "openfield")
    _until(lambda: tide.apps.berth("shifting", "openfield").state == "open")
    for name, kind in (("crew", "crew"), ("walkers", "guest")):
        tide.testing.make_cohort("shifting", name, kind=kind)
        tide.testing.add_tester("shifting", name, f"{name}@example.org")
    sent = []
    for number in range(1, PROMOTIONS + 1):
        file = write_apk(folder / f"shifting-{number}.apk", PackageRecipe(identifier, "1.0.0", number, "Shifting"))
        sent.append(tide.builds.push(file, app="shifting", stores=["openfield"]).consignments[0])
        _until(lambda: tide.builds.consignment(sent[-1].id).state == "processing")
        control(processes, "openfield", "clock", {"step_hours": 1})
        _until(lambda: tide.builds.consignment(sent[-1].id).state == "ready")
    promoted = []
    for consignment in sent:
        tide.tracks.place("shifting", consignment.build, ["openfield/workbench"], contact="bench@example.org")
        _until(lambda: all(trial.confirmed for trial in tide.testing.trials("shifting")))
        began = time.perf_counter()
        (placed,) = tide.tracks.promote("shifting", "openfield/workbench", build=consignment.build)
        _until(partial(_confirmed, tide, placed.trials[0]))
        promoted.append(time.perf_counter() - began)
    gateway = gateway_of(processes, "openfield")
    berth = next(
        entry["id"] for entry in control(processes, "openfield", "things/berth") if entry["reference"] == "shifting"
    )
    held = [entry["id"] for entry in control(processes, "openfield", "things/consignment") if entry["berth"] == berth]
    bare = []
    for reference in held:
        wanted = protocol.TrialRequest(
            consignment=reference, kind="guest", cohort="bare", brief={"en": "Look."}, testers=("bare@example.org",)
        )
        began = time.perf_counter()
        gateway.open_trial(berth, wanted, uuid.uuid4().hex)
        bare.append(time.perf_counter() - began)
    gateway.close()
    say("a promotion from the act to the store's word", median(promoted), "the same call made bare", median(bare))


def _confirmed(tide: Tide, trial: str) -> bool:
    return tide.testing.trial(trial).confirmed


def _until(settled: Callable[[], bool], seconds: float = 120) -> None:
    deadline = time.monotonic() + seconds
    while not settled():
        assert time.monotonic() < deadline, "it never settled"
        time.sleep(0.01)
