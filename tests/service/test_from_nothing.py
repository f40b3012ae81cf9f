"""A new app goes from nothing to ready in three connected stores and the hand-carried one: by commands alone, and from a
dossier folder alone. (By the console alone: tests/console/test_from_nothing.py.)"""

from __future__ import annotations

import re
import shlex
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
import tomlkit

from restless_tide.cli.exits import Exit
from restless_tide.demo.chapter import WRACKLINE
from tests.harbour import ANSWERS, OWN_ANSWERS, TEXTS, Harbour, sample_pictures, until
from tests.service.test_cli import Terminal

CONNECTED = ("northgate", "openfield", "slatehouse")
EVERY = {*CONNECTED, "wrackline"}


@pytest.fixture(scope="module")
def shore(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Harbour]:
    """A desk with the three connected stores and the hand-carried one."""
    opened = Harbour.open(tmp_path_factory.mktemp("shore"), stores=CONNECTED)
    opened.connect_stores()
    opened.tide.stores.carry("wrackline", WRACKLINE.read_text(encoding="utf-8"))
    yield opened
    opened.close()


def carry(harbour: Harbour, app: str) -> None:
    """Someone does every step that waits for the app at the hand-carried store."""
    for step in harbour.tide.steps.waiting():
        if step.app == app:
            harbour.tide.steps.settle(step.id, "ready" if step.title.startswith("See whether") else "done")


def settle(harbour: Harbour, app: str) -> None:
    """Let the stores confirm, process and hold everything, and have the steps carried."""

    def look() -> int:
        carry(harbour, app)
        told = harbour.tide.apps.one(app)
        dossier = harbour.tide.dossier
        differing = sum(
            store.differing
            for part in (dossier.texts(app), dossier.pictures(app), dossier.questions(app))
            for store in part.stores
        )
        return differing + sum(berth.state != "open" for berth in told.berths)

    until(look, lambda left: left == 0)


def with_builds(harbour: Harbour, app: str, tide: Terminal) -> None:
    """A build is ready at every store: pushed by commands, the first at Northgate by hand, that at Wrackline by a step."""
    for store in ("northgate", "openfield", "slatehouse", "wrackline"):
        file = harbour.package(app, store)
        pushed = tide("build", "push", str(file), "--app", app, "--store", store)
        assert pushed.returncode in (Exit.DONE, Exit.CAUTION), pushed.stderr
        if store == "northgate":
            until(
                lambda: [one for one in harbour.tide.steps.waiting() if one.app == app and one.store == "northgate"],
                bool,
            )
            harbour.hand_in(store, app, file)

    def states() -> set[str]:
        carry(harbour, app)
        harbour.pass_hours(3, desk=False)
        return {str(one.state) for build in harbour.tide.builds.of_app(app) for one in build.consignments}

    until(states, lambda seen: seen == {"ready"})


def ready(harbour: Harbour, app: str) -> dict[str, str]:
    return {place.store: str(place.verdict) for place in harbour.tide.dossier.ready(app, "1.0.0").places}


def open_places(tide: Terminal, harbour: Harbour, app: str) -> None:
    identifiers = [f"--{platform}=org.example.saltgrass.{app}" for platform in ("android", "ios", "desktop")]
    assert tide("app", "add", app, *identifiers).returncode == Exit.DONE
    for store in sorted(EVERY):
        assert tide("berth", "open", "--app", app, "--store", store).returncode in (Exit.DONE, Exit.NOT_CONFIRMED)
    settle(harbour, app)


