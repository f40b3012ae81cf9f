"""The stand-in stores judge by their own code: the same seed takes the same time, each rule refuses by itself."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest
import uvicorn

from restless_tide.core.packages import Facts
from restless_tide.core.rulebook import Rulebook
from restless_tide.gateways import protocol
from restless_tide.standins import __main__ as standins
from restless_tide.standins import judgement
from restless_tide.standins.judgement import Refusal
from restless_tide.standins.packages import PackageRecipe, write_apk
from restless_tide.standins.store import SimulatedStore
from tests.core.test_steering import rulebook

NORTHGATE, OPENFIELD = rulebook("northgate"), rulebook("openfield")
BERTH = {"id": "berth-1", "identifier": "org.example.a"}
NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)


PROFILE = {
    "name": "a",
    "identifier": "T.org.example.a",
    "team": "T",
    "team_name": "T",
    "kind": "store",
    "expires_at": NOW,
}


def facts(**changed: Any) -> Facts:
    usual = {
        "format": "apk",
        "identifier": "org.example.a",
        "version": "1.1.0",
        "number": 5,
        "target_platform": "34",
        "size_bytes": 10,
        "sha256": "0" * 64,
        "signatures": [{"scheme": "v2", "verified": True}],
    }
    if changed.get("format") == "ipa":
        usual["profile"] = PROFILE
    return Facts.of(usual | changed)


@pytest.mark.parametrize(
    ("rules", "package", "live", "complaint"),
    [
        (OPENFIELD, facts(), None, None),
        (OPENFIELD, facts(format="ipa"), None, "We take apk"),
        (OPENFIELD, facts(identifier="org.example.b"), None, "belongs to org.example.b"),
        (OPENFIELD, facts(debuggable=True), None, "no release build"),
        (OPENFIELD, facts(target_platform="28"), None, "platform level 29"),
        (OPENFIELD, facts(number=4), None, "not above 4"),
        (OPENFIELD, facts(signatures=[]), None, "not signed"),
        (OPENFIELD, facts(signatures=[{"scheme": "v2", "verified": False}]), None, "changed after it was signed"),
        (NORTHGATE, facts(format="ipa", number=1), None, None),
        (
            NORTHGATE,
            facts(format="ipa", number=1, profile=PROFILE | {"kind": "named devices"}),
            None,
            "profile for store",
        ),
        (NORTHGATE, facts(format="ipa", number=1, reasons={"NSx": ""}), None, "without saying why"),
        (NORTHGATE, facts(format="ipa", version="1.0.0", number=4), None, "not above 4"),
        (NORTHGATE, facts(format="ipa"), "1.1.0", "not above the live 1.1.0"),
    ],
)
def test_a_package_is_turned_away_for_its_reason(
    rules: Rulebook, package: Facts, live: str | None, complaint: str | None
) -> None:
    earlier = [{"version": "1.0.0", "number": 4}]
    found = judgement.objection_to_package(rules, BERTH, package, earlier, live)
    assert found is None if complaint is None else complaint in (found or "")


def rollout(state: str = "rising", share: float = 0.02, held_hours: float = 0.0, pauses: int = 0) -> dict[str, Any]:
    return {
        "state": state,
        "share": share,
        "held_seconds": held_hours * 3600,
        "since": NOW.isoformat(),
        "pauses": pauses,
    }


@pytest.mark.parametrize(
    ("rules", "here", "share", "code"),
    [
        (OPENFIELD, rollout(held_hours=24), 0.1, None),
        (OPENFIELD, rollout(held_hours=23), 0.1, "too-early"),
        (OPENFIELD, rollout(held_hours=90), 0.35, "share-dictated"),
        (OPENFIELD, rollout(), 1.0, None),
        (OPENFIELD, rollout("paused"), 1.0, "paused"),
        (OPENFIELD, rollout("halted"), 0.1, "not-rising"),
        (NORTHGATE, rollout(), 0.77, None),
        (NORTHGATE, rollout(share=0.5), 0.5, "share-falls"),
        (NORTHGATE, rollout("paused"), 1.0, None),
    ],
)
def test_a_share_is_judged_by_the_ladder_and_the_stores_own_clock(
    rules: Rulebook, here: dict[str, Any], share: float, code: str | None
) -> None:
    if code is None:
        judgement.demand_share(rules.rollout, here, share, NOW)
        return
    with pytest.raises(Refusal) as refused:
        judgement.demand_share(rules.rollout, here, share, NOW)
    assert refused.value.code == code


@pytest.mark.parametrize(
    ("rules", "here", "act", "taken"),
    [
        (NORTHGATE, rollout(), "halt", True),
        (NORTHGATE, rollout("halted"), "resume", False),
        (NORTHGATE, rollout("complete"), "halt", False),
        (NORTHGATE, rollout("complete"), "withdraw", True),
        (OPENFIELD, rollout("halted"), "resume", True),
        (OPENFIELD, rollout("complete"), "halt", True),
        (OPENFIELD, rollout(pauses=2), "pause", False),
        (OPENFIELD, rollout("withdrawn"), "withdraw", False),
        (OPENFIELD, rollout("withdrawn"), "resume", True),
        (NORTHGATE, rollout("withdrawn"), "resume", False),
        (OPENFIELD, rollout(), "explode", False),
    ],
)
def test_steering_is_taken_or_refused_as_the_rulebook_says(
    rules: Rulebook, here: dict[str, Any], act: str, taken: bool
) -> None:
    if taken:
        judgement.demand_steering(rules.rollout, here, act)
        return
    with pytest.raises(Refusal):
        judgement.demand_steering(rules.rollout, here, act)


def processed_after(folder: Path, seed: int) -> timedelta:
    """How long a store with this seed takes over its first build, by its own clock."""
    store = SimulatedStore(OPENFIELD, folder, seed)
    berth = store.open_berth(
        protocol.BerthRequest(identifier="org.example.a", name="A", platform="android", language="en", reference="a")
    )
    package = write_apk(folder / "a.apk", PackageRecipe("org.example.a", "1.0.0", 1, "A"))
    upload = store.begin_upload(berth["id"], package.stat().st_size)["id"]
    (store.uploads / upload).write_bytes(package.read_bytes())
    begun = store.clock.now()
    store.consign(berth["id"], protocol.ConsignmentRequest(uploads=(upload,), version="1.0.0", number=1))
    store.clock.step(timedelta(hours=1))
    store.turn()
    events = [event for event in store.shelf.events_after(0, 10) if event["type"] == "consignment.changed"]
    store.shelf.close()
    assert [event["data"]["state"] for event in events] == ["processing", "ready"]
    return datetime.fromisoformat(events[1]["time"]) - begun


def test_the_same_seed_takes_the_same_time(tmp_path: Path) -> None:
    first, again, other = (processed_after(tmp_path / name, seed) for name, seed in (("a", 1), ("b", 1), ("c", 2)))
    assert abs((first - again).total_seconds()) < 1
    assert abs((first - other).total_seconds()) > 1
    assert timedelta(minutes=5 * 0.6) - timedelta(seconds=1) < first < timedelta(minutes=5 * 1.6)


def test_a_clock_that_runs_fast_and_is_stepped_survives_a_restart(tmp_path: Path) -> None:
    store = SimulatedStore(NORTHGATE, tmp_path)
    store.clock.step(timedelta(hours=30))
    store.clock.run_at(1000)
    ahead = store.clock.now() - datetime.now(UTC)
    assert timedelta(hours=30) <= ahead < timedelta(hours=31)
    store.shelf.close()
    again = SimulatedStore(NORTHGATE, tmp_path)
    assert again.clock.speed == 1000
    assert again.clock.now() - datetime.now(UTC) >= ahead
    again.shelf.close()


def test_an_act_that_fails_half_way_leaves_nothing_on_the_shelf(tmp_path: Path) -> None:
    store = SimulatedStore(OPENFIELD, tmp_path)

    def half() -> dict[str, Any]:
        store.shelf.put("thing", {"id": "half"})
        raise RuntimeError("the machine stumbles")

    with pytest.raises(RuntimeError):
        store.perform("key-1", "stumble", "thing", {}, half)
    assert store.shelf.get("thing", "half") is None
    assert store.shelf.given_answer("key-1") is None
    assert store.shelf.acts() == []
    store.shelf.close()


def reviewed(folder: Path, seed: int, **rates: float) -> list[tuple[str, dict[str, Any], datetime]]:
    """What a store with this seed tells of one submission on a track without texts: type, data and instant of each event."""
    store = SimulatedStore(OPENFIELD, folder, seed)
    for name, rate in rates.items():
        store.shelf.keep_setting(name, rate)
    store.shelf.put("consignment", {"id": "c-1", "berth": "b-1", "number": "1", "uploads": []})
    submission = {
        "id": "s-1", "berth": "b-1", "track": "early", "version": "1.0.0", "notes": {}, "consignment": "c-1",
        "items": ["build", "notes"], "reasons": [], "state": "queued",
    }  # fmt: skip
    store.due(submission, "submission", minutes=27)
    for _ in range(60):
        store.clock.step(timedelta(hours=1))
        store.turn()
    events = store.shelf.events_after(0, 50)
    store.shelf.close()
    return [(event["type"], event["data"], datetime.fromisoformat(event["time"])) for event in events]


def test_reviewers_ask_back_and_are_late_as_seeded(tmp_path: Path) -> None:
    plain = reviewed(tmp_path / "plain", 1)
    assert [data["state"] for _, data, _ in plain] == ["queued", "in hand", "approved"]
    late = reviewed(tmp_path / "late", 1, late_rate=1.0)
    took = [told[-1][2] - told[0][2] for told in (plain, late)]
    assert late[-1][1]["state"] == "approved"
    assert took[1] > 2 * took[0]
    asked = reviewed(tmp_path / "asked", 1, asking_rate=1.0)
    kind, data, _ = asked[-1]
    assert (kind, data["asks"], bool(data["words"])) == ("submission.message", True, True)
    sometimes = [
        reviewed(tmp_path / f"{name}{seed}", seed, asking_rate=0.5)[-1][0] for name in "ab" for seed in range(6)
    ]
    assert sometimes[:6] == sometimes[6:], "the seed decides"
    assert len(set(sometimes)) == 2


def test_a_standin_keeps_an_idle_connection_longer_than_its_clients(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One that is closed just when it is used again fails a call that had nothing wrong with it."""
    served: dict[str, Any] = {}
    monkeypatch.setattr(uvicorn, "run", lambda _, **how: served.update(how))
    monkeypatch.setattr("sys.argv", ["standins", "store", "openfield", "--port", "1", "--data", str(tmp_path)])
    standins.main()
    kept_by_clients = httpx.Limits().keepalive_expiry
    assert kept_by_clients is not None
    assert served["timeout_keep_alive"] >= 2 * kept_by_clients
