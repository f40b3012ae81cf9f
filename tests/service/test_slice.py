"""The main job through the client and a real service: from a package to a halted rollout in two stores."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from pathlib import Path

import httpx
import pytest

from restless_tide.client import Conflict, ImpossibleAct, Invalid, NotFound, NotReady, StaleView
from restless_tide.core.numbers import BuildNumber
from restless_tide.wire.releases import LegWanted, OptionTold
from tests.harbour import PLACE, Harbour, leg_of, until
from tests.patience import OPENLY
from tests.toolchain import Recipe, badging, make_apk, make_ipa, make_profile


def test_a_taken_name_is_refused_with_the_stores_reason_and_can_be_tried_again(harbour: Harbour) -> None:
    name = "dunebook"
    harbour.control("openfield", "mischief", {"taken_names": ["Dunebook"]})
    harbour.tide.apps.register(name, title="Dunebook", identifiers={"android": "org.example.dunebook"})
    harbour.tide.apps.open_berth(name, "openfield")
    refused = until(lambda: harbour.tide.apps.berth(name, "openfield"), lambda berth: berth.state == "refused")
    assert refused.refused_because == "The name 'Dunebook' is taken by someone else."
    row = next(row for row in harbour.tide.watching.overview().rows if row.app == name)
    assert "taken" in row.calls[0].said
    harbour.tide.apps.open_berth(name, "openfield", listed_name="Dunebook Diary")
    opened = until(lambda: harbour.tide.apps.berth(name, "openfield"), lambda berth: berth.state == "open")
    assert (opened.listed_name, opened.refused_because) == ("Dunebook Diary", None)
    with pytest.raises(Conflict, match="is open already"):
        harbour.tide.apps.open_berth(name, "openfield")


@pytest.mark.toolchain
def test_a_package_of_the_real_tool_chain_and_a_hand_built_one_go_the_whole_way(
    harbour: Harbour, tmp_path: Path
) -> None:
    app = harbour.new_app()
    identifier = f"org.example.saltgrass.{app}"
    apk = make_apk(tmp_path / "real", Recipe(identifier=identifier, version="2.4.0", number=17))
    profile = make_profile(tmp_path, {"Entitlements": {"application-identifier": f"SALT1.{identifier}"}})
    ipa = make_ipa(tmp_path / "hand.ipa", identifier=identifier, version="2.4.0", number="1", profile=profile)
    sent = {store: harbour.processing(file, app, store) for store, file in (("openfield", apk), ("northgate", ipa))}
    for consignment in sent.values():
        until(
            lambda entry=consignment: harbour.tide.builds.consignment(entry.id), lambda seen: seen.state == "processing"
        )
    harbour.pass_hours(1, desk=False)
    held = until(lambda: harbour.tide.builds.consignment(sent["openfield"].id), lambda seen: seen.state == "held")
    assert [question.code for question in held.questions] == ["rings-when-locked"]
    with pytest.raises(Invalid, match="choose yes or no"):
        harbour.tide.builds.answer(held.id, {"rings-when-locked": "perhaps"})
    with pytest.raises(Invalid, match="not answered"):
        harbour.tide.builds.answer(held.id, {})
    harbour.tide.builds.answer(held.id, {"rings-when-locked": "no"})
    for consignment in sent.values():
        until(lambda entry=consignment: harbour.tide.builds.consignment(entry.id), lambda seen: seen.state == "ready")
    facts = harbour.tide.builds.one(sent["openfield"].build).packages[0]
    assert (facts.identifier, facts.version, facts.number.text, facts.label) == (
        badging(apk).identifier,
        "2.4.0",
        "17",
        "Marram",
    )

    legs = {store: LegWanted(build=entry.build) for store, entry in sent.items()}
    harbour.tide.releases.draft(app, "2.4.0", legs=legs, notes={"en": "Dune maps."})
    harbour.approve(app, "2.4.0")
    risen = harbour.released(
        app, "2.4.0", lambda seen: all(leg.phase == "rising" and leg.confirmed for leg in seen.legs)
    )
    assert {leg.store: leg.share for leg in risen.legs} == {"northgate": 0.05, "openfield": 0.02}

    done = harbour.tide.releases.steer(app, "2.4.0", "halt", reason="crashes on start")
    assert all(outcome.ordered for outcome in done.outcomes)
    halted = harbour.released(
        app, "2.4.0", lambda seen: all(leg.confirmed and leg.seen and leg.seen.state == "halted" for leg in seen.legs)
    )
    assert {leg.phase for leg in halted.legs} == {"halted"}
    for store in ("northgate", "openfield"):
        assert [rollout["state"] for rollout in harbour.rollouts(store, app)] == ["halted"]
    told = [(line.act, line.who, line.reason) for line in harbour.tide.watching.logbook(app=app) if line.act == "halt"]
    assert told == [("halt", "Ida Fenwick", "crashes on start")] * 2


def test_the_same_file_twice_is_one_build(harbour: Harbour) -> None:
    app = harbour.new_app()
    file = harbour.package(app, "northgate")
    first = harbour.push(file, app=app, store="northgate")
    sha256, known_before = harbour.tide.builds.hand_over(file)
    again = harbour.tide.builds.enter(app, [sha256])
    assert known_before
    assert (again.id, again.known_before) == (first.build, True)
    assert harbour.push(file, app=app, store="northgate").id == first.id


def test_another_file_under_the_same_number_is_refused(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.ready_build(app, "northgate")
    other = harbour.package(app, "northgate", permissions=("NSCameraUsageDescription",))
    with pytest.raises(Conflict, match="with other bytes"):
        harbour.push(other, app=app, store="northgate")


def test_what_does_not_fit_is_refused_before_a_byte_goes_to_the_store(harbour: Harbour) -> None:
    app, stranger = harbour.new_app(), harbour.new_app()
    harbour.ready_build(app, "openfield", "1.0.0", 7)
    uploads = len(harbour.control("openfield", "things/upload"))
    with pytest.raises(NotReady, match="Number 7 is not above 7") as late:
        harbour.push(harbour.package(app, "openfield", "1.1.0", 7), app=app, store="openfield")
    assert "number 8 or higher" in late.value.remedy
    with pytest.raises(NotReady, match="The package says it is"):
        harbour.push(harbour.package(stranger, "openfield", "1.0.0", 9), app=app, store="openfield")
    with pytest.raises(NotReady, match="takes apk, aab; this is ipa"):
        harbour.push(harbour.package(app, "northgate", "1.2.0", 9), app=app, store="openfield")
    with pytest.raises(NotReady, match="targets platform level 28"):
        harbour.push(harbour.package(app, "openfield", "1.2.0", 10, target_platform=28), app=app, store="openfield")
    assert len(harbour.control("openfield", "things/upload")) == uploads


def test_the_store_judges_by_itself_and_its_reason_comes_back(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.control("openfield", "mischief", {"failing_rate": 1.0})
    consignment = harbour.processing(harbour.package(app, "openfield"), app, "openfield")
    harbour.pass_hours(1, desk=False)
    refused = until(lambda: harbour.tide.builds.consignment(consignment.id), lambda seen: seen.state == "refused")
    harbour.control("openfield", "mischief", {"failing_rate": 0.0})
    assert "could not be processed" in (refused.reason or "")
    assert harbour.tide.builds.next_numbers(app, "openfield").number == BuildNumber(2)


def test_the_next_number_comes_from_what_the_store_holds(harbour: Harbour) -> None:
    app = harbour.new_app()
    assert (
        harbour.tide.builds.next_numbers(app, "openfield").version,
        harbour.tide.builds.next_numbers(app, "openfield").number,
    ) == ("1.0.0", BuildNumber(1))
    harbour.risen(app, number=41)
    proposals = {
        store: harbour.tide.builds.next_numbers(app, store, step="minor") for store in ("northgate", "openfield")
    }
    assert {store: (found.version, str(found.number)) for store, found in proposals.items()} == {
        "northgate": ("1.1.0", "1"),
        "openfield": ("1.1.0", "42"),
    }
    assert any("restart with each version" in reason for reason in proposals["northgate"].reasons)
    assert any("rise for ever" in reason for reason in proposals["openfield"].reasons)


def test_testers_are_mailed_once_the_trial_is_open_and_accept_by_their_own_link(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    harbour.tide.testing.make_cohort(app, "crew", kind="crew")
    with pytest.raises(NotReady, match="Nobody is in crew"):
        harbour.tide.testing.open_trial(
            app, cohort="crew", build=build, store="openfield", notes="Look.", contact="ida@example.org"
        )
    address = f"wren.{app}@example.org"
    harbour.tide.testing.add_tester(app, "crew", address, name="Wren Aldous")
    trial = harbour.tide.testing.open_trial(
        app, cohort="crew", build=build, store="openfield", notes="Walk a path.", contact="ida@example.org"
    )
    until(lambda: harbour.tide.testing.trial(trial.id), lambda now: now.invited == {"sent": 1})
    assert harbour.tide.testing.trial(trial.id).state == "open"
    (mail,) = harbour.mails(address)
    assert "Walk a path." in mail["text"]
    assert "Hello Wren Aldous" in mail["text"]
    link = re.search(r"http\S+/invitation/\S+", mail["text"])
    assert link is not None
    page = httpx.get(link.group(), **OPENLY)
    assert page.status_code == 200
    assert "Walk a path." in page.text
    for _ in range(2):
        assert httpx.post(link.group(), data={"answer": "accept"}, **OPENLY, follow_redirects=True).status_code == 200
    assert harbour.tide.testing.trial(trial.id).invited == {"accepted": 1}
    assert [line.act for line in harbour.tide.watching.logbook(app=app, limit=1)] == ["invitation accepted"]
    guessed = link.group()[:-3] + "xyz"
    assert httpx.get(guessed, **OPENLY).status_code == 404


def test_a_tester_added_later_gets_a_seat_and_a_mail_too(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    harbour.tide.testing.make_cohort(app, "crew")
    harbour.tide.testing.add_tester(app, "crew", f"one.{app}@example.org")
    trial = harbour.tide.testing.open_trial(
        app, cohort="crew", build=build, store="openfield", notes="Look.", contact="ida@example.org"
    )
    until(lambda: harbour.tide.testing.trial(trial.id), lambda now: now.state == "open")
    harbour.tide.testing.add_tester(app, "crew", f"two.{app}@example.org")
    until(
        lambda: harbour.tide.testing.trial(trial.id),
        lambda now: now.invited == {"sent": 2},
    )
    at_the_store = until(
        lambda: [
            entry
            for entry in harbour.control("openfield", "things/trial")
            if any(app in address for address in entry["testers"])
        ],
        lambda found: found and len(found[0]["testers"]) == 2,
    )
    assert len(at_the_store) == 1
    with pytest.raises(Conflict, match="is in crew already"):
        harbour.tide.testing.add_tester(app, "crew", f"Two.{app}@Example.org")


def test_guests_wait_for_the_stores_review_and_a_newer_trial_replaces_the_older(harbour: Harbour) -> None:
    app = harbour.new_app()
    first = harbour.ready_build(app, "openfield", "1.0.0", 1)
    harbour.tide.testing.make_cohort(app, "walkers", kind="guest")
    harbour.tide.testing.add_tester(app, "walkers", f"petra.{app}@example.org")
    wanted = {"cohort": "walkers", "store": "openfield", "notes": "Look.", "contact": "ida@example.org"}
    trial = harbour.tide.testing.open_trial(app, build=first, **wanted)
    until(lambda: harbour.tide.stores.one("openfield"), lambda store: store.pending_orders == 0)
    assert harbour.tide.testing.trial(trial.id).state == "with the store"
    assert harbour.mails(f"petra.{app}@example.org") == []
    harbour.pass_hours(12, desk=False)
    until(
        lambda: harbour.tide.testing.trial(trial.id),
        lambda now: now.state == "open" and now.invited == {"sent": 1},
    )
    second = harbour.tide.testing.open_trial(app, build=harbour.ready_build(app, "openfield", "1.0.0", 2), **wanted)
    until(lambda: harbour.tide.stores.one("openfield"), lambda store: store.pending_orders == 0)
    harbour.pass_hours(12, desk=False)
    until(lambda: harbour.tide.testing.trial(second.id), lambda now: now.state == "open")
    until(lambda: harbour.tide.testing.trial(trial.id), lambda now: now.state == "replaced")


def test_a_rejected_leg_takes_another_build_in_the_same_version_and_goes_again(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("openfield",))
    harbour.control("openfield", "mischief", {"reject_next": ["It asks for a place and takes none."]})
    harbour.approve(app)
    rejected = harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rejected").legs[0]
    assert rejected.rounds[0].reasons == ["It asks for a place and takes none."]
    assert any(
        "was rejected" in call.said
        for row in harbour.tide.watching.overview().rows
        if row.app == app
        for call in row.calls
    )
    fixed = harbour.ready_build(app, "openfield", "1.0.0", 2)
    harbour.tide.releases.change_leg(app, "1.0.0", "openfield", build=fixed)
    (matter,) = harbour.tide.matters.of_app(app)
    harbour.tide.matters.decide(app, matter.id, "fix", "It asks for nothing any more.")
    harbour.approve(app)
    risen = harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rising").legs[0]
    assert [(entry.number, entry.state) for entry in risen.rounds] == [(1, "rejected"), (2, "approved")]
    assert risen.rounds[1].build == fixed
    assert risen.rounds[1].for_reviewer.endswith("This is another build: 1.0.0 (2).")


def test_a_submission_that_a_rule_forbids_is_refused_with_all_findings_and_nothing_is_handed_in(
    harbour: Harbour,
) -> None:
    app = harbour.new_app()
    legs = {store: LegWanted(build=harbour.ready_build(app, store)) for store in ("northgate", "openfield")}
    harbour.tide.releases.draft(app, "1.0.0", legs=legs)
    with pytest.raises(NotReady) as refused:
        harbour.submit(app, "1.0.0")
    assert [finding.code for finding in refused.value.findings] == ["notes-missing", "notes-missing"]
    assert all(leg.rounds == [] for leg in harbour.tide.releases.one(app, "1.0.0").legs)
    harbour.tide.releases.write_notes(app, "1.0.0", "en", "y" * 700)
    with pytest.raises(NotReady, match="700 characters; Openfield takes 650"):
        harbour.submit(app, "1.0.0")


def test_a_recalled_leg_can_be_handed_in_again(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",))
    harbour.submit(app, "1.0.0")
    harbour.all_confirmed(app)
    with pytest.raises(ImpossibleAct, match="its build cannot be changed"):
        harbour.tide.releases.change_leg(
            app, "1.0.0", "northgate", build=harbour.ready_build(app, "northgate", "1.0.0", 2)
        )
    harbour.tide.releases.recall(app, "1.0.0", "northgate", reason="a typo in the notes")
    assert harbour.all_confirmed(app).legs[0].phase == "recalled"
    harbour.approve(app)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rising")


def test_a_recall_that_comes_too_late_leaves_the_verdict_standing_and_launches_nothing(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",))
    harbour.submit(app, "1.0.0")
    harbour.all_confirmed(app)
    harbour.control("northgate", "mischief", {"outage": True})
    harbour.tide.releases.recall(app, "1.0.0", "northgate", reason="a typo in the notes")
    harbour.pass_hours(60, desk=False)
    harbour.control("northgate", "mischief", {"outage": False})
    late = harbour.released(
        app, "1.0.0", lambda seen: seen.legs[0].confirmed and seen.legs[0].phase == "approved"
    ).legs[0]
    assert late.waits_for == ["the go-ahead to launch"]
    assert late.orders[0].state == "refused"
    assert harbour.rollouts("northgate", app) == []


def test_a_launch_waits_for_word_instant_and_the_other_legs(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app)
    soon = harbour.tide.watching.clock().now.timestamp() + 3600 * 5
    harbour.tide.releases.change_leg(
        app, "1.0.0", "northgate", needs_go_ahead=True, not_before=datetime.fromtimestamp(soon, UTC)
    )
    harbour.tide.releases.change_leg(app, "1.0.0", "openfield", with_other_legs=True)
    harbour.approve(app, store="openfield")
    waiting = harbour.released(app, "1.0.0", lambda seen: leg_of(seen, "openfield").phase == "approved")
    assert leg_of(waiting, "openfield").waits_for == ["approval at northgate"]
    harbour.approve(app, store="northgate")
    harbour.released(app, "1.0.0", lambda seen: leg_of(seen, "openfield").phase == "rising")
    assert len(harbour.leg(app, "northgate").waits_for) == 2
    harbour.tide.releases.give_go_ahead(app, "1.0.0", reason="the fair opens")
    (instant,) = harbour.leg(app, "northgate").waits_for
    assert instant.startswith("the instant")
    harbour.pass_hours(5.1)
    harbour.released(app, "1.0.0", lambda seen: leg_of(seen, "northgate").phase == "rising")
    with pytest.raises(ImpossibleAct, match="No leg of 1.0.0 waits for the go-ahead"):
        harbour.tide.releases.give_go_ahead(app, "1.0.0")


def test_a_rollout_rises_by_the_clock_to_everybody_and_supersedes_the_release_before(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, "1.0.0", stores=("openfield",), number=1)
    for hours, share in ((24.1, 0.1), (48.1, 0.35), (72.1, 1.0)):
        harbour.pass_hours(hours)
        harbour.released(app, "1.0.0", lambda seen, share=share: seen.legs[0].share == share and seen.legs[0].confirmed)
    assert harbour.leg(app, "openfield").phase == "complete"
    assert (
        next(
            row for row in harbour.tide.watching.overview().rows if row.app == app and row.store == "openfield"
        ).live_version
        == "1.0.0"
    )
    harbour.risen(app, "1.1.0", stores=("openfield",), number=2)
    harbour.tide.releases.steer(app, "1.1.0", "finish", reason="all well")
    harbour.released(app, "1.1.0", lambda seen: seen.legs[0].phase == "complete" and seen.legs[0].confirmed)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "superseded")
    harbour.tide.releases.steer(app, "1.1.0", "withdraw", reason="a licence is missing")
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "complete")
    assert harbour.leg(app, "openfield", "1.1.0").phase == "withdrawn"
    proposal = harbour.tide.builds.next_numbers(app, "openfield")
    assert proposal.version == "1.1.1", "people had 1.1.0, although it was withdrawn"
    assert any("1.1.0 has gone out" in reason for reason in proposal.reasons)
    harbour.tide.releases.steer(app, "1.1.0", "resume", reason="the licence is here")
    harbour.released(app, "1.1.0", lambda seen: seen.legs[0].phase == "complete" and seen.legs[0].confirmed)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "superseded")
    offered = {rollout["version"]: rollout["state"] for rollout in harbour.rollouts("openfield", app)}
    assert offered == {"1.0.0": "superseded", "1.1.0": "complete"}


def test_a_withdrawn_release_stays_away_once_a_newer_one_was_launched(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, "1.0.0", stores=("openfield",), number=1)
    harbour.tide.releases.steer(app, "1.0.0", "withdraw", reason="a licence is missing")
    harbour.all_confirmed(app, "1.0.0")
    assert option(harbour, app, "1.0.0", "resume").possible
    harbour.risen(app, "1.1.0", stores=("openfield",), number=2)
    assert "1.1.0 was launched at this store after it" in option(harbour, app, "1.0.0", "resume").why_not
    with pytest.raises(ImpossibleAct, match="does not come back"):
        harbour.tide.releases.steer(app, "1.0.0", "resume", reason="here it is")


def option(harbour: Harbour, app: str, version: str, act: str) -> OptionTold:
    (leg,) = harbour.tide.releases.one(app, version).legs
    return next(found for found in leg.acts if found.act == act)


def test_notes_written_during_a_review_are_apart_from_those_the_store_has(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",))
    harbour.submit(app, "1.0.0")
    harbour.all_confirmed(app)
    leg = harbour.leg(app, "northgate")
    assert (leg.notes_not_sent, leg.rounds[0].notes) == ([], {"en": "What is new."})
    harbour.tide.releases.write_notes(app, "1.0.0", "en", "What is newer.")
    leg = harbour.leg(app, "northgate")
    assert (leg.notes_not_sent, leg.rounds[0].notes) == (["en"], {"en": "What is new."})
    assert "recalled and handed in again" in leg.notes_go
    harbour.tide.releases.recall(app, "1.0.0", "northgate", reason="other notes")
    harbour.all_confirmed(app)
    assert harbour.leg(app, "northgate").notes_go == "They go along when it is handed in."
    harbour.submit(app, "1.0.0")
    harbour.all_confirmed(app)
    assert harbour.leg(app, "northgate").notes_not_sent == []
    assert harbour.control("northgate", "things/submission")[-1]["notes"] == {"en": "What is newer."}


def test_a_pause_stops_the_stage_clock_and_is_rationed_by_the_store(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))

    def steer(act: str) -> None:
        harbour.tide.releases.steer(app, "1.0.0", act, reason="trying", store="openfield")
        harbour.all_confirmed(app)

    harbour.pass_hours(20)
    steer("pause")
    harbour.pass_hours(100)
    assert harbour.leg(app, "openfield").share == 0.02
    steer("resume")
    left = harbour.leg(app, "openfield").stage_ends_at.timestamp() - harbour.tide.watching.clock().now.timestamp()
    assert 3.9 * 3600 < left < 4.05 * 3600
    steer("pause")
    steer("resume")
    with pytest.raises(ImpossibleAct, match="2 pause"):
        steer("pause")
    harbour.pass_hours(4.1)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].share == 0.1)


def test_an_act_that_is_possible_at_one_store_only_is_done_there_and_explained_elsewhere(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app)
    done = harbour.tide.releases.steer(app, "1.0.0", "advance", reason="all well")
    assert {outcome.store: outcome.ordered for outcome in done.outcomes} == {"northgate": True, "openfield": False}
    assert "dictates how long" in next(outcome.why_not for outcome in done.outcomes if not outcome.ordered)
    with pytest.raises(ImpossibleAct, match="possible at no store"):
        harbour.tide.releases.steer(app, "1.0.0", "resume", reason="what?")
    with pytest.raises(Invalid, match="needs a reason"):
        harbour.tide.releases.steer(app, "1.0.0", "halt", reason="  ")
    assert harbour.all_confirmed(app)


def test_a_new_build_mends_forward_from_a_halted_release(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("northgate",))
    harbour.tide.releases.steer(app, "1.0.0", "halt", reason="crashes")
    harbour.all_confirmed(app)
    with pytest.raises(ImpossibleAct, match="only with a new build"):
        harbour.tide.releases.steer(app, "1.0.0", "resume", reason="hm", store="northgate")
    with pytest.raises(Conflict, match="what follows 1.0.0 is above it"):
        harbour.tide.releases.fix(app, "1.0.0", harbour.ready_build(app, "northgate", "1.0.0", 2))
    fixed = harbour.ready_build(app, "northgate", "1.0.1")
    after = harbour.tide.releases.fix(app, "1.0.0", fixed)
    before = harbour.tide.releases.one(app, "1.0.0").legs[0]
    assert (after.version, after.legs[0].build, after.notes) == ("1.0.1", fixed, {"en": "What is new."})
    assert after.legs[0].ladder == before.ladder
    with pytest.raises(ImpossibleAct, match="was launched nowhere yet"):
        harbour.tide.releases.fix(app, "1.0.1", fixed)
    harbour.approve(app, "1.0.1")
    harbour.released(app, "1.0.1", lambda seen: seen.legs[0].phase == "rising")
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "superseded")


def test_two_people_cannot_overwrite_each_other(harbour: Harbour) -> None:
    app = harbour.new_app()
    drafted = harbour.draft(app, stores=("northgate",))
    harbour.tide.releases.write_notes(app, "1.0.0", "en", "First.", revision=drafted.revision)
    with pytest.raises(StaleView, match="changed since you read it"):
        harbour.tide.releases.write_notes(app, "1.0.0", "en", "Second.", revision=drafted.revision)
    assert harbour.tide.releases.one(app, "1.0.0").notes == {"en": "First."}


def test_what_nobody_knows_is_refused_with_what_there_is(harbour: Harbour) -> None:
    app = harbour.new_app()
    cases = [
        (lambda: harbour.tide.apps.one("nowhere"), "No app is called 'nowhere'"),
        (lambda: harbour.tide.builds.one("b-none"), "No build is called 'b-none'"),
        (lambda: harbour.tide.releases.one(app, "9.9.9"), "No release is called '9.9.9'"),
        (lambda: harbour.tide.testing.add_tester(app, "crew", "a@example.org"), "No cohort is called 'crew'"),
        (lambda: harbour.tide.testing.trial("tr-none"), "No trial is called"),
        (lambda: harbour.tide.builds.next_numbers(app, "northgat"), "No store is called 'northgat'"),
        (lambda: harbour.tide.builds.enter(app, ["0" * 64]), "has arrived"),
    ]
    for ask, complaint in cases:
        with pytest.raises(NotFound, match=complaint) as missed:
            ask()
        assert missed.value.remedy


@pytest.mark.parametrize("address", ["wren", "wren@", "@example.org", "wren example.org", "wren@exa mple.org", ""])
def test_a_bad_address_is_refused(harbour: Harbour, address: str) -> None:
    app = harbour.new_app()
    harbour.tide.testing.make_cohort(app, "crew")
    with pytest.raises(Invalid, match="no mail address"):
        harbour.tide.testing.add_tester(app, "crew", address)
    assert harbour.tide.testing.cohorts(app)[0].testers == 0


def test_the_question_about_the_place_is_asked_only_of_packages_that_ask_for_it(harbour: Harbour) -> None:
    app = harbour.new_app()
    sent = harbour.push(harbour.package(app, "openfield", permissions=(PLACE,)), app=app, store="openfield")
    until(lambda: harbour.tide.builds.consignment(sent.id), lambda seen: seen.state == "processing")
    harbour.pass_hours(1, desk=False)
    until(lambda: harbour.tide.builds.consignment(sent.id), lambda seen: seen.state == "held")
    assert any(
        "is held" in call.said for row in harbour.tide.watching.overview().rows if row.app == app for call in row.calls
    )
