"""Guards: what stores count is taken in, judged, and acted on; a bad build is stopped in every store, a good one rises."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, timedelta
from typing import Any

import pytest

from restless_tide.client import Conflict, Denied, Invalid, NotFound, SecondPersonNeeded, Tide
from restless_tide.wire.guards import WatchTold
from restless_tide.wire.releases import LegTold, ReleaseTold
from tests.harbour import Harbour, leg_of, until

STORES = ("openfield", "slatehouse")


@pytest.fixture(scope="module")
def watched(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Harbour]:
    """A desk of its own, whose stores' clocks run far ahead."""
    opened = Harbour.open(tmp_path_factory.mktemp("watched"), stores=STORES, counted=True)
    opened.connect_stores()
    yield opened
    opened.close()


def _rests(leg: LegTold) -> bool:
    return leg.confirmed or any(order.state == "sent" and order.trouble for order in leg.orders)


@pytest.fixture(scope="module")
def app(watched: Harbour) -> str:
    """An app with 1.0.0 at everybody, counted for a week, and 1.1.0 rising, which crashes often."""
    name = watched.new_app()
    watched.control("slatehouse", "mischief", {"bad_numbers": [2]})
    watched.control("openfield", "mischief", {"bad_numbers": [2]})
    watched.risen(name, "1.0.0", stores=STORES, number=1)
    for _ in range(20):
        watched.pass_hours(26)
        # a stage that the store began later than the desk is refused as too early, until the clocks move again
        seen = watched.released(name, "1.0.0", lambda release: all(_rests(leg) for leg in release.legs))
        if all(leg.phase == "complete" and leg.confirmed for leg in seen.legs):
            break
    watched.pass_hours(72)
    return name


def watch_of(harbour: Harbour, app: str, version: str, guard: str) -> list[WatchTold]:
    return harbour.tide.guards.watch(app, version, guard)


def test_a_bad_build_is_halted_in_every_store_by_the_counts_of_both(watched: Harbour, app: str) -> None:
    guard = watched.tide.guards.set_up(app, name="crashes", on_breach="halt", every_store=True)
    assert "1 in 100" in guard.said
    address = f"{app}@example.org"
    watched.tide.notices.subscribe("mail", address, kinds=["breach"], apps=[app])
    watched.risen(app, "1.1.0", stores=STORES, number=2)
    for _ in range(16):
        watched.pass_hours(6)
        seen = watch_of(watched, app, "1.1.0", "crashes")
        if seen and seen[0].breached_at:
            break
    found = until(lambda: watch_of(watched, app, "1.1.0", "crashes"), lambda one: one and one[0].breached_at)[0]
    assert found.verdict == "breach"
    assert found.place is None
    assert found.breach is not None
    assert "times as many people meet a crash as with 1.0.0" in found.breach.said
    assert found.breach.found.low is not None
    assert found.breach.found.low > 1.25
    assert found.line[-1].way == 1.0
    halted = watched.released(
        app, "1.1.0", lambda seen: all(leg.phase == "halted" and leg.confirmed for leg in seen.legs)
    )
    assert {leg.store for leg in halted.legs} == set(STORES)
    assert found.acted == "Ordered a halt at Openfield and Slatehouse."
    lines = watched.tide.watching.logbook(app=app)
    assert [line for line in lines if line.who == "crashes (guard)" and line.act == "halt"]
    for store in STORES:
        acts = [act for act in watched.control(store, "acts") if act["act"] == "halt"]
        assert len(acts) == 1
    (mail,) = until(lambda: watched.mails(address), bool)
    assert "times as many people meet a crash" in mail["text"]
    assert [(one["name"], one["type"]) for one in mail["attached"]] == [(f"{app}-1.1.0.png", "image/png")]


