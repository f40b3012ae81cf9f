"""The engine under stress: leases, breakers, a store's wishes, pushed events, clocks that jump, its own figures."""

from __future__ import annotations

import base64
import dataclasses
import itertools
import json
import secrets
import sqlite3
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from typing import Any

import httpx
import pytest
from sqlalchemy import delete, update
from standardwebhooks import Webhook

from restless_tide.client import Invalid, StoreUnreachable, Tide
from restless_tide.core.errors import LostLease
from restless_tide.demo.processes import HOST
from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import ENGINE, Desk
from restless_tide.desk.settings import Settings, settings_from
from restless_tide.engine.lease import EngineLease
from restless_tide.engine.worker import Engine
from restless_tide.gateways.protocol import MOST_EVENTS
from restless_tide.records import tables
from tests.harbour import Harbour, leg_of, until
from tests.patience import OPENLY
from tests.ports import own_ports

_keys = itertools.count(1)


def mischief(harbour: Harbour, store: str, **wish: Any) -> None:
    harbour.control(store, "mischief", wish)


def ready(address: str) -> dict[str, str]:
    return httpx.get(f"{address}/readyz", **OPENLY).json()


# one engine per database


def test_of_two_services_on_one_database_one_works_and_the_other_takes_over(own_harbour: Harbour) -> None:
    harbour = own_harbour
    second_port = own_ports().desk
    environment = harbour.processes.desk_environment() | {"TIDE_PORT": str(second_port)}
    second = subprocess.Popen(
        [sys.executable, "-m", "restless_tide.service.serve"], env=environment, stderr=subprocess.DEVNULL
    )
    address = f"http://{HOST}:{second_port}"
    try:

        def standing() -> str:
            try:
                return ready(address)["engine"]
            except httpx.TransportError:
                return "not there"

        until(standing, lambda seen: seen == "standing by")
        assert ready(harbour.address) == {"status": "ready", "engine": "working", "database": "writable"}
        with Tide(address, token=harbour.token) as other:
            app = harbour.new_app()
            assert other.apps.one(app).berths[0].state == "open"
        harbour.processes.kill("desk")
        until(standing, lambda seen: seen == "working")
        with Tide(address, token=harbour.token) as other:
            other.apps.register("later", title="Later", identifiers={"android": "org.example.later"})
            other.apps.open_berth("later", "openfield")
            until(lambda: other.apps.berth("later", "openfield"), lambda berth: berth.state == "open")
        opened = [act for act in harbour.control("openfield", "acts") if act["subject"] == "org.example.later"]
        assert len(opened) == 1
    finally:
        second.terminate()
        second.wait(15)


def test_what_an_engine_writes_after_it_lost_the_lease_is_not_kept(tmp_path: Any) -> None:
    desk = Desk(Settings(data=tmp_path), RealClock())
    lease = EngineLease(desk.database)
    desk.background.fence = lease.take()
    assert desk.background.fence == 1
    assert lease.take() == 1
    with desk.act(ENGINE) as act:
        act.tell("well", "test")
    successor = EngineLease(desk.database)
    successor.holder = "elsewhere/1/1"
    assert successor.take() is None
    lease.release()
    assert successor.take() == 2
    assert lease.take() is None
    with pytest.raises(LostLease, match="from 1 to 2"), desk.act(ENGINE) as act:
        act.tell("late", "test")
    with desk.act("p-someone") as act:
        act.tell("people go on", "test")
    desk.close()


# what wakes whom


def test_a_loop_is_woken_by_the_tables_that_it_reads_and_by_no_others(tmp_path: Any) -> None:
    desk = Desk(Settings(data=tmp_path), RealClock())
    engine = Engine(desk)
    bells = dict(
        zip(("orders", "sightings", "launches", "tides", "moves", "mail", "notices"), engine._bells, strict=True)
    )

    def woken() -> set[str]:
        rung = {name for name, (bell, _) in bells.items() if bell.is_set()}
        for bell, _ in engine._bells:
            bell.clear()
        return rung

    with desk.act("p-ida") as act:
        act.log("looked", "nothing")
    assert woken() == set()
    with desk.act("p-ida") as act:
        act.session.add(tables.Tester(email="wren@example.org", name="", created_at=act.now))
    assert woken() == {"mail"}
    with desk.act("p-ida") as act:
        act.session.execute(update(tables.Tester).values(name="Wren"))
    assert woken() == {"mail"}, "also where no row was read"
    with desk.act("p-ida") as act:
        act.session.execute(delete(tables.Delivery))
    assert woken() == {"notices"}
    desk.ring()
    assert woken() == set(bells)
    engine._courier.close()
    desk.close()


