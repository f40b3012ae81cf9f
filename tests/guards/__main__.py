"""Proof of the guard: made-up rollouts that it must leave alone, and others that it must stop, soon.

    python -m tests.guards --seed 1 --rollouts 2000

Printed by case: the part that was stopped; of the bad ones also the sessions until then (median), beside those that a
test needs which knows both rates and the rate of every hour (Wald 1945).
"""

from __future__ import annotations

import argparse
import multiprocessing
import statistics
import sys
from functools import partial

from restless_tide.core.guard import GuardRule, Watched
from tests.guards.rollouts import BAD, CASES, Case, Played, play

GOAL_STOPPED, GOAL_RATIO = 0.01, 1.5


def seeds(seed: int, rollouts: int) -> range:
    return range(seed * 10_000_000, seed * 10_000_000 + rollouts)


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m tests.guards")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--rollouts", type=int, default=2000, help="of each case")
    given = parser.parse_args()
    missed = 0
    with multiprocessing.Pool(2) as pool:

        def played(case: Case, rule: GuardRule) -> list[Played]:
            return pool.map(partial(play, case, rule), seeds(given.seed, given.rollouts), chunksize=20)

        for watched in (Watched.CRASHED_PEOPLE, Watched.CRASHES):
            rule = GuardRule(watched=watched)
            print(f"\nwatching {watched}: {given.rollouts:,} rollouts of each case, seed {given.seed}")
            for case in CASES:
                part = statistics.fmean(one.stopped_hour is not None for one in played(case, rule))
                kept = part <= GOAL_STOPPED
                missed += not kept
                print(f"  {case.name:46} stopped {part:7.2%}   {'' if kept else 'MORE THAN 1 IN 100'}", flush=True)
            for case in BAD:
                found = played(case, rule)
                part = statistics.fmean(one.stopped_hour is not None for one in found)
                after = statistics.median(one.stopped_after for one in found)
                knowing = statistics.median(one.knowing_after for one in found)
                too_late = watched is Watched.CRASHED_PEOPLE and after > GOAL_RATIO * knowing
                missed += too_late
                told = (
                    f"after {after:,.0f} sessions, {after / knowing:.2f} × a test that knows the rates ({knowing:,.0f})"
                )
                print(f"  {case.name:46} stopped {part:7.2%}   {told} {'TOO LATE' if too_late else ''}", flush=True)
    print(f"\n{missed or 'No'} case{'' if missed == 1 else 's'} missed the goal.")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main())
