"""A slip is taken back, and what cannot be taken back is refused with what hangs on it."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from restless_tide.client import Conflict, ImpossibleAct, Invalid, NotFound
from restless_tide.wire.cohorts import TrialWanted
from restless_tide.wire.releases import LegWanted
from tests.harbour import Harbour, until
from tests.service.test_cli import Terminal


@pytest.fixture
def tide(harbour: Harbour, tmp_path: Path) -> Terminal:
    return Terminal(harbour, tmp_path)


def told(done: subprocess.CompletedProcess[str], code: int = 0) -> str:
    assert done.returncode == code, done.stdout + done.stderr
    return done.stdout + done.stderr


def acts(harbour: Harbour, app: str) -> list[str]:
    return [line.act for line in harbour.tide.watching.logbook(app=app, limit=20)]


def test_a_draft_is_discarded_until_it_was_handed_in(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    harbour.tide.releases.draft(app, "1.0.0", legs={"openfield": LegWanted(build=build)}, notes={"en": "New."})
    harbour.tide.releases.discard(app, "1.0.0")
    with pytest.raises(NotFound):
        harbour.tide.releases.one(app, "1.0.0")
    assert acts(harbour, app)[0] == "draft discarded"
    harbour.tide.releases.draft(app, "1.0.0", legs={"openfield": LegWanted(build=build)}, notes={"en": "New."})
    harbour.submit(app, "1.0.0")
    with pytest.raises(ImpossibleAct, match="handed in at openfield and is under review") as late:
        harbour.tide.releases.discard(app, "1.0.0")
    assert late.value.possible == ("recall",)
    assert harbour.leg(app, "openfield").possible == ["recall"]


def test_a_store_is_taken_into_a_release_and_out_of_it(harbour: Harbour) -> None:
    app = harbour.new_app()
    apk, ipa = harbour.ready_build(app, "openfield"), harbour.ready_build(app, "northgate")
    harbour.tide.releases.draft(app, "1.0.0", legs={"openfield": LegWanted(build=apk)}, notes={"en": "New."})
    both = harbour.tide.releases.add_leg(app, "1.0.0", "northgate", LegWanted(build="latest", ladder="10@24,100"))
    assert {leg.store: leg.build for leg in both.legs} == {"openfield": apk, "northgate": ipa}
    with pytest.raises(Conflict, match="goes to northgate already"):
        harbour.tide.releases.add_leg(app, "1.0.0", "northgate", LegWanted(build="latest"))
    one = harbour.tide.releases.drop_leg(app, "1.0.0", "openfield")
    assert [leg.store for leg in one.legs] == ["northgate"]
    with pytest.raises(ImpossibleAct, match="discard the draft instead"):
        harbour.tide.releases.drop_leg(app, "1.0.0", "northgate")
    harbour.tide.releases.add_leg(app, "1.0.0", "openfield", LegWanted(build="latest"))
    harbour.submit(app, "1.0.0", store="openfield")
    with pytest.raises(ImpossibleAct, match="it stays, with its history"):
        harbour.tide.releases.drop_leg(app, "1.0.0", "openfield")


def test_the_rest_of_a_ladder_is_changed_half_way(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("northgate",))
    before = harbour.leg(app, "northgate")
    assert [stage.share for stage in before.ladder] == [0.05, 0.2, 0.5, 1.0]
    harbour.tide.releases.change_leg(app, "1.0.0", "northgate", ladder="8@12,30@24,100")
    leg = harbour.leg(app, "northgate")
    assert [stage.share for stage in leg.ladder] == [0.05, 0.08, 0.3, 1.0]
    assert (leg.share, leg.stage, leg.stage_ends_at) == (0.05, 0, before.stage_ends_at)
    with pytest.raises(Invalid, match="begins above 5%"):
        harbour.tide.releases.change_leg(app, "1.0.0", "northgate", ladder="5@12,100")
    with pytest.raises(ImpossibleAct, match="ladder or conditions cannot be changed"):
        harbour.tide.releases.change_leg(app, "1.0.0", "northgate", needs_go_ahead=True)
    harbour.pass_hours(24.1)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].share == 0.08 and seen.legs[0].confirmed)


def test_an_apps_title_and_unused_identifier_are_corrected_and_an_empty_app_removed(harbour: Harbour) -> None:
    tide = harbour.tide
    name = harbour.new_app() + "x"
    tide.apps.register(name, title="Maram", identifiers={"android": "org.example.maram"})
    changed = tide.apps.change(
        name, title="Marram", identifiers={"android": "org.example.marram", "ios": "org.example.m"}
    )
    assert (changed.title, changed.identifiers) == ("Marram", {"android": "org.example.marram", "ios": "org.example.m"})
    assert tide.apps.change(name, identifiers={"ios": ""}).identifiers == {"android": "org.example.marram"}
    for wrong, error in (({"android": "no dots"}, "no identifier"), ({"android": ""}, "at least one platform")):
        with pytest.raises(Invalid, match=error):
            tide.apps.change(name, identifiers=wrong)
    tide.testing.make_cohort(name, "crew", stores=[])
    with pytest.raises(Conflict, match="cannot be removed: 1 cohort"):
        tide.apps.remove(name)
    tide.testing.remove_cohort(name, "crew")
    tide.apps.remove(name)
    with pytest.raises(NotFound):
        tide.apps.one(name)
    used = harbour.new_app()
    harbour.ready_build(used, "openfield")
    with pytest.raises(Conflict, match=r"1 build\(s\) and its place at openfield"):
        tide.apps.change(used, identifiers={"android": "org.example.other"})
    assert tide.apps.change(used, title="Better").title == "Better"


def test_a_cohort_is_renamed_with_everything_in_it_and_removed_while_nothing_was_handed_to_it(
    harbour: Harbour,
) -> None:
    app = harbour.new_app()
    harbour.tide.testing.make_cohort(app, "crwe")
    harbour.tide.testing.make_cohort(app, "others")
    harbour.tide.testing.add_tester(app, "crwe", f"wren.{app}@example.org")
    assert harbour.tide.testing.rename_cohort(app, "crwe", "crew").testers == 1
    for taken in ("others", "Not A Name!"):
        with pytest.raises((Conflict, Invalid)):
            harbour.tide.testing.rename_cohort(app, "crew", taken)
    build = harbour.ready_build(app, "openfield")
    harbour.tide.testing.open_trial(
        app, cohort="crew", build=build, store="openfield", notes="Look.", contact="ida@example.org"
    )
    with pytest.raises(Conflict, match="1 trial"):
        harbour.tide.testing.remove_cohort(app, "crew")
    harbour.tide.testing.remove_cohort(app, "others")
    assert [cohort.name for cohort in harbour.tide.testing.cohorts(app)] == ["crew"]


def test_slips_are_taken_back_by_command(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.ready_build(app, "openfield")
    harbour.ready_build(app, "northgate")
    for words, said in (
        (("release", "draft", "1.0.0", "--app", app, "--leg", "openfield"), "1.0.0"),
        (("release", "add-leg", "1.0.0", "--app", app, "--leg", "northgate"), "Northgate"),
        (("release", "drop-leg", "1.0.0", "--app", app, "--store", "openfield"), "no longer goes to openfield"),
        (("release", "discard", "1.0.0", "--app", app, "--yes"), "is discarded"),
        (("cohort", "add", "crwe", "--app", app), "crwe"),
        (("cohort", "rename", "crwe", "--app", app, "--to", "crew"), "is called crew now"),
        (("cohort", "remove", "crew", "--app", app, "--yes"), "is removed"),
        (("app", "change", app, "--title", "Marram"), "is Marram"),
    ):
        done = tide(*words)
        assert (done.returncode, said in done.stdout) == (0, True), done
    kept = tide("app", "remove", app, "--yes")
    assert (kept.returncode, "cannot be removed" in kept.stderr) == (1, True)


def test_an_app_is_retired_once_nothing_is_under_way_and_restored(harbour: Harbour, tide: Terminal) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("northgate",))
    with pytest.raises(ImpossibleAct, match="is rising at Northgate: finish it, or withdraw it"):
        harbour.tide.apps.retire(app)
    harbour.tide.releases.steer(app, "1.0.0", "finish", reason="all well")
    harbour.all_confirmed(app)
    assert "1.0.0 stays on offer at Northgate" in harbour.tide.apps.outlook(app).stays[0]
    assert "is retired" in told(tide("app", "retire", app, "--yes", "--reason", "sold"))
    assert app not in {row.app for row in harbour.tide.watching.overview().rows}
    assert app not in told(tide("app", "list"))
    assert "(retired)" in told(tide("app", "list", "--retired"))
    with pytest.raises(Conflict, match="nothing new begins with it"):
        harbour.push(harbour.package(app, "northgate", "1.1.0", 2), app=app, store="northgate")
    harbour.tide.releases.steer(app, "1.0.0", "withdraw", reason="what is out can still be stopped")
    with pytest.raises(Conflict, match="nothing new begins with it"):
        harbour.submit(app, "1.0.0")
    harbour.all_confirmed(app)
    assert app not in {row.app for row in harbour.tide.watching.overview().rows}
    assert "is in use again" in told(tide("app", "restore", app))
    assert acts(harbour, app)[0] == "app in use again"
    assert app in {row.app for row in harbour.tide.watching.overview().rows}


def test_a_cohort_is_retired_with_its_link_and_a_closed_trial_reopened(harbour: Harbour, tide: Terminal) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    harbour.tide.testing.make_cohort(app, "crew")
    harbour.tide.testing.add_tester(app, "crew", f"ida.{app}@example.org")
    wanted = TrialWanted.model_validate(
        {
            "build": build,
            "cohorts": ["crew"],
            "stores": ["openfield"],
            "brief": {"en": "Walk."},
            "contact": "i@example.org",
        }
    )
    (trial,) = harbour.tide.testing.open_trials(app, wanted)
    until(lambda: harbour.tide.testing.trial(trial.id), lambda seen: seen.state == "open" and seen.confirmed)
    with pytest.raises(ImpossibleAct, match="with crew at Openfield is open: close it"):
        harbour.tide.testing.retire_cohort(app, "crew")
    with pytest.raises(ImpossibleAct, match="only one that was closed"):
        harbour.tide.testing.reopen_trial(trial.id)
    harbour.tide.testing.close_trial(trial.id, reason="a slip")
    assert "open" in told(tide("trial", "reopen", "crew", "--app", app, "--reason", "it was a slip"))
    again = harbour.tide.testing.trials(app)[0]
    assert again.id != trial.id
    assert (again.build, again.brief, again.state) == (build, {"en": "Walk."}, "open")
    harbour.tide.testing.close_trial(again.id)
    assert "is retired" in told(tide("cohort", "retire", "crew", "--app", app, "--yes"))
    with pytest.raises(Conflict, match="gets no builds and no people"):
        harbour.tide.testing.add_tester(app, "crew", f"jon.{app}@example.org")
    with pytest.raises(Conflict, match="crew is retired"):
        harbour.tide.testing.reopen_trial(again.id)
    assert "in use again" in told(tide("cohort", "restore", "crew", "--app", app))
    harbour.tide.testing.add_tester(app, "crew", f"jon.{app}@example.org")


def test_a_berth_is_renamed_when_the_store_agrees(harbour: Harbour, tide: Terminal) -> None:
    app, other = harbour.new_app(), harbour.new_app()
    assert "lists it as Marram" in told(
        tide("berth", "rename", "--app", app, "--store", "openfield", "--to", f"Marram {app}")
    )
    assert harbour.tide.apps.berth(app, "openfield").listed_name == f"Marram {app}"
    taken = harbour.tide.apps.berth(other, "openfield").listed_name
    assert "refused the name" in told(tide("berth", "rename", "--app", app, "--store", "openfield", "--to", taken), 1)
    assert harbour.tide.apps.berth(app, "openfield").listed_name == f"Marram {app}"
    with pytest.raises(Invalid, match="characters at most"):
        harbour.tide.apps.rename_berth(app, "openfield", "M" * 200)


def test_a_store_is_disconnected_and_connected_again(tmp_path: Path) -> None:
    there = Harbour.open(tmp_path / "coast", stores=("openfield",))
    try:
        there.connect_stores()
        tide, app = Terminal(there, tmp_path), there.new_app()
        there.risen(app, stores=("openfield",))
        with pytest.raises(ImpossibleAct, match="is rising at Openfield: finish it, or withdraw it"):
            there.tide.stores.disconnect("openfield")
        there.tide.releases.steer(app, "1.0.0", "finish", reason="all well")
        there.all_confirmed(app)
        assert any("can no longer be stopped" in line for line in there.tide.stores.outlook("openfield").stays)
        assert "is disconnected" in told(tide("store", "disconnect", "openfield", "--yes"))
        gone = there.tide.stores.one("openfield")
        assert gone.disconnected_at is not None
        assert not gone.pushes
        assert not gone.hand_carried
        assert "disconnected" in told(tide("store", "list"))
        with pytest.raises(Conflict, match="nothing is ordered of it"):
            there.tide.releases.steer(app, "1.0.0", "withdraw", reason="gone")
        with pytest.raises(Invalid, match="no connected store"):
            there.tide.stores.drill_halt()
        assert not there.tide.watching.overview().store_calls
        there.connect_stores()
        assert there.tide.stores.one("openfield").disconnected_at is None
        there.tide.releases.steer(app, "1.0.0", "withdraw", reason="back")
        there.all_confirmed(app)
        assert [line.act for line in there.tide.watching.logbook(limit=50) if line.subject == "store openfield"] == [
            "store connected again",
            "store disconnected",
            "store connected",
        ]
    finally:
        there.close()


def test_a_draft_gets_another_version_until_it_was_handed_in(harbour: Harbour, tide: Terminal) -> None:
    app = harbour.new_app()
    for number, version in enumerate(("1.0.0", "1.1.0", "1.2.0"), 1):
        build = harbour.ready_build(app, "openfield", version, number)
        if version != "1.1.0":
            harbour.tide.releases.draft(app, version, legs={"openfield": LegWanted(build=build)}, notes={"en": "New."})
    with pytest.raises(Invalid, match="has no build of 3"):
        harbour.tide.releases.rename(app, "1.0.0", "3.0.0")
    assert "1.1.0" in told(tide("release", "rename", "1.0.0", "--app", app, "--to", "1.1.0"))
    with pytest.raises(Conflict, match=r"1\.2\.0 is drafted already"):
        harbour.tide.releases.rename(app, "1.1.0", "1.2.0")
    assert harbour.leg(app, "openfield", "1.1.0").build_label == "1.1.0 (2)"
    assert acts(harbour, app)[:2] == ["leg changed", "release renamed"]
    harbour.submit(app, "1.1.0")
    with pytest.raises(ImpossibleAct, match="handed in at openfield"):
        harbour.tide.releases.rename(app, "1.1.0", "1.3.0")
