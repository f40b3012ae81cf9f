"""Numbers for several stores at once, version files, changes, retention and signing, as tables."""

from __future__ import annotations

import json
import plistlib
import subprocess
import tomllib
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import given
from hypothesis.strategies import builds, integers, lists, sampled_from

from restless_tide.core.changes import Commit, draft_notes, full_list, measured, understood
from restless_tide.core.errors import Finding, Invalid, Level, NotFound
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.packages import Facts
from restless_tide.core.packages.facts import Certificate, Icon, Profile, Signature
from restless_tide.core.readiness import check_push, of_stores
from restless_tide.core.retention import Kept, RetentionRule, judge
from restless_tide.core.signing import Expected
from restless_tide.core.version_files import write_into
from restless_tide.core.versions import Held, Shelf, Step, check_number, propose_for_all
from restless_tide.records.repository import Repository
from tests.core.test_steering import rulebook

NORTHGATE, OPENFIELD, SLATEHOUSE = (rulebook(name) for name in ("northgate", "openfield", "slatehouse"))
NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


# numbers


def test_one_pair_fits_every_store_and_each_store_has_its_line() -> None:
    shelves = [
        Shelf(NORTHGATE, (Held("2.3.0", BuildNumber(4), live=True), Held("2.4.0", BuildNumber(2)))),
        Shelf(OPENFIELD, (Held("2.3.0", BuildNumber(210), live=True), Held("2.3.0", BuildNumber(212), refused=True))),
        Shelf(SLATEHOUSE, ()),
    ]
    found = propose_for_all(shelves, Step.MINOR)
    assert (found.version, found.number) == ("2.4.0", BuildNumber(213))
    told = "\n".join(found.reasons)
    for line in ("Northgate: 2.4.0 has not gone out", "Openfield: 2.3.0 is live, so the next minor version is 2.4.0",
                 "Slatehouse holds no build", "212 (refused: used up)", "213 is the lowest number that is free at every"):  # fmt: skip
        assert line in told


def test_a_reserved_number_is_used_up_and_a_limit_is_said() -> None:
    shelf = Shelf(
        SLATEHOUSE, (Held("1.0.0", BuildNumber(65_534), live=True), Held("1.0.1", BuildNumber(65_535), reserved=True))
    )
    with pytest.raises(Invalid, match="takes numbers up to 65535"):
        propose_for_all([shelf])


@given(
    lists(
        lists(
            builds(Held, version=sampled_from(["1.0.0", "1.1.0", "2.0"]), number=integers(1, 60).map(BuildNumber), live=sampled_from([True, False])),
            max_size=6,
        ),
        min_size=1,
        max_size=3,
    ),
    sampled_from(list(Step)),
)  # fmt: skip
def test_what_is_proposed_is_taken_by_every_store(held: list[list[Held]], step: Step) -> None:
    rules = [NORTHGATE, OPENFIELD, SLATEHOUSE]
    shelves = [Shelf(rule, tuple(builds_)) for rule, builds_ in zip(rules, held, strict=False)]
    found = propose_for_all(shelves, step)
    for shelf in shelves:
        assert check_number(shelf.rules, shelf.held, found.version, found.number) == []
    below = BuildNumber(found.number.parts[0] - 1)
    refused = [check_number(shelf.rules, shelf.held, found.version, below) for shelf in shelves]
    assert any(refused), "a smaller number would have done"


# version files

FILES = {
    "pyproject.toml": '# ours\n[project]\nname = "marram"   # kept\nversion = "1.0.0"  # people\n\n[tool.app]\nnumber = 7\n',
    "package.json": '{\n\t"name": "marram",\r\n\t"project": { "version":"1.0.0", "of": [1, {"x": "}"}] },\n  "tool": {"app": {"number" : 7}}\n}\n',
    "app.yaml": "# ours\nproject:\n  version: 1.0.0   # people\n  notes: |\n    version: no\ntool: {app: {number: 7}}\n",
    "app.properties": "# project.version=0\nproject.version = 1.0.0\r\ntool.app.number=7\nother: x\n",
    "App.plist": '<?xml version="1.0" encoding="UTF-8"?>\n<plist version="1.0"><dict>\n<key>project</key><dict><key>version</key><string>1.0.0</string><!-- é --></dict>\n<key>tool</key><dict><key>app</key><dict><key>number</key><integer>7</integer></dict></dict>\n</dict></plist>\n',
}  # fmt: skip


@pytest.mark.parametrize("name", FILES)
def test_only_the_two_values_change_in_a_project_s_file(name: str) -> None:
    before = FILES[name]
    after = write_into(name, before, {"project.version": "2.10.0", "tool.app.number": 218})
    assert after.replace("2.10.0", "1.0.0").replace("218", "7") == before
    read: dict[str, Any] = {"toml": tomllib.loads, "json": json.loads, "yaml": yaml.safe_load}
    if name.endswith("plist"):
        assert plistlib.loads(after.encode())["tool"]["app"]["number"] == 218
    elif name.rpartition(".")[2] in read:
        document = read[name.rpartition(".")[2]](after)
        assert (document["project"]["version"], document["tool"]["app"]["number"]) == ("2.10.0", 218)


