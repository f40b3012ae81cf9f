"""What every measurement shares: a median of rounds, and a figure beside its comparison."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median

ROUNDS = 5


def timed(work: Callable[[], object], rounds: int = ROUNDS) -> float:
    """The median of some rounds, in seconds."""
    taken = []
    for _ in range(rounds):
        began = time.perf_counter()
        work()
        taken.append(time.perf_counter() - began)
    return median(taken)


def in_turn(ours: Callable[[], object], theirs: Callable[[], object], rounds: int = ROUNDS) -> tuple[float, float]:
    """The medians of both in seconds, measured by turns: a machine that changes its speed meanwhile changes both."""
    taken = [(timed(ours, 1), timed(theirs, 1)) for _ in range(rounds)]
    return median(one for one, _ in taken), median(one for _, one in taken)


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
