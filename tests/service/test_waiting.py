"""Where a review stands: how long it waits, whether that is usual, who is told, and figures over many rounds."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest
from sqlalchemy import select

from restless_tide.core.rollout import RolloutState
from restless_tide.core.round import RoundState
from restless_tide.core.waiting import By
from restless_tide.desk import overview, reviews
from restless_tide.records.tables import Leg, Notice, Round
from tests.harbour import Harbour
from tests.service.test_cli import Terminal
from tests.shore import Shore, shore

HOUR = timedelta(hours=1)


@pytest.fixture
def here(tmp_path: Path) -> Iterator[Shore]:
    """Marram 1.0.0 in its sixth round at Openfield, handed in now; the others took 10 to 50 hours."""
    with shore(tmp_path) as opened:
        with opened.desk.act("operator") as act:
            leg = act.session.get_one(Leg, opened.leg_id)
            leg.state, leg.launched_at = RolloutState.WAITING, None
            (first,) = leg.rounds
            first.submitted_at, first.decided_at = act.now - 90 * HOUR, act.now - 80 * HOUR
            for number, hours in enumerate((20, 30, 40, 50), 2):
                begun = act.now - (hours + 200) * HOUR
                leg.rounds.append(
                    Round(
                        leg_id=leg.id, number=number, build_id=leg.build_id, submitted_at=begun, changed_at=begun,
                        state=RoundState.REJECTED, taken_up_at=begun + HOUR, decided_at=begun + hours * HOUR,
                    )
                )  # fmt: skip
            newest = Round(leg_id=leg.id, number=6, build_id=leg.build_id, submitted_at=act.now, changed_at=act.now)
            leg.rounds.append(newest)
            act.session.flush()
            reviews.handed_in(act, newest)
        yield opened


def newest(here: Shore) -> reviews.Wait | None:
    with here.desk.look() as session:
        row = session.scalars(select(Round).order_by(Round.number.desc()).limit(1)).one()
        return reviews.wait_of(row, here.desk.clock.now())


def calls(here: Shore) -> list[str]:
    with here.desk.look() as session:
        return [call.said for row in overview.look_over(session, here.desk.clock.now()) for call in row.calls]


def test_a_wait_that_is_longer_than_nine_in_ten_is_told_of_once(here: Shore) -> None:
    here.desk.clock.step(45 * HOUR)
    wait = newest(here)
    assert wait is not None
    assert (round(wait.hours), wait.usual.median_hours, wait.usual.rounds, wait.long) == (45, 30.0, 5, False)
    assert reviews.tell_of_long_waits(here.desk) == 0
    here.desk.clock.step(2 * HOUR)
    assert [reviews.tell_of_long_waits(here.desk) for _ in range(2)] == [1, 0]
    with here.desk.look() as session:
        (said,) = session.scalars(select(Notice.said).where(Notice.kind == "review longer than usual"))
    assert said == "Marram 1.0.0 has been with Openfield for 47 hours; usual are 30 (by 5 rounds of yours)."
    assert "1.0.0 has been under review longer than usual." in calls(here)


def test_what_is_decided_waits_no_more_and_enters_the_figures(here: Shore) -> None:
    here.desk.clock.step(3 * HOUR)
    with here.desk.act("store:openfield") as act:
        row = act.session.scalars(select(Round).order_by(Round.number.desc()).limit(1)).one()
        row.state = RoundState.IN_HAND
        reviews.moved(act, row)
    here.desk.clock.step(4 * HOUR)
    with here.desk.act("store:openfield") as act:
        row = act.session.scalars(select(Round).order_by(Round.number.desc()).limit(1)).one()
        row.state = RoundState.APPROVED
        reviews.moved(act, row)
    assert newest(here) is None
    here.desk.clock.step(900 * HOUR)
    assert reviews.tell_of_long_waits(here.desk) == 0
    with here.desk.look() as session:
        (one,) = reviews.figures_of(session, By.STORE, "marram", "openfield")
    assert (one.rounds, one.decided, one.refused, one.waiting_hours) == (6, 6, 4, 1.0)
    assert one.whole_hours == 25.0


def test_a_review_says_how_long_it_waits_and_figures_are_shown(harbour: Harbour, tmp_path: Path) -> None:
    tide = Terminal(harbour, tmp_path)
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",))
    harbour.submit(app, "1.0.0")
    (round_,) = harbour.all_confirmed(app).legs[0].rounds
    assert round_.waiting is not None
    assert not round_.waiting.long
    assert "waits for" in tide("release", "show", "1.0.0", "--app", app).stdout
    harbour.pass_hours(60)
    done = harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rising").legs[0].rounds[0]
    assert done.waiting is None
    assert done.decided_at is not None
    (row,) = json.loads(tide("release", "figures", "--app", app, "--json").stdout)
    assert (row["name"], row["rounds"], row["decided"], row["refused"]) == ("northgate", 1, 1, 0)
    assert "northgate" in tide("release", "figures", "--by", "store").stdout
    assert "Nothing was handed to review yet." in tide("release", "figures", "--app", harbour.new_app()).stdout
