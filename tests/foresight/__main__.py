"""Proof of foresight: what the desk's sheet foretells, held against what a store really says.

    python -m tests.foresight --seed 1 --cases 2000 [--rulebook FILE]

Each case is an app that breaks none, one or two rules. The sheet is asked first; then everything is handed to
the stand-in by the gateway, each act on its own, and its answer is compared with what was foretold of that act.
"""

from __future__ import annotations

import argparse
import random
import sys
import tempfile
from pathlib import Path

from restless_tide.core.rulebook import Rulebook, read_rulebook
from restless_tide.standins.__main__ import RULEBOOKS
from tests.foresight.harness import Tally, run


def rulebooks(given: Path | None) -> list[Rulebook]:
    files = [given] if given is not None else sorted(RULEBOOKS.glob("*.toml"))
    return [read_rulebook(file.read_text(encoding="utf-8"), file.name) for file in files]


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m tests.foresight")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--cases", type=int, default=2000)
    parser.add_argument("--rulebook", type=Path, help="a rulebook (TOML); the three that ship, unless you say")
    given = parser.parse_args()
    tally, books = Tally(), rulebooks(given.rulebook)
    dice = random.Random(given.seed)
    seeds = [dice.randrange(2**32) for _ in range(given.cases)]
    with tempfile.TemporaryDirectory() as folder:
        for at, rules in enumerate(books):
            run(rules, seeds[at :: len(books)], Path(folder), tally)
            print(f"{rules.store}: {tally.cases} cases so far, {len(tally.misses)} misses", flush=True)
    print(tally.told())
    return 1 if tally.misses or tally.never(books) else 0


if __name__ == "__main__":
    sys.exit(main())
