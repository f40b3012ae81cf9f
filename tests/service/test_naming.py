"""Things named as people do, by command and by the client: nothing needs an id that was copied from somewhere."""

from __future__ import annotations

import csv
import re
from pathlib import Path
from urllib.parse import quote

import httpx
import pytest

from restless_tide.cli.helping import PAGES, PAGES_OF_APP
from restless_tide.client import Invalid, NotFound
from restless_tide.core.glossary import GLOSSARY
from restless_tide.wire.releases import LegWanted
from tests.harbour import Harbour, until
from tests.patience import OPENLY
from tests.service.test_cli import Terminal


@pytest.fixture
def tide(harbour: Harbour, tmp_path: Path) -> Terminal:
    return Terminal(harbour, tmp_path)


def test_a_build_is_named_by_version_number_latest_or_the_beginning_of_its_id(harbour: Harbour) -> None:
    app = harbour.new_app()
    older = harbour.ready_build(app, "openfield", "1.0.0", 7)
    newer = harbour.ready_build(app, "openfield", "1.1.0", 8)
    again = harbour.ready_build(app, "openfield", "1.1.0", 9)
    apple = harbour.ready_build(app, "northgate", "1.1.0", 4)
    named = harbour.tide.builds.named
    for name, meant in (
        ("1.0.0", older), ("7", older), ("1.1.0 (8)", newer), ("1.1.0(9)", again), ("4", apple), (older[:6], older), (older, older),
    ):  # fmt: skip
        assert named(app, name).id == meant, name
    assert named(app, "latest", platform="android").id == again
    assert named(app, "1.1.0", platform="ios").id == apple
    for name, said in (("1.1.0", "fits several builds: 1.1.0 "), ("latest", "for ios")):
        with pytest.raises(Invalid, match=said):
            named(app, name)
    with pytest.raises(NotFound, match="is called '3.0'") as unknown:
        named(app, "3.0")
    assert "1.1.0 (9)" in unknown.value.remedy
    other = harbour.new_app()
    with pytest.raises(NotFound, match="No build of"):
        named(other, older)
    with pytest.raises(NotFound) as none:
        named(other, "latest")
    assert "It has none yet" in none.value.remedy


def test_a_release_takes_the_latest_build_of_each_stores_platform(harbour: Harbour) -> None:
    app = harbour.new_app()
    apk, ipa = harbour.ready_build(app, "openfield"), harbour.ready_build(app, "northgate")
    release = harbour.tide.releases.draft(
        app, "1.0.0", legs={store: LegWanted(build="latest") for store in ("openfield", "northgate")}
    )
    assert {leg.store: leg.build for leg in release.legs} == {"openfield": apk, "northgate": ipa}


def test_a_build_servers_token_reaches_no_other_app_by_a_name(harbour: Harbour) -> None:
    mine, other = harbour.new_app(), harbour.new_app()
    harbour.ready_build(other, "openfield", "1.0.0", 77)
    build = harbour.ready_build(mine, "openfield", "1.0.0", 78)
    token = harbour.tide.people.make_token("builds", apps=[mine]).value

    def status(path: str) -> int:
        headers = {"Authorization": f"Bearer {token}"}
        return httpx.get(f"{harbour.address}/v1/{path}", headers=headers, **OPENLY).status_code

    assert status(f"builds/{build}") == 200
    assert status(f"apps/{mine}/builds/latest") == 200
    assert status("builds/" + quote("1.0.0 (77)")) == 404, "whether such a build is there is not told"
    assert status(f"apps/{other}/builds/latest") == 403


