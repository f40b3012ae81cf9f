"""The live feed: nothing is missed across a cut, and the engine's progress is told."""

from __future__ import annotations

import itertools
import threading

import httpx

from restless_tide.wire.watching import ChangeTold
from tests.harbour import Harbour, until
from tests.patience import OPENLY


def test_a_follower_hears_of_acts_as_they_happen(harbour: Harbour) -> None:
    heard: list[ChangeTold] = []
    begun = threading.Event()

    def listen() -> None:
        feed = harbour.tide.watching.follow(after=0)
        for change in feed:
            begun.set()
            heard.append(change)
            if change.kind == "cohort made" and change.subject == "cohort listening":
                return

    listener = threading.Thread(target=listen, daemon=True)
    listener.start()
    assert begun.wait(20)
    app = harbour.new_app()
    harbour.tide.testing.make_cohort(app, "listening")
    listener.join(20)
    assert not listener.is_alive()
    assert [change.id for change in heard] == sorted({change.id for change in heard})
    assert (heard[-1].app, heard[-1].kind) == (app, "cohort made")


def test_a_cut_line_is_taken_up_by_last_event_id(harbour: Harbour) -> None:
    begin, app = next(harbour.tide.watching.follow(after=0)).id, harbour.new_app()
    for number in range(6):  # a copied app tells of nothing, and what happened before may be dropped by now
        harbour.tide.testing.make_cohort(app, f"listening-{number}")
    everything = list(itertools.islice(harbour.tide.watching.follow(after=begin), 6))
    headers = {"Authorization": f"Bearer {harbour.token}", "Last-Event-ID": str(everything[2].id)}
    with httpx.stream("GET", f"{harbour.address}/v1/live", headers=headers, **OPENLY) as answer:
        ids = []
        for line in answer.iter_lines():
            if line.startswith("id:"):
                ids.append(int(line.removeprefix("id:")))
            if len(ids) == 3:
                break
    assert ids == [change.id for change in everything[3:]]


def test_the_follower_survives_a_restart_of_the_service_and_misses_nothing(own_harbour: Harbour) -> None:
    heard: list[ChangeTold] = []

    def listen() -> None:
        for change in own_harbour.tide.watching.follow(after=0):
            heard.append(change)
            if change.kind == "app registered":
                return

    listener = threading.Thread(target=listen, daemon=True)
    listener.start()
    until(lambda: len(heard), lambda count: count >= 2)
    own_harbour.processes.kill("desk")
    own_harbour.processes.start("desk")
    own_harbour.tide.apps.register("later", title="Later", identifiers={"ios": "org.example.later"})
    listener.join(30)
    assert not listener.is_alive()
    ids = [change.id for change in heard]
    assert ids == list(range(ids[0], ids[0] + len(ids)))
