"""Stores without a gateway, and first builds by hand: each order a step for a person, beside connected legs."""

from __future__ import annotations

import json
from decimal import Decimal
from pathlib import Path

import httpx
import pytest
from PIL import Image

from restless_tide.cli.exits import Exit
from restless_tide.client import Conflict, ImpossibleAct, Invalid, NotFound, NotReady
from restless_tide.core.good import Good, GoodKind, GoodText
from restless_tide.demo.chapter import WRACKLINE
from restless_tide.standins import pictures
from restless_tide.wire.cohorts import SignInWanted
from restless_tide.wire.push import HandOnWanted
from restless_tide.wire.releases import LegWanted
from restless_tide.wire.reviewing import BriefWanted
from restless_tide.wire.steps import StepTold
from tests.harbour import EMAIL, Harbour, leg_of, until
from tests.patience import OPENLY
from tests.service.test_cli import Terminal


@pytest.fixture(scope="module")
def carried(harbour: Harbour) -> Harbour:
    harbour.tide.stores.carry("wrackline", WRACKLINE.read_text(encoding="utf-8"))
    return harbour


def step_of(harbour: Harbour, app: str, begins: str) -> StepTold:
    """The waiting step of an app whose title begins so."""

    def look() -> list[StepTold]:
        return [step for step in harbour.tide.steps.waiting() if step.app == app and step.title.startswith(begins)]

    return until(look, bool)[0]


def settle(harbour: Harbour, app: str, begins: str, outcome: str = "done", said: str = "") -> StepTold:
    return harbour.tide.steps.settle(step_of(harbour, app, begins).id, outcome, said=said)


def with_berth(harbour: Harbour) -> str:
    app = harbour.new_app()
    harbour.tide.apps.open_berth(app, "wrackline")
    settle(harbour, app, "Open a place")
    until(lambda: harbour.tide.apps.berth(app, "wrackline"), lambda berth: berth.state == "open")
    harbour.tide.dossier.send(app, store="wrackline")
    settle(harbour, app, "Write the texts")
    settle(harbour, app, "Put in the pictures")
    settle(harbour, app, "Answer the questions")
    return app


def ready_there(harbour: Harbour, app: str, build: str) -> None:
    sent = harbour.tide.builds.send(app, build, "wrackline").consignments[0]
    settle(harbour, app, "Hand in build")
    settle(harbour, app, "See whether", "ready")
    until(lambda: harbour.tide.builds.consignment(sent.id), lambda seen: seen.state == "ready")