# breakers and wishes


def test_a_store_that_fails_often_is_left_alone_but_a_halt_goes_through(own_harbour: Harbour) -> None:
    harbour = own_harbour
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))
    mischief(harbour, "openfield", fail=10_000, push_off=True)
    harbour.tide.releases.steer(app, "1.0.0", "pause", reason="a look")
    opened = until(lambda: harbour.tide.stores.one("openfield"), lambda store: store.breaker.state == "open")
    assert opened.breaker.failures >= 5
    assert opened.breaker.rests_until is not None
    harbour.tide.releases.steer(app, "1.0.0", "halt", reason="crashes")
    tried = harbour.released(app, "1.0.0", lambda seen: seen.legs[0].orders[0].trouble)
    assert harbour.tide.stores.one("openfield").breaker.state != "closed", "and yet it was called"
    assert [(order.kind, order.state) for order in leg_of(tried, "openfield").orders[:2]] == [
        ("halt", "sent"),
        ("pause", "dropped"),
    ]
    mischief(harbour, "openfield", fail=0)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].orders[0].state == "confirmed")
    until(lambda: harbour.tide.stores.one("openfield"), lambda store: store.breaker.state == "closed")


def test_a_stores_wish_to_be_left_alone_is_honoured_but_not_by_a_halt(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("northgate",))
    mischief(harbour, "northgate", too_many_acts=1, retry_after_seconds=600.0)
    harbour.tide.releases.steer(app, "1.0.0", "advance", reason="well")
    waits = harbour.released(app, "1.0.0", lambda seen: seen.legs[0].orders[0].trouble)
    assert waits.legs[0].orders[0].trouble == "Too many calls; come again later."
    until(lambda: harbour.control("northgate", "state"), lambda state: state["too_many_acts"] == 0)
    harbour.tide.releases.steer(app, "1.0.0", "halt", reason="crashes")
    halted = harbour.all_confirmed(app).legs[0]
    assert [(order.kind, order.state) for order in halted.orders[:2]] == [
        ("halt", "confirmed"),
        ("set share", "dropped"),
    ]


def test_a_halt_of_what_was_never_launched_stops_the_launch(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",), needs_go_ahead=True)
    harbour.approve(app)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "approved")
    mischief(harbour, "northgate", too_many_acts=1, retry_after_seconds=600.0)
    harbour.tide.releases.give_go_ahead(app, "1.0.0")
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].orders[0].trouble)
    harbour.tide.releases.steer(app, "1.0.0", "halt", reason="it must not go out")
    stopped = harbour.released(app, "1.0.0", lambda seen: seen.legs[0].confirmed and seen.legs[0].phase == "approved")
    assert stopped.legs[0].waits_for == ["the go-ahead to launch"]
    assert harbour.rollouts("northgate", app) == []
    told = [line.act for line in harbour.tide.watching.logbook(app=app, limit=3)]
    assert "halted before it was launched" in told


# nonsense


@pytest.mark.parametrize("kind", ["redirect", "page", "endless"])
def test_nonsense_from_a_store_is_no_answer_and_no_other_store_suffers(own_harbour: Harbour, kind: str) -> None:
    harbour = own_harbour
    mischief(harbour, "openfield", nonsense=kind, push_off=True)
    away = until(lambda: harbour.tide.stores.one("openfield"), lambda store: store.trouble)
    assert {"redirect": "redirects are not followed", "page": "not the gateway protocol", "endless": "without end"}[
        kind
    ] in (away.trouble or "")
    harbour.tide.apps.register("calm", title="Calm", identifiers={"ios": "org.example.calm"})
    harbour.tide.apps.open_berth("calm", "northgate")
    until(lambda: harbour.tide.apps.berth("calm", "northgate"), lambda berth: berth.state == "open")
    mischief(harbour, "openfield", nonsense="")
    until(lambda: harbour.tide.stores.one("openfield"), lambda store: store.trouble is None)


