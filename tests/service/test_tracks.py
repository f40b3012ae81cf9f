"""Tracks through the real interface: a build moves up from the crew to production, and what stands against it is foreseen."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from restless_tide.core.errors import Conflict, Denied, ImpossibleAct, Invalid, NotFound, NotReady
from restless_tide.core.rulebook import read_rulebook
from restless_tide.standins.__main__ import RULEBOOKS
from restless_tide.wire.cohorts import TrialWanted
from restless_tide.wire.releases import LegWanted
from restless_tide.wire.tracks import CellTold, PlacementTold
from tests.harbour import Harbour, handed_in, until
from tests.patience import OPENLY
from tests.service.test_cli import Terminal

WHY = "the walk of a test"


def crew(harbour: Harbour, app: str, *who: str, kind: str = "crew", name: str = "crew") -> None:
    harbour.tide.testing.make_cohort(app, name, kind=kind)
    for entry in who:
        harbour.tide.testing.add_tester(app, name, f"{entry}.{app}@example.org")


def cell(harbour: Harbour, app: str, at: str) -> CellTold:
    board = harbour.tide.tracks.board(app)
    return next(entry for row in board.stores for entry in row.tracks if entry.at == at)


def holds(harbour: Harbour, app: str, at: str) -> list[str]:
    return [f"{placed.version} {placed.phase}" for placed in cell(harbour, app, at).holds]


def until_held(harbour: Harbour, app: str, at: str, *wanted: str) -> PlacementTold:
    here = until(
        lambda: cell(harbour, app, at).holds,
        lambda found: [f"{one.version} {one.phase}" for one in found if one.confirmed] == list(wanted),
    )
    return here[-1]


def bytes_taken(harbour: Harbour, store: str) -> int:
    return sum(entry["length"] for entry in harbour.control(store, "things/upload"))


def on_early(harbour: Harbour, version: str = "1.0.0", number: int = 1) -> str:
    """An app with a build that rises on Early of Openfield; returns the app."""
    app = harbour.new_app()
    crew(harbour, app, "wren", "tam")
    move_to_early(harbour, app, version, number)
    return app


def move_to_early(harbour: Harbour, app: str, version: str, number: int) -> str:
    build = harbour.ready_build(app, "openfield", version, number)
    harbour.tide.tracks.place(app, build, ["openfield/workbench"], contact="ida@example.org")
    until(
        lambda: [placed.build for placed in cell(harbour, app, "openfield/workbench").holds],
        lambda found: build in found,
    )
    harbour.pass_hours(13)
    harbour.tide.tracks.promote(app, "openfield/workbench", to="early", build=build, reason=WHY)
    until(lambda: harbour.leg(app, "openfield", version).confirmed, bool)
    harbour.pass_hours(8, desk=False)
    until(
        lambda: [placed.build for placed in cell(harbour, app, "openfield/early").holds if placed.confirmed],
        lambda found: build in found,
    )
    return build


def found(sheets: Any) -> dict[str, str]:
    return {entry.code: entry.detail for sheet in sheets for entry in sheet.findings}


@pytest.fixture
def coast(tmp_path: Path) -> Iterator[Harbour]:
    opened = Harbour.open(tmp_path / "coast", stores=("northgate", "openfield", "slatehouse"))
    opened.connect_stores()
    yield opened
    opened.close()


# the acceptance walk


def test_a_build_server_places_for_the_crew_and_it_comes_to_production_without_a_byte_sent_again(
    coast: Harbour,
) -> None:
    harbour, tide = coast, coast.tide
    app = harbour.new_app()
    crew(harbour, app, "wren", "tam")
    at = {"northgate": "tryout", "openfield": "workbench", "slatehouse": "floor"}
    for store in at:
        file = harbour.package(app, store)
        pushed = tide.builds.push(file, app=app, stores=[], tracks=[f"{store}/{at[store]}"])
        assert [placed.at for placed in pushed.placed] == [f"{store}/{at[store]}"]
        again = tide.builds.push(file, app=app, stores=[], tracks=[f"{store}/{at[store]}"])
        assert (again.placed, again.build.known_before) == ([], True)
        if store == "northgate":
            until(tide.steps.waiting, lambda steps: any(step.app == app for step in steps))
            harbour.hand_in(store, app, file)
    until(
        lambda: [entry.state for build in tide.builds.of_app(app) for entry in build.consignments],
        lambda states: set(states) == {"processing"},
    )
    harbour.pass_hours(3, desk=False)
    for store, key in at.items():
        until_held(harbour, app, f"{store}/{key}", "1.0.0 open")
    taken = {store: bytes_taken(harbour, store) for store in at}

    rule = tide.tracks.make_rule(app, "openfield/workbench", to="early", hours=12, people=2, needs_go_ahead=True)
    (under,) = rule.builds
    assert under.missing[-1] == "the go-ahead"
    tide.tracks.give_go_ahead(app, rule.id, under.build, reason=WHY)
    assert cell(harbour, app, "openfield/early").coming == [], "the hours are missing"
    harbour.pass_hours(13)
    until(lambda: cell(harbour, app, "openfield/early").coming, bool)
    until(lambda: harbour.leg(app, "openfield").confirmed, bool)
    harbour.pass_hours(8, desk=False)
    early = until_held(harbour, app, "openfield/early", "1.0.0 rising")
    assert (early.share, early.confirmed, early.release) == (0.2, True, "1.0.0")

    with pytest.raises(NotReady, match="wants release notes in en"):
        tide.tracks.promote(app, "openfield/early", submit=True)
    second = tide.tracks.make_rule(app, "openfield/early", people=300, needs_go_ahead=True)
    tide.tracks.give_go_ahead(app, second.id, early.build, reason=WHY)
    until(lambda: cell(harbour, app, "openfield/production").coming, bool)
    assert harbour.leg(app, "openfield").phase == "draft", "a rule only drafts for production"
    tide.releases.write_notes(app, "1.0.0", "en", "What is new.")
    for store in ("northgate", "slatehouse"):
        tide.tracks.promote(app, f"{store}/{at[store]}", to="production")
    release = tide.releases.one(app, "1.0.0")
    assert [(leg.place, leg.phase) for leg in release.legs] == [
        ("northgate", "draft"), ("openfield", "draft"), ("openfield/early", "rising"), ("slatehouse", "draft"),
    ]  # fmt: skip
    handed_in(tide, app, "1.0.0")
    harbour.all_confirmed(app)
    harbour.pass_hours(60, desk=False)
    done = harbour.released(
        app, "1.0.0", lambda told: all(leg.launched_at and leg.confirmed and leg.seen for leg in told.legs)
    )
    assert {leg.place for leg in done.legs if leg.phase == "rising"} >= {"northgate", "openfield", "slatehouse"}
    assert len([round_ for leg in done.legs if leg.place == "openfield" for round_ in leg.rounds]) == 1
    assert {store: bytes_taken(harbour, store) for store in at} == taken, "nothing was sent again"
    shown = tide.tracks.one(app, "openfield/early")
    lines = [line.act for past in shown.history for line in past.lines]
    assert {"build placed", "launch"} <= set(lines)


def test_a_halt_stops_a_version_on_every_track(harbour: Harbour) -> None:
    app = on_early(harbour)
    harbour.tide.tracks.promote(app, "openfield/early", submit=True, notes={"en": "What is new."})
    harbour.all_confirmed(app)
    release = harbour.released(
        app, "1.0.0", lambda told: all(leg.phase == "rising" and leg.confirmed for leg in told.legs)
    )
    assert [leg.place for leg in release.legs] == ["openfield", "openfield/early"]
    harbour.tide.releases.steer(app, "1.0.0", "halt", reason=WHY)
    harbour.all_confirmed(app)
    there = {rollout["track"]: rollout["state"] for rollout in harbour.rollouts("openfield", app)}
    assert there == {"early": "halted", "production": "halted"}
    harbour.tide.releases.steer(app, "1.0.0", "resume", reason=WHY, store="openfield/early")
    harbour.all_confirmed(app)
    assert {leg.place: leg.phase for leg in harbour.tide.releases.one(app, "1.0.0").legs} == {
        "openfield": "halted", "openfield/early": "rising",
    }  # fmt: skip
    with pytest.raises(ImpossibleAct, match="is halted on openfield; it cannot be promoted"):
        harbour.tide.tracks.promote(app, "openfield/production", to="early", build="1.0.0")


def test_a_fix_with_a_lower_number_is_foreseen_as_not_reaching_early_users(harbour: Harbour) -> None:
    app = harbour.new_app()
    crew(harbour, app, "wren", "tam")
    fix = harbour.ready_build(app, "openfield", "1.0.1", 1)
    move_to_early(harbour, app, "1.1.0", 2)
    told = found(harbour.tide.tracks.sheet(app, fix, ["openfield"]))
    assert (
        "20% of 1600 people on Early have 1.1.0 (2) and keep it: they do not receive 1.0.1 (1)"
        in told["higher-number-elsewhere"]
    )
    assert harbour.tide.tracks.people(app, "openfield", chosen=["early"], country="AT")[1].version == "1.1.0"
    people = harbour.tide.tracks.people(app, "openfield", chosen=["early"])
    assert [(entry.version, round(entry.share, 2)) for entry in people] == [(None, 0.8), ("1.1.0", 0.2)]
    assert [(entry.version, entry.share) for entry in harbour.tide.tracks.people(app, "openfield", cohort="crew")] == [
        ("1.1.0", 1.0)
    ]
    row = next(row for row in harbour.tide.watching.overview().rows if row.app == app and row.store == "openfield")
    assert [(entry.version, entry.track_title, entry.share) for entry in row.also_on] == [("1.1.0", "Early", 0.2)]
    assert row.version is None, "nothing goes to production"


# acts


def test_what_is_not_there_is_sent_first_and_handed_in_when_it_is_ready(harbour: Harbour) -> None:
    app = harbour.new_app()
    crew(harbour, app, "wren")
    sha256 = harbour.tide.builds.hand_over(harbour.package(app, "openfield"))[0]
    build = harbour.tide.builds.enter(app, [sha256]).id
    (sheet,) = harbour.tide.tracks.sheet(app, build, ["openfield/workbench"], contact="ida@example.org")
    assert (sheet.sends, sheet.cohorts, sheet.people) == (True, ["crew"], 1)
    (placed,) = harbour.tide.tracks.place(app, build, ["openfield/workbench"])
    assert placed.sent
    until(lambda: harbour.tide.builds.one(build).consignments[0].state, lambda state: state == "processing")
    harbour.pass_hours(1, desk=False)
    until_held(harbour, app, "openfield/workbench", "1.0.0 open")
    with pytest.raises(NotReady, match=r"is on Workbench of Openfield already \(open\)"):
        harbour.tide.tracks.place(app, build, ["openfield/workbench"])


def test_a_leg_that_waits_for_its_build_is_handed_in_by_itself(harbour: Harbour) -> None:
    app = harbour.new_app()
    file = harbour.package(app, "openfield")
    how = {"notes": {"en": "What is new."}, "submit": True}
    sha256 = harbour.tide.builds.hand_over(file)[0]
    build = harbour.tide.builds.enter(app, [sha256]).id
    harbour.tide.tracks.place(app, build, ["openfield"], **how)
    assert harbour.leg(app, "openfield").phase == "draft"
    until(lambda: harbour.tide.builds.one(build).consignments[0].state, lambda state: state == "processing")
    harbour.pass_hours(1, desk=False)
    until(lambda: harbour.leg(app, "openfield").phase, lambda phase: phase == "under review")


def test_a_track_is_cleared_and_its_people_keep_what_they_have(harbour: Harbour) -> None:
    app = on_early(harbour)
    with pytest.raises(Invalid, match="Say why"):
        harbour.tide.tracks.clear(app, "openfield/early", " ")
    harbour.tide.tracks.promote(app, "openfield/early")
    with pytest.raises(Conflict, match="goes to openfield already"):
        harbour.tide.releases.add_leg(app, "1.0.0", "openfield/production", LegWanted(build="1.0.0"))
    assert harbour.tide.tracks.clear(app, "openfield/production", WHY).done == ["the draft of 1.0.0 is taken out"]
    assert [leg.place for leg in harbour.tide.releases.one(app, "1.0.0").legs] == ["openfield/early"]
    assert harbour.tide.tracks.clear(app, "openfield/early", WHY).done == ["1.0.0 is withdrawn"]
    assert harbour.tide.tracks.clear(app, "openfield/workbench", WHY).done == ["the trial of 1.0.0 (1) with crew ends"]
    until(
        lambda: [holds(harbour, app, f"openfield/{key}") for key in ("early", "workbench")],
        lambda seen: seen == [[], []],
    )
    with pytest.raises(ImpossibleAct, match="holds nothing"):
        harbour.tide.tracks.clear(app, "openfield/early", WHY)
    past = harbour.tide.tracks.one(app, "openfield/early").history[0]
    assert past.placement.until is not None
    assert any(line.reason == WHY for line in past.lines)


def test_a_track_of_the_teams_own_is_opened_used_and_closed(harbour: Harbour) -> None:
    app = harbour.new_app()
    crew(harbour, app, "edda", kind="guest", name="harbour")
    tracks = harbour.tide.tracks
    with pytest.raises(ImpossibleAct, match="Northgate lets no team open tracks"):
        tracks.open(app, "northgate/own")
    with pytest.raises(Conflict, match="has a track called early already"):
        tracks.open(app, "openfield/early")
    tracks.open(app, "openfield/pier", "The pier", reason=WHY)
    until(
        lambda: [entry.key for row in tracks.board(app).stores for entry in row.tracks if entry.own],
        lambda seen: seen == ["pier"],
    )
    tracks.rename(app, "openfield/pier", "The long pier")
    until(lambda: cell(harbour, app, "openfield/pier").title, lambda title: title == "The long pier")
    with pytest.raises(ImpossibleAct, match="the store's own track"):
        tracks.rename(app, "openfield/early", "Mine")
    with pytest.raises(Invalid, match="is not for guest cohorts"):
        harbour.tide.testing.attach(app, "harbour", "openfield", track="workbench")
    harbour.tide.testing.attach(app, "harbour", "openfield", track="pier")
    assert cell(harbour, app, "openfield/pier").cohorts == ["harbour"]
    build = harbour.ready_build(app, "openfield")
    tracks.place(app, build, ["openfield/pier"])
    until(lambda: harbour.tide.testing.trials(app), lambda trials: [trial.confirmed for trial in trials] == [True])
    (held,) = [
        trial
        for trial in harbour.control("openfield", "things/trial")
        if trial["number"] == "1" and trial["track"] == "pier"
    ]
    assert held["testers"] == [f"edda.{app}@example.org"]
    with pytest.raises(Conflict, match="a cohort uses one track there"):
        harbour.tide.testing.attach(app, "harbour", "openfield", track="porch")
    with pytest.raises(Conflict, match="still holds 1.0.0"):
        tracks.close(app, "openfield/pier")
    tracks.clear(app, "openfield/pier", WHY)
    until(lambda: harbour.tide.testing.trials(app), lambda trials: [trial.confirmed for trial in trials] == [True])
    tracks.close(app, "openfield/pier", reason=WHY)
    until(
        lambda: [entry.key for row in tracks.board(app).stores for entry in row.tracks if entry.own],
        lambda seen: not seen,
    )
    berth = next(entry["id"] for entry in harbour.control("openfield", "things/berth") if entry["reference"] == app)
    there = [entry for entry in harbour.control("openfield", "things/track") if entry["berth"] == berth]
    assert [(entry["key"], entry["title"], entry["closed"]) for entry in there] == [("pier", "The long pier", True)]
    for place in range(3):
        tracks.open(app, f"openfield/own{place}")
    with pytest.raises(Conflict, match="3 tracks of its own"):
        tracks.open(app, "openfield/own9")


def test_a_rank_is_a_track_of_every_store_and_never_production(harbour: Harbour) -> None:
    app = harbour.new_app()
    crew(harbour, app, "wren")
    build = harbour.ready_build(app, "openfield")
    sheets = harbour.tide.tracks.sheet(app, build, rank=1)
    assert [sheet.at for sheet in sheets] == ["openfield/workbench"], "Northgate carries another platform"
    assert "platform-differs" in found(harbour.tide.tracks.sheet(app, build, ["northgate/tryout"]))
    assert [sheet.at for sheet in harbour.tide.tracks.sheet(app, build, rank=2)] == ["openfield/porch"]
    with pytest.raises(Invalid, match="No store has a track of rank 7"):
        harbour.tide.tracks.place(app, build, rank=7)
    with pytest.raises(ImpossibleAct, match="No track of rank 1 offers a build"):
        harbour.tide.tracks.promote(app, rank=1)
    harbour.tide.tracks.place(app, build, rank=1)
    until_held(harbour, app, "openfield/workbench", "1.0.0 open")
    (drafted,) = harbour.tide.tracks.promote(app, rank=1, build="1.0.0", to="production")
    assert drafted.at == "openfield/production"
    with pytest.raises(Invalid, match="either the track that the build is on, or a rank"):
        harbour.tide.tracks.promote(app)


# rules


def test_a_rule_waits_for_crashes_and_says_what_stood_in_the_way(harbour: Harbour) -> None:
    app = harbour.new_app()
    crew(harbour, app, "wren", "tam")
    build = harbour.ready_build(app, "openfield")
    tracks = harbour.tide.tracks
    tracks.place(app, build, ["openfield/workbench"])
    until_held(harbour, app, "openfield/workbench", "1.0.0 open")
    report = harbour.tide.reports.file(app, kind="crash", stack="x.E: a\n\tat a.b(C.java:1)", build=build)
    rule = tracks.make_rule(app, "openfield/workbench", to="early", no_open=["crash"])
    assert [under.missing for under in rule.builds] == [["1 crash report is open"]]
    harbour.tide.reports.decide(report.id, "close", reason=WHY)

    def trouble() -> str | None:
        return next((under.trouble for entry in tracks.rules(app) for under in entry.builds), None)

    until(trouble, lambda seen: seen is not None and "Workbench" in seen)
    harbour.pass_hours(13)
    tracks.try_again(app, rule.id, build)
    until(lambda: cell(harbour, app, "openfield/early").coming, bool)
    tracks.end_rule(app, rule.id, reason=WHY)
    assert tracks.rules(app) == []
    with pytest.raises(ImpossibleAct, match="has ended already"):
        tracks.end_rule(app, rule.id)


def test_a_rule_that_asks_nothing_or_cannot_see_is_none(harbour: Harbour) -> None:
    app = harbour.new_app()
    tracks = harbour.tide.tracks
    for source, asks, said in (
        ("openfield/workbench", {}, "A rule asks for something"),
        ("openfield/production", {"hours": 1}, "Nothing comes after Production"),
        ("openfield/workbench", {"hours": 1, "to": "workbench"}, "Nothing comes after Workbench"),
        ("openfield/early", {"crash_free": 0.99}, "is not known here"),
        ("openfield/shoal", {"hours": 1}, "has no track 'shoal'"),
    ):
        with pytest.raises(Invalid, match=said):
            tracks.make_rule(app, source, **asks)
    tracks.make_rule(app, "openfield/workbench", hours=1)
    with pytest.raises(Conflict, match="is there already"):
        tracks.make_rule(app, "openfield/workbench", hours=2)
    with pytest.raises(NotFound, match="No rule has the id"):
        tracks.end_rule(harbour.new_app(), tracks.rules(app)[0].id)


# bad input


def test_what_is_no_track_is_refused_and_a_build_server_stays_with_the_cohorts(harbour: Harbour) -> None:
    app = harbour.new_app()
    crew(harbour, app, "wren")
    build = harbour.ready_build(app, "openfield")
    tracks = harbour.tide.tracks
    for at, said in (
        ("openfield/shoal", "has no track 'shoal'"),
        ("openfield/", "names no track"),
        ("nowhere/early", "no open berth at nowhere"),
    ):
        with pytest.raises(Invalid, match=said):
            tracks.place(app, build, [at])
    with pytest.raises(Invalid, match="No track was named"):
        tracks.place(app, build, [])
    with pytest.raises(NotReady, match="No cohort uses Porch"):
        tracks.place(app, build, ["openfield/porch"])
    with pytest.raises(Invalid, match="Workbench of openfield is for cohorts"):
        harbour.tide.releases.draft(app, "1.0.0", legs={"openfield/workbench": LegWanted(build=build)})
    token = harbour.tide.people.make_token("build server", apps=[app]).value
    headers = {"Authorization": f"Bearer {token}"}
    for at, status in (("openfield/early", 403), ("openfield", 403), ("openfield/workbench", 202)):
        body = {"build": build, "at": [at]}
        answer = httpx.post(f"{harbour.address}/v1/apps/{app}/placements", json=body, headers=headers, **OPENLY)
        assert answer.status_code == status, answer.text
    refused = httpx.post(f"{harbour.address}/v1/apps/{app}/promotions", json={"rank": 1}, headers=headers, **OPENLY)
    assert refused.json()["code"] == Denied("", code="token-limited").code


def test_two_people_who_promote_different_builds_at_once_do_not_undo_each_other(harbour: Harbour) -> None:
    app = on_early(harbour)
    first = harbour.tide.builds.of_app(app)[0].id
    second = move_to_early(harbour, app, "1.1.0", 2)
    notes = {"en": "What is new."}
    harbour.tide.tracks.place(app, first, ["openfield"], submit=True, notes=notes)
    told = found(harbour.tide.tracks.sheet(app, second, ["openfield"], submit=True, notes=notes))
    assert "another-is-coming" in told
    harbour.tide.tracks.place(app, second, ["openfield"], submit=True, notes=notes)
    until(
        lambda: sorted(
            leg.phase
            for version in ("1.0.0", "1.1.0")
            for leg in harbour.tide.releases.one(app, version).legs
            if leg.place == "openfield"
        ),
        lambda phases: phases == ["rising", "superseded"],
    )  # fmt: skip


# by commands


@pytest.fixture
def tide(harbour: Harbour, tmp_path: Path) -> Terminal:
    return Terminal(harbour, tmp_path)


def test_a_build_moves_up_by_commands(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    of = ("--app", app)
    listed = tide("track", "list", *of, "--store", "openfield").stdout
    assert "0 people, for guest and walk-in cohorts; none is here" in listed
    assert "who chose it" in listed
    crew(harbour, app, "wren", "tam")
    pushed = tide("build", "push", str(harbour.package(app, "openfield")), *of, "--track", "openfield/workbench")
    assert "is drafted. It begins once Openfield has the build ready." in pushed.stdout
    until(lambda: harbour.tide.builds.of_app(app)[0].consignments[0].state, lambda state: state == "processing")
    harbour.pass_hours(1, desk=False)
    until_held(harbour, app, "openfield/workbench", "1.0.0 open")
    early = tide("track", "promote", "openfield/workbench", "--to", "early", *of, "--dry-run")
    assert (early.returncode, "blocker" in early.stdout) == (1, True)
    refused = tide("track", "promote", "openfield/workbench", "--to", "early", *of)
    assert (refused.returncode, "needs 12 more hours" in refused.stderr) == (1, True)
    (sheet,) = tide.json("track", "promote", "openfield/workbench", "--to", "production", *of, "--dry-run")
    assert (sheet["drafts"], sheet["sends"], sheet["source"]) == (True, False, "openfield/workbench")
    drafted = tide("track", "promote", "openfield/workbench", "--to", "production", *of, "--reason", WHY)
    assert f"1.0.0 is drafted. Look, and hand it in: tide release look 1.0.0 --app {app}" in drafted.stdout
    shown = tide("track", "show", "openfield", *of).stdout
    assert "comes next: 1.0.0 (1) draft" in shown
    assert f"build placed by Ida Fenwick: {WHY}" in shown
    assert tide.json("track", "people", "openfield", *of, "--cohort", "crew")[0]["version"] == "1.0.0"
    assert "no build" in tide("track", "people", "openfield", *of).stdout
    assert "1.0.0 (1)" in tide("track", "list", *of, "--find", "workbench").stdout
    cleared = tide("track", "clear", "openfield/workbench", *of, "--reason", WHY, "--yes")
    assert "the trial of 1.0.0 (1) with crew ends" in cleared.stdout
    assert tide("track", "place", *of, "--build", "latest").stderr.startswith("No track was named.")
    assert "name either the track that the build is on, or a rank" in tide("track", "promote", *of).stderr
    assert "has no open berth at nowhere" in tide("track", "list", *of, "--store", "nowhere").stderr


def test_own_tracks_and_rules_by_commands(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    of = ("--app", app)
    assert "ordered" in tide("track", "open", "openfield/pier", *of, "--title", "The pier").stdout
    until(
        lambda: [entry.key for row in harbour.tide.tracks.board(app).stores for entry in row.tracks if entry.own],
        lambda seen: seen == ["pier"],
    )
    assert (
        "the title Long pier is ordered" in tide("track", "rename", "openfield/pier", *of, "--to", "Long pier").stdout
    )
    assert "closing is ordered" in tide("track", "close", "openfield/pier", *of).stdout
    assert "No rule is there" in tide("rule", "list", *of).stdout
    made = tide.json(
        "rule", "add", "openfield/workbench", *of, "--hours", "12", "--people", "2", "--crash-free", "99.5", "--no-open", "crash",
        "--go-ahead",
    )  # fmt: skip
    assert made["asks"] == "12 hours, 2 people, 99.50% of sessions without a crash, no open crash report, a go-ahead"
    assert "openfield/porch" in tide("rule", "list", *of).stdout
    crew(harbour, app, "wren")
    build = harbour.ready_build(app, "openfield")
    harbour.tide.tracks.place(app, build, ["openfield/workbench"])
    until_held(harbour, app, "openfield/workbench", "1.0.0 open")
    given = tide("rule", "go-ahead", made["id"], *of, "--build", "1.0.0").stdout
    assert "1 of 2 people have it" in given
    assert "the go-ahead" not in given.partition("waits:")[2]
    assert "Nothing keeps this build" in tide("rule", "retry", made["id"], *of, "--build", "1.0.0").stderr
    assert "Nothing moves by this rule" in tide("rule", "end", made["id"], *of).stdout


# what changes at the store


def test_a_go_ahead_that_a_rule_waits_for_is_among_what_needs_you(harbour: Harbour) -> None:
    app = on_early(harbour)
    rule = harbour.tide.tracks.make_rule(app, "openfield/early", needs_go_ahead=True)

    def told() -> list[str]:
        return [call.said for call in harbour.tide.watching.overview().desk_calls if call.said.startswith(app.title())]

    assert told() == [f"{app.title()}: 1.0.0 (1) from Early to Production of openfield waits for your go-ahead."]
    harbour.tide.tracks.give_go_ahead(app, rule.id, "1.0.0")
    until(lambda: cell(harbour, app, "openfield/production").coming, bool)
    assert told() == []


def test_a_track_that_is_closed_on_the_stores_own_pages_is_told_and_keeps_nobody(harbour: Harbour) -> None:
    app = harbour.new_app()
    crew(harbour, app, "edda", kind="guest", name="harbour")
    harbour.tide.tracks.open(app, "openfield/pier", "The pier")
    until(lambda: "pier" in {entry.key for row in harbour.tide.tracks.board(app).stores for entry in row.tracks}, bool)
    harbour.tide.testing.attach(app, "harbour", "openfield", track="pier")
    build = harbour.ready_build(app, "openfield")
    berth = next(entry["id"] for entry in harbour.control("openfield", "things/berth") if entry["reference"] == app)
    harbour.control("openfield", f"tracks/{berth}/pier/close", {})
    until(
        lambda: "pier" in {entry.key for row in harbour.tide.tracks.board(app).stores for entry in row.tracks},
        lambda seen: not seen,
    )
    line = next(line for line in harbour.tide.watching.logbook(app=app) if line.act == "track changed")
    assert (line.who, line.after) == ("openfield (store)", {"title": "The pier", "state": "closed"})
    with pytest.raises(Invalid, match="has no track 'pier'"):
        harbour.tide.tracks.place(app, build, ["openfield/pier"])
    sheet = harbour.tide.testing.sheet(
        app, TrialWanted(cohorts=["harbour"], build=build, brief={"en": "x"}, contact="ida@example.org")
    )
    assert "no longer has the track pier" in found(sheet.plans)["track-gone"]


def test_a_revision_that_takes_a_track_away_names_who_is_on_it(coast: Harbour) -> None:
    app = coast.new_app()
    crew(coast, app, "wren")
    build = coast.ready_build(app, "slatehouse")
    coast.tide.tracks.place(app, build, ["slatehouse/preview"], notes={"en": "Maps with contour lines."})
    rules = read_rulebook((RULEBOOKS / "slatehouse.toml").read_text(encoding="utf-8"))
    kept = rules.model_dump(mode="json")
    for key in ("preview", "floor"):
        del kept["tracks"][key]
    kept["tracks"]["production"]["review_holds_from"] = []
    kept["tracks"]["deck"] = {"title": "Deck", "audience": "cohorts", "kinds": ["crew", "guest"], "rank": 1}
    kept |= {"revision": "next", "in_force_since": "2031-01-01T00:00:00Z"}
    coast.control("slatehouse", "rulebook", {"rulebook": kept, "in_hours": 240})
    store = until(lambda: coast.tide.stores.one("slatehouse"), lambda told: told.announced)
    said = [line for hit in store.announced.hits for line in hit.said]
    assert "The track Preview goes: 1.0.0 stands there." in said
    assert "The track Floor goes: cohort crew gets builds over it." in said
