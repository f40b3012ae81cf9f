"""Testing with people by the tide command: cohorts, trials, reports, as people and scripts use them."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.harbour import Harbour, until
from tests.service.test_cli import Terminal

STACK = "java.lang.IllegalStateException: x\n\tat org.example.TileStore.open(TileStore.java:7)\n"


@pytest.fixture
def tide(harbour: Harbour, tmp_path: Path) -> Terminal:
    return Terminal(harbour, tmp_path)


def test_empty_lists_say_what_to_do_first(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.tide.testing.make_cohort(app, "crew")
    for words, first in (
        (("report", "list", "--app", app), "Nothing has come back yet"),
        (("report", "crashes", "--app", app), "No crashes"),
        (("report", "numbers", "--app", app), "Open a trial"),
        (("tester", "list", "--app", app, "--cohort", "crew"), "Nobody is in crew yet"),
        (("tester", "list", "--find", f"nobody-{app}"), "Nobody matches"),
    ):
        assert first in tide(*words).stdout
        assert tide.json(*words) == []


def test_a_build_is_checked_handed_over_waited_for_and_closed(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    assert tide("cohort", "add", "crew", "--app", app, "--store", "openfield").returncode == 0
    wren = f"wren.{app}@example.org"
    added = tide(
        "tester",
        "add",
        wren,
        "--app",
        app,
        "--cohort",
        "crew",
        "--name",
        "Wren",
        "--language",
        "de",
        "--platform",
        "android",
    )
    assert "Wren is in crew." in added.stdout
    wanted = (
        "--app",
        app,
        "--cohort",
        "crew",
        "--build",
        build,
        "--task",
        "Walk a path.",
        "--task",
        "de=Geh einen Weg.",
    )
    lacking = tide("trial", "check", *wanted)
    assert lacking.returncode == 1
    assert "✕ A trial needs a contact." in lacking.stdout
    wanted += ("--contact", "ida@example.org")
    checked = tide("trial", "check", *wanted)
    assert checked.returncode == 0
    assert "crew at Openfield: 1 people, at once" in checked.stdout
    assert "Seats: 60, 59 left afterwards." in checked.stdout
    (opened,) = tide.json("trial", "open", *wanted)
    assert (opened["state"], opened["invited"]) == ("open", {"sent": 1})
    assert opened["brief"] == {"en": "Walk a path.", "de": "Geh einen Weg."}
    assert tide.json("trial", "wait", opened["id"])["state"] == "open"
    assert wren in tide("trial", "show", opened["id"]).stdout
    assert "1 sent" in tide("trial", "list", "--app", app).stdout
    soon = tide("trial", "mail", opened["id"])
    assert "0 mails are queued again; 1 are held back" in soon.stdout
    shown = tide("cohort", "show", "crew", "--app", app).stdout
    assert "59" in shown
    assert opened["id"] in shown
    assert tide("trial", "close", opened["id"], "--reason", "enough").returncode == 0
    again = tide("trial", "close", opened["id"])
    assert (again.returncode, "The trial is closed" in again.stderr) == (1, True)


def test_reports_are_filed_sorted_and_answered_by_command(tide: Terminal, harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    wren = f"wren.{app}@example.org"
    assert tide("cohort", "add", "crew", "--app", app).returncode == 0
    assert tide("tester", "add", wren, "--name", "Wren", "--app", app, "--cohort", "crew").returncode == 0
    (tmp_path / "stack.txt").write_text(STACK, encoding="utf-8")
    first = tide.json("report", "add", "--app", app, "--stack", "stack.txt", "--build", build, "--tester", wren)
    second = tide.json("report", "add", "--app", app, "--text", "It is slow.", "--build", build, "--tester", wren)
    listed = tide("report", "list", "--app", app).stdout
    assert "IllegalStateException in TileStore.open" in listed
    assert "It is slow." in listed
    assert tide("report", "accept", first["id"]).stdout == f"{first['id']} is accepted.\n"
    assert tide("report", "fix", first["id"], "--build", build).stdout == f"{first['id']} is fixed in 1.0.0 (1).\n"
    refused = tide("report", "accept", first["id"])
    assert (refused.returncode, "Possible now" in refused.stderr) == (1, True)
    assert f"A mail to {wren} is queued." in tide("report", "reply", second["id"], "Which phone?").stdout
    until(lambda: harbour.mails(wren), lambda found: found)
    assert tide("report", "ticket", second["id"], "MAR-7").returncode == 0
    shown = tide("report", "show", second["id"]).stdout
    assert "Which phone?" in shown
    assert "Ticket: MAR-7" in shown
    assert "IllegalStateException in TileStore.open   1.0.0 (1) ×1" in tide("report", "crashes", "--app", app).stdout
    (numbers,) = tide.json("report", "numbers", "--app", app)
    assert (numbers["remarks"], numbers["crashes"], numbers["open_reports"]) == (1, 1, 1)
    assert "It is slow." in tide("report", "export", "--app", app).stdout
    (tmp_path / "names.txt").write_text("org.example.A -> a.a:\n", encoding="utf-8")
    assert "name map" in tide("report", "symbols", build, "names.txt").stdout
    assert tide("report", "symbols", build, "stack.txt").returncode == 1


def test_somebody_is_shown_changed_and_forgotten_by_command(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    address = f"fenna.{app}@example.org"
    assert tide("tester", "add", address, "--tag", "coast").returncode == 0
    assert "Tags: coast" in tide("tester", "show", address).stdout
    assert "Name Fenna" in tide("tester", "change", address, "--name", "Name Fenna").stdout
    half = tide("tester", "list", "--app", app)
    assert (half.returncode, "--app and --cohort together" in half.stderr) == (1, True)
    assert "is all that is left" in tide("tester", "forget", address, "--yes").stdout
    assert tide("tester", "show", address).returncode == 1


def test_a_walk_in_link_is_opened_shown_and_renewed(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    tide("cohort", "add", "shore", "--app", app, "--kind", "walk-in", "--store", "openfield")
    none = tide("cohort", "link", "shore", "--app", app)
    assert (none.returncode, "no link yet" in none.stdout) == (1, True)
    opened = tide.json("cohort", "link", "shore", "--app", app, "--open", "--limit", "5", "--until", "2035-01-01T00:00")
    assert (opened["open"], opened["limit"], opened["closed_because"]) == (True, 5, None)
    renewed = tide.json("cohort", "link", "shore", "--app", app, "--renew")
    assert renewed["link"] != opened["link"]
    assert (renewed["open"], renewed["limit"]) == (True, 5)
    assert "closed" in tide("cohort", "link", "shore", "--app", app, "--close").stdout
    bad = tide("cohort", "link", "shore", "--app", app, "--until", "soon")
    assert (bad.returncode, "is no instant" in bad.stderr) == (2, True)
