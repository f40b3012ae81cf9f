"""The engine measured: an order's way to the store, a tick over many legs, a halt of hundreds of legs, sightings, memory."""

from __future__ import annotations

import json
import sqlite3
import time
import uuid
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from statistics import median
from typing import Any

import httpx

from bench.filling import NOW, a_rising_leg, a_store, an_app, rising_at
from restless_tide.client import Tide
from restless_tide.core.ladder import parse_ladder
from restless_tide.core.order import PENDING, OrderKind
from restless_tide.core.rollout import Progress
from restless_tide.core.round import RoundState
from restless_tide.demo.processes import HOST, STORES, Processes
from restless_tide.desk import legs
from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.settings import Settings
from restless_tide.engine import sightings, tides
from restless_tide.gateways.client import Gateway, read_connection_file
from restless_tide.gateways.protocol import StoreEvent
from restless_tide.records import tables

LEGS = 300
AT_ONCE = 8
"""So many bare calls are under way together; the acts come one after the other, as from one person."""
BARE = "bare"
"""Rollouts of the stores, as many as LEGS, that the desk does not know."""
LOOK_AFTER_SECONDS = 0.05
"""The desk notes how long an order took; asking for it earlier would be served beside what is measured."""
SETTLE_SECONDS = 5.0
"""A desk that was just started looks once at everything it holds."""
TICK_LEGS = 10_000


def control(processes: Processes, store: str, path: str, body: dict[str, Any] | None = None) -> Any:
    url = f"http://{HOST}:{processes.ports.stores[store]}/control/{path}"
    method = "GET" if body is None else "POST"
    return httpx.request(method, url, json=body, timeout=60, trust_env=False, verify=False).raise_for_status().json()


def gateway_of(processes: Processes, store: str) -> Gateway:
    return Gateway(read_connection_file(json.dumps(control(processes, store, "connections", {}))), name=store)


def carrying(processes: Processes, tide: Tide) -> tuple[float, float]:
    """Seconds of a drill from the order to the confirmation, and of the same call made bare."""
    gateway = gateway_of(processes, "openfield")
    gateway.drill("halt", uuid.uuid4().hex)
    bare, ordered = [], []
    for _ in range(30):
        began = time.perf_counter()
        gateway.drill("halt", uuid.uuid4().hex)
        bare.append(time.perf_counter() - began)
        orders = [entry.order for entry in tide.stores.drill_halt("openfield")]
        time.sleep(LOOK_AFTER_SECONDS)
        while (drilled := tide.stores.drilled(orders))[0].state != "confirmed":
            time.sleep(LOOK_AFTER_SECONDS)
        ordered.append(drilled[0].seconds or 0.0)
    gateway.close()
    return median(ordered), median(bare)


def ticking(folder: Path) -> dict[int, float]:
    """Seconds of one tick over TICK_LEGS legs on their way, by how many of them are due."""
    desk = Desk(Settings(data=folder / "tick"), RealClock())
    with desk.database.writing() as session:
        rising_at(session, "slatehouse", TICK_LEGS)
    taken = {}
    for due in (0, 100, 1000):
        with desk.database.writing() as session:
            legs = session.query(tables.Leg).filter(tables.Leg.stage == 0).limit(due).all()
            for leg in legs:
                leg.stage_ends_at = NOW - timedelta(minutes=1)
        began = time.perf_counter()
        assert tides.order_due(desk) == due
        taken[due] = time.perf_counter() - began
    desk.close()
    return taken


def hearing(folder: Path) -> float:
    """Events that a desk takes in a second, in pages of 500, each about a rollout it knows."""
    desk = Desk(Settings(data=folder / "tick"), RealClock())
    with desk.look() as session:
        store_id = session.query(tables.Store.id).scalar()
    events = [
        StoreEvent(
            id=str(number),
            source="s",
            type="rollout.changed",
            subject=f"sub-{5000 + number}",
            time=NOW,
            sequence=number,
            data={"state": "rising", "share": 0.05},
        )
        for number in range(1, 2001)
    ]
    began = time.perf_counter()
    for at in range(0, len(events), 500):
        sightings.take(desk, str(store_id), events[at : at + 500])
    taken = time.perf_counter() - began
    desk.close()
    return len(events) / taken


