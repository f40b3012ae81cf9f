"""Every interleaving of a lane, within bounds: breadth first, each situation once.

    python -m tests.core.lane_exploration --orders 4 --faults 2

Three things are asked of the whole graph of situations. No move breaks a promise (see lane_world). Where
nothing more happens by itself, wanted, seen and the store agree, or a person was asked. And what happens by
itself never goes round in a circle. Together that means: from every situation that can be reached, once
faults end, every lane comes to rest as wanted, whatever happens in which sequence.
"""

from __future__ import annotations

import argparse
import gc
import random
import sys
import time
from dataclasses import dataclass, field

from tests.core.lane_world import Broken, World, beginning, forget_steps, moves, plain, trouble_at_rest

MOST_FOUND = 20
MOST_REMEMBERED = 6


@dataclass
class Explored:
    """``trouble``: what is wrong, each with the moves that lead to it."""

    states: int = 0
    moves: int = 0
    seconds: float = 0.0
    trouble: list[tuple[str, list[str]]] = field(default_factory=list)


def explore(
    orders: int, faults: int, *, strangers: bool = True, restores: bool = False, most_found: int = MOST_FOUND
) -> Explored:
    """Every situation of a lane with up to so many orders and faults, until so much trouble is found."""
    forget_steps()
    began, found = time.perf_counter(), Explored()
    start = plain(beginning(faults))
    places: dict[World, int] = {start: 0}
    worlds, came_from = [start], [(-1, "")]
    free: list[list[int]] = []
    collects = gc.isenabled()
    gc.disable()  # nothing here is ever garbage, and looking for it takes half the time
    try:
        for place, world in enumerate(worlds):
            leads_to: list[int] = []
            for move in moves(world, orders, strangers=strangers, restores=restores):
                found.moves += 1
                try:
                    after = plain(move.make())
                except Broken as broken:
                    found.trouble.append((str(broken), [*_way(came_from, place), move.name]))
                    continue
                there = places.get(after)
                if there is None:
                    there = places[after] = len(worlds)
                    worlds.append(after)
                    came_from.append((place, move.name))
                if move.free:
                    leads_to.append(there)
            free.append(leads_to)
            if not leads_to and (why := trouble_at_rest(world)):
                found.trouble.append((why, _way(came_from, place)))
            if len(found.trouble) >= most_found:
                break
        else:
            circling = _on_a_circle(free)
            if circling is not None:
                found.trouble.append(("it goes round in a circle", _way(came_from, circling)))
    finally:
        if collects:
            gc.enable()
        forget_steps()
    found.states, found.seconds = len(worlds), time.perf_counter() - began
    return found


def _way(came_from: list[tuple[int, str]], place: int) -> list[str]:
    names: list[str] = []
    while place > 0:
        place, name = came_from[place]
        names.append(name)
    return names[::-1]


def _on_a_circle(free: list[list[int]]) -> int | None:
    """A situation that what happens by itself may come back to; None: there is none (Kahn 1962)."""
    entered = [0] * len(free)
    for leads_to in free:
        for there in leads_to:
            entered[there] += 1
    ready = [place for place, count in enumerate(entered) if not count]
    left = len(free)
    while ready:
        left -= 1
        for there in free[ready.pop()]:
            entered[there] -= 1
            if not entered[there]:
                ready.append(there)
    return next(place for place, count in enumerate(entered) if count) if left else None


def wander(steps: int, seed: int, *, orders: int = 12, faults: int = 12, restores: bool = False) -> Explored:
    """Long lives of lanes at random: one after the other, each ending calmly, until so many steps are made."""
    forget_steps()
    dice, began, found = random.Random(seed), time.perf_counter(), Explored()
    while found.moves < steps and len(found.trouble) < MOST_FOUND:
        world, names, calm = beginning(faults), list[str](), False
        try:
            while True:
                possible = [move for move in moves(world, orders, restores=restores) if move.free or not calm]
                if not possible:
                    if why := trouble_at_rest(world):
                        found.trouble.append((why, names))
                    break
                if not calm and world.placed == orders and dice.random() < 0.1:
                    calm = True
                move = dice.choice(possible)
                names.append(move.name)
                world = move.make()
                if len(world.tickets) > MOST_REMEMBERED:
                    world = plain(world)
                found.moves += 1
        except Broken as broken:
            found.trouble.append((str(broken), names))
        found.states += 1
    found.seconds = time.perf_counter() - began
    forget_steps()
    return found


def main() -> int:
    parser = argparse.ArgumentParser(description="Explore every interleaving of a lane.")
    parser.add_argument("--orders", type=int, default=4)
    parser.add_argument("--faults", type=int, default=2)
    parser.add_argument("--restores", action="store_true", help="stores are restored from backups, too")
    parser.add_argument("--steps", type=int, default=0, help="so many random steps of long lanes instead")
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    if given.steps:
        found = wander(given.steps, given.seed, restores=given.restores)
        print(f"{found.states} lanes, {found.moves} random steps, seed {given.seed}, {found.seconds:.1f} s")
    else:
        found = explore(given.orders, given.faults, restores=given.restores)
        print(f"{found.states} situations, {found.moves} moves between them, {found.seconds:.1f} s")
    for why, way in found.trouble:
        print(f"  BROKEN: {why}\n    {' → '.join(way)}")
    print(f"{len(found.trouble)} promises broken")
    return 1 if found.trouble else 0


if __name__ == "__main__":
    sys.exit(main())
