"""The tide command as people and scripts meet it: a process, its output, its exit code."""

from __future__ import annotations

import json
import os
import re
import subprocess
from pathlib import Path

import httpx
import pytest

from restless_tide.cli.exits import Exit
from restless_tide.cli.main import NOUNS, main, parser
from restless_tide.cli.parsing import UsageError
from restless_tide.standins.packages import PackageRecipe, write_apk, write_ipa, write_msix, write_msix_bundle
from tests.harbour import EMAIL, PASSWORD, PLACE, Harbour, until
from tests.nursery import run
from tests.patience import OPENLY
from tests.toolchain import make_ipa


class Terminal:
    def __init__(self, harbour: Harbour, folder: Path) -> None:
        self._environment = {
            **{name: value for name, value in os.environ.items() if not name.startswith("TIDE_")},
            "TIDE_URL": harbour.address,
            "TIDE_TOKEN": harbour.token,
            "TIDE_PORT": str(harbour.processes.ports.desk),
            "XDG_CONFIG_HOME": str(folder / "config"),
            "COLUMNS": "160",
        }
        self._folder = folder

    def __call__(self, *words: str, **environment: str) -> subprocess.CompletedProcess[str]:
        done = run(["restless_tide.cli.main", *words], self._environment | environment, self._folder)
        assert "Traceback" not in done.stdout + done.stderr
        return done

    def completed(self, line: str) -> list[str]:
        """How a line may go on, as a shell is told that asks (argcomplete's own protocol)."""
        told = self._folder / "completions"
        told.write_text("", encoding="utf-8")
        self(
            _ARGCOMPLETE="1",
            _ARGCOMPLETE_SHELL="bash",
            _ARGCOMPLETE_STDOUT_FILENAME=str(told),
            _ARGCOMPLETE_IFS="\n",
            COMP_LINE=line,
            COMP_POINT=str(len(line)),
        )
        return [word.strip() for word in told.read_text(encoding="utf-8").splitlines()]

    def json(self, *words: str) -> object:
        done = self(*words, "--json")
        assert done.returncode == 0, done.stderr
        return json.loads(done.stdout)


@pytest.fixture
def tide(harbour: Harbour, tmp_path: Path) -> Terminal:
    return Terminal(harbour, tmp_path)


@pytest.mark.toolchain
def test_inspect_needs_no_desk_and_prints_one_object(tide: Terminal, real_apk: Path, tmp_path: Path) -> None:
    done = tide("build", "inspect", str(real_apk), "--json", TIDE_URL="http://127.0.0.1:9", TIDE_TOKEN="")
    facts = json.loads(done.stdout)
    wanted = {
        "format",
        "identifier",
        "version",
        "number",
        "lowest_platform",
        "target_platform",
        "permissions",
        "label",
        "size_bytes",
        "sha256",
    }
    assert wanted <= set(facts)
    assert (facts["format"], facts["number"], facts["label"]) == ("apk", "17", "Marram")
    sheet = tide("build", "inspect", str(make_ipa(tmp_path / "a.ipa"))).stdout
    assert "org.example.saltgrass.marram" in sheet
    assert "NSLocationWhenInUseUsageDescription" in sheet


def test_what_is_no_package_ends_with_one_clear_line_and_a_code(tide: Terminal, tmp_path: Path, real_apk: Path) -> None:
    (tmp_path / "text.apk").write_text("hello")
    (tmp_path / "cut.apk").write_bytes(real_apk.read_bytes()[:4000])
    for name, complaint in (("text.apk", "no archive"), ("cut.apk", "cut off"), ("absent.apk", "no file at")):
        done = tide("build", "inspect", name)
        assert done.returncode == 1
        assert complaint in done.stderr.splitlines()[0]
        assert done.stdout == ""
    problem = json.loads(tide("build", "inspect", "text.apk", "--json").stderr)
    assert problem["code"] == "not-an-archive"


