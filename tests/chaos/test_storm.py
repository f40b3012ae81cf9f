"""A short storm, and the proof that a storm would catch a desk that acts twice. The long one is ``make chaos``."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.chaos.storm import rage

KILLS = 10
MOST_STORMS = 8
LONGEST_STORM_SECONDS = 1200
"""Longer than all that a storm itself waits for, so that it tells what it waited for in vain."""


@pytest.mark.timeout(LONGEST_STORM_SECONDS)
def test_after_a_short_storm_the_desk_and_the_stores_agree_and_so_does_a_backup_taken_in_it(tmp_path: Path) -> None:
    storm = rage(tmp_path, seed=20, kills=KILLS, count=2, restored=True)
    assert storm.violations == []
    assert storm.kills == KILLS
    assert sum(storm.accepted.values()) + storm.refused >= KILLS
    assert storm.accepted


@pytest.mark.timeout(LONGEST_STORM_SECONDS)
def test_a_desk_that_forgets_its_idempotency_keys_is_caught_by_the_storm(tmp_path: Path) -> None:
    """Whether an answer is lost between the right two moments is chance; one of a few storms is enough."""
    storms = []
    for seed in range(21, 21 + MOST_STORMS):
        folder = tmp_path / str(seed)
        folder.mkdir()
        storms.append(rage(folder, seed=seed, kills=6, count=1, plant="double-send", moods=[{"lose_answers": 3}]))
        if any("and was done" in violation for violation in storms[-1].violations):
            return
    pytest.fail(f"{MOST_STORMS} storms did not catch it: {storms}")
