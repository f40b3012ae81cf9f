"""Reading, verifying, pushing and listing builds, each figure beside its comparison in the same run."""

from __future__ import annotations

import hashlib
import os
import sys
import time
import tracemalloc
import zipfile
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

from tests.toolchain import FRAMEWORK, Recipe, make_apk

from bench.measuring import in_turn, peak_kib, run, say, timed
from restless_tide.client import Tide
from restless_tide.client import uploads as sending
from restless_tide.client.line import Line
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.packages import Facts, inspect_package
from restless_tide.demo.processes import Processes
from restless_tide.records.database import Database
from restless_tide.records.tables import App, Build, BuildPackage, Package
from restless_tide.standins.packages import PackageRecipe, write_apk, write_ipa

GIB = 1024**3
TIDE = Path(sys.executable).with_name("tide")
MANY = 10_000
REAL_ROUNDS = 15


def reading(folder: Path) -> None:
    print("\nReading an APK of the real tool chain, in-process, every signature verified, against whole processes")
    for megabytes in (1, 20, 200):
        recipe = Recipe(padding_bytes=megabytes * 1_000_000, lowest=24, icon_pixels=(48, 96))
        path = make_apk(folder / f"read-{megabytes}", recipe, "--v1-signing-enabled", "false")

        def ours(path: Path = path) -> None:
            with path.open("rb") as source:
                inspect_package(source)

        def facts_alone(path: Path = path) -> None:
            with path.open("rb") as source:
                inspect_package(source, sha256="0" * 64, verify=False)

        took = timed(ours, 3)
        alone, badging = in_turn(facts_alone, lambda path=path: run("aapt", "dump", "badging", path))
        say(f"{megabytes} MB: facts alone", alone, "aapt dump badging", badging)
        say(f"{megabytes} MB: facts, digest, signatures", took, "apksigner verify", timed(lambda path=path: run("apksigner", "verify", path), 3))  # fmt: skip
        say(f"{megabytes} MB: facts, digest, signatures", took, "sha256sum", timed(lambda path=path: run("sha256sum", path), 3))  # fmt: skip
        tracemalloc.start()
        ours()
        print(f"{megabytes} MB: peak of Python's memory {tracemalloc.get_traced_memory()[1] / 1e6:.1f} MB")
        tracemalloc.stop()

    real = FRAMEWORK.stat().st_size / 1e6

    def facts_of_a_real_one() -> None:
        with FRAMEWORK.open("rb") as source:
            inspect_package(source, sha256="0" * 64, verify=False)

    alone, badging = in_turn(facts_of_a_real_one, lambda: run("aapt", "dump", "badging", FRAMEWORK), REAL_ROUNDS)
    say(f"{real:.0f} MB of a real one with thousands of members: facts alone", alone, "aapt dump badging", badging)
    two = [folder / f"read-{megabytes}" / "app-17.apk" for megabytes in (1, 20)]
    say("tide build compare of 1 and 20 MB, whole process", timed(lambda: run(TIDE, "build", "compare", *two), 5), "python -c pass", timed(lambda: run(sys.executable, "-c", "pass"), 5))  # fmt: skip


