"""A short storm, and the proof that a storm would catch a desk that acts twice. The long one is ``make chaos``."""

from __future__ import annotations

from pathlib import Path

from tests.chaos.storm import rage


def test_after_a_short_storm_the_desk_and_the_stores_agree(tmp_path: Path) -> None:
    storm = rage(tmp_path, seed=20, kills=10, count=2)
    assert storm.violations == []
    assert storm.kills == 10
    assert sum(storm.accepted.values()) + storm.refused >= 10
    assert storm.accepted


def test_a_desk_that_forgets_its_idempotency_keys_is_caught_by_the_storm(tmp_path: Path) -> None:
    storm = rage(tmp_path, seed=21, kills=12, count=1, plant="double-send", moods=[{"lose_answers": 3}])
    assert any("and was done" in violation for violation in storm.violations), storm
