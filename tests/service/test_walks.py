"""The ten walks of everyday work by commands, from an empty desk: none needs an id that was copied from somewhere."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.harbour import Harbour, sample_pictures, until
from tests.service.test_cli import Terminal

STORES = ("northgate", "openfield", "slatehouse")
AN_ID = re.compile(r"\b(a|b|be|c|co|fr|in|l|n|o|ro|s|st|su|te|tr)-[23456789abcdefghjkmnpqrstuvwxyz]{8}\b")


@pytest.fixture
def empty(tmp_path: Path) -> Iterator[Harbour]:
    """A desk that knows no store and no app."""
    opened = Harbour.open(tmp_path / "harbour", stores=STORES)
    yield opened
    opened.close()


class Walker:
    """Someone at a terminal; counts the commands of each walk."""

    def __init__(self, harbour: Harbour, folder: Path) -> None:
        self._tide = Terminal(harbour, folder)
        self.commands: dict[str, int] = {}
        self._walk = ""

    def walk(self, name: str) -> None:
        self._walk, self.commands[name] = name, 0

    def __call__(self, *words: str) -> str:
        assert not any(AN_ID.search(word) for word in words), f"an id was copied: {words}"
        self.commands[self._walk] += 1
        done = self._tide(*words)
        assert done.returncode == 0, f"{words}: {done.stdout}{done.stderr}"
        return done.stdout


def test_ten_walks_by_commands(empty: Harbour, tmp_path: Path) -> None:
    harbour, tide = empty, Walker(empty, tmp_path)
    of = ("--app", "marram")

    tide.walk("connect three stores")
    for store in STORES:
        (tmp_path / f"{store}.json").write_text(json.dumps(harbour.control(store, "connections", {})), encoding="utf-8")
        tide("store", "connect", store, f"{store}.json")

    tide.walk("first app")
    identifier = "org.example.saltgrass.marram"
    tide("app", "add", "marram", "--title", "Maram", *(word for platform in ("android", "ios", "desktop") for word in (f"--{platform}", identifier)))  # fmt: skip
    for store in STORES:
        tide("berth", "open", "--store", store, *of)

    tide.walk("push three platforms")
    files = [harbour.package("marram", store) for store in STORES]
    tide("build", "push", *map(str, files), *of)
    harbour.hand_in("northgate", "marram", files[0])  # this store takes the first build on its own pages only
    builds = until(
        lambda: harbour.tide.builds.of_app("marram"),
        lambda seen: all(entry.state == "processing" for build in seen for entry in build.consignments),
    )
    assert len(builds) == 3
    harbour.pass_hours(3, desk=False)
    until(
        lambda: harbour.tide.builds.of_app("marram"),
        lambda seen: all(entry.state == "ready" for build in seen for entry in build.consignments),
    )

    tide.walk("hand it to testers")
    tide("cohort", "add", "crew", "--kind", "crew", *of)
    tide("tester", "add", "wren@example.org", "--name", "Wren", "--cohort", "crew", *of)
    brief = ("--task", "Walk a path.", "--contact", "ida@example.org")
    tide("trial", "open", "--cohort", "crew", "--build", "latest", "--platform", "android", "--wait", "20", *brief, *of)
    assert "is open" in tide("trial", "show", "crew", *of)

    tide.walk("draft a release")
    legs = [word for store in ("northgate", "openfield", "slatehouse") for word in ("--leg", store)]
    tide("release", "draft", "1.0.0", *legs, "--notes", "en=Dune maps.", "--notes", "de=Dünenkarten.", *of)

    tide.walk("correct a slip")
    tide("app", "change", "marram", "--title", "Marram")
    tide("release", "drop-leg", "1.0.0", "--store", "slatehouse", *of)
    tide("release", "notes", "1.0.0", "en", "Dune maps, and faster.", *of)

    tide.walk("write and answer what stores ask")
    tide("dossier", "write", "en", "summary=A diary.", "description=For people who walk along the shore.", *of)
    common = (
        "category=nature",
        "violence=none",
        "audience=adults",
        "encryption=none",
        "advertising=none",
        "selling=none",
    )
    tide("dossier", "answer", *common, "third-party-content=none", "gathered-data.*=", *of)
    tide("dossier", "answer", "ground=no", *of, "--store", "northgate")
    for picture_class, pictures in sample_pictures().items():
        tide("dossier", "add-pictures", picture_class, "en", *map(str, pictures), *of)
    tide("dossier", "send", *of)

    tide.walk("submit and see it go out")
    looked = json.loads(tide("release", "look", "1.0.0", *of, "--json"))["revision"]
    tide("release", "submit", "1.0.0", "--looked", looked, *of)
    harbour.all_confirmed("marram")
    harbour.pass_hours(60, desk=False)
    tide("release", "wait", "1.0.0", "--until", "rising", "--wait", "60", *of)

    tide.walk("halt")
    tide("rollout", "halt", "1.0.0", "--reason", "crashes on start", *of)

    tide.walk("find who halted")
    told = tide("logbook", "show", "--act", "halt", *of)
    assert told.count("Ida Fenwick") == 2
    assert "crashes on start" in told

    tide.walk("retire it")
    tide("rollout", "withdraw", "1.0.0", "--reason", "replaced by Ferryglass", "--yes", *of)
    tide("trial", "close", "crew", "--reason", "over", *of)
    assert "withdrawn" in tide("find", "marram", "1.0.0") + tide("overview")
    harbour.all_confirmed("marram")
    until(lambda: harbour.tide.testing.trials("marram"), lambda found: all(trial.confirmed for trial in found))
    tide("app", "retire", "marram", "--reason", "replaced by Ferryglass", "--yes")
    assert "Marram" not in tide("overview")

    assert tide.commands == {
        "connect three stores": 3, "first app": 4, "push three platforms": 1, "hand it to testers": 4, "draft a release": 1,
        "correct a slip": 3, "write and answer what stores ask": 7, "submit and see it go out": 3, "halt": 1, "find who halted": 1, "retire it": 6,
    }  # fmt: skip
