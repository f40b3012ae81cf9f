"""Launches and reviews measured: what one fact costs among ten thousand legs that wait, and figures over many rounds."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from statistics import median

from sqlalchemy import insert, text

from bench.filling import NOW, a_rising_leg, a_store, an_app
from bench.measuring import say, timed
from restless_tide.core.conditions import GoAhead, NoReports
from restless_tide.core.order import OrderKind
from restless_tide.core.report import ReportKind
from restless_tide.core.rollout import Progress
from restless_tide.core.round import RoundState
from restless_tide.core.waiting import By
from restless_tide.desk import go_aheads, launching, legs, reviews
from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.launch_facts import EVERYTHING
from restless_tide.desk.settings import Settings
from restless_tide.engine import launches, sightings
from restless_tide.gateways.protocol import StoreEvent
from restless_tide.records import tables

LEGS, ROUNDS, TIMES = 10_000, 20_000, 9


def _waiting_legs(desk: Desk) -> tuple[list[str], list[str]]:
    """LEGS approved legs that wait for a go-ahead and for no open crash; their ids and those of their builds."""
    made, builds = [], []
    with desk.database.writing() as session:
        store = a_store("slatehouse")
        session.add(store)
        session.flush()
        for number in range(LEGS):
            leg = a_rising_leg(session, *an_app(session, f"a{number}"), store, f"sub-{number}")
            legs.keep_progress(leg, Progress(), NOW)
            leg.launched_at = None
            go_aheads.keep(leg, (GoAhead(), NoReports(of=ReportKind.CRASH)))
            made.append(leg.id)
            builds.append(leg.build_id)
    return made, builds


def _looked(desk: Desk, change: Callable[[int], None]) -> float:
    """The median of the seconds of a look after one change."""
    taken = []
    for number in range(TIMES):
        change(number)
        began = time.perf_counter()
        launches.look(desk)
        taken.append(time.perf_counter() - began)
    return median(taken)


def conditions(folder: Path) -> None:
    print("\nLaunch conditions and reviews")
    desk = Desk(Settings(data=folder / "launching"), RealClock())
    made, builds = _waiting_legs(desk)
    desk.background.launch_facts.add(EVERYTHING)
    began = time.perf_counter()
    launches.look(desk)
    every = time.perf_counter() - began

    def report(number: int) -> None:
        with desk.act("p-bench") as act:
            leg = act.session.get_one(tables.Leg, made[number])
            act.session.add(
                tables.FieldReport(
                    app_id=leg.release.app_id, build_id=builds[number], source="api", kind=ReportKind.CRASH, at=NOW,
                    received_at=NOW, changed_at=NOW,
                )
            )  # fmt: skip

    def give(number: int) -> None:
        with desk.act("p-bench") as act:
            leg = act.session.get_one(tables.Leg, made[-1 - number])
            launching.give(act, leg.release, [leg], "bench")

    say(f"one report decides, {LEGS} legs wait: the look", _looked(desk, report), "a look at all of them", every)
    say(f"one go-ahead, {LEGS} legs wait: look and launch order", _looked(desk, give), "a look at all of them", every)
    with desk.look() as session:
        ordered = session.query(tables.Order).filter(tables.Order.kind == OrderKind.LAUNCH).count()
    assert ordered == TIMES, f"{ordered} launches ordered"
    _approvals(desk, made[1000 : 1000 + TIMES])
    _figures(desk, made[0], builds[0])
    desk.close()


def _approvals(desk: Desk, chosen: list[str]) -> None:
    """From a pushed approval to the launch order, for legs that wait for nothing else."""
    with desk.database.writing() as session:
        store_id = str(session.query(tables.Store.id).scalar())
        references = []
        for leg_id in chosen:
            leg = session.get_one(tables.Leg, leg_id)
            leg.conditions, leg.rounds[-1].state = [], RoundState.IN_HAND
            references.append(leg.rounds[-1].store_ref)
    taken = []
    for number, reference in enumerate(references, 1):
        event = StoreEvent(
            id=str(number), source="s", type="submission.changed", subject=str(reference), time=NOW, sequence=number,
            data={"state": "approved"},
        )  # fmt: skip
        began = time.perf_counter()
        sightings.take(desk, store_id, [event])
        launches.look(desk)
        taken.append(time.perf_counter() - began)
    with desk.look() as session:
        of = session.query(tables.Order).filter(tables.Order.lane.in_(chosen)).count()
    assert of == len(chosen), f"{of} launches ordered"

    def bare() -> None:
        with desk.act("p-bench") as act:
            act.tell("bench", "nothing")

    say(
        "a pushed approval taken, and the launch ordered",
        median(taken),
        "an act that only tells something",
        timed(bare),
    )


def _figures(desk: Desk, leg_id: str, build_id: str) -> None:
    rows = [
        {
            "id": f"ro-b{number}", "leg_id": leg_id, "number": number + 10, "build_id": build_id,
            "state": RoundState.REJECTED if number % 4 == 0 else RoundState.APPROVED,
            "submitted_at": NOW - timedelta(hours=number + 30), "changed_at": NOW, "reasons": [],
            "taken_up_at": NOW - timedelta(hours=number + 20), "decided_at": NOW - timedelta(hours=number + number % 9),
        }
        for number in range(ROUNDS)
    ]  # fmt: skip
    with desk.database.writing() as session:
        session.execute(insert(tables.Round), rows)
    began = time.perf_counter()
    with desk.look() as session:
        reviews.figures_of(session, By.STORE, None, None)
    first = time.perf_counter() - began

    def raw() -> None:
        with desk.look() as session:
            session.execute(text("SELECT state, submitted_at, taken_up_at, decided_at FROM rounds")).all()

    say(f"figures over {ROUNDS} rounds, first answer", first, "reading them by raw SQL", timed(raw))