def test_a_release_goes_from_draft_to_halted_with_one_leg_carried_by_a_person_beside_two_connected_ones(
    carried: Harbour, tmp_path: Path
) -> None:
    app = with_berth(carried)
    android, ios = carried.ready_build(app, "openfield"), carried.ready_build(app, "northgate")
    sent = carried.tide.builds.send(app, android, "wrackline").consignments[0]
    step = step_of(carried, app, "Hand in build")
    (file,) = step.files
    fetched = carried.tide.steps.fetch(file, tmp_path / "taken.apk")
    assert fetched.read_bytes() == (carried.folder / f"{app}-1.0.0-1.apk").read_bytes()
    carried.tide.steps.settle(step.id, "done")
    settle(carried, app, "See whether", "ready")
    until(lambda: carried.tide.builds.consignment(sent.id), lambda seen: seen.state == "ready")
    legs = {
        "northgate": LegWanted(build=ios),
        "openfield": LegWanted(build=android),
        "wrackline": LegWanted(build=android, ladder="30@24,100"),
    }
    carried.tide.releases.draft(app, "1.0.0", legs=legs, notes={"en": "What is new."})
    carried.submit(app, "1.0.0")
    step = step_of(carried, app, "Hand 1.0.0 to review")
    assert step.texts == {"notes en": "What is new."}
    assert carried.tide.stores.one("wrackline").waiting_steps >= 1
    carried.tide.steps.settle(step.id, "done")
    carried.pass_hours(60, desk=False)
    settle(carried, app, "See what Wrackline", "approved")
    waiting = step_of(carried, app, "Launch 1.0.0 at Wrackline to 30%")
    leg = leg_of(carried.tide.releases.one(app, "1.0.0"), "wrackline")
    assert (leg.phase, leg.confirmed, leg.step, leg.stage_ends_at, leg.seen) == (
        "rising",
        False,
        waiting.id,
        None,
        None,
    )
    carried.tide.steps.settle(waiting.id, "done")
    risen = carried.released(
        app, "1.0.0", lambda seen: all(leg.phase == "rising" and leg.confirmed and leg.seen for leg in seen.legs)
    )
    assert leg_of(risen, "wrackline").share == 0.3
    assert leg_of(risen, "wrackline").stage_ends_at is not None

    carried.tide.releases.steer(app, "1.0.0", "halt", reason="crashes on start")
    step = step_of(carried, app, "Halt 1.0.0")
    assert step.urgent
    assert step.texts == {"reason": "crashes on start"}
    half = carried.released(app, "1.0.0", lambda seen: all(leg.confirmed or leg.hand_carried for leg in seen.legs))
    assert [leg_of(half, store).confirmed for store in ("northgate", "openfield", "wrackline")] == [True, True, False]
    assert leg_of(half, "wrackline").seen.state == "rising"
    carried.tide.steps.settle(step.id, "done")
    halted = carried.released(
        app, "1.0.0", lambda seen: all(leg.confirmed and leg.seen.state == "halted" for leg in seen.legs)
    )
    assert {leg.phase for leg in halted.legs} == {"halted"}
    told = [line.act for line in carried.tide.watching.logbook(app=app, limit=12)]
    assert told.count("halt") == 3
    assert "step done" in told


def test_a_step_confirmed_by_mistake_is_undone_until_something_followed(carried: Harbour) -> None:
    app = with_berth(carried)
    ready_there(carried, app, carried.ready_build(app, "openfield"))
    build = carried.tide.builds.of_app(app)[0].id
    carried.tide.releases.draft(app, "1.0.0", legs={"wrackline": LegWanted(build=build)}, notes={"en": "New."})
    carried.submit(app, "1.0.0")
    handed = settle(carried, app, "Hand 1.0.0 to review")
    settle(carried, app, "See what", "approved")
    settle(carried, app, "Launch 1.0.0")
    carried.all_confirmed(app)
    carried.tide.releases.steer(app, "1.0.0", "pause", reason="a look")
    paused = settle(carried, app, "Pause 1.0.0")
    carried.released(app, "1.0.0", lambda seen: seen.legs[0].seen.state == "paused")
    undone = carried.tide.steps.undo(paused.id, reason="wrong button")
    assert undone.state == "waiting"
    leg = carried.leg(app, "wrackline")
    assert (leg.confirmed, leg.seen.state, leg.step) == (False, "rising", paused.id)
    carried.tide.steps.settle(paused.id, "done")
    carried.released(app, "1.0.0", lambda seen: seen.legs[0].confirmed and seen.legs[0].seen.state == "paused")
    carried.tide.releases.steer(app, "1.0.0", "resume", reason="well")
    settled = [step.id for step in carried.tide.steps.settled(limit=None)]
    headers = {"Authorization": f"Bearer {carried.token}"}
    place, found = "/v1/steps?state=settled&limit=2", []
    while place:
        page = httpx.get(carried.address + place, headers=headers, **OPENLY)
        found += [step["id"] for step in page.json()]
        place = page.links.get("next", {}).get("url", "")
    assert found == settled
    assert len(found) >= 4
    with pytest.raises(ImpossibleAct, match="ordered after it"):
        carried.tide.steps.undo(paused.id)
    with pytest.raises(ImpossibleAct, match="used already"):
        carried.tide.steps.undo(handed.id)
    with pytest.raises(ImpossibleAct, match="The step is confirmed"):
        carried.tide.steps.settle(handed.id, "done")


