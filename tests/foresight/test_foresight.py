"""A short run of the proof of foresight, and that it would notice: see ``make foresight`` for the long one."""

from __future__ import annotations

import random
from itertools import count
from pathlib import Path
from typing import Any

import pytest

from restless_tide.core.rulebook import Rulebook, read_rulebook
from restless_tide.standins.__main__ import RULEBOOKS
from tests.foresight.harness import Tally, made, rules_that_can_break, run, within_reach

BOOKS = {path.stem: read_rulebook(path.read_text(encoding="utf-8")) for path in sorted(RULEBOOKS.glob("*.toml"))}
CASES_OF_A_BOOK = 14


def breaking(rules: Rulebook, *wanted: str) -> list[int]:
    """The first seed of a case that breaks just these rules, and has no history to be played in."""
    near = within_reach(rules)
    for seed in range(400):
        case = made(near, seed, wanted)
        if case.broken == list(wanted) and not case.live:
            return [seed]
    raise AssertionError(f"no seed breaks {wanted}")


@pytest.mark.parametrize("name", BOOKS)
def test_what_a_store_refuses_was_foretold_and_nothing_else(name: str, tmp_path: Path) -> None:
    tally, dice = Tally(), random.Random(name)
    run(BOOKS[name], [dice.randrange(2**32) for _ in range(CASES_OF_A_BOOK)], tmp_path, tally)
    assert tally.misses == []
    assert tally.refused.total() == tally.foretold.total() > 0


@pytest.mark.parametrize(
    ("name", "rule", "part", "without"),
    [
        ("openfield", "review.notes_locales_required", "review", {"notes_locales_required": ()}),
        ("northgate", "packages.smallest_icon_pixels", "packages", {"smallest_icon_pixels": None}),
        ("slatehouse", "availability.may_close", "availability", {"may_close": True}),
    ],
)
def test_a_rule_taken_out_of_readiness_is_noticed(
    name: str, rule: str, part: str, without: dict[str, Any], tmp_path: Path
) -> None:
    rules, tally = within_reach(BOOKS[name]), Tally()
    blind = rules.model_copy(update={part: getattr(rules, part).model_copy(update=without)})
    run(BOOKS[name], breaking(BOOKS[name], rule), tmp_path, tally, foretelling=blind, wanted=[rule])
    (miss,) = tally.misses
    assert "not foretold" in miss
    assert rule in miss


def test_a_blocker_that_the_store_does_not_mind_is_noticed(tmp_path: Path) -> None:
    rules, tally = within_reach(BOOKS["openfield"]), Tally()
    strict = rules.model_copy(update={"review": rules.review.model_copy(update={"notes_limit_characters": 3})})
    run(BOOKS["openfield"], breaking(BOOKS["openfield"]), tmp_path, tally, foretelling=strict, wanted=[])
    (miss,) = tally.misses
    assert "taken, but notes-too-long foretold" in miss
    assert tally.needless == 1


@pytest.mark.parametrize("name", BOOKS)
def test_every_rule_of_a_rulebook_that_an_app_can_break_comes_up(name: str) -> None:
    rules = within_reach(BOOKS[name])
    left = rules_that_can_break(rules)
    for seed in count():
        left -= set(made(rules, seed).broken)
        if not left:
            return
        assert seed < 3_000, f"never broken: {left}"
