"""The chain shows any alteration."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta, timezone

import pytest

from restless_tide.core.logbook import BEGINNING, Line, digest_of, first_broken

BEGIN = datetime(2026, 11, 1, tzinfo=UTC)


def chain(count: int = 5) -> list[tuple[Line, str]]:
    lines, before = [], BEGINNING
    for place in range(count):
        line = Line(
            BEGIN + timedelta(minutes=place),
            "p-1",
            "halt",
            f"release {place}",
            "marram",
            "crashes",
            {"share": 0.1},
            {"state": "halted"},
        )
        before = digest_of(line, before)
        lines.append((line, before))
    return lines


def test_an_untouched_chain_holds() -> None:
    assert first_broken(chain()) is None
    assert first_broken([]) is None


@pytest.mark.parametrize(
    "change",
    [{"reason": "all well"}, {"person": "p-2"}, {"at": BEGIN}, {"after": {"state": "rising"}}, {"before": None}],
)
def test_an_altered_line_is_found_where_it_stands(change: dict) -> None:
    lines = chain()
    lines[2] = (lines[2][0]._replace(**change), lines[2][1])
    assert first_broken(lines) == 2


def test_a_removed_line_and_a_new_digest_are_found() -> None:
    assert first_broken(chain()[:1] + chain()[2:]) == 1
    forged = chain()
    line = forged[1][0]._replace(reason="all well")
    forged[1] = (line, digest_of(line, forged[0][1]))
    assert first_broken(forged) == 2


def test_the_same_instant_in_another_zone_is_the_same_line() -> None:
    line, digest = chain(1)[0]
    elsewhere = line._replace(at=line.at.astimezone(timezone(timedelta(hours=2))))
    assert digest_of(elsewhere, BEGINNING) == digest