def test_a_store_whose_clock_is_off_is_still_reached_and_the_difference_is_told(own_harbour: Harbour) -> None:
    harbour = own_harbour
    mischief(harbour, "openfield", clock_off_seconds=-420.0)
    connection = harbour.control("openfield", "connections", {})
    harbour.tide.stores.connect("openfield", connection)
    harbour.tide.watching.move_clock(step_hours=1)
    seen = until(lambda: harbour.tide.stores.one("openfield"), lambda store: abs(store.skew_seconds) > 60)
    assert seen.skew_seconds == pytest.approx(-420, abs=20)
    assert seen.trouble is None


def test_addresses_that_are_none_or_lead_inward_are_refused(harbour: Harbour, tmp_path: Any) -> None:
    connection = harbour.control("openfield", "connections", {})
    with pytest.raises(Invalid, match="no connection file"):
        harbour.tide.stores.connect("odd", connection | {"gateway": "ftp://store.example.org"})
    with pytest.raises(StoreUnreachable, match="nothing can be reached"):
        harbour.tide.stores.connect("odd", connection | {"gateway": "http://127.0.0.1:9"})
    settings = settings_from({"TIDE_DATA": str(tmp_path), "TIDE_FORBID_INWARD": "yes", "TIDE_PUSH": "off"})
    assert (settings.forbid_inward, settings.push) == (True, False)
    from restless_tide.desk.addresses import demand_reachable

    for inward in ("http://127.0.0.1:7101", "http://10.1.2.3", "http://[::1]/", "http://localhost:99"):
        with pytest.raises(Invalid, match="leads inward"):
            demand_reachable(inward, settings)
    with pytest.raises(Invalid, match="no http"):
        demand_reachable("file:///etc/passwd", dataclasses.replace(settings, forbid_inward=False))


# pushed events


def pushed_to(harbour: Harbour, store: str) -> tuple[str, str]:
    """Where the store pushes to, and the secret it signs with."""
    until(lambda: harbour.tide.stores.one(store), lambda seen: seen.pushes)
    push = harbour.control(store, "things/push")[-1]
    return push["address"], push["secrets"][0]


def event_of(harbour: Harbour, store: str, app: str, **changed: Any) -> dict[str, Any]:
    (rollout,) = harbour.rollouts(store, app)
    return {
        "specversion": "1.0",
        "id": secrets.token_hex(6),
        "source": "/stores/test",
        "type": "rollout.changed",
        "subject": rollout["submission"],
        "time": datetime.now(UTC).isoformat(),
        "sequence": 10**6,
        "data": {"state": "complete", "share": 1.0},
    } | changed


def post(address: str, event: dict[str, Any], secret: str, *, at: datetime | None = None) -> httpx.Response:
    body, now = json.dumps(event), at or datetime.now(UTC)
    headers = {
        "Content-Type": "application/cloudevents+json",
        "webhook-id": event["id"],
        "webhook-timestamp": str(int(now.timestamp())),
        "webhook-signature": Webhook(secret).sign(event["id"], now, body),
    }
    return httpx.post(address, content=body, headers=headers, **OPENLY)


def post_batch(address: str, events: list[dict[str, Any]], secret: str) -> httpx.Response:
    body, now = json.dumps(events), datetime.now(UTC)
    headers = {
        "Content-Type": "application/cloudevents-batch+json",
        "webhook-id": "batch",
        "webhook-timestamp": str(int(now.timestamp())),
        "webhook-signature": Webhook(secret).sign("batch", now, body),
    }
    return httpx.post(address, content=body, headers=headers, **OPENLY)


def events_seen(harbour: Harbour, store: str) -> int:
    with sqlite3.connect(harbour.processes.folder / "desk" / "desk.sqlite") as records:
        (seen,) = records.execute("SELECT events_seen FROM stores WHERE name = ?", (store,)).fetchone()
    records.close()
    return int(seen)