@pytest.mark.parametrize(
    ("words", "hint"),
    [
        (["biuld", "push"], "Did you mean build?"),
        (["build", "psuh"], "Did you mean push?"),
        (["build", "list", "--ap", "x"], "Did you mean --app?"),
        (["overview", "--jsn"], "Did you mean --json?"),
        (["rollout", "halt", "1.0.0", "--app", "x"], "--reason"),
        ([], "required"),
    ],
)
def test_a_mistyped_command_line_is_told_the_nearest_word(tide: Terminal, words: list[str], hint: str) -> None:
    done = tide(*words)
    assert done.returncode == 2
    assert hint in done.stderr
    assert "--help" in done.stderr


def test_help_says_what_the_exit_codes_mean(tide: Terminal) -> None:
    told = tide("--help").stdout
    assert "exit codes:" in told
    assert "ordered, but not confirmed" in told
    for noun in ("overview", "build", "release", "rollout", "standin"):
        assert noun in told
    assert "It never goes to production automatically" in " ".join(tide("build", "push", "--help").stdout.split())


def test_push_waits_tells_held_by_its_code_and_goes_on_when_answered(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    file = harbour.package(app, "openfield", permissions=(PLACE,))
    done = tide("build", "push", str(file), "--app", app, "--store", "openfield", "--wait", "1")
    assert done.returncode == 5, done.stdout + done.stderr
    harbour.pass_hours(1, desk=False)
    held = tide("build", "push", str(file), "--app", app, "--store", "openfield", "--wait")
    assert held.returncode == 6
    assert "the desk had this file already" in held.stdout
    assert "It asks: Does the app ring or vibrate" in held.stdout
    consignment = held.stdout.split("Answer with: tide build answer ")[1].split()[0]
    answered = tide("build", "answer", consignment, "rings-when-locked=no")
    assert answered.returncode == 0
    assert "ready" in answered.stdout
    refused = tide(
        "build", "push", str(harbour.package(app, "openfield", "1.0.0", 1)), "--app", app, "--store", "openfield"
    )
    assert refused.returncode == 1
    assert "is known already, with other bytes" in refused.stderr


def test_a_release_goes_from_draft_to_halted_by_commands(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "northgate")
    dictated = tide("release", "change", "1.0.0", "--app", app, "--store", "northgate", "--ladder", "5,100")
    assert dictated.returncode == 1
    assert "No release is called" in dictated.stderr
    drafted = tide(
        "release",
        "draft",
        "1.0.0",
        "--app",
        app,
        "--leg",
        f"northgate={build}",
        "--ladder",
        "5@24,100",
        "--notes",
        "en=New.",
    )
    assert "5% (24 h) → 100%" in drafted.stdout
    looked = tide("release", "look", "1.0.0", "--app", app).stdout
    assert "where nothing is live" in looked
    (advice,) = re.findall(r"Hand it in: tide (.+)", looked)
    assert tide(*advice.split()).returncode == 0
    harbour.pass_hours(60, desk=False)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rising" and seen.legs[0].confirmed)
    advanced = tide("rollout", "advance", "1.0.0", "--app", app, "--share", "30", "--reason", "well")
    assert "Northgate: rising at 30%" in advanced.stdout
    halted = tide("rollout", "halt", "1.0.0", "--app", app, "--reason", "crashes")
    assert (halted.returncode, halted.stdout.strip()) == (0, "Northgate: halted at 30%")
    again = tide("rollout", "halt", "1.0.0", "--app", app, "--reason", "again")
    assert again.returncode == 1
    assert "Possible now: withdraw." in again.stderr
    told = tide.json("release", "show", "1.0.0", "--app", app)
    assert told["legs"][0]["phase"] == "halted"
    assert "crashes" in tide("logbook", "show", "--app", app, "--limit", "5").stdout
    assert tide("logbook", "verify").returncode == 0


def test_lists_say_what_to_do_first_and_speak_json(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    for words, first in (
        (("build", "list"), "Push one"),
        (("release", "list"), "Draft one"),
        (("cohort", "list"), "Make one"),
        (("trial", "list"), "Open one"),
    ):
        assert first in tide(*words, "--app", app).stdout
        assert tide.json(*words, "--app", app) == []
    known = {store.name for store in harbour.tide.stores.every()}
    assert {store["name"] for store in tide.json("store", "list")} == known >= {"northgate", "openfield"}
    assert "Numbers rise for ever" in tide("store", "show", "openfield").stdout
    assert tide.json("app", "show", app)["name"] == app
    assert "Needs you" in tide("overview").stdout or "Nothing needs you" in tide("overview").stdout


def test_sign_in_is_remembered_in_a_private_file_and_forgotten(tide: Terminal, tmp_path: Path) -> None:
    done = tide("sign-in", "--email", EMAIL, TIDE_PASSWORD=PASSWORD)
    assert "Signed in" in done.stdout
    kept = tmp_path / "config" / "restless-tide" / "desk.json"
    assert kept.stat().st_mode & 0o777 == 0o600
    assert tide("overview", TIDE_TOKEN="", TIDE_URL="").returncode == 0
    assert tide("sign-out").returncode == 0
    assert not kept.exists()
    unsigned = tide("overview", TIDE_TOKEN="")
    assert unsigned.returncode == 3
    assert "tide sign-in" in unsigned.stderr


def test_a_desk_that_does_not_answer_or_is_none_is_said_in_one_line(tide: Terminal, harbour: Harbour) -> None:
    away = tide("overview", TIDE_URL="http://127.0.0.1:9")
    assert away.returncode == 4
    assert "No desk answers at http://127.0.0.1:9" in away.stderr
    mail = f"http://127.0.0.1:{harbour.processes.ports.mail}"
    assert tide("overview", TIDE_URL=mail).returncode != 0


def test_watch_prints_changes_and_ends_after_count(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app(copied=False)
    done = tide("watch", "--after", "0", "--app", app, "--count", "2", "--json")
    changes = [json.loads(line) for line in done.stdout.splitlines()]
    assert [change["kind"] for change in changes] == ["app registered", "berth ordered"]


def test_tokens_and_testers_by_command(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    made = tide.json("token", "add", "nightly build", "--days", "30")
    assert made["value"].startswith("tide_")
    assert "nightly build" in tide("token", "list").stdout
    assert tide("token", "revoke", made["id"]).returncode == 0
    assert tide("overview", TIDE_TOKEN=made["value"]).returncode == 3
    assert tide("cohort", "add", "crew", "--app", app).returncode == 0
    assert tide("tester", "add", f"wren.{app}@example.org", "--app", app, "--cohort", "crew").returncode == 0
    bad = tide("tester", "add", "not-an-address", "--app", app, "--cohort", "crew")
    assert bad.returncode == 1
    assert "no mail address" in bad.stderr
    assert tide("tester", "remove", f"wren.{app}@example.org", "--app", app, "--cohort", "crew").returncode == 0
    assert tide.json("cohort", "list", "--app", app)[0]["testers"] == 0


def test_an_order_that_is_not_confirmed_is_told_by_its_own_exit_code(own_harbour: Harbour, tmp_path: Path) -> None:
    tide = Terminal(own_harbour, tmp_path)
    app = own_harbour.new_app()
    own_harbour.risen(app, stores=("openfield",))
    assert tide("standin", "mischief", "openfield", "--outage", "on").returncode == 0
    halted = tide("rollout", "halt", "1.0.0", "--app", app, "--reason", "crashes", "--wait", "1")
    assert halted.returncode == 5
    assert "ordered, not confirmed; the store was last seen rising at 2%" in halted.stdout
    assert "ordered, not confirmed" in tide("release", "show", "1.0.0", "--app", app).stdout
    until(lambda: tide("store", "list").stdout, lambda told: "not reached" in told)
    tide("standin", "mischief", "openfield", "--outage", "off")
    own_harbour.released(app, "1.0.0", lambda seen: seen.legs[0].confirmed and seen.legs[0].phase == "halted")


@pytest.mark.parametrize("noun", NOUNS)
def test_every_command_says_what_it_is_about_and_loads_nothing_of_the_others(
    noun: str, capsys: pytest.CaptureFixture[str]
) -> None:
    with pytest.raises(SystemExit) as ended:
        parser([noun, "--help"]).parse_known_args([noun, "--help"])
    assert ended.value.code == 0
    assert f"usage: tide {noun}" in capsys.readouterr().out
    others = {other for other, entry in NOUNS.items() if entry.module != NOUNS[noun].module}
    with pytest.raises(UsageError):
        parser([noun]).parse_known_args([min(others)])


def test_a_halt_asks_the_desk_for_nothing_before_it_is_ordered(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))
    harbour.tide.watching.health()  # what was asked before it is in the log now
    log = harbour.processes.folder / "desk.log"
    seen = log.stat().st_size
    done = tide("rollout", "halt", "1.0.0", "--app", app, "--reason", "crashes")
    assert done.returncode == 0, done.stderr
    with log.open("rb") as told:
        told.seek(seen)
        lines = [json.loads(line) for line in told if b'"answered"' in line]
    asked = [(line["method"], line["path"]) for line in lines if app in str(line.get("path"))]
    assert asked[0] == ("POST", f"/v1/apps/{app}/releases/1.0.0/steering"), asked


def test_the_date_of_a_launch_is_taken_away_again(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("openfield",))
    change = ("release", "change", "1.0.0", "--app", app, "--store", "openfield", "--not-before")

    def date() -> object:
        stands = harbour.tide.releases.one(app, "1.0.0").legs[0].conditions
        return next((one.written for one in stands if one.condition.kind == "after"), None)

    assert tide(*change, "2026-12-24T09:00+01:00").returncode == 0
    kept = date()
    assert kept is not None
    unfit = tide(*change, "")
    assert unfit.returncode == Exit.REFUSED
    assert "or none for no date" in unfit.stderr
    assert date() == kept
    assert tide(*change, "none").returncode == 0
    assert date() is None
    tide(*change, "2026-12-24T09:00+01:00")
    url = f"{harbour.address}/v1/apps/{app}/releases/1.0.0/legs/openfield"
    signed_in = {"Authorization": f"Bearer {harbour.token}"}
    assert httpx.patch(url, json={"needs_go_ahead": False}, headers=signed_in, **OPENLY).status_code == 200
    assert date() == kept, "what is left out stays"
    assert httpx.patch(url, json={"not_before": None}, headers=signed_in, **OPENLY).status_code == 200
    assert date() is None


@pytest.mark.parametrize(
    ("words", "told"),
    [
        ("token add x --days -3", "'-3' is no length of time"),
        ("token add x --days 999999999", "days: Input should be less than or equal to"),
        ("report list --limit -1", "'-1' is no whole number from 1 on"),
        ("build list --app a --limit many", "'many' is no whole number from 1 on"),
        ("rollout halt 1.0.0 --app a --reason x --wait nan", "'nan' is no length of time"),
        ("notice subscribe mail x@example.org --kind nothing", "Choose from processing ended, held by a question,"),
    ],
)
def test_values_that_do_not_fit_are_told_in_a_line(words: str, told: str, capsys: pytest.CaptureFixture[str]) -> None:
    code = main([*words.split(), "--url", "http://127.0.0.1:9", "--token", "tide_x"])
    assert code in (Exit.USAGE, Exit.REFUSED)
    assert told in capsys.readouterr().err


def test_packages_of_every_format_are_checked_by_command(tide: Terminal, harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app()
    recipe = PackageRecipe(f"org.example.saltgrass.{app}", "1.0.0", 1, app.title())
    alone = write_msix(tmp_path / "a.msix", recipe)
    files = {
        "apk": write_apk(tmp_path / "a.apk", recipe),
        "ipa": write_ipa(tmp_path / "a.ipa", recipe),
        "msix": alone,
        "msixbundle": write_msix_bundle(tmp_path / "a.msixbundle", [alone], recipe),
    }
    for kind, file in files.items():
        done = tide("build", "check", str(file), "--app", app, "--store", "openfield", "--json")
        codes = {found["code"] for sheet in json.loads(done.stdout) for found in sheet["findings"]}
        assert ("format-not-taken" in codes) == (kind != "apk"), done.stderr
