"""``make bench``: each figure beside its comparison, both measured in the same run.

These machines are shared and noisy, so the ratio is the figure; the seconds are only its parts.
Nothing here is an assertion.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from bench import (
    access,
    builds,
    commands,
    console,
    dossier,
    guards,
    launching,
    pictures,
    stores,
    strips,
    testing,
    tracks,
)
from bench.measuring import peak_kib, run, say, timed
from restless_tide.client import Tide
from restless_tide.demo.chapter import Chapter, beginning
from restless_tide.demo.processes import Processes, free_ports
from restless_tide.demo.season import Season
from restless_tide.service.serve import add_first_person

MEMORY_MINUTES = float(os.environ.get("BENCH_MEMORY_MINUTES", "2"))
EMAIL, PASSWORD = "bench@saltgrass.example.org", "a-bench-password"


def opened(processes: Processes) -> str:
    """Start everything; returns a token of the first person."""
    processes.start_all()
    add_first_person(processes.desk_environment(), "Bench", EMAIL, PASSWORD)
    with Tide(processes.ports.address) as visitor:
        visitor.people.sign_in(EMAIL, PASSWORD)
        return visitor.people.make_token("bench").value


def starting(processes: Processes, tide: Tide) -> None:
    print("\nStarting and answering, with the demo's data")

    def start() -> None:
        processes.stop("desk")
        began.append(time.perf_counter())
        processes.start("desk")
        began[-1] = time.perf_counter() - began[-1]

    began: list[float] = []
    for _ in range(3):
        start()
    bare = timed(lambda: run(sys.executable, "-c", "import fastapi, sqlalchemy, alembic.command, uvicorn"), 3)
    say("service start to first answer", median(began), "importing its libraries alone", bare)
    tide.watching.overview()
    health = timed(lambda: tide.watching.health(), 40)
    say("overview over HTTP (5 berths)", timed(tide.watching.overview, 40), "the health check over HTTP", health)
    print(f"peak memory with demo data: {peak_kib(processes.pid('desk')) / 1024:.0f} MiB")


def engine(processes: Processes, tide: Tide, folder: Path) -> None:
    print("\nThe engine")
    ordered, bare = stores.carrying(processes, tide)
    say("an order from the act to the store's confirmation", ordered, "the same call made bare", bare)
    launched, bare = stores.approving(processes, tide)
    say("a store's approval, pushed, to the launch reaching it", launched, "a launch called bare", bare)
    ticks = stores.ticking(folder)
    for due in (100, 1000):
        say(f"a tick over {stores.TICK_LEGS} legs, {due} due", ticks[due], "none due", ticks[0])
    print(f"of that, each leg that is due: {(ticks[1000] - ticks[0]):.2f} ms")
    print(f"sightings taken, each a transaction's part: {stores.hearing(folder):.0f} a second")
    rounds = [stores.halting(processes, tide, f"fleet{letter}") for letter in "abc"]  # the one in the middle counts
    halted = sorted(rounds, key=lambda one: one.all / one.bare)[1]
    said = f"halting {stores.LEGS} legs over three stores, act to last word"
    say(said, halted.all, f"{stores.LEGS} halts called bare, 8 at once", halted.bare)
    print("of the three rounds: " + ", ".join(f"{one.all / one.bare:.2f}" for one in rounds))
    words = [stores.halting_at_a_word(processes, tide, f"word{letter}") for letter in "abc"]
    ours, bare = sorted(words, key=lambda one: one[0] / one[1])[1]
    say(f"halting {stores.LEGS} legs by one act for each platform", ours, "as many halts called bare, 8 at once", bare)
    print("of the three rounds: " + ", ".join(f"{one / of:.2f}" for one, of in words))
    single = sorted(rounds, key=lambda one: one.among / one.alone)[1]
    say("one halt while the others run, act to the store's record", single.among, "one halt alone", single.alone)
    print("of the three rounds: " + ", ".join(f"{one.among / one.alone:.2f}" for one in rounds))
    memory = stores.remembering(processes, tide, MEMORY_MINUTES)
    told = ", ".join(f"{kib / 1024:.0f}" for kib in memory)
    print(f"resident memory over {MEMORY_MINUTES:g} minutes of unbroken traffic, ten looks: {told} MiB")


def of_builds(folder: Path) -> None:
    builds.reading(folder)
    with Processes(folder / "builds", free_ports(26_000), {"TIDE_POLL_SECONDS": "1"}, stores=()) as processes:
        token = opened(processes)
        with Tide(processes.ports.address, token=token) as tide:
            builds.keeping(processes, tide, folder)
            builds.pushing(processes, tide, token, folder)
            builds.listing(processes, tide)


def of_commands(folder: Path) -> None:
    with Processes(folder / "commands", free_ports(28_000), {"TIDE_POLL_SECONDS": "1"}, stores=()) as processes:
        commands.commands(processes, opened(processes), folder)
    commands.many_apps(folder)


def of_guards(folder: Path) -> None:
    guards.guards_and_counts(folder)
    strips.live_strips(folder)


def of_testing(folder: Path) -> None:
    fast = {"TIDE_STEPPABLE_CLOCK": "yes", "TIDE_POLL_SECONDS": "1"}
    with Processes(folder / "testing", free_ports(27_000), fast, stores=("openfield",)) as processes:
        token = opened(processes)
        with Tide(processes.ports.address, token=token) as tide:
            build = testing.prepare(processes, tide, folder)
            testing.lists(tide, folder)
            testing.mails(processes, tide, build)
            testing.page(processes, tide, EMAIL, PASSWORD)
            testing.crashes(processes, tide)


def of_tracks(folder: Path) -> None:
    print("\nTracks")
    tracks.boards(folder)
    fast = {"TIDE_STEPPABLE_CLOCK": "yes", "TIDE_POLL_SECONDS": "1"}
    with Processes(folder / "tracks", free_ports(29_000), fast, stores=("openfield",)) as processes:
        processes.start_all()
        add_first_person(processes.desk_environment(), "Bench", EMAIL, PASSWORD)
        with Tide(processes.ports.address) as tide:
            tide.people.sign_in(EMAIL, PASSWORD)
            tide.stores.connect("openfield", stores.control(processes, "openfield", "connections", {}))
            tracks.promoting(processes, tide, folder)


def of_the_dossier(folder: Path) -> None:
    dossier.sheet(folder)
    pictures.drawing(folder)
    fast = {"TIDE_STEPPABLE_CLOCK": "yes", "TIDE_POLL_SECONDS": "1"}
    with Processes(folder / "dossier", free_ports(30_000), fast, stores=("northgate", "openfield")) as processes:
        token = opened(processes)
        with Tide(processes.ports.address, token=token) as tide:
            dossier.over_the_wire(processes, tide, token, folder)
        dossier.typing(processes, EMAIL, PASSWORD)


def of_the_desk(folder: Path) -> None:
    fast = {"TIDE_STEPPABLE_CLOCK": "yes", "TIDE_POLL_SECONDS": "0.05"}
    with Processes(folder / "desk", free_ports(25_000), fast) as processes:
        processes.start_all()
        add_first_person(processes.desk_environment(), "Bench", EMAIL, PASSWORD)
        with Tide(processes.ports.address) as tide:
            tide.people.sign_in(EMAIL, PASSWORD)
            began = time.perf_counter()
            Chapter(tide, Season(tide, processes.ports, beginning()), folder / "desk", lambda _: None).play()
            print(f"\nThe scenario's first chapter took {time.perf_counter() - began:.0f} s to play in")
            processes.environment = {}
            starting(processes, tide)
            console.first_view(processes, EMAIL, PASSWORD)
            engine(processes, tide, folder)
    began = time.perf_counter()
    done = subprocess.run([sys.executable, "-m", "restless_tide.demo.tour"], capture_output=True, check=False)
    print(f"\nmake tour: {time.perf_counter() - began:.0f} s, exit code {done.returncode}")


PARTS = {
    "dossier": of_the_dossier,
    "commands": of_commands,
    "guards": of_guards,
    "launching": launching.conditions,
    "builds": of_builds,
    "testing": of_testing,
    "tracks": of_tracks,
    "desk": of_the_desk,
    "access": lambda _: access.main(),
}


def main() -> None:
    """All parts, or those named: ``python -m bench builds``."""
    with tempfile.TemporaryDirectory(prefix="tide-bench-") as name:
        folder = Path(name)
        free = shutil.disk_usage(folder).free
        print(f"{os.cpu_count()} cores, {free / 1e9:.0f} GB free, Python {sys.version.split()[0]}")
        for part in sys.argv[1:] or PARTS:
            PARTS[part](folder)


if __name__ == "__main__":
    main()
