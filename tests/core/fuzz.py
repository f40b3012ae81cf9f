"""Mutated packages against the reader, seeded: ``make fuzz TURNS=100000 SEED=1``.

Nothing but a package read or a refusal in the family of errors may come of them, within bounds of
time and memory that are set on the process itself, so that exceeding them cannot go unnoticed. Structure-aware
mutators (mutators.py) and the files of aimed.py are among them.
"""

from __future__ import annotations

import argparse
import io
import random
import resource
import signal
import struct
import sys
import tempfile
import time
import zipfile
import zlib
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages import inspect_package
from restless_tide.standins.packages import PackageRecipe, write_apk, write_ipa, write_msix, write_msix_bundle
from tests.core import aimed, mutators
from tests.toolchain import Recipe, make_aab, make_apk

SECONDS_A_TURN = 10
MEMORY_BYTES = 200 * 1024**2
PROMISED_SECONDS = 2
"""Of a processor, for one file; what takes longer is counted, since a machine may be slow."""
MOST_MEMBERS, MOST_BYTES = 2_000, 8_000_000
LARGEST_AIMED_BYTES = 100_000
_INTERESTING = (0, 1, 0x7F, 0x80, 0xFF, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF)


@dataclass
class Outcome:
    turns: int
    counts: Counter[str]
    slowest_seconds: float
    peak_bytes: int
    over: int
    """How many took longer than is promised."""


def seeds(folder: Path) -> list[bytes]:
    """Packages of every format, by Debian's tools where they make it and by our own makers; and the files that are aimed."""
    small = PackageRecipe("a.b.c", "1.2.0", 3, "Fuzz", ("android.permission.CAMERA",), padding_bytes=200)
    rich = Recipe(lowest=21, icon_pixels=(8,), processors=("x86_64",), locales=("de", "fil"), features=("a.b?",))
    made = [
        make_apk(folder / "apk", rich, "--min-sdk-version", "21"),
        make_aab(folder / "aab", rich),
        write_apk(folder / "a.apk", small),
        write_ipa(folder / "a.ipa", small),
        write_msix(folder / "a.msix", small),
    ]
    made.append(write_msix_bundle(folder / "a.msixbundle", made[-1:], small))
    files = {**aimed.ambiguous(), **aimed.odd(), **{name: make() for name, make in aimed.COSTLY.items()}}
    return [path.read_bytes() for path in made] * 25 + [one for one in files.values() if len(one) < LARGEST_AIMED_BYTES]


def storm(turns: int, seed: int, packages: list[bytes], told: Callable[[int], None] = lambda _: None) -> Outcome:
    """Read ``turns`` mutated packages. Whatever is neither facts nor a refusal is raised with its turn."""
    counts: Counter[str] = Counter()
    slowest, over = 0.0, 0
    for turn in range(turns):
        dice = random.Random(f"{seed} {turn}")
        content = mutated(packages[turn % len(packages)], dice)
        begun = time.process_time()
        signal.setitimer(signal.ITIMER_PROF, SECONDS_A_TURN)
        try:
            with little_memory():
                inspect_package(io.BytesIO(content))
            counts["read"] += 1
        except PackageUnreadable as refused:
            counts["refused in one line" if refused.detail.isprintable() else "refused in several"] += 1
        except BaseException as wrong:
            raise AssertionError(f"seed {seed}, turn {turn}: {wrong!r}") from wrong
        finally:
            signal.setitimer(signal.ITIMER_PROF, 0)
        took = time.process_time() - begun
        slowest, over = max(slowest, took), over + (took > PROMISED_SECONDS)
        told(turn + 1)
    return Outcome(turns, counts, slowest, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024, over)


