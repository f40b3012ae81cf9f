"""The rights check of a request, a halt beside a flood of sign-ins, and a backup beside cp."""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import tempfile
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
from tests.harbour import Harbour
from tests.patience import OPENLY

from restless_tide.core.rights import Grant, Right, Role, standing_of
from restless_tide.desk import backup
from restless_tide.desk.settings import Settings
from restless_tide.records.database import Database

ROUNDS = 300
FLOOD = 40
PACKAGES, PACKAGE_BYTES = 40, 256 * 1024 * 1024


def middle(work: object, rounds: int = ROUNDS) -> float:
    """The median time of a call, in milliseconds."""
    taken = []
    for _ in range(rounds):
        began = time.perf_counter()
        work()  # type: ignore[operator]
        taken.append((time.perf_counter() - began) * 1000)
    return statistics.median(taken)


def rights() -> None:
    """What asking a standing costs, and what a request by a token costs beside one that needs none."""
    grants = tuple(Grant(Role.RELEASE_MANAGER, (f"app{number}",)) for number in range(10))
    began = time.perf_counter()
    for number in range(100_000):
        standing_of(grants).over(Right.STEER, f"app{number % 20}")
    per_check = (time.perf_counter() - began) * 10
    with tempfile.TemporaryDirectory() as folder:
        harbour = Harbour.open(Path(folder) / "harbour", stores=())
        try:
            headers = {"Authorization": f"Bearer {harbour.token}"}
            with httpx.Client(base_url=harbour.address, headers=headers, **OPENLY) as line:
                open_ms = middle(lambda: line.get("/healthz"))
                me_ms = middle(lambda: line.get("/v1/access-rules"))
            print(
                f"rights: {per_check:.2f} µs a check of ten grants; a request with sign-in and rights {me_ms:.2f} ms, one without {open_ms:.2f} ms"
            )
            _flood(harbour, headers)
        finally:
            harbour.close()


def _flood(harbour: Harbour, headers: dict[str, str]) -> None:
    """How long a word that halts takes (here: one that has nothing to halt) while sign-ins come as fast as they can."""
    with httpx.Client(base_url=harbour.address, headers=headers, timeout=120) as line:

        def halt() -> None:
            line.post("/v1/halts", json={"reason": "a measurement"})

        idle = middle(halt, 60)
        over = threading.Event()

        def guess(number: int) -> None:
            with httpx.Client(base_url=harbour.address, timeout=120) as other:
                while not over.is_set():
                    other.post("/v1/sign-in", json={"email": f"{number}@example.org", "password": "a guess at it"})

        with ThreadPoolExecutor(FLOOD) as many:
            for number in range(FLOOD):
                many.submit(guess, number)
            time.sleep(2)
            beside = middle(halt, 60)
            over.set()
    print(
        f"flood: a halt answers in {beside:.1f} ms beside {FLOOD} who sign in wrongly without a pause, {idle:.1f} ms alone: {beside / idle:.1f}"
    )


def backups() -> None:
    """A backup of a desk with 10 GB of packages beside ``cp`` of the same files."""
    with tempfile.TemporaryDirectory(dir=os.environ.get("TIDE_BENCH_FOLDER")) as place:
        data = Path(place) / "desk"
        data.mkdir()
        database = Database(data / "desk.sqlite")
        database.migrate()
        _fill(data, database)
        database.close()
        subprocess.run(["sync"], check=True)
        began = time.perf_counter()
        subprocess.run(["cp", "-r", str(data), f"{place}/copied"], check=True)
        subprocess.run(["sync"], check=True)
        copied = time.perf_counter() - began
        shutil.rmtree(f"{place}/copied")
        began = time.perf_counter()
        done = backup.back_up(Settings(data=data), Path(place) / "backup", with_key=False)
        subprocess.run(["sync"], check=True)
        taken = time.perf_counter() - began
        began = time.perf_counter()
        backup.back_up(Settings(data=data), Path(place) / "backup", with_key=False)
        again = time.perf_counter() - began
        print(
            f"backup: {done.size_bytes / 1e9:.1f} GB in {taken:.1f} s, cp {copied:.1f} s: {taken / copied:.2f}; once more with nothing new {again:.1f} s"
        )


def _fill(data: Path, database: Database) -> None:
    import hashlib

    block = os.urandom(1024 * 1024)
    with database.engine.begin() as records:
        for number in range(PACKAGES):
            part, digest = data / "part", hashlib.sha256()
            with part.open("wb") as file:
                for at in range(PACKAGE_BYTES // len(block)):
                    piece = number.to_bytes(4, "big") + at.to_bytes(4, "big") + block[8:]
                    file.write(piece)
                    digest.update(piece)
            sha256 = digest.hexdigest()
            place = data / "packages" / sha256[:2] / sha256
            place.parent.mkdir(parents=True, exist_ok=True)
            part.rename(place)
            records.exec_driver_sql(
                "INSERT INTO packages (sha256, size_bytes, facts, received_at) VALUES (?, ?, '{}', '2026-11-01 00:00:00')",
                (sha256, PACKAGE_BYTES),
            )


def main() -> None:
    """All three."""
    rights()
    backups()


if __name__ == "__main__":
    main()