def test_commands_take_names_instead_of_ids(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.ready_build(app, "openfield", "1.0.0", 7)
    heavier = harbour.processing(harbour.package(app, "openfield", "1.0.0", 8, padding_bytes=150_000), app, "openfield")
    harbour.pass_hours(1, desk=False)
    until(lambda: harbour.tide.builds.consignment(heavier.id), lambda seen: seen.state == "ready")
    second = heavier.build
    assert tide.json("build", "show", "latest", "--app", app)["id"] == second
    assert "Size grown" in tide("build", "compare", "7", "8", "--app", app).stdout
    assert tide("cohort", "add", "crew", "--app", app).returncode == 0
    assert tide("tester", "add", f"wren.{app}@example.org", "--app", app, "--cohort", "crew").returncode == 0
    opened = ("--cohort", "crew", "--build", "1.0.0 (8)", "--task", "Look.", "--contact", "ida@example.org")
    (trial,) = tide.json("trial", "open", "--app", app, *opened, "--wait", "20")
    until(lambda: harbour.tide.testing.trial(trial["id"]), lambda seen: seen.state == "open")
    assert trial["id"] in tide("trial", "show", "crew", "--app", app).stdout
    assert tide("trial", "close", "crew", "--app", app, "--store", "openfield").returncode == 0
    assert tide("trial", "close", "nobody", "--app", app).returncode == 1
    sent = tide("build", "answer", "8", "rings=no", "--app", app, "--store", "openfield")
    assert "ready" in sent.stderr, "the build is found, and nobody asks about it"


def test_several_reports_are_decided_on_in_one_act(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    ids = [harbour.tide.reports.file(app, text=f"Remark {place}").id for place in range(4)]
    harbour.tide.reports.decide(ids[0], "accept")
    done = harbour.tide.reports.decide_all([*ids[:2], ids[1], "re-nothing"], "accept", reason="seen")
    assert [report.id for report in done.done] == [ids[1]]
    assert [left.report for left in done.left] == [ids[0], "re-nothing"]
    lines = list(harbour.tide.watching.logbook(app=app, limit=3))
    assert (lines[0].act, lines[0].reason, lines[0].after["reports"]) == ("reports accepted", "seen", [ids[1]])
    closed = tide("report", "close", "--where", f"app={app}", "--where", "state=new", "--where", "find=remark", "--yes")
    assert closed.returncode == 0, closed.stderr
    assert {report.id for report in harbour.tide.reports.some(app=app, state=["closed"])} == set(ids[2:])
    mixed = tide("report", "accept", ids[0], ids[2])
    assert (mixed.returncode, f"{ids[0]} stays as it is" in mixed.stdout) == (1, True)
    for wrong in (("report", "close"), ("report", "close", "--where", "colour=red"), ("report", "close", ids[0], "--where", "kind=crash")):  # fmt: skip
        assert tide(*wrong).returncode == 1


def test_a_release_is_drafted_of_the_latest_builds_with_notes_from_a_file_and_waited_for(
    tide: Terminal, harbour: Harbour, tmp_path: Path
) -> None:
    app = harbour.new_app()
    apk = harbour.ready_build(app, "openfield")
    (tmp_path / "en.txt").write_text("Dune maps.\nAnd more.\n", encoding="utf-8")
    drafted = tide.json(
        "release", "draft", "1.0.0", "--app", app, "--leg", "openfield", "--notes", f"en=@{tmp_path / 'en.txt'}"
    )
    assert (drafted["legs"][0]["build"], drafted["notes"]) == (apk, {"en": "Dune maps.\nAnd more."})
    missing = tide("release", "notes", "1.0.0", "--app", app, "de", "@nowhere.txt")
    assert (missing.returncode, "no file at nowhere.txt" in missing.stderr) == (1, True)
    wait = ("release", "wait", "1.0.0", "--app", app)
    assert tide(*wait, "--wait", "0.3").returncode == 5
    harbour.approve(app)
    risen = tide(*wait, "--until", "rising", "--wait", "20")
    assert risen.returncode == 0, risen.stdout
    assert tide(*wait, "--until", "approved", "--wait", "0").returncode == 0, "it is further than that"
    elsewhere = tide(*wait, "--store", "northgate", "--wait", "0")
    assert (elsewhere.returncode, "does not go to northgate" in elsewhere.stderr) == (1, True)
    harbour.tide.releases.steer(app, "1.0.0", "halt", reason="crashes")
    assert tide(*wait, "--wait", "20").returncode == 1, "a halted release goes on by nobody's waiting"


def test_the_logbook_is_narrowed_down_and_exported(tide: Terminal, harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))
    harbour.tide.releases.steer(app, "1.0.0", "halt", reason="=crashes on start")
    found = tide.json("logbook", "show", "--app", app, "--by", "Ida", "--act", "halt")
    assert [(line["act"], line["who"]) for line in found] == [("halt", "Ida Fenwick")]
    assert tide.json("logbook", "show", "--app", app, "--find", "crashes openfield") == found
    (launch,) = tide.json("logbook", "show", "--app", app, "--by", "the desk", "--act", "launch")
    assert launch["person"] == "engine"
    assert tide.json("logbook", "show", "--app", app, "--until", launch["at"], "--act", "halt") == []
    assert "No line fits" in tide("logbook", "show", "--app", app, "--by", "nobody-at-all").stdout
    export = tide("logbook", "export", "--app", app, "--act", "halt", "--to", "lines.csv")
    assert export.returncode == 0, export.stderr
    (row,) = csv.DictReader((tmp_path / "lines.csv").read_text(encoding="utf-8").splitlines())
    assert (row["who"], row["object"], row["reason"]) == (
        "Ida Fenwick",
        "release 1.0.0 at openfield",
        "'=crashes on start",
    )


def test_help_tells_words_and_exit_codes_and_open_the_consoles_address(tide: Terminal, harbour: Harbour) -> None:
    assert "offers the build to nobody new" in tide("help", "words", "halt").stdout
    assert set(tide.json("help", "words")) == set(GLOSSARY)
    unknown = tide("help", "words", "blorp")
    assert (unknown.returncode, "See all: tide help words" in unknown.stderr) == (1, True)
    assert "the command line itself is wrong" in tide("help", "exit-codes").stdout
    assert tide("open").stdout.strip() == f"{harbour.address}/"
    assert tide("open", "2.4.0", "--app", "marram").stdout.strip() == f"{harbour.address}/apps/marram/releases/2.4.0"
    assert tide("open", "signing").returncode == 1


def test_every_page_that_is_opened_is_a_page_of_the_console() -> None:
    router = (Path(__file__).parents[2] / "console" / "src" / "router.ts").read_text(encoding="utf-8")
    paths = set(re.findall(r"path: '([^']+)'", router))
    assert {f"/{page}" for page in PAGES} | {f"/apps/:app/{page}" for page in PAGES_OF_APP} <= paths


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_a_shell_is_told_how_to_complete(tide: Terminal, shell: str) -> None:
    said = tide("completion", shell)
    assert (said.returncode, "_ARGCOMPLETE" in said.stdout) == (0, True)


def test_commands_options_and_live_names_are_completed(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.ready_build(app, "openfield")
    for line, among in (
        ("tide rel", "release"),
        ("tide release dr", "draft"),
        ("tide build push x.apk --tri", "--trial"),
        (f"tide app show {app[:-1]}", app),
        (f"tide build show --app {app} late", "latest"),
        ("tide rollout halt --store openf", "openfield"),
    ):
        assert among in tide.completed(line), line


def test_packages_of_several_platforms_are_pushed_at_once_or_not_at_all(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    apk, ipa = (str(harbour.package(app, store)) for store in ("openfield", "northgate"))
    apple, android = tide.json("build", "push", ipa, apk, "--app", app)
    assert [entry["store"] for entry in apple["consignments"]] == ["northgate"]
    assert {entry["store"] for entry in android["consignments"]} >= {"openfield"}
    assert [told["build"]["platform"] for told in (apple, android)] == ["ios", "android"]
    harbour.ready_build(app, "openfield", "1.0.0", 9)
    fits, falls = harbour.package(app, "northgate", number=2), harbour.package(app, "openfield", number=3)
    refused = tide("build", "push", str(fits), str(falls), "--app", app, "--store", "northgate", "--store", "openfield")
    assert (refused.returncode, "Nothing was sent. Sending these builds" in refused.stderr) == (1, True)
    assert not [build for build in harbour.tide.builds.of_app(app) if build.number.text == "2"]
