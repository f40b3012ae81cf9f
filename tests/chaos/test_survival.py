"""What is ordered survives: a killed service, a store that is away, an answer that was lost."""

from __future__ import annotations

import random
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from restless_tide.client import DeskUnreachable, ImpossibleAct, Tide
from restless_tide.standins.packages import PackageRecipe, write_apk
from tests.harbour import TWO_STORES, Harbour, leg_of, until


@pytest.fixture(scope="module")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Harbour]:
    opened = Harbour.open(tmp_path_factory.mktemp("killable"))
    opened.connect_stores()
    yield opened
    opened.close()


@pytest.fixture
def killable(shared: Harbour) -> Harbour:
    """A desk that these tests kill and start again; the stores' records are read from here on."""
    global _before
    _before = {store: len(shared.control(store, "acts")) for store in TWO_STORES}
    return shared


_before: dict[str, int] = {}


def acts_of(harbour: Harbour, store: str) -> list[dict[str, str]]:
    """What the store recorded since the test began: the independent witness."""
    return harbour.control(store, "acts")[_before[store] :]


def restart(harbour: Harbour) -> None:
    harbour.processes.kill("desk")
    harbour.processes.start("desk")


def push_in_background(harbour: Harbour, file: Path, app: str) -> threading.Thread:
    def push() -> None:
        with Tide(harbour.address, token=harbour.token) as tide:
            try:
                tide.builds.push(file, app=app, stores=["openfield"])
            except DeskUnreachable:
                return

    thread = threading.Thread(target=push)
    thread.start()
    return thread


def test_a_service_killed_while_a_package_arrives_keeps_what_it_got_and_the_push_goes_on_by_itself(
    killable: Harbour,
) -> None:
    app = killable.new_app()
    recipe = PackageRecipe(f"org.example.saltgrass.{app}", "1.0.0", 1, "A", padding_bytes=60_000_000)
    file = write_apk(killable.folder / "large.apk", recipe)
    arriving = killable.folder / "desk" / "packages" / "arriving"
    pusher = push_in_background(killable, file, app)
    until(lambda: [path.stat().st_size for path in arriving.iterdir()], lambda sizes: sizes and sizes[0] > 1_000_000)
    restart(killable)
    pusher.join()
    assert list(arriving.iterdir()) == []
    assert len(killable.tide.builds.of_app(app)) == 1
    sent = killable.push(file, app=app, store="openfield")
    until(lambda: killable.tide.builds.consignment(sent.id), lambda seen: seen.state == "processing")
    assert [act["act"] for act in acts_of(killable, "openfield")].count("consign") == 1


def test_a_service_killed_between_approval_and_launch_launches_once(killable: Harbour) -> None:
    """Killed at four instants around the word that lets it go: the store is asked to launch each once, and none is forgotten."""
    apps, dice = [killable.new_app() for _ in range(4)], random.Random(17)
    for app in apps:
        killable.draft(app, stores=("openfield",), needs_go_ahead=True)
        killable.submit(app, "1.0.0")
    for app in apps:  # the hours count from when the store has it
        killable.all_confirmed(app)
    killable.pass_hours(60, desk=False)
    for app in apps:
        killable.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "approved")
    for app in apps:
        with suppress(DeskUnreachable):
            killable.tide.releases.give_go_ahead(app, "1.0.0", reason="now")
        time.sleep(dice.uniform(0, 0.05))
        restart(killable)
        with suppress(ImpossibleAct):  # it may have been given, or launched, before the kill
            killable.tide.releases.give_go_ahead(app, "1.0.0", reason="now")
    for app in apps:
        killable.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rising" and seen.legs[0].confirmed)
        assert len(killable.rollouts("openfield", app)) == 1
    done = Counter(
        act["subject"] for act in acts_of(killable, "openfield") if act["act"] == "launch" and act["outcome"] == "done"
    )
    assert sorted(done.values()) == [1] * len(apps)
    for app in apps:  # nothing rises beside what the next tests count
        killable.tide.releases.steer(app, "1.0.0", "halt", reason="the test is over")
        killable.all_confirmed(app)