@contextmanager
def fleet(processes: Processes, tide: Tide, name: str) -> Iterator[list[tuple[str, str, float]]]:
    """LEGS legs that rise over three stores: the stores' shelves and the desk's records are filled directly.

    Playing hundreds of releases in through review would take an hour; what is measured, the halt, goes its real way.
    """
    tide.stores.every()
    processes.stop("desk")
    desk = Desk(Settings(data=Path(processes.desk_environment()["TIDE_DATA"])), RealClock())
    made = []
    with desk.database.writing() as session:
        stores = {store.name: store for store in session.query(tables.Store)}
        for number in range(LEGS // len(STORES)):
            app, release = an_app(session, f"{name}{number}")
            for at in STORES:
                reference = f"submission-{name}{number}"
                leg = a_rising_leg(session, app, release, stores[at], reference)
                made.append((at, reference, leg.share))
    desk.close()
    for at in STORES:
        rollouts = [
            {
                "id": reference,
                "berth": f"berth of {reference}",
                "submission": reference,
                "version": "1.0.0",
                "share": share,
                "pauses": 0,
                "held_seconds": 0.0,
                "state": "rising",
                "since": NOW.isoformat(),
            }
            for store, submission, share in made
            for kind in ("submission", BARE)
            for reference in [submission.replace("submission", kind)]
            if store == at
        ]
        control(processes, at, "things/rollout", {"things": rollouts})
    processes.start("desk")
    time.sleep(SETTLE_SECONDS)
    yield made


@dataclass(frozen=True)
class Halted:
    """Seconds: from the first of LEGS halts ordered to the last confirmed; of as many halts over three stores that are
    called bare, while nobody listens for the stores' events; from the act to the store's own record for one halt while the
    others run, and for one alone."""

    all: float
    bare: float
    among: float
    alone: float


def _halt_apart(tide: Tide, name: str, numbers: range) -> dict[str, float]:
    """Halt one leg after the other with a pause between; returns when each was ordered, by the store's name for it."""
    began = {}
    for number in numbers:
        began[f"submission-{name}{number}"] = time.time()
        tide.releases.steer(f"{name}{number}", "1.0.0", "halt", reason="bench", store="openfield")
        time.sleep(LOOK_AFTER_SECONDS * 3)
    return began


def _reached(processes: Processes, began: dict[str, float]) -> float:
    """The median of the seconds from an act to its record at the store."""
    acts = control(processes, "openfield", "acts")
    return median(
        min(act["arrived"] for act in acts if act["subject"] == subject and act["act"] == "halt") - at
        for subject, at in began.items()
    )


def _until_settled(processes: Processes) -> None:
    """Wait until no halt is pending but by a person. Read from the records: the service would answer beside what is measured."""
    with closing(sqlite3.connect(Path(processes.desk_environment()["TIDE_DATA"]) / "desk.sqlite")) as records:
        among = ", ".join("?" * len(PENDING))
        pending = f"SELECT count(*) FROM orders WHERE kind = ? AND NOT with_person AND state IN ({among})"
        while records.execute(pending, [OrderKind.HALT, *PENDING]).fetchone()[0]:
            time.sleep(0.01)


def _bare(processes: Processes, fleet_name: str, numbers: range) -> float:
    """Seconds of halts called bare at every store, AT_ONCE together, while nobody listens for the stores' events."""
    gateways = {name: gateway_of(processes, name) for name in STORES}
    for name in STORES:
        control(processes, name, "mischief", {"push_off": True})
        gateways[name].drill("halt", uuid.uuid4().hex)
    calls = [(gateways[name], f"{BARE}-{fleet_name}{number}") for number in numbers for name in STORES]
    began = time.perf_counter()
    with ThreadPoolExecutor(AT_ONCE) as hands:
        list(hands.map(lambda one: one[0].steer(one[1], "halt", "bench", uuid.uuid4().hex), calls))
    taken = time.perf_counter() - began
    for name in STORES:
        control(processes, name, "mischief", {"push_off": False})
        gateways[name].close()
    time.sleep(SETTLE_SECONDS)
    return taken


def halting(processes: Processes, tide: Tide, name: str) -> Halted:
    """One round over a fleet of that name. Half of the bare calls are made before the acts and half after them: the machine's speed changes meanwhile."""
    releases = LEGS // len(STORES)
    alone_count, among_count = 9, 9
    single = range(releases - alone_count - among_count, releases)
    many = range(single.start)
    with fleet(processes, tide, name), ThreadPoolExecutor(1) as other:
        bare = _bare(processes, name, range(releases // 2))
        alone = _halt_apart(tide, name, single[:alone_count])

        def halt_all() -> float:
            began = time.perf_counter()
            for number in many:
                tide.releases.steer(f"{name}{number}", "1.0.0", "halt", reason="bench")
            return began

        running = other.submit(halt_all)
        time.sleep(0.3)
        among = _halt_apart(tide, name, single[alone_count:])
        began = running.result()
        _until_settled(processes)
        ours = (time.perf_counter() - began) * LEGS / (len(many) * len(STORES) + among_count)
        bare += _bare(processes, name, range(releases // 2, releases))
    return Halted(ours, bare, _reached(processes, among), _reached(processes, alone))


def halting_at_a_word(processes: Processes, tide: Tide, name: str) -> tuple[float, float]:
    """Seconds from the first of the acts that each halt every rollout of a platform to the last of LEGS halts confirmed, and
    of as many called bare as ``halting`` does."""
    releases = LEGS // len(STORES)
    with fleet(processes, tide, name):
        bare = _bare(processes, name, range(releases // 2))
        began, halted = time.perf_counter(), 0
        for platform in sorted({a_store(store).rulebook["platforms"][0] for store in STORES}):
            done = tide.releases.halt_all(platform=platform, reason="bench")
            halted += sum(one.ordered for one in done.outcomes)
        _until_settled(processes)
        ours = (time.perf_counter() - began) * LEGS / halted
        bare += _bare(processes, name, range(releases // 2, releases))
    return ours, bare


def remembering(processes: Processes, tide: Tide, minutes: float) -> list[int]:
    """The service's resident memory in KiB while drills, offers and events go through it, ten times over ``minutes``."""
    seen = []
    pid = processes.pid("desk")
    for _ in range(10):
        until = time.monotonic() + minutes * 6
        while time.monotonic() < until:
            tide.stores.drill_halt()
            tide.watching.overview()
            tide.stores.every()
        status = Path(f"/proc/{pid}/status").read_text()
        seen.append(int(next(line for line in status.splitlines() if line.startswith("VmRSS")).split()[1]))
    return seen


APPROVALS = 9
_TRACK, _TRACK_SHARE = "early", 0.2
OWN_LADDER = parse_ladder("20@24,100")
_APART_HOURS = 10


def approving(processes: Processes, tide: Tide) -> tuple[float, float]:
    """Seconds from a store's approval, which it pushes, to the launch that follows reaching it; and of a bare launch."""
    tide.stores.every()
    processes.stop("desk")
    desk = Desk(Settings(data=Path(processes.desk_environment()["TIDE_DATA"])), RealClock())
    with desk.database.writing() as session:
        store = session.query(tables.Store).filter(tables.Store.name == "openfield").one()
        for number in range(APPROVALS):
            leg = a_rising_leg(session, *an_app(session, f"approved{number}"), store, f"approved{number}")
            legs.keep_progress(leg, Progress(), NOW)
            leg.launched_at, leg.track, leg.rounds[-1].state = None, _TRACK, RoundState.IN_HAND
            leg.ladder = OWN_LADDER.model_dump(mode="json")
    desk.close()
    now = datetime.fromisoformat(control(processes, "openfield", "state")["now"])
    submissions: list[dict[str, Any]] = [
        {
            "id": f"{kind}{number}", "berth": f"berth of {kind}{number}", "track": _TRACK, "version": "1.0.0", "notes": {},
            "consignment": f"build of {kind}{number}", "items": ["build", "notes"], "reasons": [],
            "state": "in hand" if kind == "approved" else "approved",
            "due_at": (now + timedelta(hours=_APART_HOURS * (number + 1))).isoformat() if kind == "approved" else None,
        }
        for kind in ("approved", BARE)
        for number in range(APPROVALS)
    ]  # fmt: skip
    builds = [{"id": one["consignment"], "berth": one["berth"], "number": "1", "uploads": []} for one in submissions]
    control(processes, "openfield", "things/submission", {"things": submissions})
    control(processes, "openfield", "things/consignment", {"things": builds})
    processes.start("desk")
    time.sleep(SETTLE_SECONDS)
    began = {}
    for number in range(APPROVALS):
        began[f"approved{number}"] = time.time()
        control(processes, "openfield", "clock", {"step_hours": _APART_HOURS + 0.01})
        time.sleep(LOOK_AFTER_SECONDS * 20)
    acts = control(processes, "openfield", "acts")
    launched = {act["subject"]: act["arrived"] for act in acts if act["act"] == "launch"}
    gateway, bare = gateway_of(processes, "openfield"), []
    gateway.drill("halt", uuid.uuid4().hex)
    for number in range(APPROVALS):
        at = time.perf_counter()
        gateway.launch(f"{BARE}{number}", _TRACK_SHARE, uuid.uuid4().hex)
        bare.append(time.perf_counter() - at)
    gateway.close()
    return median(launched[subject] - at for subject, at in began.items()), median(bare)
