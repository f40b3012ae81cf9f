"""What was live where, and pictures of rollouts: through the client, the interface and the command line."""

from __future__ import annotations

import csv
import json
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from pathlib import Path

import httpx
import pytest

from restless_tide.client import Invalid, NotDrawn, NotFound
from restless_tide.core.availability import Availability
from restless_tide.plots import child
from restless_tide.plots.pictures import CoursePicture, StripPicture
from restless_tide.wire.strips import LiveTold
from tests.harbour import Harbour, until
from tests.patience import OPENLY
from tests.service.test_cli import Terminal

AT = datetime(2026, 11, 20, tzinfo=UTC)
PNG = b"\x89PNG\r\n\x1a\n"


@pytest.fixture
def tide(harbour: Harbour, tmp_path: Path) -> Terminal:
    return Terminal(harbour, tmp_path)


def offered(found: list[LiveTold]) -> dict[str, dict[str, float]]:
    return {one.store: {layer.version: round(layer.part, 6) for layer in one.layers} for one in found}


def test_what_was_live_is_told_for_now_and_every_instant_before(
    harbour: Harbour, tide: Terminal, tmp_path: Path
) -> None:
    app, live = harbour.new_app(), harbour.tide.live
    before = harbour.tide.watching.clock().now
    assert offered(live.at(app=app)) == {"northgate": {}, "openfield": {}}
    assert live.at(app=app)[0].known_since is None
    harbour.risen(app, stores=("northgate",))
    harbour.tide.releases.steer(app, "1.0.0", "finish", reason="it is well")
    harbour.all_confirmed(app)
    harbour.pass_hours(24)
    harbour.risen(app, "1.1.0", stores=("northgate",), number=2)
    rising = harbour.tide.watching.clock().now
    assert offered(live.at(app=app))["northgate"] == {"1.1.0": 0.05, "1.0.0": 0.95}
    harbour.pass_hours(5)
    harbour.tide.releases.steer(app, "1.1.0", "halt", reason="it crashes")
    harbour.all_confirmed(app, "1.1.0")
    halted = harbour.tide.watching.clock().now
    assert offered(live.at(app=app)) == {"northgate": {"1.0.0": 1.0}, "openfield": {}}
    assert offered(live.at(app=app, at=rising))["northgate"] == {"1.1.0": 0.05, "1.0.0": 0.95}
    assert offered(live.at(app=app, at=before))["northgate"] == {}

    harbour.pass_hours(3)
    harbour.tide.apps.offer(app, "northgate", Availability(countries=("AT", "DE")), reason="two countries first")
    until(lambda: harbour.tide.apps.berth(app, "northgate"), lambda berth: berth.confirmed)
    assert live.at(app=app, country="de")[0].layers
    assert not live.at(app=app, country="FR")[0].layers
    assert live.at(app=app)[0].countries == ["AT", "DE"]

    told = live.strip(app)
    north = next(store for store in told.stores if store.store == "northgate")
    assert [{layer.version: round(layer.part, 6) for layer in part.layers} for part in north.stretches] == [
        {"1.0.0": 0.05}, {"1.0.0": 1.0}, {"1.1.0": 0.05, "1.0.0": 0.95}, {"1.0.0": 1.0}, {"1.0.0": 1.0},
    ]  # fmt: skip
    assert [(mark.version, mark.state) for mark in north.marks] == [
        ("1.0.0", "rising"), ("1.0.0", "complete"), ("1.1.0", "rising"), ("1.1.0", "halted"),
    ]  # fmt: skip
    assert all(one.until == two.since for one, two in pairwise(north.stretches))

    for unfit in ({"since": halted, "until": rising}, {"since": halted - timedelta(days=9000)}):
        with pytest.raises(Invalid):
            live.strip(app, **unfit)
    with pytest.raises(Invalid, match="Nobody knows"):
        live.at(at=halted + timedelta(days=30))
    with pytest.raises(Invalid, match="is no country"):
        live.at(country="DEU")
    with pytest.raises(NotFound):
        live.strip(app="nothing")

    said = tide("strip", "--app", app).stdout
    assert "1.1.0 to 5%, 1.0.0 to 95%" in said
    assert "AT DE" in said
    assert "1.1.0 to 5%" in tide("live", "--app", app, "--at", rising.isoformat()).stdout
    assert "not seen yet" in tide("live", "--app", app).stdout
    assert tide("live", "--at", "yesterday").returncode == 2
    assert tide("strip", "--app", app, "--to", "a.gif").returncode == 2
    for name in ("strip.csv", "strip.png", "strip.json"):
        assert tide("strip", "--app", app, "--to", name).returncode == 0
    rows = list(csv.DictReader((tmp_path / "strip.csv").read_text(encoding="utf-8").splitlines()))
    assert {"1.0.0", "1.1.0"} == {row["version"] for row in rows if row["version"]}
    assert rows[-1]["countries"] in ("AT DE", "everywhere")
    assert (tmp_path / "strip.png").read_bytes().startswith(PNG)
    kept = json.loads((tmp_path / "strip.json").read_text(encoding="utf-8"))
    assert kept["app"] == app
    assert tide("release", "picture", "1.1.0", "--app", app, "--to", "course.png").returncode == 0
    assert (tmp_path / "course.png").read_bytes().startswith(PNG)
    assert tide("release", "picture", "9.9.9", "--app", app, "--to", "none.png").returncode == 1
    assert not (tmp_path / "none.png").exists()
    header = {"Authorization": f"Bearer {harbour.token}"}
    asked = httpx.get(f"{harbour.address}/v1/apps/{app}/strip/png?zone=Moon/Crater", headers=header, **OPENLY)
    assert (asked.status_code, asked.json()["code"]) == (422, "zone-unknown")


def test_what_changes_at_the_store_itself_stands_in_the_strip(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("northgate",))
    (rollout,) = harbour.rollouts("northgate", app)
    harbour.control("northgate", "acts/pause", {"submission": rollout["submission"]})
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "paused")
    (store, _) = harbour.tide.live.strip(app).stores
    assert [[layer.state for layer in part.layers] for part in store.stretches] == [["rising"], ["paused"]]


def test_a_picture_of_nothing_says_so() -> None:
    for picture in (
        CoursePicture("Marram $1.0$ & <b>", []),
        StripPicture("Marram", AT - timedelta(days=3), AT, []),
    ):
        assert child.drawn(picture).startswith(PNG)


def test_a_picture_that_cannot_be_drawn_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(child, "LONGEST_SECONDS", 0.01)
    with pytest.raises(NotDrawn, match="could not be drawn"):
        child.drawn(CoursePicture("Marram", []))
