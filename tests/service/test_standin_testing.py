"""A stand-in's own testing: it judges seats, briefs and testers by itself, by its own reading of the rulebook."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest

from restless_tide.core.rulebook import read_rulebook
from restless_tide.gateways.protocol import TrialRequest
from restless_tide.standins import testing
from restless_tide.standins.judgement import Refusal
from restless_tide.standins.store import SimulatedStore

RULEBOOKS = Path(__file__).parents[2] / "src/restless_tide/standins/rulebooks"


@pytest.fixture(params=["northgate", "openfield", "slatehouse"])
def any_store(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[SimulatedStore]:
    yield from opened(request.param, tmp_path)


@pytest.fixture
def store(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[SimulatedStore]:
    yield from opened(getattr(request, "param", "openfield"), tmp_path)


def opened(name: str, folder: Path) -> Iterator[SimulatedStore]:
    rules = read_rulebook((RULEBOOKS / f"{name}.toml").read_text(encoding="utf-8"))
    made = SimulatedStore(rules, folder / name)
    for number in (1, 2):
        ready = {"id": f"c{number}", "berth": "b", "version": "1.0.0", "number": number, "state": "ready"}
        made.shelf.put("consignment", ready)
    yield made
    made.shelf.close()


def wanted(*who: str, kind: str = "crew", build: int = 1, **wish: Any) -> TrialRequest:
    told: dict[str, Any] = {"consignment": f"c{build}", "kind": kind, "cohort": "x", "brief": {"en": "Look."}}
    return TrialRequest.model_validate(told | {"testers": who, "sign_in": {"how": "none"}} | wish)


def people(count: int, begin: int = 0) -> list[str]:
    return [f"t{place}@example.org" for place in range(begin, begin + count)]


def test_a_crew_is_opened_at_once_and_told_of(any_store: SimulatedStore) -> None:
    told = testing.open_trial(any_store, "b", wanted(*people(3)))
    assert (told["state"], told["seats_taken"]) == ("open", 3)
    assert told["page"].endswith(f"/testing/{told['id']}")
    (event,) = any_store.shelf.events_after(0, 10)
    assert (event["type"], event["subject"]) == ("trial.changed", told["id"])
    assert not {"testers", "sign_in", "brief"} & set(event["data"]), "who tests is nobody else's affair"


def test_seats_are_counted_over_trials_each_address_once(store: SimulatedStore) -> None:
    first = testing.open_trial(store, "b", wanted(*people(40)))
    second = testing.open_trial(store, "b", wanted(*people(40), build=2))
    assert second["seats_taken"] == 40
    testing.seat(store, second["id"], tuple(people(20, 40)))
    with pytest.raises(Refusal, match="60 seats") as refused:
        testing.seat(store, first["id"], tuple(people(3, 59)))
    assert refused.value.code == "seats-exhausted"
    assert len(store.needed("trial", first["id"])["testers"]) == 40, "none of them sat down"
    testing.unseat(store, second["id"], tuple(people(5, 40)))
    assert testing.seat(store, first["id"], tuple(people(5, 60)))["seats_taken"] == 60


@pytest.mark.parametrize("store", ["slatehouse"], indirect=True)
def test_every_build_has_seats_of_its_own_where_the_rulebook_says_so(store: SimulatedStore) -> None:
    testing.open_trial(store, "b", wanted(*people(25)))
    assert testing.open_trial(store, "b", wanted(*people(25, 100), build=2))["seats_taken"] == 25


@pytest.mark.parametrize(
    ("store", "wish", "code"),
    [
        ("slatehouse", {"kind": "walk-in"}, "kind-unknown"),
        ("northgate", {"brief": {"en": " "}}, "brief-empty"),
        ("northgate", {"kind": "walk-in", "brief": {"de": "Schau."}}, "brief-missing"),
        ("northgate", {"kind": "guest", "brief": {"en": "x" * 751}}, "brief-too-long"),
        ("slatehouse", {"kind": "guest", "sign_in": None}, "sign-in-missing"),
        ("slatehouse", {"testers": ["stranger@elsewhere.example"]}, "outside-the-account"),
    ],
    indirect=["store"],
)
def test_what_does_not_fit_is_refused_and_nothing_is_kept(
    store: SimulatedStore, wish: dict[str, Any], code: str
) -> None:
    with pytest.raises(Refusal) as refused:
        testing.open_trial(store, "b", wanted(*people(1), **wish))
    assert refused.value.code == code
    assert store.shelf.all("trial") == []


@pytest.mark.parametrize(
    ("store", "kind", "again"),
    [("openfield", "guest", "with the store"), ("northgate", "walk-in", "open")],
    indirect=["store"],
)
def test_people_wait_for_the_review_as_often_as_the_rulebook_says(store: SimulatedStore, kind: str, again: str) -> None:
    first = testing.open_trial(store, "b", wanted(*people(1), kind=kind))
    assert first["state"] == "with the store"
    closed_early = testing.open_trial(store, "b", wanted(*people(1), kind=kind))
    testing.close_trial(store, closed_early["id"])
    assert testing.open_trial(store, "b", wanted(*people(1), kind=kind))["state"] == "with the store", "never seen open"
    store.clock.step(timedelta(hours=24))
    store.turn()
    assert testing.trial(store, first["id"])["state"] == "open"
    assert testing.open_trial(store, "b", wanted(*people(1), kind=kind, build=2))["state"] == again


def test_a_review_that_turns_down_says_why(store: SimulatedStore) -> None:
    store.shelf.keep_setting("reject_trial_next", ["Nothing to try."])
    told = testing.open_trial(store, "b", wanted(*people(1), kind="guest"))
    store.clock.step(timedelta(hours=24))
    store.turn()
    seen = testing.trial(store, told["id"])
    assert (seen["state"], seen["reason"]) == ("rejected", "Nothing to try.")


def test_testers_install_and_leave_and_only_those_who_sit_there(store: SimulatedStore) -> None:
    trial = testing.open_trial(store, "b", wanted(*people(2)))["id"]
    testing.tester_acts(store, trial, "T0@example.org", "install", "Wavelet 9", "Android 15")
    testing.tester_acts(store, trial, "t1@example.org", "leave", "", "")
    assert [entry["address"] for entry in testing.installed(store, trial)] == ["t0@example.org"]
    assert testing.trial(store, trial)["seats_taken"] == 1
    told = [event["data"]["state"] for event in store.shelf.events_after(0, 10) if event["type"] == "tester.changed"]
    assert told == ["installed", "declined"]
    for address, act, code in (
        ("stranger@example.org", "install", "not-invited"),
        ("t1@example.org", "install", "not-invited"),
    ):
        with pytest.raises(Refusal) as refused:
            testing.tester_acts(store, trial, address, act, "", "")
        assert refused.value.code == code
    testing.close_trial(store, trial)
    with pytest.raises(Refusal, match="closed"):
        testing.tester_acts(store, trial, "t0@example.org", "install", "", "")
    with pytest.raises(Refusal, match="closed"):
        testing.seat(store, trial, ("late@example.org",))


def test_use_is_told_by_day_and_is_the_same_however_often_one_asks(store: SimulatedStore) -> None:
    trial = testing.open_trial(store, "b", wanted(*people(30)))["id"]
    assert testing.usage(store, trial) == {"days": []}
    for address in people(30):
        testing.tester_acts(store, trial, address, "install", "Wavelet 9", "Android 15")
    store.clock.step(timedelta(days=5))
    days = testing.usage(store, trial)["days"]
    assert len(days) == 6
    assert days[:5] == testing.usage(store, trial)["days"][:5]
    assert all(0 <= day["crashed"] <= day["sessions"] for day in days)
    well = sum(day["crashed"] for day in days)
    store.shelf.keep_setting("bad_numbers", [1])
    assert sum(day["crashed"] for day in testing.usage(store, trial)["days"]) > well


def test_a_report_keeps_its_pictures_until_they_are_fetched(store: SimulatedStore) -> None:
    trial = testing.open_trial(store, "b", wanted(*people(1)))["id"]
    made = testing.report(store, testing.ReportWish(trial=trial, text="Look.", pictures=["aGVsbG8=", "no base64"]))
    assert testing.picture(store, made["id"], 1) == b"hello"
    assert testing.picture(store, made["id"], 2) == b"no base64"
    with pytest.raises(Refusal, match="2 pictures"):
        testing.picture(store, made["id"], 3)
    event = store.shelf.events_after(0, 10)[-1]
    assert (event["type"], event["data"]["pictures"], event["data"]["number"]) == ("report.filed", 2, 1)