def test_a_halt_takes_the_place_of_a_step_that_still_waits(carried: Harbour) -> None:
    app = with_berth(carried)
    build = carried.ready_build(app, "openfield")
    ready_there(carried, app, build)
    leg = LegWanted(build=build, ladder="30@24,100")
    carried.tide.releases.draft(app, "1.0.0", legs={"wrackline": leg}, notes={"en": "New."})
    carried.submit(app, "1.0.0")
    settle(carried, app, "Hand 1.0.0")
    settle(carried, app, "See what", "approved")
    settle(carried, app, "Launch 1.0.0")
    carried.all_confirmed(app)
    carried.tide.releases.steer(app, "1.0.0", "advance", reason="well")
    raising = step_of(carried, app, "Raise 1.0.0")
    carried.tide.releases.steer(app, "1.0.0", "halt", reason="crashes")
    halting = step_of(carried, app, "Halt 1.0.0")
    assert carried.tide.steps.one(raising.id).state == "dropped"
    assert carried.leg(app, "wrackline").share == 0.3
    carried.tide.steps.settle(halting.id, "done")
    seen = carried.released(app, "1.0.0", lambda seen: seen.legs[0].confirmed).legs[0]
    assert (seen.phase, seen.seen.state, seen.seen.share) == ("halted", "halted", 0.3)


def test_what_the_store_refuses_comes_back_in_its_words_and_can_be_tried_again(carried: Harbour) -> None:
    app = carried.new_app()
    carried.tide.apps.open_berth(app, "wrackline")
    step = step_of(carried, app, "Open a place")
    with pytest.raises(Invalid, match="Say what the store said"):
        carried.tide.steps.settle(step.id, "refused")
    with pytest.raises(Invalid, match="no outcome of this step"):
        carried.tide.steps.settle(step.id, "perhaps")
    carried.tide.steps.settle(step.id, "refused", said="That name sounds like ours.")
    refused = until(lambda: carried.tide.apps.berth(app, "wrackline"), lambda berth: berth.state == "refused")
    assert refused.refused_because == "That name sounds like ours."
    carried.tide.apps.open_berth(app, "wrackline", listed_name="Another Name")
    assert step_of(carried, app, "Open a place").texts["name"] == "Another Name"
    with pytest.raises(NotFound, match="No step is called"):
        carried.tide.steps.one("st-nothing")


def test_a_review_by_hand_that_ends_in_a_no_keeps_every_reason(carried: Harbour) -> None:
    app = with_berth(carried)
    build = carried.ready_build(app, "openfield")
    ready_there(carried, app, build)
    carried.tide.releases.draft(app, "1.0.0", legs={"wrackline": LegWanted(build=build)}, notes={"en": "New."})
    carried.submit(app, "1.0.0")
    settle(carried, app, "Hand 1.0.0")
    settle(carried, app, "See what", "rejected", "No picture.\nThe text is too short.")
    seen = carried.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rejected").legs[0]
    assert seen.rounds[0].reasons == ["No picture.", "The text is too short."]


def test_a_first_build_by_hand_is_recognised_and_every_later_one_goes_by_the_gateway(carried: Harbour) -> None:
    app = carried.new_app()
    file = carried.package(app, "northgate", "1.0.0", 1)
    sent = carried.push(file, app=app, store="northgate")
    step = step_of(carried, app, "Hand in the first build")
    assert (step.outcomes, len(step.files), step.store) == (["done"], 1, "northgate")
    carried.hand_in("northgate", app, file)
    until(lambda: carried.tide.builds.consignment(sent.id), lambda seen: seen.state == "processing")
    recognised = carried.tide.steps.one(step.id)
    assert (recognised.state, recognised.said) == ("confirmed", "The desk recognised it.")
    carried.pass_hours(1, desk=False)
    until(lambda: carried.tide.builds.consignment(sent.id), lambda seen: seen.state == "ready")
    later = carried.push(carried.package(app, "northgate", "1.0.0", 2), app=app, store="northgate")
    until(lambda: carried.tide.builds.consignment(later.id), lambda seen: seen.state == "processing")
    assert not [entry for entry in carried.tide.steps.waiting() if entry.app == app]