def test_a_service_killed_on_the_way_to_the_store_goes_on_where_the_store_stands(killable: Harbour) -> None:
    app = killable.new_app(dossier=False)
    recipe = PackageRecipe(f"org.example.saltgrass.{app}", "1.0.0", 1, "A", padding_bytes=60_000_000)
    sent = killable.push(write_apk(killable.folder / "large.apk", recipe), app=app, store="openfield")
    part = until(lambda: killable.tide.builds.consignment(sent.id), lambda seen: seen.sent_bytes > 0)
    restart(killable)
    whole = until(lambda: killable.tide.builds.consignment(sent.id), lambda seen: seen.state == "processing")
    assert part.sent_bytes <= whole.sent_bytes == whole.size_bytes
    assert [act["act"] for act in acts_of(killable, "openfield")].count("begin upload") == 1
    killable.pass_hours(1, desk=False)
    assert until(lambda: killable.tide.builds.consignment(sent.id), lambda seen: seen.state == "ready").reason is None


def test_a_rollout_goes_on_after_the_service_was_killed_and_nothing_is_done_twice(killable: Harbour) -> None:
    app = killable.new_app()
    killable.risen(app)
    killable.tide.releases.steer(app, "1.0.0", "pause", reason="a look", store="openfield")
    restart(killable)
    killable.released(
        app,
        "1.0.0",
        lambda seen: all(leg.confirmed for leg in seen.legs) and leg_of(seen, "openfield").phase == "paused",
    )
    killable.tide.releases.steer(app, "1.0.0", "resume", reason="well", store="openfield")
    restart(killable)
    killable.all_confirmed(app)
    killable.pass_hours(60)
    killable.released(app, "1.0.0", lambda seen: all(leg.confirmed and leg.share in (0.1, 0.2) for leg in seen.legs))
    for store, steps in (
        ("northgate", {"launch": 1, "share 0.2": 1}),
        ("openfield", {"launch": 1, "pause": 1, "resume": 1, "share 0.1": 1}),
    ):
        counted = Counter(act["act"] for act in acts_of(killable, store) if act["outcome"] == "done")
        assert {act: counted[act] for act in steps} == steps


def test_a_halt_reaches_both_stores_also_the_one_that_is_away(killable: Harbour) -> None:
    app = killable.new_app()
    killable.risen(app)
    killable.processes.stop("openfield")
    killable.tide.releases.steer(app, "1.0.0", "halt", reason="crashes on start")
    half = killable.released(
        app, "1.0.0", lambda seen: leg_of(seen, "northgate").confirmed and leg_of(seen, "openfield").orders[0].trouble
    )
    away = leg_of(half, "openfield")
    assert (away.phase, away.confirmed) == ("halted", False)
    assert away.seen is not None
    assert away.seen.state == "rising"
    assert away.orders[0].state == "sent"
    assert killable.rollouts("northgate", app)[0]["state"] == "halted"
    restart(killable)
    assert not killable.leg(app, "openfield").confirmed
    killable.processes.start("openfield")
    killable.released(
        app,
        "1.0.0",
        lambda seen: all(leg.confirmed for leg in seen.legs) and leg_of(seen, "openfield").seen.state == "halted",
    )
    assert killable.rollouts("openfield", app)[0]["state"] == "halted"


def test_an_act_whose_answer_was_lost_is_not_done_twice(killable: Harbour) -> None:
    app = killable.new_app()
    killable.risen(app, stores=("openfield",))
    killable.control("openfield", "mischief", {"lose_answers": 2})
    killable.tide.releases.steer(app, "1.0.0", "pause", reason="a look")
    settled = killable.all_confirmed(app).legs[0]
    killable.control("openfield", "mischief", {"lose_answers": 0})
    assert settled.orders[0].state == "confirmed", "by the event under its key, or by asking again"
    assert settled.orders[0].attempts <= 3
    pauses = [act for act in acts_of(killable, "openfield") if act["act"] == "pause"]
    assert len(pauses) == 1
    assert killable.rollouts("openfield", app)[0]["pauses"] == 1


