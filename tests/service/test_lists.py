"""Lists of testers over a real desk: looked at, applied as one act, exported; thousands of seats through a store's bad day."""

from __future__ import annotations

from pathlib import Path

import pytest

from restless_tide.client import Invalid, NotReady, TooLarge
from restless_tide.wire.cohorts import MemberTold, TrialTold
from restless_tide.wire.releases import LegWanted, ReleaseTold
from restless_tide.wire.reports import ReportTold
from tests.harbour import Harbour, until
from tests.service.test_cli import Terminal, tide  # noqa: F401  (a fixture)

BAD = b"not an address,Bad\n"


def people(app: str, count: int, begin: int = 0) -> bytes:
    rows = (f"t{place}.{app}@example.org,Tester {place}" for place in range(begin, begin + count))
    return ("address,name\n" + "\n".join(rows) + "\n").encode()


def test_a_list_is_looked_at_first_and_then_applied_as_one_act(harbour: Harbour) -> None:
    app = harbour.new_app()
    testing = harbour.tide.testing
    testing.make_cohort(app, "walkers", kind="guest")
    testing.enter_tester(f"t1.{app}@example.org", name="Kept")
    content = people(app, 12_500) + BAD + f"T3.{app}@example.org,Twice\n".encode()
    seen = testing.import_testers(content, app=app, cohort="walkers")
    assert seen.counts == {"new": 12_499, "known": 1, "already there": 0, "twice": 1, "bad": 1}
    assert [(row.line, row.kind) for row in seen.rows if row.kind == "bad"] == [(12_502, "bad")]
    assert (seen.applied, testing.cohort(app, "walkers").testers) == (False, 0)
    with pytest.raises(NotReady, match="1 of 12502 rows cannot be taken; nothing was changed") as refused:
        testing.import_testers(content, app=app, cohort="walkers", dry_run=False)
    assert [finding.place for finding in refused.value.findings] == ["line 12502"]
    done = testing.import_testers(content, app=app, cohort="walkers", dry_run=False, skip_bad=True)
    assert (done.applied, done.entered, done.joined) == (True, 12_499, 12_500)
    assert testing.cohort(app, "walkers").testers == 12_500
    assert testing.tester(f"t1.{app}@example.org").name == "Tester 1"
    lines = [line for line in harbour.tide.watching.logbook(app=app) if line.act == "testers imported"]
    assert [line.after for line in lines] == [{"rows": 12_502, "new": 12_499, "known": 1, "bad, left out": 1}]
    again = testing.import_testers(content, app=app, cohort="walkers", dry_run=False, skip_bad=True)
    assert (again.entered, again.joined, again.counts["already there"]) == (0, 0, 12_500)
    assert len(testing.members(app, "walkers", text="t777")) == 11
    assert [entry.tester.email for entry in testing.members(app, "walkers", limit=2)] == sorted(
        entry.tester.email for entry in testing.members(app, "walkers", limit=2)
    )