def test_saying_done_too_early_is_told_and_the_desk_goes_on_looking(carried: Harbour) -> None:
    app = carried.new_app()
    file = carried.package(app, "northgate")
    sent = carried.push(file, app=app, store="northgate")
    settle(carried, app, "Hand in the first build")
    told = until(lambda: carried.tide.builds.consignment(sent.id), lambda seen: seen.waiting_because)
    assert told.waiting_because == "Northgate does not show build 1.0.0 (1) yet."
    carried.hand_in("northgate", app, file)
    until(lambda: carried.tide.builds.consignment(sent.id), lambda seen: seen.state == "processing")


def test_a_hand_carried_store_takes_a_new_rulebook_and_keeps_the_old_when_the_new_is_broken(carried: Harbour) -> None:
    text = WRACKLINE.read_text(encoding="utf-8")
    with pytest.raises(Invalid, match=r"line 20, review\.usual_hours"):
        carried.tide.stores.carry("wrackline", text.replace("usual_hours = 48", "usual_hours = 0"))
    assert carried.tide.stores.one("wrackline").rulebook_revision == "spring"
    changed = text.replace('revision = "spring"', 'revision = "summer"').replace("= 300", "= 250")
    summer = carried.tide.stores.carry("wrackline", changed)
    assert [(change.name, change.before, change.after) for change in summer.revisions[0].changes] == [
        ("Longest release notes", "300", "250")
    ]
    with pytest.raises(Conflict, match="has a gateway"):
        carried.tide.stores.carry("openfield", text)
    carried.tide.stores.carry("wrackline", text)


def test_a_step_that_waits_long_is_called_to_mind(own_harbour: Harbour) -> None:
    own_harbour.tide.stores.carry("wrackline", WRACKLINE.read_text(encoding="utf-8"))
    own_harbour.tide.notices.subscribe("mail", "ida@example.org", kinds=["step waiting"])
    app = own_harbour.new_app()
    own_harbour.tide.apps.open_berth(app, "wrackline")
    step_of(own_harbour, app, "Open a place")
    own_harbour.tide.watching.move_clock(step_hours=9)
    said = until(lambda: [entry.said for entry in own_harbour.tide.notices.deliveries()], lambda told: len(told) == 2)
    assert said[0] == f"Still waiting after 9 h: Open a place for {app.title()} at Wrackline"


def test_what_one_store_would_refuse_is_sent_to_none_of_them(carried: Harbour, tmp_path: Path) -> None:
    app, builds = with_berth(carried), carried.tide.builds
    carried.ready_build(app, "openfield", number=5)
    file = carried.package(app, "openfield", "1.0.0", 3)
    with pytest.raises(NotReady, match="openfield: Number 3 is not above 5") as refused:
        builds.push(file, app=app)
    assert "number 6 or higher" in refused.value.remedy
    assert [str(build.number) for build in builds.of_app(app)] == ["5"], "not even entered"
    done = Terminal(carried, tmp_path)("build", "push", str(file), "--app", app)
    assert done.returncode == Exit.REFUSED
    assert "Nothing was sent. Sending this build is not possible: openfield: Number 3 is not above 5" in done.stderr
    sheets = {
        sheet.store: [found.code for found in sheet.findings if found.level == "blocker"]
        for sheet in builds.check(app, [builds.package(builds.hand_over(file)[0])])
    }
    assert sheets == {"openfield": ["number-not-rising"], "wrackline": []}