def test_a_person_who_resumes_takes_the_risk_and_the_guard_counts_anew(watched: Harbour, app: str) -> None:
    until_then = watched.tide.watching.clock().now + timedelta(days=9)
    silent = watched.tide.guards.silence(app, "1.1.0", "crashes", until_then, reason="we look ourselves")
    assert (silent[0].silent_reason, silent[0].silent_until) == ("we look ourselves", until_then)
    with pytest.raises(Invalid, match="needs a reason"):
        watched.tide.guards.silence(app, "1.1.0", "crashes", until_then)
    with pytest.raises(Invalid, match="within the next 30 days"):
        watched.tide.guards.silence(app, "1.1.0", "crashes", until_then + timedelta(days=40), reason="no")
    watched.tide.apps.demand_second_person(app, True)
    with pytest.raises(SecondPersonNeeded, match="Silence of the guard crashes for"):
        watched.tide.guards.silence(app, "1.1.0", "crashes", hours=1, reason="not for one person to say")
    assert watch_of(watched, app, "1.1.0", "crashes")[0].silent_until == until_then
    watched.tide.apps.demand_second_person(app, False)
    before = watch_of(watched, app, "1.1.0", "crashes")[0].breached_at
    watched.tide.releases.steer(app, "1.1.0", "resume", store="slatehouse", reason="it was the network")

    def rising(seen: ReleaseTold) -> bool:
        leg = leg_of(seen, "slatehouse")
        return leg.phase == "rising" and leg.confirmed

    watched.released(app, "1.1.0", rising)
    for _ in range(6):
        watched.pass_hours(7)
    anew = until(
        lambda: watch_of(watched, app, "1.1.0", "crashes")[0],
        lambda one: one.breached_at is not None and one.breached_at != before,
    )
    assert anew.acted == ""
    acts = [line.act for line in watched.tide.watching.logbook(app=app)]
    assert "guard counts anew" in acts
    assert watched.leg(app, "slatehouse", "1.1.0").phase == "rising"
    watched.tide.guards.silence(app, "1.1.0", "crashes", None)
    watched.released(
        app, "1.1.0", lambda seen: leg_of(seen, "slatehouse").phase == "halted" and leg_of(seen, "slatehouse").confirmed
    )
    assert "Slatehouse" in watch_of(watched, app, "1.1.0", "crashes")[0].acted


def test_a_guard_is_tried_on_what_was_counted_and_on_made_up_counts(watched: Harbour, app: str) -> None:
    found = watched.tide.guards.try_out(app, version="1.1.0", together=True)
    assert found.stopped_at is not None
    assert found.after_hours is not None
    assert 0 < found.after_hours < 100
    assert found.line
    good = watched.tide.guards.try_out(app, version="1.0.0")
    assert good.stopped_at is None
    assert "no version before it" in good.said
    made = watched.tide.guards.try_out(app, ratio=1.0)
    assert made.share is not None
    assert made.share <= 0.03
    assert watched.tide.guards.try_out(app, ratio=3.0).share == 1.0
    with pytest.raises(Invalid, match="name a version"):
        watched.tide.guards.try_out(app)
    with pytest.raises(Invalid, match="No counts are made up for ratings"):
        watched.tide.guards.try_out(app, ratio=2.0, watched="ratings")


def test_what_was_counted_is_told_by_the_hour(watched: Harbour, app: str) -> None:
    told = watched.tide.guards.counted(app, "slatehouse", versions=["1.1.0"])
    assert {one.version for one in told.counted} == {"1.1.0"}
    assert sum(one.counts.first_starts for one in told.counted) > 100
    assert all(one.counts.crashed_people <= one.counts.crashed_sessions <= one.counts.sessions for one in told.counted)
    assert any(not one.complete for one in told.counted[-12:])
    assert told.trouble == ""