@pytest.mark.parametrize("name", [name for name in FILES if not name.endswith("plist")])
@pytest.mark.parametrize("number", ["2.18.3", "2.10"])
def test_a_number_with_dots_is_written_as_text(name: str, number: str) -> None:
    after = write_into(name, FILES[name], {"tool.app.number": number})
    read: dict[str, Any] = {"toml": tomllib.loads, "json": json.loads, "yaml": yaml.safe_load}
    form = name.rpartition(".")[2]
    if form in read:
        assert read[form](after)["tool"]["app"]["number"] == number
    else:
        assert f"tool.app.number={number}\n" in after


@pytest.mark.parametrize("name", FILES)
def test_a_key_that_is_not_there_is_named(name: str) -> None:
    with pytest.raises(Invalid, match=r"no value at project\.nothing"):
        write_into(name, FILES[name], {"project.nothing": "1"})


@pytest.mark.parametrize(
    ("name", "content"),
    [("a.toml", "= 1"), ("a.json", "{"), ("a.yaml", "a: [1"), ("a.plist", "<plist>"), ("a.txt", "x")],
)
def test_a_file_that_cannot_be_read_is_refused_in_one_line(name: str, content: str) -> None:
    with pytest.raises(Invalid) as refused:
        write_into(name, content, {"version": "1"})
    assert "\n" not in refused.value.detail


def test_a_version_that_looks_like_a_number_stays_text_in_yaml() -> None:
    assert (
        write_into("a.yml", "version: '1.0'\nbuild: 3\n", {"version": "1.10", "build": 4})
        == "version: '1.10'\nbuild: 4\n"
    )
    assert yaml.safe_load(write_into("a.yml", "version: a\n", {"version": "1.10"})) == {"version": "1.10"}


# changes


def commit(number: int, message: str, parents: int = 1) -> Commit:
    revision = f"{number:040x}"
    return Commit(revision, tuple("f" * 40 for _ in range(parents)), "Wren", NOW - timedelta(hours=number), message)


def test_commits_are_understood_by_their_convention() -> None:
    found = understood(
        [
            commit(1, "feat(maps)!: draw lines (#12)\n\nBREAKING CHANGE: old maps are gone\n  for good\n\nCo-authored-by: Noor <n@example.org>\nRefs: DUNE-4"),
            commit(2, "Merge branch 'x'", parents=2),
            commit(3, f'Revert "fix: sun"\n\nThis reverts commit {5:040x}.'),
            commit(4, "tidy up"),
            commit(5, "fix: sun"),
            commit(6, "feat: walk in the rain."),
        ],
        {"openfield": {f"{1:040x}"}},
    )  # fmt: skip
    assert [(change.group, change.summary) for change in found] == [
        ("breaking", "draw lines"), ("other", "tidy up"), ("feat", "walk in the rain."),
    ]  # fmt: skip
    first = found[0]
    assert (first.scope, first.tickets, first.authors) == ("maps", ("DUNE-4", "#12"), ("Wren", "Noor"))
    assert "old maps are gone" in first.breaking
    assert first.new_at == ("openfield",)
    assert draft_notes(found).text == "• Old maps are gone for good.\n• Walk in the rain."
    assert "## New" in full_list(found)


def test_a_revert_of_a_revert_brings_back_and_one_of_something_older_is_told() -> None:
    back = commit(1, f'Revert "Revert"\n\nThis reverts commit {2:040x}.')
    undo = commit(2, f'Revert "feat: x"\n\nThis reverts commit {3:040x}.')
    older = commit(4, f'Revert "feat: older"\n\nThis reverts commit {99:040x}.')
    found = understood([back, undo, commit(3, "feat: x"), older])
    assert [change.summary for change in found] == ["x", "older"]
    assert draft_notes(found).text == "• X.\n• Taken back: older"


def test_a_draft_is_cut_at_whole_lines_as_the_store_counts() -> None:
    changes = understood([commit(1, "feat: 𝒟une"), commit(2, "feat: a very long thing indeed"), commit(3, "fix: y")])
    whole = draft_notes(changes)
    assert (whole.left_out, len(whole.text.splitlines())) == (0, 3)
    short = draft_notes(changes, [(16, "characters")])
    assert (short.text, short.left_out) == ("• 𝒟une.\n• Y.", 1)
    assert draft_notes(changes, [(400, "characters"), (11, "bytes")]).text == "• Y."
    assert [measured("𝒟é", kind) for kind in ("characters", "UTF-16 units", "bytes")] == [2, 3, 6]