def test_a_list_that_does_not_fit_the_seats_of_a_running_trial_changes_nothing(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    testing = harbour.tide.testing
    testing.make_cohort(app, "crew")
    testing.add_tester(app, "crew", f"wren.{app}@example.org")
    trial = testing.open_trial(
        app, cohort="crew", build=build, store="openfield", notes="Look.", contact="ida@example.org"
    )
    until(lambda: testing.trial(trial.id), lambda seen: seen.state == "open")
    seen = testing.import_testers(people(app, 70), app=app, cohort="crew")
    (finding,) = seen.findings
    assert finding.code == "seats-exhausted"
    assert "60 crew seats; 71 testers" in finding.detail
    before = len(testing.testers(app))
    with pytest.raises(NotReady, match="60 crew seats"):
        testing.import_testers(people(app, 70), app=app, cohort="crew", dry_run=False)
    assert len(testing.testers(app)) == before
    assert testing.cohort(app, "crew").testers == 1


@pytest.mark.parametrize(
    ("content", "error", "complaint"),
    [
        (b"", Invalid, "empty"),
        (b"x" * (9 * 1024 * 1024), TooLarge, "bytes"),
        (b"a\0b", Invalid, "no text file"),
        (b"address\n" + b"a" * 70_000, Invalid, "Line 2"),
    ],
)
def test_a_file_that_is_no_list_is_refused(
    harbour: Harbour, content: bytes, error: type[Exception], complaint: str
) -> None:
    with pytest.raises(error, match=complaint):
        harbour.tide.testing.import_testers(content)


def test_lists_go_in_and_out_by_pipe(tide: Terminal, harbour: Harbour, tmp_path: Path) -> None:  # noqa: F811
    app = harbour.new_app()
    assert tide("cohort", "add", "walkers", "--app", app, "--kind", "guest").returncode == 0
    file = tmp_path / "people.csv"
    file.write_bytes(b"Mail;Wer\r\n" + f"a.{app}@example.org;=Ada\r\nb.{app}@example.org;Bo\r\nno;No\r\n".encode())
    checked = tide("cohort", "import", "walkers", str(file), "--app", app, "--check")
    assert checked.returncode == 1
    assert "1 bad" in checked.stdout
    assert "Not read: Wer." in checked.stdout
    assert "Nothing was changed." in checked.stdout
    taken = tide.json("cohort", "import", "walkers", str(file), "--app", app, "--skip-bad", "--column", "name=Wer")
    assert (taken["entered"], taken["joined"]) == (2, 2)
    out = tide("cohort", "export", "walkers", "--app", app).stdout
    assert f"a.{app}@example.org,'=Ada," in out
    again = tide("tester", "export", "--find", app, "--to", str(tmp_path / "out.csv"))
    assert again.returncode == 0
    back = tide.json("cohort", "import", "walkers", str(tmp_path / "out.csv"), "--app", app)
    assert back["counts"]["already there"] == 2


def test_a_store_that_goes_away_among_many_seats_is_carried_on_and_nobody_sits_twice(own_harbour: Harbour) -> None:
    harbour = own_harbour
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    testing = harbour.tide.testing
    testing.make_cohort(app, "shore", kind="walk-in", stores=["openfield"])
    testing.import_testers(people(app, 1_300), app=app, cohort="shore", dry_run=False)
    harbour.control("openfield", "mischief", {"lose_answers": 3, "slow_seconds": 0.2})
    harbour.mail_mood(refuse=["example.org"])
    trial = testing.open_trial(
        app, cohort="shore", build=build, store="openfield", notes="Look.", contact="ida@example.org"
    )
    until(lambda: testing.trial(trial.id), lambda seen: seen.seated >= 250)
    harbour.control("openfield", "mischief", {"outage": True})
    harbour.processes.kill("desk")
    harbour.processes.start("desk")
    testing.remove_tester(app, "shore", *(f"t{place}.{app}@example.org" for place in range(600, 640)))
    harbour.control("openfield", "mischief", {"outage": False, "slow_seconds": 0.0})
    until(lambda: harbour.tide.stores.one("openfield"), lambda store: store.pending_orders == 0)
    (there,) = [entry for entry in harbour.control("openfield", "things/trial") if entry["state"] == "with the store"]
    assert len(there["testers"]) == len(set(there["testers"])) == 1_260
    assert testing.trial(trial.id).seated == 1_260
    seats = {entry.store: entry for entry in testing.cohort(app, "shore").at}["openfield"]
    assert (seats.taken, seats.left) == (1_260, 8_000 - 1_260)
    acts = [act for act in harbour.control("openfield", "acts") if act["act"] in ("seat", "open trial")]
    assert len(acts) == len({act["key"] for act in acts}) == 6


def test_people_are_read_in_another_order_over_pages(harbour: Harbour, tide: Terminal) -> None:  # noqa: F811
    app = harbour.new_app()
    testing = harbour.tide.testing
    testing.make_cohort(app, "crew")
    for address, name in (("c", "Ida"), ("a", "jon"), ("b", "Ida"), ("d", "")):
        testing.add_tester(app, "crew", f"{address}.{app}@example.org", name=name)
    path = f"/v1/apps/{app}/cohorts/crew/testers"
    read = {
        order: [entry.tester.email[0] for entry in testing._line.each(path, MemberTold, order=order, limit=1)]
        for order in ("address", "name", "newest")
    }
    assert read == {"address": [*"abcd"], "name": [*"dbca"], "newest": [*"dbac"]}
    found = tide.json("tester", "list", "--find", app, "--sort", "newest", "--limit", "2")
    assert [person["email"][0] for person in found] == [*"db"]


def test_a_filter_holds_on_the_next_page_too(harbour: Harbour, tide: Terminal) -> None:  # noqa: F811
    app = harbour.new_app()
    for place in range(4):
        report = harbour.tide.reports.file(app, text=f"Remark {place}")
        if place % 2:
            harbour.tide.reports.decide(report.id, "close")
    pages = harbour.tide.reports._line.each("/v1/reports", ReportTold, app=app, state=["new"], order="oldest", limit=1)
    assert [report.text for report in pages] == ["Remark 0", "Remark 2"]
    newest = tide.json("report", "list", "--app", app, "--since", "2100-01-01T00:00")
    assert newest == []


def test_releases_and_trials_are_read_page_by_page(listed: tuple[str, Terminal], harbour: Harbour) -> None:
    app, _ = listed
    pages = harbour.tide.releases._line.each(f"/v1/apps/{app}/releases", ReleaseTold, limit=1)
    assert [release.version for release in pages] == ["1.10.0", "1.9.0"]
    app, testing = harbour.new_app(), harbour.tide.testing
    build = harbour.ready_build(app, "openfield")
    for place in range(3):
        testing.make_cohort(app, f"page{place}")
        testing.add_tester(app, f"page{place}", f"p{place}.{app}@example.org")
        testing.open_trial(
            app, cohort=f"page{place}", build=build, store="openfield", notes="Look.", contact="ida@example.org"
        )
    pages = testing._line.each(f"/v1/apps/{app}/trials", TrialTold, limit=1)
    assert [trial.cohort for trial in pages] == ["page2", "page1", "page0"]


@pytest.mark.parametrize(
    ("words", "found"),
    [
        (("app", "list", "--find", "{app} openfield"), ["{app}"]),
        (("release", "list", "--app", "{app}", "--sort", "version", "--reverse"), ["1.10.0", "1.9.0"]),
        (("release", "list", "--app", "{app}", "--state", "draft", "--limit", "1"), ["1.10.0"]),
        (("release", "list", "--app", "{app}", "--since", "2100-01-01T00:00"), []),
        (("cohort", "list", "--app", "{app}", "--sort", "testers", "--reverse"), ["many", "crew"]),
        (("cohort", "list", "--app", "{app}", "--find", "many crew"), ["many"]),
    ],
)
def test_lists_that_are_read_whole_take_the_same_words(
    listed: tuple[str, Terminal], words: tuple[str, ...], found: list[str]
) -> None:
    app, terminal = listed
    rows = terminal.json(*(word.format(app=app) for word in words))
    assert [row.get("version") or row["name"] for row in rows] == [name.format(app=app) for name in found]


@pytest.fixture(scope="module")
def listed(harbour: Harbour, tmp_path_factory: pytest.TempPathFactory) -> tuple[str, Terminal]:
    """An app with two drafts and two cohorts."""
    app = harbour.new_app()
    for place, version in enumerate(("1.9.0", "1.10.0"), 1):
        build = harbour.ready_build(app, "openfield", version, place)
        harbour.tide.releases.draft(app, version, legs={"openfield": LegWanted(build=build)}, notes={"en": "New."})
    for cohort in ("crew", "many"):
        harbour.tide.testing.make_cohort(app, cohort)
    harbour.tide.testing.add_tester(app, "many", f"ida.{app}@example.org")
    return app, Terminal(harbour, tmp_path_factory.mktemp("terminal"))