def test_by_commands_alone_each_of_which_the_sheet_has_named(shore: Harbour, tmp_path: Path) -> None:
    app, tide = "bycommands", Terminal(shore, tmp_path)
    assert set(ready_before(tide, app, shore).values()) == {"blocked"}
    with_builds(shore, app, tide)
    advised = tide("release", "ready", "1.0.0", "--app", app).stdout
    for begin in (
        "tide dossier write en summary=TEXT",
        "tide dossier add-pictures icon en FILE",
        "tide dossier questions",
    ):
        assert begin in " ".join(advised.split())
    assert (
        tide("dossier", "write", "en", *(f"{field}={text}" for field, text in TEXTS.items()), "--app", app).returncode
        == 0
    )
    for picture_class, files in sample_pictures().items():
        done = tide("dossier", "add-pictures", picture_class, "en", *map(str, files), "--app", app)
        assert done.returncode == Exit.DONE, done.stderr
    answers = [word for topic, answer in ANSWERS.items() for word in answer_words(topic, answer)]
    assert tide("dossier", "answer", *answers, "--app", app).returncode == Exit.DONE
    for store, own in OWN_ANSWERS.items():
        words = [f"{question}={answer}" for question, answer in own.items()]
        assert tide("dossier", "answer", *words, "--app", app, "--store", store).returncode == Exit.DONE
    tide("dossier", "send", "--app", app, "--wait", "0")
    settle(shore, app)
    draft_and_note(tide, app)
    assert ready(shore, app) == dict.fromkeys(EVERY, "ready")
    last = tide("release", "ready", "1.0.0", "--app", app)
    assert last.returncode == Exit.DONE
    advised_last = re.findall(r"→ (tide .+)", last.stdout)
    assert {shlex.split(line)[1:3] == ["release", "look"] for line in advised_last} == {True}


def ready_before(tide: Terminal, app: str, harbour: Harbour) -> dict[str, str]:
    open_places(tide, harbour, app)
    return ready(harbour, app)


def answer_words(topic: str, answer: object) -> list[str]:
    if isinstance(answer, dict):
        return [f"{topic}.{kind}={','.join(row)}" for kind, row in answer.items()]
    return [f"{topic}={','.join(answer) if isinstance(answer, list) else answer}"]


def draft_and_note(tide: Terminal, app: str) -> None:
    legs = [word for store in sorted(EVERY) for word in ("--leg", store)]
    assert tide("release", "draft", "1.0.0", "--app", app, *legs).returncode in (Exit.DONE, Exit.CAUTION)
    assert tide("release", "notes", "1.0.0", "en", "The first one.", "--app", app).returncode == Exit.DONE


def write_folder(folder: Path, app: str) -> None:
    """A dossier folder with all that every store wants."""
    (folder / "texts").mkdir(parents=True)
    (folder / "stores").mkdir()
    (folder / "dossier.toml").write_text(f'format = 1\napp = "{app}"\n', encoding="utf-8")
    (folder / "texts" / "en.toml").write_text(tomlkit.dumps(TEXTS), encoding="utf-8")
    (folder / "answers.toml").write_text(tomlkit.dumps(ANSWERS), encoding="utf-8")
    for store, answers in OWN_ANSWERS.items():
        (folder / "stores" / f"{store}.toml").write_text(tomlkit.dumps({"answers": answers}), encoding="utf-8")
    for picture_class, files in sample_pictures().items():
        place = folder / "pictures" / picture_class / "en"
        place.mkdir(parents=True)
        for at, file in enumerate(files, 1):
            shutil.copy(file, place / f"{at:02}.png")


def test_from_a_dossier_folder_alone(shore: Harbour, tmp_path: Path) -> None:
    app, tide = "byfolder", Terminal(shore, tmp_path)
    open_places(tide, shore, app)
    with_builds(shore, app, tide)
    draft_and_note(tide, app)
    assert set(ready(shore, app).values()) == {"blocked"}
    write_folder(tmp_path / "dossier", app)
    checked = tide("dossier", "check", "dossier")
    assert checked.returncode == Exit.DONE, checked.stdout
    tide("dossier", "send", "dossier", "--wait", "0")
    settle(shore, app)
    assert ready(shore, app) == dict.fromkeys(EVERY, "ready")
    assert "hold the same" in tide("dossier", "compare", "dossier").stdout
