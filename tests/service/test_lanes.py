"""Orders carried turn by turn to a real stand-in, and whatever a store may tell taken in: nothing deafens the desk."""

from __future__ import annotations

import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as some
from sqlalchemy import event as sqlalchemy_event
from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import ImpossibleAct
from restless_tide.core.order import OrderKind
from restless_tide.core.rollout import RolloutEvent
from restless_tide.desk import legs, steering, stores
from restless_tide.engine import asking, sightings
from restless_tide.engine.carriers import CARRIERS
from restless_tide.engine.worker import Engine
from restless_tide.gateways.client import Gateway
from restless_tide.gateways.protocol import EVENT_DATA, StoreEvent
from restless_tide.records.tables import Lease, Leg, Order, Store
from restless_tide.standins.store import SimulatedStore
from tests.harbour import Harbour, until
from tests.patience import PATIENCE_SECONDS
from tests.service.test_cli import Terminal
from tests.shore import SUBMISSION, Shore, shore


@pytest.fixture
def there(tmp_path: Path) -> Iterator[Shore]:
    with shore(tmp_path) as opened:
        yield opened


def told(there: Shore) -> list[str]:
    """What the logbook says since the lane began to speak."""
    return [line for line in there.lines() if "connected" not in line]


# an order, and what becomes of it


def test_an_act_is_sent_once_and_its_answer_is_what_is_seen(there: Shore) -> None:
    there.steer("pause")
    leg = there.leg()
    assert (leg.state, there.seen().state) == ("paused", "rising"), "wanted and seen are two things"
    there.carry()
    assert there.orders() == [("pause", "confirmed")]
    assert (there.seen().state, there.rollout()["state"]) == ("paused", "paused")
    assert there.ask() == 1
    assert told(there) == ["pause"], "the event that told of it is nobody else's act"


def test_a_halt_is_on_its_way_with_the_act_that_orders_it_and_everything_else_takes_its_turn(there: Shore) -> None:
    there.steer("pause")
    assert there.orders() == [("pause", "queued")]
    there.steer("halt")
    assert there.orders() == [("pause", "dropped"), ("halt", "sent")]
    until(lambda: there.rollout()["state"], lambda state: state == "halted")
    there.carry()
    assert there.orders() == [("pause", "dropped"), ("halt", "confirmed")]
    assert [act["act"] for act in there.store.shelf.acts()].count("halt") == 1


def test_a_halt_that_cannot_begin_at_once_is_kept_and_begins_with_the_next_turn(
    there: Shore, monkeypatch: pytest.MonkeyPatch
) -> None:
    good, broken = CARRIERS[OrderKind.HALT], iter([True])

    def prepare(*given: Any) -> Any:
        if next(broken, False):
            raise RuntimeError
        return good.prepare(*given)

    monkeypatch.setitem(CARRIERS, OrderKind.HALT, replace(good, prepare=prepare))
    there.steer("halt")
    assert there.orders() == [("halt", "queued")]
    there.carry()
    assert (there.orders(), there.rollout()["state"]) == ([("halt", "confirmed")], "halted")


def test_a_halt_that_is_not_kept_is_not_sent(there: Shore) -> None:
    def full(_: Session) -> None:
        raise OSError("the disk is full")

    def halt() -> None:
        with there.desk.act("p-ida") as act:
            sqlalchemy_event.listen(act.session, "before_commit", full)
            steering.steer(act, "marram", "1.0.0", None, RolloutEvent.HALT, "a test")

    with pytest.raises(OSError, match="the disk is full"):
        halt()
    assert there.turns.idle
    assert there.desk.background.in_flight == {}
    assert (there.orders(), there.rollout()["state"]) == ([], "rising")
    there.steer("halt")
    there.carry()
    assert there.rollout()["state"] == "halted"


def test_a_desk_whose_lease_another_engine_has_keeps_the_halt_for_that_one(there: Shore) -> None:
    with there.desk.database.writing() as session:
        lease = session.scalars(select(Lease)).one()
        lease.fence += 1
    there.steer("halt")
    assert there.orders() == [("halt", "queued")]
    assert there.turns.idle


