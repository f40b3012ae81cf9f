"""Ports of its own for everything that a test starts, apart from those of the other workers of the run."""

from __future__ import annotations

import itertools
import os

from restless_tide.demo.processes import IN_A_ROW, Ports, free_ports

_FIRST = 10_000
_OF_A_WORKER = 4_900
_blocks = itertools.cycle(range(0, _OF_A_WORKER, IN_A_ROW))


def own_ports() -> Ports:
    """Seven that no other worker looks at, and other ones at each call."""
    worker = int(os.environ.get("PYTEST_XDIST_WORKER", "gw0").removeprefix("gw")) % 4
    first = _FIRST + worker * _OF_A_WORKER
    return free_ports(first + next(_blocks), first + _OF_A_WORKER)