def test_a_halt_overtakes_what_waits_and_the_overtaken_leaves_a_trace(killable: Harbour) -> None:
    app = killable.new_app()
    killable.risen(app, stores=("northgate",))
    killable.control("northgate", "mischief", {"outage": True})
    killable.tide.releases.steer(app, "1.0.0", "advance", reason="well")
    killable.released(app, "1.0.0", lambda seen: seen.legs[0].orders[0].attempts > 0)
    killable.tide.releases.steer(app, "1.0.0", "halt", reason="crashes")
    killable.control("northgate", "mischief", {"outage": False})
    halted = killable.all_confirmed(app).legs[0]
    assert [(order.kind, order.state) for order in halted.orders[:2]] == [
        ("halt", "confirmed"),
        ("set share", "dropped"),
    ]
    assert halted.orders[1].trouble == "overtaken by halt"
    assert [act["act"] for act in acts_of(killable, "northgate")][-1] == "halt"


def test_a_halt_does_not_wait_for_what_is_in_flight_and_is_said_again_after_it(killable: Harbour) -> None:
    """The worst case: a resume is on its way to a slow store, the halt overtakes it, the resume arrives after the halt."""
    app = killable.new_app()
    killable.risen(app, stores=("openfield",))
    killable.tide.releases.steer(app, "1.0.0", "pause", reason="a look")
    killable.all_confirmed(app)
    killable.control("openfield", "mischief", {"slow_seconds": 4})
    killable.tide.releases.steer(app, "1.0.0", "resume", reason="well")
    killable.released(app, "1.0.0", lambda seen: seen.legs[0].orders[0].attempts == 1)
    until(lambda: killable.control("openfield", "state")["busy"], bool)
    killable.control("openfield", "mischief", {"slow_seconds": 0})
    killable.tide.releases.steer(app, "1.0.0", "halt", reason="crashes")
    killable.released(app, "1.0.0", lambda seen: seen.legs[0].orders[0].state == "confirmed")
    assert "resume" not in [act["act"] for act in acts_of(killable, "openfield")]
    until(
        lambda: [act["act"] for act in acts_of(killable, "openfield")][-3:],
        lambda acts: acts == ["halt", "resume", "halt"],
    )
    killable.released(app, "1.0.0", lambda seen: seen.legs[0].confirmed and seen.legs[0].seen.state == "halted")
    assert killable.rollouts("openfield", app)[0]["state"] == "halted"
    assert killable.leg(app, "openfield").phase == "halted"


def test_what_somebody_does_on_the_stores_own_pages_is_taken_as_it_is(killable: Harbour) -> None:
    app = killable.new_app()
    killable.risen(app, stores=("openfield",))
    (rollout,) = killable.rollouts("openfield", app)
    killable.control("openfield", "acts/pause", {"submission": rollout["submission"]})
    seen = killable.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "paused").legs[0]
    assert seen.stage_ends_at is None
    line = next(line for line in killable.tide.watching.logbook(app=app) if line.act == "changed at the store")
    assert (line.who, line.before, line.after) == (
        "openfield (store)",
        {"state": "rising", "share": 0.02},
        {"state": "paused", "share": 0.02},
    )


@pytest.mark.parametrize("seed", [1, 2])
def test_whatever_the_instant_of_the_kill_desk_and_store_agree_in_the_end(killable: Harbour, seed: int) -> None:
    """A short storm: acts, kills and lost answers at seeded instants; each accepted act takes effect once."""
    dice = random.Random(seed)
    app = killable.new_app()
    killable.risen(app, stores=("northgate",))
    accepted: Counter[str] = Counter()
    for _ in range(6):
        leg = killable.leg(app, "northgate")
        act = dice.choice([option.act for option in leg.acts if option.possible and option.act in ("pause", "resume")])
        killable.control("northgate", "mischief", {"lose_answers": dice.choice([0, 0, 1])})
        killable.tide.releases.steer(app, "1.0.0", act, reason="storm")
        accepted[act] += 1
        time.sleep(dice.uniform(0, 0.08))  # the instant of the kill, not a wait for something
        if dice.random() < 0.6:
            restart(killable)
    killable.control("northgate", "mischief", {"lose_answers": 0})
    leg = killable.released(
        app, "1.0.0", lambda seen: seen.legs[0].confirmed and seen.legs[0].seen.state == seen.legs[0].phase
    ).legs[0]
    done = Counter(
        act["act"] for act in acts_of(killable, "northgate") if act["outcome"] == "done" and act["act"] in accepted
    )
    assert done == accepted
    assert killable.rollouts("northgate", app)[0]["state"] == leg.phase
    assert killable.tide.watching.verify_logbook().first_broken is None