def test_a_push_goes_to_every_store_with_what_follows_and_the_same_again_is_the_same(
    carried: Harbour, tmp_path: Path
) -> None:
    app, tide = with_berth(carried), carried.tide
    tide.testing.make_cohort(app, "crew", stores=["openfield", "wrackline"])
    tide.testing.add_tester(app, "crew", f"wren.{app}@example.org")
    file = carried.package(app, "openfield")
    with pytest.raises(NotFound, match="cohort"):
        tide.builds.push(file, app=app, hand_on=HandOnWanted(cohorts=["nobody"]))
    assert tide.builds.of_app(app) == [], "what follows is part of the act"
    terminal = Terminal(carried, tmp_path)
    done = terminal("build", "push", str(file), "--app", app, "--trial", "crew")
    assert done.returncode == 0, done.stderr
    assert done.stdout.count("is drafted. It begins once") == 2
    first = tide.builds.push(file, app=app, hand_on=HandOnWanted(cohorts=["crew"]))
    assert first.build.known_before
    assert {entry.store for entry in first.consignments} == {"openfield", "wrackline"}
    assert len(tide.testing.trials(app)) == len(first.trials) == 2
    assert {trial.contact for trial in first.trials} == {EMAIL}, "hers who pushed, where nobody said another"
    until(lambda: tide.builds.consignment(first.consignments[0].id), lambda seen: seen.state == "processing")
    carried.pass_hours(1, desk=False)
    opened = until(
        lambda: {trial.store: trial.state for trial in tide.testing.trials(app)},
        lambda seen: seen["openfield"] == "open",
    )
    assert opened["wrackline"] == "drafted", "there nobody has handed the build in yet"
    again = terminal("build", "send", first.build.id, "--app", app, "--store", "openfield", "--trial", "crew", "--json")
    assert [trial["state"] for trial in json.loads(again.stdout)["trials"]] == ["open"]


def test_a_berth_is_renamed_by_hand(carried: Harbour) -> None:
    app = with_berth(carried)
    carried.tide.apps.rename_berth(app, "wrackline", "Marram by hand", reason="the old one was long")
    settle(carried, app, "Rename")
    seen = until(lambda: carried.tide.apps.berth(app, "wrackline"), lambda berth: berth.confirmed)
    assert seen.listed_name == "Marram by hand"


def test_a_build_moves_up_the_tracks_of_a_store_that_is_carried_by_hand(carried: Harbour) -> None:
    app = with_berth(carried)
    carried.tide.testing.make_cohort(app, "crew", stores=["wrackline"])
    carried.tide.testing.add_tester(app, "crew", f"wren.{app}@example.org")
    build = carried.ready_build(app, "openfield")
    ready_there(carried, app, build)
    carried.tide.tracks.place(app, build, ["wrackline/deck"])
    settle(carried, app, "Open a crew trial at Wrackline, on Deck")
    until(
        lambda: [trial.state for trial in carried.tide.testing.trials(app) if trial.confirmed],
        lambda states: states == ["open"],
    )
    (placed,) = carried.tide.tracks.promote(app, "wrackline/deck")
    assert placed.at == "wrackline/lookout"
    settle(carried, app, "Choose 1.0.0 at Wrackline, on Lookout")
    settle(carried, app, "Launch 1.0.0 at Wrackline, on Lookout to 5%")
    risen = carried.released(app, "1.0.0", lambda seen: all(leg.confirmed and leg.seen for leg in seen.legs))
    assert [(leg.place, leg.phase, leg.share) for leg in risen.legs] == [("wrackline/lookout", "rising", 0.05)]
    (drafted,) = carried.tide.tracks.promote(app, "wrackline/lookout", notes={"en": "What is new."})
    assert drafted.drafted
    carried.submit(app, "1.0.0", store="wrackline")
    settle(carried, app, "Hand 1.0.0 to review at Wrackline")


_SELLS = """
[goods]
kinds = ["kept"]

[goods.picture]
sizes = [[200, 200]]
fewest = 1
"""
_WANTS_A_FORM = """[questionnaire.questions.form]
form = "file"
text = "Which form have you signed?"

[questionnaire.questions.readers]"""