def test_a_step_that_reaches_the_store_after_the_halt_is_halted_again(there: Shore) -> None:
    """A call that hangs somewhere on the way and arrives when everything else is over."""
    there.steer("pause")
    there.settle()
    arrived, halted = threading.Event(), threading.Event()
    perform = there.store.perform

    def late(key: str, act: str, *rest: Any) -> Any:
        if act == "resume" and not halted.is_set():
            arrived.set()
            halted.wait(10)
        return perform(key, act, *rest)

    there.store.perform = late  # type: ignore[method-assign]
    there.steer("resume")
    there.turns.turn()
    assert arrived.wait(10)
    there.steer("halt")
    deadline = time.monotonic() + 10
    while there.rollout()["state"] != "halted":
        there.turns.turn()
        assert time.monotonic() < deadline
    halted.set()
    there.settle()
    assert there.rollout()["state"] == "halted"
    assert there.leg().state == "halted"
    assert there.orders() == [
        ("pause", "confirmed"),
        ("resume", "dropped"),
        ("halt", "confirmed"),
        ("halt", "confirmed"),
    ]
    assert "halt again" in there.lines()
    assert "offered again" not in there.lines(), "it was our own call; nobody need be asked"


def test_what_was_stopped_and_is_offered_again_by_somebody_is_asked_and_never_undone_by_itself(there: Shore) -> None:
    there.steer("halt")
    there.settle()
    there.by_hand("resume")
    there.settle()
    leg = there.leg()
    assert (leg.state, there.seen().state, legs.offered_again(leg)) == ("halted", "rising", True)
    assert there.orders() == [("halt", "confirmed")]
    assert there.notices() == ["offered again"]
    there.steer("halt")
    there.settle()
    assert (there.rollout()["state"], legs.offered_again(there.leg())) == ("halted", False)
    there.by_hand("resume")
    there.settle()
    there.steer("resume")
    assert (there.leg().state, legs.offered_again(there.leg())) == ("rising", False)
    assert there.orders() == [("halt", "confirmed"), ("halt", "confirmed")], "what is so already is not ordered"
    with pytest.raises(ImpossibleAct):
        there.steer("resume")


def test_what_a_desk_that_died_did_not_come_to_do_is_done_by_the_next(there: Shore) -> None:
    there.steer("halt")
    there.settle()
    with there.desk.act("engine") as act:  # as it may stand when the desk is killed at the wrong instant
        leg = act.session.get(Leg, there.leg_id)
        assert leg is not None
        there.store.perform("a-late-key", "resume", SUBMISSION, {}, lambda: there.store.steer(SUBMISSION, "resume"))
        seen = act.session.get(type(there.seen()), there.leg_id)
        assert seen is not None
        seen.state, seen.sequence = "rising", there.store.shelf.last_event()
    there.turns.restart()
    there.settle()
    assert (there.rollout()["state"], there.leg().state) == ("halted", "halted")


# stores that are not as they should be


def mixed_up(app: Any, store: SimulatedStore) -> None:
    """It answers about another submission, the first two times."""
    left = [2]
    given_answer = store.shelf.given_answer

    def answer(key: str) -> Any:
        kept = given_answer(key)
        if kept and left[0]:
            left[0] -= 1
            return kept[0], kept[1], kept[2] | {"submission": "submission-other"}
        return kept

    perform = store.perform

    def performed(key: str, act: str, *rest: Any) -> Any:
        status, said = perform(key, act, *rest)
        if left[0] and "submission" in said:
            left[0] -= 1
            return status, said | {"submission": "submission-other"}
        return status, said

    store.shelf.given_answer = answer  # type: ignore[method-assign]
    store.perform = performed  # type: ignore[method-assign]


def test_an_order_is_settled_at_the_instant_of_its_answer_however_late_that_is_written(tmp_path: Path) -> None:
    with shore(tmp_path) as there:
        there.steer("halt")
        until(there.turns._back.qsize, bool)
        answered_by = there.desk.clock.now()
        there.desk.clock.step(timedelta(minutes=5))
        there.carry()
        with there.desk.look() as session:
            halt = session.scalars(select(Order).where(Order.kind == OrderKind.HALT)).one()
        assert halt.settled_at is not None
        assert halt.ordered_at <= halt.settled_at <= answered_by


def test_an_answer_about_something_else_is_no_answer(tmp_path: Path) -> None:
    with shore(tmp_path, mixed_up) as there:
        there.steer("halt")
        deadline = time.monotonic() + 20
        while there.orders() != [("halt", "confirmed")]:
            there.turns.turn()
            there.desk.clock.step(timedelta(seconds=3))
            assert time.monotonic() < deadline
        assert [act["act"] for act in there.store.shelf.acts()] == ["halt"], "done once, however often it was asked"
        assert there.seen().state == "halted"