def test_a_collector_of_the_team_feeds_a_guard(watched: Harbour, app: str) -> None:
    now = watched.tide.watching.clock().now.astimezone(UTC).replace(minute=0, second=0, microsecond=0)

    def hour(back: int, revision: int = 1, **counts: Any) -> dict[str, Any]:
        old = {"version": "1.0.0", "people": 900, "sessions": 1000, "crashed_sessions": 4, "crashed_people": 4}
        return {"at": now - timedelta(hours=back), "revision": revision, "cells": [old, {"version": "1.1.0"} | counts]}

    fine = {"people": 100, "sessions": 120, "crashed_sessions": 1, "crashed_people": 1}
    taken = watched.tide.guards.enter(app, "openfield", [hour(back, **fine) for back in (4, 3, 2)], source="collector")
    assert taken.taken == 3
    assert watched.tide.guards.enter(app, "openfield", [hour(4, **fine)], source="collector").passed == 1
    assert watched.tide.guards.enter(app, "openfield", [hour(4, 2, **fine)], source="collector").taken == 1
    with pytest.raises(Invalid, match="sessions that crashed are more than"):
        watched.tide.guards.enter(app, "openfield", [hour(3, 2, sessions=1, crashed_sessions=2)], source="collector")
    with pytest.raises(Invalid, match=r"no build of 9\.9\.9"):
        watched.tide.guards.enter(app, "openfield", [{"at": now, "cells": [{"version": "9.9.9"}]}], source="collector")
    with pytest.raises(Invalid, match="in the future"):
        watched.tide.guards.enter(app, "openfield", [{"at": now + timedelta(hours=3), "cells": []}], source="collector")
    with pytest.raises(Invalid, match="counts automatically"):
        watched.tide.guards.enter(app, "openfield", [hour(4, 3, **fine)])
    cells = [{"version": "1.0.0"}, {"version": "1.0.0"}]
    with pytest.raises(Invalid, match="told twice"):
        watched.tide.guards.enter(app, "openfield", [{"at": now, "cells": cells}], source="collector")
    told = watched.tide.guards.counted(app, "openfield", source="collector")
    assert told.sources == ["collector"]
    assert len({one.at for one in told.counted}) == 3
    made = watched.tide.people.make_token("collector", apps=[app])
    with Tide(watched.address, token=made.value) as build_server:
        assert build_server.guards.enter(app, "openfield", [hour(3, 2, **fine)], source="collector").taken == 1
        with pytest.raises(Denied, match="a build server of"):
            build_server.guards.end(app, "crashes")
    watched.tide.guards.set_up(app, name="own", source="collector", stores=["openfield"])
    found = until(lambda: watch_of(watched, app, "1.1.0", "own"), lambda one: one and one[0].found)[0]
    assert found.verdict == "steady" or found.blind


def test_guards_are_changed_ended_and_refused_with_reasons(watched: Harbour, app: str) -> None:
    guards = watched.tide.guards
    guards.set_up(app, name="stars", watched="ratings")
    with pytest.raises(Conflict, match="already"):
        guards.set_up(app, name="stars")
    changed = guards.change(app, "stars", tolerance=0.5, on_breach="pause")
    assert (changed.tolerance, changed.on_breach, changed.watched) == (0.5, "pause", "ratings")
    with pytest.raises(Invalid, match="no place at northgate"):
        guards.set_up(app, name="elsewhere", stores=["northgate"])
    with pytest.raises(Invalid, match="can only be compared"):
        guards.set_up(app, name="uptake", watched="uptake")
    with pytest.raises(Invalid, match="a name in an address cannot"):
        guards.set_up(app, name="crashes/hangs")
    with pytest.raises(NotFound, match="No guard is called"):
        guards.end(app, "nothing")
    guards.end(app, "stars", reason="too strict")
    assert "stars" not in [one.name for one in guards.of_app(app)]
    guards.set_up(app, name="stars", watched="ratings")  # the name is free again


def test_a_rollout_that_is_no_worse_rises_beside_it_unharmed(watched: Harbour) -> None:
    name = watched.new_app()
    watched.risen(name, "1.0.0", stores=("slatehouse",), number=1)
    watched.tide.releases.steer(name, "1.0.0", "finish", reason="well")
    watched.all_confirmed(name)
    watched.pass_hours(96)
    watched.tide.guards.set_up(name, name="crashes", on_breach="halt")
    watched.risen(name, "1.1.0", stores=("slatehouse",), number=3)
    for _ in range(12):
        watched.pass_hours(12)
    found = until(
        lambda: watch_of(watched, name, "1.1.0", "crashes"),
        lambda one: one and one[0].verdict in ("steady", "breach") and one[0].found and one[0].found.exposed,
    )[0]
    assert found.verdict == "steady"
    assert watched.leg(name, "slatehouse", "1.1.0").phase in ("rising", "complete")
