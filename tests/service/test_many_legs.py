"""Many legs and apps at once ask the records no more often than a few: what they need is read together."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

import pytest
from bench.filling import NOW, a_rising_leg, a_store, an_app, rising_at
from sqlalchemy import event, update

from restless_tide.core.freeze import Freeze
from restless_tide.demo.processes import STORES
from restless_tide.desk import freezes
from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.settings import Settings
from restless_tide.engine import notices, sightings, tides
from restless_tide.gateways.protocol import StoreEvent
from restless_tide.records.tables import Leg, Release, Store
from restless_tide.service import shown

FEW, MANY = 25, 45
OF_EACH_LEG = 2
"""What a leg is shown with that is still asked for alone: its latest orders, and what it took the place of."""
SEVERAL = re.compile(r"\?(, \?)+")
"""As many values as there are legs."""


def filled(folder: Path, legs: int) -> Desk:
    desk = Desk(Settings(data=folder / f"with-{legs}"), RealClock())
    with desk.database.writing() as session:
        rising_at(session, "slatehouse", legs)
    return desk


def a_tick(desk: Desk, legs: int) -> None:
    with desk.database.writing() as session:
        session.execute(update(Leg).values(stage_ends_at=NOW - timedelta(minutes=1)))
    assert tides.order_due(desk) == legs


def a_tick_beside_a_freeze(desk: Desk, legs: int) -> None:
    begins = (NOW + timedelta(days=300)).replace(tzinfo=None, microsecond=0)
    with desk.act("ida") as act:
        freezes.set_freeze(act, Freeze(name="fair", begins=begins, ends=begins + timedelta(days=1), zone="UTC"), "")
    a_tick(desk, legs)


def word_of_each(desk: Desk, legs: int) -> None:
    """The store tells of each leg what was ordered, though not by whom."""
    with desk.look() as session:
        store, share = session.query(Store.id).scalar(), session.query(Leg.share).limit(1).scalar()
    told = [
        StoreEvent(
            id=str(number), source="s", type="rollout.changed", subject=f"sub-{number}", time=NOW, sequence=number + 1,
            data={"state": "rising", "share": share},
        )
        for number in range(legs)
    ]  # fmt: skip
    assert sightings.take(desk, store, told) == legs


def what_expires(desk: Desk, legs: int) -> None:
    assert notices.notice_expiries(desk) == 0


@pytest.mark.parametrize("work", [a_tick, a_tick_beside_a_freeze, word_of_each, what_expires])
def test_the_records_are_asked_as_often_for_many_legs_as_for_few(
    tmp_path: Path, work: Callable[[Desk, int], None]
) -> None:
    asked = {}
    for legs in (FEW, MANY):
        desk = filled(tmp_path, legs)
        statements: list[str] = []
        event.listen(desk.database.engine, "before_cursor_execute", lambda *told, into=statements: into.append(told[2]))
        work(desk, legs)
        desk.close()
        asked[legs] = Counter(SEVERAL.sub("?", said) for said in statements if said.startswith(("SELECT", "WITH")))
    assert asked[FEW] == asked[MANY]


def test_a_release_at_every_store_is_shown_by_few_statements_more_than_at_one(tmp_path: Path) -> None:
    asked = {}
    for stores in (STORES[:1], STORES):
        desk = Desk(Settings(data=tmp_path / f"at-{len(stores)}"), RealClock())
        with desk.database.writing() as session:
            app, release = an_app(session, "marram")
            for store in map(a_store, stores):
                session.add(store)
                session.flush()
                a_rising_leg(session, app, release, store, f"sub-{store.name}")
        statements: list[str] = []
        with desk.look() as session:
            row = session.query(Release).one()
            event.listen(
                desk.database.engine, "before_cursor_execute", lambda *told, into=statements: into.append(told[2])
            )
            told = shown.release(session, row, NOW)
        desk.close()
        assert len(told.legs) == len(stores)
        asked[len(stores)] = len(statements)
    assert asked[len(STORES)] - asked[1] == OF_EACH_LEG * (len(STORES) - 1)
