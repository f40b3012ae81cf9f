"""A refusal becomes work: matters, the next round, what the reviewer is told, and what is checked from then on."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from restless_tide.wire.errors import Conflict, ImpossibleAct, Invalid, NotFound, NotReady
from restless_tide.wire.releases import LegTold
from tests.harbour import Harbour, until
from tests.service.test_cli import Terminal


@pytest.fixture
def tide(harbour: Harbour, tmp_path: Path) -> Terminal:
    return Terminal(harbour, tmp_path)


FIRST, SECOND = "It asks for a place and takes none.", "The first page does not load without a network."


def refused(harbour: Harbour, app: str, *reasons: str) -> LegTold:
    """Hand in, and have Openfield refuse it."""
    harbour.control("openfield", "mischief", {"reject_next": [*reasons]})
    harbour.submit(app, "1.0.0")
    harbour.all_confirmed(app)
    harbour.pass_hours(60, desk=False)
    return harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rejected").legs[0]


def submission(harbour: Harbour, app: str) -> dict[str, Any]:
    """The newest that the store holds of an app."""
    berth = next(one["id"] for one in harbour.control("openfield", "things/berth") if one["reference"] == app)
    return [one for one in harbour.control("openfield", "things/submission") if one["berth"] == berth][-1]


def test_each_reason_becomes_a_matter_that_stands_in_the_way_until_something_was_done(harbour: Harbour) -> None:
    app, matters = harbour.new_app(), harbour.tide.matters
    harbour.draft(app, stores=("openfield",))
    refused(harbour, app, FIRST, SECOND)
    one, other = matters.of_app(app)
    assert [(each.words, each.state, each.first_round) for each in (one, other)] == [
        (FIRST, "open", 1),
        (SECOND, "open", 1),
    ]
    assert one.possible == ["answer", "fix", "dispute"]
    assert one.thing_title, "the store has said what it is about"
    with pytest.raises(NotReady, match="Handing in 1.0.0") as stopped:
        harbour.submit(app, "1.0.0")
    assert [finding.code for finding in stopped.value.findings] == ["matter-open"] * 2
    with pytest.raises(Invalid, match="Say what was done"):
        matters.decide(app, one.id, "fix")
    fixed = matters.decide(app, one.id, "fix", "The place is used on the map now.")
    assert (fixed.state, fixed.possible) == ("fixed", ["reopen"])
    with pytest.raises(ImpossibleAct, match="is fixed"):
        matters.decide(app, one.id, "dispute", "no")
    matters.decide(app, other.id, "dispute", "It does load; see the film.")
    note = matters.drafted_note(app, "1.0.0", "openfield")
    assert "Fixed: The place is used on the map now." in note
    again = refused(harbour, app, FIRST.upper())
    assert [entry.for_reviewer for entry in again.rounds] == ["", note]
    assert submission(harbour, app)["reviewer_note"] == note
    back = {each.number: each for each in matters.of_app(app)}
    assert (back[1].state, back[1].first_round, back[1].last_round) == ("open", 1, 2), (
        "the same reason opens its matter again"
    )
    assert back[2].state == "disputed"
    matters.decide(app, one.id, "answer", "It is on the second page.")
    harbour.approve(app)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rising")
    assert matters.of_app(app) == []
    assert {each.state for each in matters.of_app(app, version="1.0.0", settled=True)} == {"settled"}


def test_what_is_open_can_be_handed_in_with_a_reason(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("openfield",))
    refused(harbour, app, FIRST)
    harbour.submit(
        app, "1.0.0", in_spite_of="The reviewer was mistaken on the phone.", for_reviewer="Please look again."
    )
    last = harbour.all_confirmed(app).legs[0].rounds[-1]
    assert (last.in_spite_of, last.for_reviewer) == ("The reviewer was mistaken on the phone.", "Please look again.")
    harbour.pass_hours(60, desk=False)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rising")


def test_a_matter_is_taken_has_a_ticket_and_a_day_and_teaches_a_check(harbour: Harbour) -> None:
    app, matters = harbour.new_app(), harbour.tide.matters
    harbour.draft(app, stores=("openfield",))
    refused(harbour, app, FIRST)
    (one,) = matters.of_app(app)
    arranged = matters.arrange(app, one.id, taken_by="ida@saltgrass.example.org", ticket="SG-12", due_on="2026-12-01")
    assert (arranged.who, arranged.ticket, arranged.due_on) == ("Ida Fenwick", "SG-12", "2026-12-01")
    assert matters.arrange(app, one.id, due_on="").due_on is None
    for wrong in ({"due_on": "soon"}, {"taken_by": "nobody@example.org"}):
        with pytest.raises(Invalid):
            matters.arrange(app, one.id, **wrong)
    with pytest.raises(NotFound, match="No matter has the id"):
        matters.arrange(app, "m-none", ticket="x")
    matters.decide(app, one.id, "fix", "done")
    check = matters.teach(app, "question", "Is every permission used?", matter=one.id)
    words = matters.teach(app, "no words", "what is new")
    with pytest.raises(Conflict, match="has this check already"):
        matters.teach(app, "question", " Is every  permission used? ")
    with pytest.raises(NotReady) as stopped:
        harbour.submit(app, "1.0.0")
    assert {finding.code for finding in stopped.value.findings} == {"check-question", "check-words"}
    assert "notes in en contains 'what is new'" in str(stopped.value.findings)
    with pytest.raises(ImpossibleAct, match="tested automatically"):
        matters.tick(app, "1.0.0", words.id)
    matters.end_check(app, words.id, reason="too strict")
    assert matters.tick(app, "1.0.0", check.id).ticked
    assert [(each.text, each.ticked) for each in matters.checks(app, "1.0.0")] == [("Is every permission used?", True)]
    harbour.approve(app)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rising")


def test_a_check_of_pictures_blocks_until_they_are_there(harbour: Harbour) -> None:
    app, matters = harbour.new_app(), harbour.tide.matters
    harbour.draft(app, stores=("openfield",))
    with pytest.raises(Invalid, match="names no class"):
        matters.teach(app, "pictures", "pocket 3")
    check = matters.teach(app, "pictures", "phone 3")
    (finding,) = harbour.leg(app, "openfield").findings
    assert (finding.code, "2 of the 3" in finding.detail) == ("check-pictures", True)
    matters.end_check(app, check.id, reason="two are enough")
    assert harbour.leg(app, "openfield").findings == []


def test_matters_and_checks_by_command(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("openfield",))
    refused(harbour, app, FIRST)
    listed = json.loads(tide("matter", "list", "--app", app, "--json").stdout)
    (matter,) = (one["id"] for one in listed)
    shown = tide("matter", "list", "1.0.0", "--app", app).stdout
    assert FIRST in shown
    ready = tide("release", "ready", "1.0.0", "--app", app)
    assert f"tide matter list 1.0.0 --app {app}" in ready.stdout
    assert (
        "tide matter"
        not in tide(
            "matter", "arrange", matter, "--app", app, "--by", "ida@saltgrass.example.org", "--due", "2026-12-01"
        ).stderr
    )
    assert "is fixed" in tide("matter", "fix", matter, "--app", app, "--said", "It is used now.").stdout
    assert "Fixed: It is used now." in tide("matter", "note", "1.0.0", "--app", app, "--store", "openfield").stdout
    assert "stands" in tide("check", "add", "question", "Is it used?", "--app", app, "--matter", matter).stdout
    check = json.loads(tide("check", "list", "--app", app, "--json").stdout)[0]["id"]
    assert "not yet" in tide("check", "list", "--app", app, "--release", "1.0.0").stdout
    assert tide("release", "submit", "1.0.0", "--app", app).returncode == 1
    assert tide("check", "tick", check, "1.0.0", "--app", app).returncode == 0
    unlooked = tide("release", "submit", "1.0.0", "--app", app)
    assert f"tide release look 1.0.0 --app {app}" in unlooked.stderr
    looked = json.loads(tide("release", "look", "1.0.0", "--app", app, "--json").stdout)["revision"]
    handed_in = tide("release", "submit", "1.0.0", "--app", app, "--looked", looked, "--note", "Look at the map.")
    assert handed_in.returncode == 0
    until(lambda: submission(harbour, app), lambda held: held["reviewer_note"] == "Look at the map.")
    assert tide("check", "end", check, "--app", app, "--reason", "it is in the tests now").returncode == 0
    assert "No checks yet" in tide("check", "list", "--app", app).stdout
    harbour.pass_hours(60, desk=False)  # nothing stays under review, where the next refusal would meet it
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rising")