def lying(app: Any, store: SimulatedStore) -> None:
    """It says three times that it has halted, and does nothing but tell that it goes on."""
    steer, left = store.steer, [3]

    def idle(submission: str, act: str) -> Any:
        if act == "halt" and left[0]:
            left[0] -= 1
            store.tell("rollout", store.needed("rollout", submission))
            return store.needed("rollout", submission) | {"state": "halted"}
        return steer(submission, act)

    store.steer = idle  # type: ignore[method-assign]


def test_a_store_that_confirms_what_it_did_not_do_is_found_out_by_its_next_word(tmp_path: Path) -> None:
    with shore(tmp_path, lying) as there:
        there.steer("halt")
        for _ in range(8):
            there.carry()
            there.ask()
            there.desk.clock.step(timedelta(seconds=3))
        assert (there.rollout()["state"], there.leg().state, there.seen().state) == ("halted", "halted", "halted")
        assert there.orders().count(("halt", "confirmed")) == 4


def test_a_store_restored_from_a_backup_is_noticed_and_what_is_wanted_is_ordered_again(there: Shore) -> None:
    with closing(sqlite3.connect(there.store.shelf.path)) as shelf_file:
        shelf_file.execute("VACUUM INTO ?", (str(there.store.shelf.path.with_suffix(".backup")),))
    there.steer("halt")
    there.settle()
    there.by_hand("resume")
    there.by_hand("halt")
    there.settle()
    assert there.rollout()["state"] == "halted"
    shelf = there.store.shelf
    with shelf._lock, closing(sqlite3.connect(shelf.path.with_suffix(".backup"))) as backup:
        backup.backup(shelf._db)
    assert there.rollout()["state"] == "rising"
    there.ask()
    there.settle()
    assert (there.rollout()["state"], there.leg().state) == ("halted", "halted")
    assert "store restored" in there.lines()
    assert there.ask() == 0


