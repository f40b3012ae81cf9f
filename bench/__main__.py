"""``make bench``: each figure beside its comparison, both measured in the same run.

These machines are shared and noisy, so the ratio is the figure; the seconds are only its parts.
Nothing here is an assertion.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
import tracemalloc
from collections.abc import Callable
from pathlib import Path
from statistics import median

from bench import stores
from restless_tide.client import Tide
from restless_tide.core.packages import inspect_package
from restless_tide.demo.chapter import Chapter, beginning
from restless_tide.demo.processes import Processes, free_ports
from restless_tide.demo.season import Season
from restless_tide.service.serve import add_first_person
from restless_tide.standins.packages import PackageRecipe, write_apk

FRAMEWORK = Path("/usr/share/android-framework-res/framework-res.apk")
MEMORY_MINUTES = float(os.environ.get("BENCH_MEMORY_MINUTES", "2"))
PUSHED_BYTES = 512 * 1024**2
ROUNDS = 5
EMAIL, PASSWORD = "bench@saltgrass.example.org", "a-bench-password"


def timed(work: Callable[[], object], rounds: int = ROUNDS) -> float:
    """The median of some rounds, in seconds."""
    taken = []
    for _ in range(rounds):
        began = time.perf_counter()
        work()
        taken.append(time.perf_counter() - began)
    return median(taken)


def say(what: str, ours: float, other: str, theirs: float) -> None:
    print(
        f"{what:<58} {ours * 1000:>10.1f} ms   {other:<34} {theirs * 1000:>10.1f} ms   ratio {ours / theirs:.3f}",
        flush=True,
    )


def run(*command: str | Path) -> None:
    subprocess.run([str(part) for part in command], check=True, capture_output=True)


def peak_kib(pid: int) -> int:
    """The most memory a process ever held, from the kernel's own record."""
    status = Path(f"/proc/{pid}/status").read_text()
    return int(next(line for line in status.splitlines() if line.startswith("VmHWM")).split()[1])


def inspecting(folder: Path) -> None:
    print("\nReading a package: in-process (digest and facts) against `aapt dump badging` as a process, same file")
    small = write_apk(folder / "small.apk", PackageRecipe("org.example.a", "1.0.0", 1, "A", padding_bytes=1_000_000))
    large = write_apk(folder / "large.apk", PackageRecipe("org.example.a", "1.0.0", 1, "A", padding_bytes=200_000_000))
    for path in (small, FRAMEWORK, large):
        size = path.stat().st_size / 1e6

        def whole(path: Path = path) -> None:
            with path.open("rb") as source:
                inspect_package(source)

        def facts_only(path: Path = path) -> None:
            with path.open("rb") as source:
                inspect_package(source, sha256="0" * 64)

        def digest_only(path: Path = path) -> None:
            with path.open("rb") as source:
                hashlib.file_digest(source, "sha256")

        aapt = timed(lambda path=path: run("aapt", "dump", "badging", path))
        say(f"{path.name}, {size:.0f} MB: facts alone", timed(facts_only), "aapt", aapt)
        say(f"{path.name}, {size:.0f} MB: facts and SHA-256", timed(whole), "aapt", aapt)
        say(f"{path.name}, {size:.0f} MB: facts and SHA-256", timed(whole), "SHA-256 alone", timed(digest_only))
        tracemalloc.start()
        whole()
        print(f"{path.name}, {size:.0f} MB: peak of Python's memory {tracemalloc.get_traced_memory()[1] / 1e6:.1f} MB")
        tracemalloc.stop()


def pushing(processes: Processes, tide: Tide, folder: Path) -> None:
    print(
        f"\nPushing {PUSHED_BYTES // 1024**2} MiB through the service to disk on loopback, against cp and sha256sum of the same file"
    )
    before = peak_kib(processes.pid("desk"))
    taken, copied = [], []
    for number in range(1, 4):
        file = write_apk(
            folder / f"push{number}.apk",
            PackageRecipe("org.example.a", "1.0.0", number, "A", padding_bytes=PUSHED_BYTES),
        )
        os.sync()
        began = time.perf_counter()
        run("cp", file, folder / "copy")
        run("sync", folder / "copy")
        run("sha256sum", file)
        copied.append(time.perf_counter() - began)
        began = time.perf_counter()
        tide.builds.hand_over(file)
        taken.append(time.perf_counter() - began)
        file.unlink()
    say(
        "push (digest at the client, stream, digest and fsync there)",
        median(taken),
        "cp, sync, sha256sum",
        median(copied),
    )
    after = peak_kib(processes.pid("desk"))
    print(
        f"the service's peak memory: {before / 1024:.0f} MiB before, {after / 1024:.0f} MiB after three pushes of 512 MiB"
    )


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
    ticks = stores.ticking(folder)
    for due in (100, 1000):
        say(f"a tick over {stores.TICK_LEGS} legs, {due} due", ticks[due], "none due", ticks[0])
    print(f"of that, each leg that is due: {(ticks[1000] - ticks[0]):.2f} ms")
    print(f"sightings taken, each a transaction's part: {stores.hearing(folder):.0f} a second")
    ours, calls = stores.halting(processes, tide)
    say(
        f"halting {stores.LEGS} legs over three stores, act to last word",
        ours,
        f"{stores.LEGS} bare calls, 8 at once",
        calls,
    )
    memory = stores.remembering(processes, tide, MEMORY_MINUTES)
    told = ", ".join(f"{kib / 1024:.0f}" for kib in memory)
    print(f"resident memory over {MEMORY_MINUTES:g} minutes of unbroken traffic, ten looks: {told} MiB")


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="tide-bench-") as name:
        folder = Path(name)
        free = shutil.disk_usage(folder).free
        print(f"{os.cpu_count()} cores, {free / 1e9:.0f} GB free, Python {sys.version.split()[0]}")
        inspecting(folder)
        fast = {"TIDE_STEPPABLE_CLOCK": "yes", "TIDE_POLL_SECONDS": "0.05"}
        with Processes(folder / "desk", free_ports(40_000), fast) as processes:
            processes.start_all()
            add_first_person(processes.desk_environment(), "Bench", EMAIL, PASSWORD)
            with Tide(processes.ports.address) as tide:
                tide.people.sign_in(EMAIL, PASSWORD)
                began = time.perf_counter()
                Chapter(tide, Season(tide, processes.ports, beginning()), folder, lambda _: None).play()
                print(f"\nThe scenario's first chapter took {time.perf_counter() - began:.0f} s to play in")
                processes.environment = {}
                starting(processes, tide)
                engine(processes, tide, folder)
                pushing(processes, tide, folder)
        began = time.perf_counter()
        done = subprocess.run([sys.executable, "-m", "restless_tide.demo.tour"], capture_output=True, check=False)
        print(f"\nmake tour: {time.perf_counter() - began:.0f} s, exit code {done.returncode}")


if __name__ == "__main__":
    main()