def test_a_real_repository_is_read_through_git_and_only_below_its_folder(tmp_path: Path) -> None:
    place = tmp_path / "repositories" / "marram"
    place.mkdir(parents=True)

    def git(*words: str) -> str:
        named = ("-c", "user.name=Wren", "-c", "user.email=wren@example.org")
        said = subprocess.run(["git", *named, "-C", str(place), *words], check=True, capture_output=True, text=True)
        return said.stdout.strip()

    git("init", "-q", "-b", "main")
    revisions = []
    for message in ("feat: one\n\nbody\nRefs: A-1", "fix: two ✓"):
        git("commit", "-q", "--allow-empty", "-m", message)
        revisions.append(git("rev-parse", "HEAD"))
    git("checkout", "-q", "-b", "side", revisions[0])
    git("commit", "-q", "--allow-empty", "-m", "feat: aside")
    git("checkout", "-q", "main")
    git("merge", "-q", "--no-ff", "-m", "Merge branch 'side'", "side")
    (place / ".git" / "hooks" / "post-checkout").write_text("#!/bin/sh\ntouch hooked\n")
    repository = Repository(tmp_path / "repositories", "marram")
    found = repository.commits(git("rev-parse", "HEAD"), revisions[0])
    assert sorted(entry.message.splitlines()[0] for entry in found) == [
        "Merge branch 'side'",
        "feat: aside",
        "fix: two ✓",
    ]
    assert {change.summary for change in understood(found)} == {"aside", "two ✓"}
    for wrong, told in (("0" * 40, "git cannot read that"), ("--output=x", "is no revision")):
        with pytest.raises(Invalid, match=told):
            repository.commits(wrong, None)
    for outside in ("..", "../..", "nothing", "/etc"):
        with pytest.raises(NotFound):
            Repository(tmp_path / "repositories", outside)
    with pytest.raises(Invalid, match="reads no repositories"):
        Repository(None, "marram")


# retention


def test_the_newest_the_young_and_what_is_in_use_stay() -> None:
    ages = [(1, ""), (20, ""), (200, "live at openfield (1.0)"), (210, ""), (300, "")]
    kept = [
        Kept(build=f"b-{age}", platform="android", entered_at=NOW - timedelta(days=age), in_use=use, packages=("x",))
        for age, use in ages
    ]
    judged = judge(RetentionRule(keep_newest=1, keep_days=30), kept, NOW)
    assert [entry.build for entry in judged if entry.cleared] == ["b-210", "b-300"]
    assert [entry.because for entry in judged][:3] == [
        "one of the newest 1 for android", "20 days old, younger than 30 days", "live at openfield (1.0)",
    ]  # fmt: skip


# signing and the rest of the sheet


def certificate(digest: str = "a" * 64, days: float = 900) -> Certificate:
    ends = NOW + timedelta(days=days)
    return Certificate(
        subject="CN=a", issuer="CN=a", sha256=digest, valid_from=NOW - timedelta(days=1), valid_until=ends
    )


def signed(
    *signers: Certificate, verified: bool = True, lineage: tuple[Certificate, ...] = ()
) -> tuple[Signature, ...]:
    return (Signature(scheme="v2", verified=verified, trouble="" if verified else "changed", signers=signers, lineage=lineage),)  # fmt: skip


def profile(**changed: Any) -> Profile:
    usual = {
        "name": "p", "identifier": "T.org.example.*", "team": "T", "team_name": "Team", "kind": "store",
        "expires_at": NOW + timedelta(days=300), "certificates": (certificate(),),
    }  # fmt: skip
    return Profile(**(usual | changed))


def apk(**changed: Any) -> Facts:
    usual = {
        "format": "apk", "identifier": "org.example.a", "version": "1.1.0", "number": 5, "target_platform": "34",
        "size_bytes": 10, "sha256": "0" * 64, "signatures": signed(certificate()),
    }  # fmt: skip
    return Facts.of(usual | changed)


def ipa(**changed: Any) -> Facts:
    usual = {"format": "ipa", "signatures": (), "profile": profile(), "icon": icon()}
    return apk(**(usual | changed))


def icon(pixels: int = 180, *, transparent: bool = False) -> Icon:
    return Icon(member="i.png", width=pixels, height=pixels, transparent=transparent, media_type="image/png")


