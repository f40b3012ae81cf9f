"""One desk and one stand-in in this process: orders are carried turn by turn, when a test says so.

The stand-in listens on loopback and is reached by the real gateway client. A leg is put on its shelf and
into the desk's records directly, since what is tested comes after its launch.
"""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx

from restless_tide.core.ladder import USUAL_LADDER
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.order import PENDING
from restless_tide.core.rollout import RolloutEvent, RolloutState
from restless_tide.core.round import RoundState
from restless_tide.desk import connecting, steering
from restless_tide.desk.clock import SteppableClock
from restless_tide.desk.desk import ENGINE, Desk
from restless_tide.desk.settings import Settings
from restless_tide.engine import asking
from restless_tide.engine.lease import EngineLease
from restless_tide.engine.turns import Turns
from restless_tide.records.tables import (
    App,
    Berth,
    Build,
    Leg,
    LogbookLine,
    Notice,
    Order,
    Release,
    Round,
    Sighting,
    Store,
)
from restless_tide.standins.__main__ import RULEBOOKS, read_rulebook
from restless_tide.standins.gateway import standin_app
from restless_tide.standins.store import SimulatedStore
from tests.listening import running
from tests.patience import OPENLY, PATIENCE_SECONDS
from tests.ports import own_ports

SUBMISSION = "submission-shore"
AT = datetime(2026, 11, 20, 12, tzinfo=UTC)


@dataclass
class Shore:
    desk: Desk
    turns: Turns
    store: SimulatedStore
    store_id: str
    leg_id: str

    def steer(self, act: str, share: float | None = None) -> None:
        with self.desk.act("p-ida") as act_:
            steering.steer(act_, "marram", "1.0.0", None, RolloutEvent(act), "a test", share)

    def ask(self) -> int | None:
        """Hear what the store has told."""
        return asking.ask(self.desk, self.store_id)

    def carry(self) -> None:
        """Turn until nothing is in flight and nothing is due."""
        deadline = time.monotonic() + PATIENCE_SECONDS
        while True:
            self.turns.turn()
            if self.turns.idle and not self.due():
                return
            assert time.monotonic() < deadline, f"never at rest: {self.orders()}"
            time.sleep(0.002)

    def due(self) -> int:
        with self.desk.look() as session:
            rows = session.query(Order).filter(Order.state.in_(PENDING)).all()
            now = self.desk.clock.now()
            return sum(row.try_after is None or row.try_after <= now for row in rows)

    def settle(self) -> None:
        """Carry and hear until both are at rest."""
        for _ in range(10):
            self.carry()
            if not self.ask() and not self.due():
                return
        raise AssertionError(f"never at rest: {self.orders()}")

    def leg(self) -> Leg:
        with self.desk.look() as session:
            found = session.get(Leg, self.leg_id)
            assert found is not None
            _ = found.sighting
            return found

    def seen(self) -> Sighting:
        with self.desk.look() as session:
            found = session.get(Sighting, self.leg_id)
            assert found is not None
            return found

    def orders(self) -> list[tuple[str, str]]:
        with self.desk.look() as session:
            return [(str(row.kind), str(row.state)) for row in session.query(Order).order_by(Order.position)]

    def lines(self) -> list[str]:
        with self.desk.look() as session:
            return [row.act for row in session.query(LogbookLine).order_by(LogbookLine.id)]

    def notices(self) -> list[str]:
        with self.desk.look() as session:
            return [row.kind for row in session.query(Notice).order_by(Notice.at)]

    def rollout(self) -> dict[str, Any]:
        found = self.store.shelf.get("rollout", SUBMISSION)
        assert found is not None
        return found

    def by_hand(self, act: str) -> None:
        """Someone acts on the store's own pages."""
        status, _ = self.store.perform(
            f"by-hand-{time.monotonic_ns()}", act, SUBMISSION, {}, lambda: self.store.steer(SUBMISSION, act)
        )
        assert status == 200


@contextmanager
def shore(
    folder: Path, spoil: Callable[[Any, SimulatedStore], Any] | None = None, name: str = "openfield"
) -> Iterator[Shore]:
    """A leg of Marram 1.0.0 that rises at 2% at one store, nothing on its way."""
    rules = read_rulebook((RULEBOOKS / f"{name}.toml").read_text(encoding="utf-8"))
    store, where = SimulatedStore(rules, folder / name), own_ports().desk
    app: Any = standin_app(store, f"http://127.0.0.1:{where}")
    if spoil is not None:
        app = spoil(app, store) or app
    with running(app, where) as address:
        desk = Desk(Settings(data=folder / "desk", push=False), SteppableClock())
        connection = httpx.post(f"{address}/control/connections", **OPENLY).json()
        store_id = connecting.connect(desk, "p-ida", name, json.dumps(connection)).id
        leg_id = _leg(desk, store_id, store)
        desk.background.fence = EngineLease(desk.database).take()
        turns = Turns(desk, lambda: None)
        desk.background.begin_urgent = turns.begin_urgent
        there = Shore(desk, turns, store, store_id, leg_id)
        there.ask()
        try:
            yield there
        finally:
            turns.close()
            desk.close()


def _leg(desk: Desk, store_id: str, store: SimulatedStore) -> str:
    share = 0.02
    with store.shelf.transaction():
        store.tell(
            "rollout",
            {
                "id": SUBMISSION, "berth": "berth-shore", "submission": SUBMISSION, "version": "1.0.0", "share": share,
                "pauses": 0, "held_seconds": 0.0, "state": "rising", "since": AT.isoformat(),
            },
        )  # fmt: skip
    with desk.act(ENGINE) as act:
        session = act.session
        app = App(name="marram", title="Marram", created_at=AT)
        session.add(app)
        session.flush()
        at_store = session.get(Store, store_id)
        assert at_store is not None
        ladder = at_store.rulebook["rollout"]["dictated_ladder"] or USUAL_LADDER.model_dump(mode="json")
        berth = Berth(
            app_id=app.id, store_id=store_id, listed_name="Marram", platform="android", identifier="org.example.marram",
            language="en", created_at=AT, store_ref="berth-shore",
        )  # fmt: skip
        build = Build(
            app_id=app.id, platform="android", version="1.0.0", number=BuildNumber(1), created_at=AT, created_by="p-ida"
        )
        release = Release(app_id=app.id, version="1.0.0", created_at=AT)
        session.add_all([berth, build, release])
        session.flush()
        leg = Leg(
            release_id=release.id, berth_id=berth.id, build_id=build.id, created_at=AT, ladder=ladder,
            state=RolloutState.RISING, stage=0, share=share, running_since=act.now, launched_at=AT,
            stage_ends_at=act.now + timedelta(days=9),
        )  # fmt: skip
        session.add(leg)
        session.flush()
        session.add(
            Round(
                leg_id=leg.id, number=1, build_id=build.id, submitted_at=AT, changed_at=AT, store_ref=SUBMISSION,
                state=RoundState.APPROVED,
            )
        )  # fmt: skip
        return leg.id