def mutated(package: bytes, dice: random.Random) -> bytes:
    """Octets or a part of its structure changed, in the file as it is or in one of its members, the archive around it whole."""
    fate = dice.random()
    if fate < 0.15:
        return _scrambled(package, dice)
    if fate < 0.35:
        for _ in range(dice.choice((1, 1, 2, 3))):
            package = mutators.archive(package, dice)
        return package
    try:
        with zipfile.ZipFile(io.BytesIO(package)) as archive:
            sizes = [member.file_size for member in archive.infolist()]
            if not sizes or len(sizes) > MOST_MEMBERS or sum(sizes) > MOST_BYTES:
                return _scrambled(package, dice)
            members = {name: archive.read(name) for name in archive.namelist()}
    except (zipfile.BadZipFile, NotImplementedError, ValueError, struct.error, zlib.error, OSError):
        return _scrambled(package, dice)  # an aimed file is no archive that the standard reader takes
    known = [name for name, content in members.items() if mutators.of(name, content)]
    for _ in range(dice.choice((1, 1, 1, 2, 4))):
        name = dice.choice(known if known and dice.random() < 0.75 else list(members))
        mutate = mutators.of(name, members.get(name, b"")) if name in members else None
        fate = dice.random()
        if name not in members:
            continue
        if mutate is not None and fate < 0.75:
            members[name] = mutate(members[name], dice)
        elif fate < 0.9:
            members[name] = _scrambled(members[name], dice)
        elif fate < 0.95 and len(members) > 1:
            del members[name]
        else:
            members[f"{name}/{dice.randrange(9)}"] = members[name]
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", dice.choice((zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED))) as made:
        for name, content in members.items():
            made.writestr(name, content)
    return out.getvalue()


def _scrambled(content: bytes, dice: random.Random) -> bytes:
    data = bytearray(content)
    for _ in range(dice.choice((1, 2, 3, 8, 20))):
        if not data:
            return bytes(data)
        at, fate = dice.randrange(len(data)), dice.random()
        if fate < 0.5:
            data[at] = dice.randrange(256)
        elif fate < 0.75:
            number = dice.choice(_INTERESTING)
            data[at : at + 4] = number.to_bytes(4, dice.choice(("little", "big")))
        elif fate < 0.85:
            del data[at : at + dice.randrange(1, 40)]
        elif fate < 0.95:
            data[at:at] = data[at : at + dice.randrange(1, 200)]
        else:
            del data[at:]
    return bytes(data)


def bounded() -> None:
    """From here on reading a package may not hang without being stopped."""

    def hung(*_: object) -> None:
        raise TimeoutError(f"longer than {SECONDS_A_TURN} s of a processor")

    signal.signal(signal.SIGPROF, hung)


@contextmanager
def little_memory() -> Iterator[None]:
    """Within it this process may not grow by more than is promised."""
    used = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    _, most = resource.getrlimit(resource.RLIMIT_AS)
    resource.setrlimit(resource.RLIMIT_AS, (used + MEMORY_BYTES, most))
    try:
        yield
    finally:
        resource.setrlimit(resource.RLIMIT_AS, (most, most))


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--turns", type=int, default=100_000)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        packages = seeds(Path(folder))
    for package in packages:  # every reader is loaded, and has what it keeps, before memory is bounded
        with suppress(PackageUnreadable):
            inspect_package(io.BytesIO(package))
    bounded()

    def told(turn: int) -> None:
        if turn % 5_000 == 0:
            print(f"{turn} of {given.turns}", flush=True)

    outcome = storm(given.turns, given.seed, packages, told)
    print(
        f"{outcome.turns} packages, seed {given.seed}: {outcome.counts['read']} read, {outcome.counts['refused in one line']} refused in one line, {outcome.counts['refused in several']} in several,"
        f" slowest {outcome.slowest_seconds:.2f} s of a processor, {outcome.over} over {PROMISED_SECONDS} s, peak {outcome.peak_bytes / 2**20:.0f} MiB with what makes the mutations"
        f" (bound: {SECONDS_A_TURN} s, {MEMORY_BYTES // 2**20} MiB above the start)"
    )
    return 0


if __name__ == "__main__":
    sys.exit(main())