def test_a_batch_of_events_is_taken_in_the_stores_sequence(own_harbour: Harbour) -> None:
    harbour = own_harbour
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))
    address, secret = pushed_to(harbour, "openfield")
    mischief(harbour, "openfield", push_off=True, outage=True)
    seen = events_seen(harbour, "openfield")
    halted, paused = (
        event_of(harbour, "openfield", app, sequence=seen + place, data={"state": state, "share": 0.02})
        for place, state in ((2, "halted"), (1, "paused"))
    )
    assert post_batch(address, [halted, paused], secret).status_code == 204
    harbour.released(app, "1.0.0", lambda told: told.legs[0].phase == "halted")
    assert events_seen(harbour, "openfield") == seen + 2
    too_many = [halted] * (MOST_EVENTS + 1)
    assert post_batch(address, too_many, secret).status_code == 422
    assert post_batch(address, [halted, {}], secret).json()["code"] == "event-unfit"


def test_forged_old_and_unsigned_events_change_nothing(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))
    address, secret = pushed_to(harbour, "openfield")
    event = event_of(harbour, "openfield", app)
    forged = "whsec_" + base64.b64encode(secrets.token_bytes(24)).decode()
    before = harbour.tide.stores.one("openfield").forged_events
    assert post(address, event, forged).status_code == 401
    assert post(address, event, secret, at=datetime.now(UTC) - timedelta(minutes=20)).status_code == 401
    assert httpx.post(address, json=event, **OPENLY).status_code == 401
    elsewhere = address.replace("/events", "x/events")
    unknown = post(elsewhere, event, secret)
    assert (unknown.status_code, unknown.json()["code"]) == (401, "event-unproved")
    assert post(address, event | {"type": 7}, secret).status_code == 422
    leg = harbour.leg(app, "openfield")
    assert (leg.phase, leg.share) == ("rising", 0.02)
    assert harbour.tide.stores.one("openfield").forged_events == before + 3


def test_a_signed_event_that_comes_too_early_is_not_taken_before_what_is_missing(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))
    address, secret = pushed_to(harbour, "openfield")
    assert post(address, event_of(harbour, "openfield", app), secret).status_code == 204
    assert harbour.leg(app, "openfield").phase == "rising"


@pytest.mark.parametrize(
    "mood",
    [{"push_doubled": True}, {"push_shuffled": True}, {"push_forged": True}, {"push_off": True}],
    ids=["doubled", "shuffled", "forged", "silent"],
)
def test_however_events_are_pushed_each_counts_once_and_in_order(harbour: Harbour, mood: dict[str, bool]) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))
    mischief(harbour, "openfield", **mood)
    try:
        (rollout,) = harbour.rollouts("openfield", app)
        for act in ("pause", "resume", "halt"):
            harbour.control("openfield", f"acts/{act}", {"submission": rollout["submission"]})
        harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "halted")
    finally:
        mischief(harbour, "openfield", push_doubled=False, push_shuffled=False, push_forged=False, push_off=False)
    told = [
        line.after for line in harbour.tide.watching.logbook(app=app, limit=8) if line.act == "changed at the store"
    ]
    assert [entry["state"] for entry in reversed(told)] == ["paused", "rising", "halted"]


def test_events_arrive_by_push_and_the_secret_can_be_renewed(own_harbour: Harbour) -> None:
    harbour = own_harbour
    address, old = pushed_to(harbour, "openfield")
    harbour.tide.stores.renew_push_secret("openfield")
    _, new = pushed_to(harbour, "openfield")
    assert new != old
    app = harbour.new_app()
    harbour.ready_build(app, "openfield")
    seen = until(lambda: harbour.tide.stores.one("openfield"), lambda store: store.pushed_at)
    assert seen.forged_events == 0
    assert seen.last_event_at is not None
    event = {"id": "e", "source": "s", "type": "t", "subject": "s", "time": "2026-01-01T00:00:00Z", "sequence": 1}
    assert post(address, event, old).status_code == 401


# clocks