def pushing(processes: Processes, tide: Tide, token: str, folder: Path) -> None:
    print("\nPushing 1 GiB by tus through the service to disk on loopback, and going on after a cut")
    file = large_ipa(folder / "gib.ipa", GIB)
    before = peak_kib(processes.pid("desk"))

    def copy() -> None:
        run("cp", file, folder / "copy")
        run("sync", folder / "copy")
        run("sha256sum", file)

    copied = timed(copy, 1)
    (folder / "copy").unlink()
    began = time.perf_counter()
    tide.builds.hand_over(file)
    took = time.perf_counter() - began
    say("push of 1 GiB: digest, send, write, digest, read, fsync", took, "cp, sync, sha256sum", copied)
    print(
        f"the service's peak memory before {before / 1024:.0f} MiB, after {peak_kib(processes.pid('desk')) / 1024:.0f} MiB"
    )
    file.unlink()
    second = large_ipa(folder / "cut.ipa", 256 * 1024**2, name="cut")
    size, sent, cut = second.stat().st_size, [0], [False]

    def told(offset: int) -> None:
        sent[0] += 1
        if not cut[0] and offset >= 0.9 * size:
            cut[0] = True
            processes.kill("desk")
            processes.start("desk")

    line = Line(processes.ports.address, token)
    sending.send_file(line, second, told)
    line.close()
    blocks = -(-size // 2**20)
    print(
        f"cut at 90 %: {sent[0]} blocks of 1 MiB left the client for a file of {blocks}; {sent[0] - blocks} went twice"
    )
    second.unlink()


def large_ipa(path: Path, size_bytes: int, name: str = "large") -> Path:
    write_ipa(path, PackageRecipe(f"org.example.{name}", "1.0.0", 1, "Large"))
    with zipfile.ZipFile(path, "a", zipfile.ZIP_STORED) as archive, archive.open("Payload/Large.app/more.bin", "w", force_zip64=True) as member:  # fmt: skip
        for _ in range(size_bytes // 2**20):
            member.write(os.urandom(2**20))
    return path


def listing(processes: Processes, tide: Tide) -> None:
    print(f"\nListing builds over HTTP, a page of 100: an app with {MANY:,} against one with 100")
    few, many = ("few", 100), ("many", MANY)
    for name, count in (few, many):
        tide.apps.register(name, identifiers={"android": f"org.example.{name}"})
        _enter_many(processes, name, count)
    questions: dict[str, Callable[[str], object]] = {
        "newest first": lambda app: tide.builds.of_app(app, limit=100),
        "by version": lambda app: tide.builds.of_app(app, limit=100, order="version"),
        "found by number": lambda app: tide.builds.of_app(app, limit=100, text="77"),
        "of another platform": lambda app: tide.builds.of_app(app, limit=100, platform="ios"),
    }
    for what, ask in questions.items():
        say(f"{what}, {MANY:,} builds", timed(lambda ask=ask: ask("many"), 3), "100 builds", timed(lambda ask=ask: ask("few"), 3))  # fmt: skip


def _enter_many(processes: Processes, name: str, count: int) -> None:
    database = Database(processes.folder / "desk" / "desk.sqlite")
    now = datetime.now(UTC)
    with database.writing() as session:
        app = session.query(App).filter_by(name=name).one()
        for number in range(count):
            sha256 = hashlib.sha256(f"{name} {number}".encode()).hexdigest()
            version = f"1.{number // 50}.{number % 50}"
            facts = Facts(format="apk", identifier=f"org.example.{name}", version=version, number=BuildNumber(number), size_bytes=1, sha256=sha256)  # fmt: skip
            session.add(Package(sha256=sha256, size_bytes=1, facts=facts.document(), received_at=now))
            build = Build(app_id=app.id, platform="android", version=version, number=facts.number, created_by="p-bench",
                          created_at=now - timedelta(minutes=count - number))  # fmt: skip
            build.packages = [BuildPackage(position=0, sha256=sha256)]
            session.add(build)
    database.close()


def keeping(processes: Processes, tide: Tide, folder: Path) -> None:
    print("\nAt rest: twenty builds that differ in little, and what retention frees")
    tide.apps.register("kept", identifiers={"android": "org.example.kept"})
    for number in range(1, 21):
        recipe = PackageRecipe("org.example.kept", "1.0.0", number, "Kept", padding_bytes=2_000_000)
        tide.builds.enter("kept", [tide.builds.hand_over(write_apk(folder / "kept.apk", recipe))[0]])
        tide.builds.hand_over(folder / "kept.apk")
    found = tide.builds.set_retention("kept", keep_newest=5, keep_days=0)
    kept = sum(path.stat().st_size for path in (processes.folder / "desk" / "packages").rglob("*") if path.is_file())
    print(f"20 builds, each handed over twice: {(found.bytes_kept + found.bytes_free) / 1e6:.1f} MB at rest")
    tide.builds.clear("kept", dry_run=False)
    left = sum(path.stat().st_size for path in (processes.folder / "desk" / "packages").rglob("*") if path.is_file())
    print(f"keeping the newest 5 said it would free {found.bytes_free / 1e6:.1f} MB; the disk has {(kept - left) / 1e6:.1f} MB more")  # fmt: skip