def test_goods_and_documents_are_prepared_for_the_hand_with_their_files(own_harbour: Harbour, tmp_path: Path) -> None:
    desk = own_harbour
    text = WRACKLINE.read_text(encoding="utf-8").replace("[questionnaire.questions.readers]", _WANTS_A_FORM)
    text = text.replace("[availability]", _SELLS + "[availability]").replace(
        'store = "Wrackline"', 'store = "Saltmarket"'
    )
    desk.tide.stores.carry("saltmarket", text)
    app = desk.new_app(dossier=False)
    desk.tide.apps.open_berth(app, "saltmarket")
    settle(desk, app, "Open a place")
    until(lambda: desk.tide.apps.berth(app, "saltmarket"), lambda berth: berth.state == "open")
    (tmp_path / "maps.png").write_bytes(pictures.screen("maps", 400, 400))
    picture = desk.tide.dossier.keep_picture(tmp_path / "maps.png").sha256
    texts = {"en": GoodText(name="Maps", description="All islands.")}
    good = Good(
        kind=GoodKind.KEPT, price=Decimal("4.5"), currency="EUR", texts=texts, picture=picture, stores=("saltmarket",)
    )
    desk.tide.dossier.write_good(app, "maps", good)
    (tmp_path / "form.txt").write_text("Signed.", encoding="utf-8")
    form = desk.tide.dossier.keep_document(tmp_path / "form.txt")
    desk.tide.dossier.answer(app, {"form": dict(form)}, store="saltmarket")
    desk.tide.dossier.send(app, store="saltmarket")
    step = step_of(desk, app, "Answer the questions")
    assert step.texts["Which form have you signed?"] == "form.txt (7 B)"
    assert [file.name for file in step.files] == ["form.txt"]
    assert desk.tide.steps.fetch(step.files[0], tmp_path / "taken.txt").read_text() == "Signed."
    desk.tide.steps.settle(step.id, "done")
    step = step_of(desk, app, "Enter the goods")
    assert step.texts["maps"] == "kept, 4.50 EUR; en: Maps"
    assert step.texts["maps, description in en"] == "All islands."
    (file,) = step.files
    with Image.open(desk.tide.steps.fetch(file, tmp_path / "taken.png")) as taken:
        assert taken.size == (200, 200)
    desk.tide.steps.settle(step.id, "done")
    goods = desk.tide.dossier.goods
    until(lambda: [one.state for store in goods(app).stores for one in store.goods], lambda seen: seen == ["accepted"])


def test_a_reviewer_of_a_hand_carried_store_is_written_to_by_a_person(carried: Harbour, tmp_path: Path) -> None:
    app = with_berth(carried)
    ready_there(carried, app, carried.ready_build(app, "openfield"))
    build = carried.tide.builds.of_app(app)[0].id
    guide = tmp_path / "guide.txt"
    guide.write_text("How to see the map.", "utf-8")
    file = carried.tide.dossier.keep_document(guide)["sha256"]
    wanted = BriefWanted(note="Look at the map.", sign_in=SignInWanted(name="rita", password="heron"), files=[file])
    carried.tide.reviewers.change_brief(app, "wrackline", wanted)
    carried.tide.releases.draft(app, "1.0.0", legs={"wrackline": LegWanted(build=build)}, notes={"en": "New."})
    carried.submit(app, "1.0.0")
    step = step_of(carried, app, "Hand 1.0.0 to review")
    assert step.texts["note for the reviewer"] == "Look at the map."
    assert step.texts["sign-in for the reviewer"] == "name: rita\npassword: heron"
    (named,) = step.files
    assert carried.tide.steps.fetch(named, tmp_path / "taken.txt").read_bytes() == guide.read_bytes()
    carried.tide.steps.settle(step.id, "done")
    step_of(carried, app, "See what Wrackline")
    carried.tide.reviewers.received(app, "1.0.0", "wrackline", "Where is the map?", asks=True)
    carried.tide.reviewers.write(app, "1.0.0", "wrackline", "On the second page.")
    step = step_of(carried, app, "Write to the reviewer of 1.0.0")
    assert step.texts == {"message": "On the second page."}
    carried.tide.steps.settle(step.id, "done")
    (thread,) = until(
        lambda: carried.tide.reviewers.messages(app, "1.0.0", "wrackline"), lambda found: found[0].messages[-1].arrived
    )
    assert (thread.waits, [one.kind for one in thread.messages]) == (False, ["question", "ours"])
    assert thread.messages[0].who == "Wrackline, entered by Ida Fenwick"
    settle(carried, app, "See what", "approved")
    settle(carried, app, "Launch 1.0.0")
    carried.all_confirmed(app)