def test_a_clock_that_jumps_neither_skips_a_stage_nor_doubles_it(harbour: Harbour) -> None:
    """A machine that slept for nine days wakes up: one stage is due, then the next gets its own time."""
    app = harbour.new_app()
    harbour.risen(app, stores=("northgate",))
    harbour.control("northgate", "clock", {"step_hours": 24 * 9})
    harbour.tide.watching.move_clock(step_hours=24 * 9)
    risen = harbour.released(app, "1.0.0", lambda seen: seen.legs[0].confirmed and seen.legs[0].share == 0.2).legs[0]
    assert risen.stage_ends_at is not None
    left = risen.stage_ends_at - harbour.tide.watching.clock().now
    assert timedelta(hours=47) < left <= timedelta(hours=48)
    harbour.tide.watching.move_clock(step_hours=-3)
    later = harbour.leg(app, "northgate")
    assert (later.share, later.stage_ends_at) == (0.2, risen.stage_ends_at)
    harbour.tide.watching.move_clock(step_hours=3)
    (rollout,) = harbour.rollouts("northgate", app)
    mine = [act for act in harbour.control("northgate", "acts") if act["subject"] == rollout["submission"]]
    assert [act["act"] for act in mine] == ["launch", "share 0.2"]
    harbour.tide.releases.steer(app, "1.0.0", "halt", reason="over")


# figures


def test_the_id_of_a_request_goes_with_the_act_into_the_stores_own_record(harbour: Harbour) -> None:
    name = f"traced{next(_keys)}"
    headers = {"Authorization": f"Bearer {harbour.token}", "X-Request-Id": f"console-{name}"}
    with httpx.Client(base_url=harbour.address, headers=headers, **OPENLY) as http:
        wanted = {"name": name, "identifiers": {"android": f"org.example.{name}"}}
        assert http.post("/v1/apps", json=wanted).headers["X-Request-Id"] == f"console-{name}"
        http.post(f"/v1/apps/{name}/berths", json={"store": "openfield"})
        strange = http.get("/healthz", headers={"X-Request-Id": "a b?"}).headers["X-Request-Id"]
        assert strange != "a b?"
    until(lambda: harbour.tide.apps.berth(name, "openfield"), lambda berth: berth.state == "open")
    act = next(act for act in harbour.control("openfield", "acts") if act["subject"] == f"org.example.{name}")
    assert act["request"] == f"console-{name}"
    log = (harbour.processes.folder / "desk.log").read_text()
    assert f'"request": "console-{name}"' in log


def test_the_services_figures_are_open_metrics(harbour: Harbour) -> None:
    answer = httpx.get(f"{harbour.address}/metrics", **OPENLY)
    assert answer.headers["content-type"].startswith("application/openmetrics-text")
    assert answer.text.endswith("# EOF\n")
    for name in (
        'tide_orders_pending{store="openfield"}',
        'tide_oldest_order_seconds{store="northgate"}',
        'tide_order_retries{store="openfield"}',
        'tide_breaker_state{state="closed",store="openfield"} 1.0',
        'tide_sighting_lag_seconds{store="openfield"}',
        "tide_request_seconds_count",
    ):
        assert name in answer.text
    assert harbour.token not in answer.text


def test_a_drill_measures_the_whole_way_and_touches_nothing(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))
    orders = [entry.order for entry in harbour.tide.stores.drill_halt()]
    drilled = until(
        lambda: harbour.tide.stores.drilled(orders), lambda seen: all(entry.state == "confirmed" for entry in seen)
    )
    assert {entry.store for entry in drilled} >= {"northgate", "openfield"}
    assert all(entry.seconds is not None and entry.seconds > 0 for entry in drilled)
    assert harbour.rollouts("openfield", app)[0]["state"] == "rising"
    assert harbour.leg(app, "openfield").phase == "rising"
    assert "drill halt" in [act["act"] for act in harbour.control("openfield", "acts")]


def test_a_service_that_is_asked_to_end_finishes_what_it_has_in_hand(own_harbour: Harbour) -> None:
    harbour = own_harbour
    app = harbour.new_app()
    harbour.risen(app, stores=("northgate",))
    mischief(harbour, "northgate", slow_seconds=2.0)
    harbour.tide.releases.steer(app, "1.0.0", "pause", reason="a look")
    until(lambda: harbour.control("northgate", "state")["busy"], bool)
    harbour.processes.stop("desk")
    with sqlite3.connect(harbour.processes.folder / "desk" / "desk.sqlite") as records:
        kept = records.execute("SELECT state, attempts FROM orders WHERE kind = 'pause'").fetchall()
        holder = records.execute("SELECT holder FROM leases").fetchall()
    records.close()
    assert (kept, holder) == ([("confirmed", 1)], [("",)])
