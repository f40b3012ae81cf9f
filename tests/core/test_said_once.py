"""The words of the life cycles stand in the core's tables alone: no other file of the house decides by a state's name."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

from restless_tide.core.consignment import CONSIGNMENT
from restless_tide.core.invitation import INVITATION
from restless_tide.core.leg import LegPhase
from restless_tide.core.machine import Machine
from restless_tide.core.matter import MATTER
from restless_tide.core.notice import DELIVERY
from restless_tide.core.order import ORDER, RULES, OrderKind
from restless_tide.core.own_track import OWN_TRACK
from restless_tide.core.report import REPORT
from restless_tide.core.rollout import ROLLOUT
from restless_tide.core.round import ROUND
from restless_tide.core.step import STEP
from restless_tide.core.trial import TRIAL
from restless_tide.engine.carriers import CARRIERS

HOUSE = Path(__file__).parents[2] / "src" / "restless_tide"
ROOMS = ("desk", "engine", "wire", "service", "client", "cli")
MACHINES: tuple[Machine, ...] = (  # type: ignore[type-arg]
    CONSIGNMENT, INVITATION, DELIVERY, MATTER, ORDER, OWN_TRACK, REPORT, ROLLOUT, ROUND, STEP, TRIAL,
)  # fmt: skip
STATES = {str(state) for machine in MACHINES for state in type(machine.initial)} | set(map(str, LegPhase))
ALSO = {
    "desk/inbox.py": {"duplicate of", "fixed in"},  # columns of a list
    "desk/standing.py": {"expired"},  # an account's standing
    "engine/inlet.py": {"failed"},  # what a mail server says (RFC 3464)
    "engine/sightings.py": {"expired"},  # a name at a store
    "service/routes/steps.py": {"waiting", "settled"},  # the question, not the state
}
"""Where such a word says something else."""


def compared(tree: ast.Module) -> set[str]:
    """The states' names that a file compares with, or lists."""
    found = [node for node in ast.walk(tree) if isinstance(node, ast.Compare)]
    lists = [node for node in ast.walk(tree) if isinstance(node, ast.Tuple | ast.List | ast.Set)]
    words = [[word.value for word in node.elts if isinstance(word, ast.Constant)] for node in lists]
    return {
        word.value
        for node in found
        for operand in (node.left, *node.comparators)
        for word in ast.walk(operand)
        if isinstance(word, ast.Constant) and word.value in STATES
    } | {word for listed in words if len(STATES.intersection(listed)) > 1 for word in listed if word in STATES}


@pytest.mark.parametrize("room", ROOMS)
def test_no_room_decides_by_a_states_name(room: str) -> None:
    found = {}
    for path in sorted((HOUSE / room).rglob("*.py")):
        place = str(path.relative_to(HOUSE))
        words = compared(ast.parse(path.read_text(encoding="utf-8"))) - ALSO.get(place, set())
        if words:
            found[place] = words
    assert not found


def test_every_kind_of_order_is_carried_out_and_put_in_sequence_by_a_row_of_its_own() -> None:
    assert set(CARRIERS) == set(RULES) == set(OrderKind)