def test_events_that_are_pushed_while_the_store_is_asked_do_not_look_like_a_backup(
    there: Shore, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The answer to the question is older than what was taken in the meantime."""
    there.by_hand("pause")
    there.settle()
    ask_for_events = Gateway.events

    def overtaken(gateway: Gateway, after: int) -> tuple[StoreEvent, ...]:
        page = ask_for_events(gateway, after)
        monkeypatch.setattr(Gateway, "events", ask_for_events)
        there.by_hand("resume")
        there.by_hand("halt")
        sightings.take(there.desk, there.store_id, ask_for_events(gateway, cursor(there)), pushed=True)
        return page

    monkeypatch.setattr(Gateway, "events", overtaken)
    there.settle()
    assert "store restored" not in there.lines()
    assert (there.rollout()["state"], there.leg().state) == ("halted", "halted")
    assert there.orders() == [], "what people did there is wanted, and nothing is ordered against it"


# whatever a store tells


def event(sequence: int, kind: str, data: Any, *, subject: str = SUBMISSION, key: str | None = None) -> StoreEvent:
    return StoreEvent(
        id=f"e-{sequence}",
        source="s",
        type=kind,
        subject=subject,
        time=datetime.now(UTC),
        sequence=sequence,
        key=key,
        data=data,
    )


def cursor(there: Shore) -> int:
    with there.desk.look() as session:
        return session.scalars(select(Store.events_seen)).one()


def untaken(there: Shore) -> list[tuple[int, str]]:
    with there.desk.look() as session:
        store = session.get(Store, there.store_id)
        assert store is not None
        return [(row.sequence, row.why) for row in stores.untaken(session, store)]


@pytest.mark.parametrize(
    ("kind", "data"),
    [
        ("rollout.changed", {"state": "sideways", "share": 0.1}),
        ("rollout.changed", {"share": 0.1}),
        ("rollout.changed", {"state": "rising", "share": "²"}),
        ("rollout.changed", {"state": "waiting", "share": 0.0}),
        ("submission.changed", {"state": "in the drawer"}),
        ("consignment.changed", {"state": "sending"}),
        ("consignment.changed", {"state": "ready", "number": "many"}),
        ("trial.changed", {"state": "replaced"}),
        ("berth.changed", {"availability": {"price": "a lot"}}),
        ("tester.changed", {"address": ["a"], "state": "installed"}),
        ("report.filed", {"kind": "poem"}),
    ],
)
def test_an_event_that_cannot_be_taken_is_kept_and_the_next_one_is_taken(there: Shore, kind: str, data: Any) -> None:
    before = cursor(there)
    strange = event(before + 1, kind, data)
    good = event(before + 2, "rollout.changed", {"state": "paused", "share": 0.02})
    assert sightings.take(there.desk, there.store_id, [strange, good]) == 2
    assert cursor(there) == before + 2
    assert there.leg().state == "paused"
    ((sequence, why),) = untaken(there)
    assert (sequence, "does not hold what the gateway protocol asks for" in why) == (before + 1, True)
    assert "event not taken" in there.notices()
    assert sightings.try_untaken(there.desk, "p-ida", "openfield") == (0, 1), "nothing was fixed yet"


def test_what_one_store_pushes_never_keeps_anothers_from_being_taken(there: Shore) -> None:
    with there.desk.look() as session:
        seen = stores.every(session)[0].events_seen
    sightings.hear(there.desk, "s-nobody", [event(1, "rollout.changed", {"state": "paused", "share": 0.02})])
    sightings.hear(there.desk, there.store_id, [event(seen + 1, "rollout.changed", {"state": "paused", "share": 0.02})])
    sightings.take_heard(there.desk)
    assert there.seen().state == "paused"
    assert "s-nobody" in there.desk.background.gaps, "it is asked for what it told"


def test_what_could_not_be_taken_is_taken_once_the_desk_can(there: Shore, monkeypatch: pytest.MonkeyPatch) -> None:
    before, follow = cursor(there), sightings.follow.happen

    def broken(*given: Any, **named: Any) -> Any:
        raise ZeroDivisionError

    monkeypatch.setattr(sightings.follow, "happen", broken)
    paused = event(before + 1, "rollout.changed", {"state": "paused", "share": 0.02})
    assert sightings.take(there.desk, there.store_id, [paused]) == 1
    assert there.leg().state == "rising"
    ((_, why),) = untaken(there)
    assert "ZeroDivisionError" in why
    monkeypatch.setattr(sightings.follow, "happen", follow)
    assert sightings.try_untaken(there.desk, "p-ida", "openfield") == (1, 0)
    assert (there.leg().state, untaken(there)) == ("paused", [])


_values = some.recursive(
    some.none() | some.booleans() | some.integers() | some.floats(allow_nan=False) | some.text(max_size=30),
    lambda inner: some.lists(inner, max_size=3) | some.dictionaries(some.text(max_size=8), inner, max_size=3),
    max_leaves=6,
)
_NAMES = ("state", "share", "berth", "version", "number", "questions", "reason", "reasons", "page", "availability", "address",
          "device", "trial", "kind", "stack", "frames", "pictures", "text")  # fmt: skip
_STATES = (
    "rising",
    "halted",
    "paused",
    "complete",
    "approved",
    "in hand",
    "ready",
    "held",
    "open",
    "expired",
    "queued",
)
_data = some.dictionaries(
    some.sampled_from(_NAMES), _values | some.sampled_from(_STATES) | some.floats(0, 1), max_size=6
)
_events = some.lists(
    some.tuples(
        some.sampled_from((*EVENT_DATA, "weather.changed")),
        some.sampled_from((SUBMISSION, "berth-shore", "nothing")),
        _data,
        some.none() | some.text(max_size=20),
    ),
    max_size=6,
)


@pytest.fixture(scope="module")
def heard(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Shore]:
    with shore(tmp_path_factory.mktemp("heard")) as opened:
        yield opened


@settings(
    max_examples=80, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture]
)
@given(told=_events, often=some.booleans())
def test_whatever_a_store_tells_nothing_after_it_is_lost(heard: Shore, told: list[Any], often: bool) -> None:
    there, before = heard, cursor(heard)
    page = [
        event(before + place, kind, data, subject=subject, key=key)
        for place, (kind, subject, data, key) in enumerate(told, 1)
    ]
    if often:
        page += [event(before + len(page) + 1 + place, "weather.changed", {}) for place in range(20)]
    assert sightings.take(there.desk, there.store_id, page) == len(page)
    last = before + len(page)
    assert cursor(there) == last
    share = 0.01 + (last % 97) / 200
    sightings.take(
        there.desk, there.store_id, [event(last + 1, "rollout.changed", {"state": "rising", "share": share})]
    )
    assert (there.seen().state, there.seen().share, there.seen().sequence) == ("rising", share, last + 1)


def test_a_crash_with_odd_figures_in_its_stack_is_a_report_like_any_other(there: Shore) -> None:
    stack = "x.E: a\n\tat a.b(C.java:²)\n\tat a.c(C.java:12)\n"
    crash = {"berth": "berth-shore", "version": "1.0.0", "number": 1, "kind": "crash", "stack": stack}
    before = cursor(there)
    sightings.take(there.desk, there.store_id, [event(before + 1, "report.filed", crash, subject="report-1")])
    assert untaken(there) == []


def test_events_of_one_store_say_nothing_of_another_that_uses_the_same_names(there: Shore) -> None:
    with there.desk.act("p-ida") as act:
        known = act.session.get(Store, there.store_id)
        assert known is not None
        other = Store(name="other", may=[], rulebook=known.rulebook, connected_at=act.now, account={})
        act.session.add(other)
        act.session.flush()
        other_id = other.id
    sightings.take(there.desk, other_id, [event(1, "rollout.changed", {"state": "halted", "share": 0.02})])
    assert there.leg().state == "rising"


_clocks: dict[str, Callable[[Shore], None]] = {
    "back": lambda there: there.desk.clock.step(timedelta(days=-30)),
    "ahead": lambda there: there.desk.clock.step(timedelta(days=30)),
}


@pytest.mark.parametrize("jump", sorted(_clocks))
def test_a_clock_that_jumps_either_way_keeps_no_order_waiting(there: Shore, jump: str) -> None:
    there.store.shelf.keep_setting("fail", 1)
    there.steer("pause")
    there.turns.turn()
    deadline = time.monotonic() + 10
    while not there.turns.idle or there.orders() == [("pause", "queued")]:
        there.turns.turn()
        assert time.monotonic() < deadline
    _clocks[jump](there)
    there.settle()
    assert there.orders() == [("pause", "confirmed")]
    assert there.rollout()["state"] == "paused"


def test_what_could_not_be_taken_is_shown_told_and_tried_again_by_command(own_harbour: Harbour, tmp_path: Path) -> None:
    harbour, tide = own_harbour, Terminal(own_harbour, tmp_path)
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))
    harbour.tide.releases.steer(app, "1.0.0", "halt", reason="crashes")
    harbour.all_confirmed(app)
    harbour.control("openfield", "trial-told", {"id": "trial-odd", "state": "sideways"})
    (rollout,) = harbour.rollouts("openfield", app)
    harbour.control("openfield", "acts/resume", {"submission": rollout["submission"]})
    store = until(lambda: harbour.tide.stores.one("openfield"), lambda seen: seen.untaken)
    assert [(entry.type, "gateway protocol" in entry.why) for entry in store.untaken] == [("trial.changed", True)]
    shown = tide("store", "show", "openfield")
    assert "(trial.changed) could not be taken" in shown.stdout
    assert "tide store retry-events openfield" in shown.stdout
    again = tide("store", "retry-events", "openfield")
    assert (again.returncode, again.stdout.strip()) == (1, "0 taken now, 1 left.")
    assert tide.json("store", "retry-events", "northgate") == {"taken": 0, "left": 0}
    until(lambda: harbour.leg(app, "openfield"), lambda leg: leg.offered_again)
    release = tide("release", "show", "1.0.0", "--app", app)
    assert "but the store offers it again, last seen rising at 2%" in release.stdout
    overview = tide("overview")
    assert "offers 1.0.0 again, which was halted" in overview.stdout
    taken = tide("rollout", "resume", "1.0.0", "--app", app, "--reason", "it is wanted")
    assert (taken.returncode, "rising at 2%" in taken.stdout) == (0, True)


def test_while_a_store_hangs_the_desk_sleeps_and_asks_again_once_it_has_answered(
    there: Shore, monkeypatch: pytest.MonkeyPatch
) -> None:
    engine, answered = Engine(there.desk), threading.Event()
    monkeypatch.setattr(asking, "ask", lambda *_: answered.wait(PATIENCE_SECONDS) and 0)
    assert engine._ask_stores() is not None, "the time at which it is asked next"
    engine._ask_after[there.store_id] = time.monotonic()
    engine._asking_bell.clear()
    assert engine._ask_stores() is None, "what is overdue waits for the answer, not for the clock"
    assert not engine._asking_bell.is_set()
    answered.set()
    assert engine._asking_bell.wait(PATIENCE_SECONDS)
    assert engine._ask_stores() is not None
    engine._askers.shutdown(wait=True)
    engine._courier.close()