A, B = "a" * 64, "b" * 64
SHEETS: list[tuple[str, Any, list[Facts], Expected, dict[str, Level]]] = [
    ("fits", OPENFIELD, [apk()], Expected((A,), (A,), ()), {}),
    ("first", OPENFIELD, [apk()], Expected(), {"certificate-first": Level.NOTE}),
    ("other certificate", OPENFIELD, [apk()], Expected((B,)), {"certificate-differs": Level.BLOCKER}),
    ("store knows another", OPENFIELD, [apk()], Expected((A,), (B,)), {"certificate-not-taken": Level.BLOCKER}),
    ("rotated", OPENFIELD, [apk(signatures=signed(certificate(), lineage=(certificate(B),)))], Expected((B,), (B,)), {}),
    ("unsigned", OPENFIELD, [apk(signatures=())], Expected((A,)), {"signature-missing": Level.BLOCKER}),
    ("broken", OPENFIELD, [apk(signatures=signed(certificate(), verified=False))], Expected((A,)), {"signature-broken": Level.BLOCKER}),
    ("expired", OPENFIELD, [apk(signatures=signed(certificate(days=-1)))], Expected((A,)), {"certificate-expired": Level.BLOCKER}),
    ("expiring", OPENFIELD, [apk(signatures=signed(certificate(days=20)))], Expected((A,)), {"certificate-expiring": Level.CAUTION}),
    ("debug", OPENFIELD, [apk(debuggable=True)], Expected((A,)), {"debug-build": Level.BLOCKER}),
    ("for tests", OPENFIELD, [apk(test_only=True)], Expected((A,)), {"test-only": Level.BLOCKER}),
    ("undeclared", OPENFIELD, [apk(permissions=("x.CAMERA",))], Expected((A,), (), ("x.NET",)), {"not-declared": Level.CAUTION}),
    ("declared", OPENFIELD, [apk(permissions=("x.NET",))], Expected((A,), (), ("x.NET",)), {}),
    ("split alone", OPENFIELD, [apk(split="config.de", version="")], Expected((A,)), {"base-missing": Level.BLOCKER}),
    ("store profile", NORTHGATE, [ipa()], Expected((A,)), {}),
    ("named devices", NORTHGATE, [ipa(profile=profile(kind="named devices"))], Expected((A,)), {"profile-kind": Level.BLOCKER}),
    ("no profile", NORTHGATE, [ipa(profile=None)], Expected(()), {"profile-missing": Level.BLOCKER, "signature-missing": Level.NOTE}),
    ("profile expired", NORTHGATE, [ipa(profile=profile(expires_at=NOW))], Expected((A,)), {"profile-expired": Level.BLOCKER}),
    ("profile expiring", NORTHGATE, [ipa(profile=profile(expires_at=NOW + timedelta(days=9)))], Expected((A,)), {"profile-expiring": Level.CAUTION}),
    ("profile of another", NORTHGATE, [ipa(profile=profile(identifier="T.org.other.*"))], Expected((A,)), {"profile-differs": Level.BLOCKER}),
    ("simulator", NORTHGATE, [ipa(simulator=True)], Expected((A,)), {"simulator-build": Level.BLOCKER}),
    ("small icon", NORTHGATE, [ipa(icon=icon(60))], Expected((A,)), {"icon-too-small": Level.BLOCKER}),
    ("transparent icon", SLATEHOUSE, [apk(icon=icon(transparent=True))], Expected((A,)), {"icon-transparent": Level.BLOCKER, "label-differs": Level.NOTE}),
    ("no icon", NORTHGATE, [ipa(icon=None)], Expected((A,)), {"icon-not-found": Level.CAUTION}),
    ("no reason", NORTHGATE, [ipa(reasons={"NSCamera": " "})], Expected((A,)), {"reason-missing": Level.BLOCKER}),
    ("extension differs", NORTHGATE, [ipa(remarks=("The extension differs.",))], Expected((A,)), {"remark": Level.CAUTION}),
    ("one processor", SLATEHOUSE, [apk(format="msix", processors=("arm64",), icon=icon())], Expected((A,)), {"processor-missing": Level.BLOCKER, "label-differs": Level.NOTE}),
]  # fmt: skip


@pytest.mark.parametrize(
    ("rules", "facts", "expected", "codes"), [row[1:] for row in SHEETS], ids=[row[0] for row in SHEETS]
)
def test_the_sheet_says_what_stands_in_the_way(rules, facts, expected, codes) -> None:
    held = [Held("1.0.0", BuildNumber(3), live=True)]
    found = check_push(rules, held, facts, "org.example.a", NOW, expected)
    assert {finding.code: finding.level for finding in found if finding.code != "will-be-asked"} == codes
    assert all(finding.detail.endswith((".", "?")) for finding in found)


def test_what_several_stores_say_stands_once_with_their_names() -> None:
    shared = Finding("debug-build", Level.BLOCKER, "It is a debug build.", "package", "Build it for release.")
    own = Finding("format-not-taken", Level.BLOCKER, "IPA is not taken.", "package")
    found = of_stores([("northgate", [shared]), ("openfield", [own, shared])])
    assert [entry.detail for entry in found] == [
        "northgate, openfield: It is a debug build.",
        "openfield: IPA is not taken.",
    ]
