"""Running a desk in earnest: backups that restore, a check that finds what is broken, the wheel, and the settings as told."""

from __future__ import annotations

import asyncio
import json
import lzma
import os
import re
import shutil
import sqlite3
import subprocess
import sys
from pathlib import Path

import httpx
import pytest
from sqlalchemy import select

from restless_tide.core.errors import Conflict, Invalid
from restless_tide.core.rights import standing_of
from restless_tide.desk import backup, checking, tokens
from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.files_kept import NAMED, drop_unnamed, named, on_disk
from restless_tide.desk.settings import Settings, settings_from
from restless_tide.records.tables import Person
from restless_tide.service import operating
from restless_tide.service.app import desk_app
from restless_tide.settings_told import SETTINGS, as_help, as_table
from tests.harbour import Harbour, until
from tests.patience import OPENLY
from tests.service.test_cli import Terminal

ROOT = Path(__file__).parents[2]


@pytest.fixture
def tide(filled: Harbour, tmp_path: Path) -> Terminal:
    return Terminal(filled, tmp_path)


@pytest.fixture
def filled(own_harbour: Harbour) -> Harbour:
    """A desk with packages, pictures, documents and a release on its way up."""
    own_harbour.connect_stores()
    app = own_harbour.new_app(copied=False)
    own_harbour.risen(app, stores=("openfield",))
    return own_harbour


def settings(harbour: Harbour) -> Settings:
    return Settings(data=harbour.folder / "desk")


def test_a_backup_of_a_running_desk_restores_to_one_that_agrees_with_its_stores(
    filled: Harbour, tmp_path: Path
) -> None:
    app = filled.tide.apps.every()[0].name
    taken = backup.back_up(settings(filled), tmp_path / "backup", with_key=True)
    assert taken.files >= 3
    assert taken.missing == ()
    again = backup.back_up(settings(filled), tmp_path / "backup", with_key=True)
    assert (again.copied, again.files) == (0, taken.files)
    filled.tide.releases.steer(app, "1.0.0", "pause", reason="after the backup")
    filled.all_confirmed(app)
    assert filled.rollouts("openfield", app)[0]["state"] == "paused"

    filled.processes.stop("desk")
    shutil.rmtree(filled.folder / "desk")
    restored = backup.restore(settings(filled), tmp_path / "backup")
    assert restored.files == taken.files
    filled.processes.start("desk")

    def both() -> tuple[str, str, bool]:
        leg = filled.leg(app, "openfield")
        return filled.rollouts("openfield", app)[0]["state"], leg.seen.state if leg.seen else "", leg.confirmed

    until(both, lambda seen: seen[0] == seen[1] and seen[2])
    assert filled.tide.watching.verify_logbook().first_broken is None
    assert filled.tide.stores.every()[0].trouble is None


def test_a_backup_that_was_cut_off_altered_or_is_of_a_newer_release_is_refused(filled: Harbour, tmp_path: Path) -> None:
    place = tmp_path / "backup"
    backup.back_up(settings(filled), place, with_key=False)
    assert not (place / "master.key").exists()
    assert all(path.stat().st_mode & 0o077 == 0 for path in place.rglob("*"))
    empty = Settings(data=tmp_path / "empty")

    def spoiled(name: str) -> Path:
        copy = tmp_path / name
        shutil.copytree(place, copy)
        return copy

    cut = spoiled("cut")
    one = next(on_disk(cut)).path
    one.write_bytes(one.read_bytes()[:-1])
    with pytest.raises(Invalid, match="missing, cut off or altered"):
        backup.restore(empty, cut)
    altered = spoiled("altered")
    with (altered / "desk.sqlite").open("r+b") as file:
        file.seek(5000)
        file.write(b"x")
    with pytest.raises(Invalid, match="is not as it was written"):
        backup.restore(empty, altered)
    newer = spoiled("newer")
    told = json.loads((newer / "backup.json").read_text())
    (newer / "backup.json").write_text(json.dumps(told | {"revision": "9999", "release": "9.0.0"}))
    with pytest.raises(Invalid, match="newer than this one"):
        backup.restore(empty, newer)
    (newer / "backup.json").write_text(json.dumps(told | {"missing": ["nothing"]}))
    with pytest.raises(Invalid, match="was altered"):
        backup.restore(empty, newer)
    broken_off = spoiled("broken-off")
    (broken_off / "backup.json").write_text('{"format": 1,')
    with pytest.raises(Invalid, match="no whole backup"):
        backup.restore(empty, broken_off)
    assert not empty.data.exists()
    with pytest.raises(Conflict, match="is not empty"):
        backup.restore(settings(filled), place)
    with pytest.raises(Conflict, match="no backup"):
        backup.back_up(settings(filled), ROOT / "docs", with_key=False)
    with pytest.raises(Invalid, match="does not go into the data"):
        backup.back_up(settings(filled), filled.folder / "desk" / "backup", with_key=False)
    with pytest.raises(Invalid, match="holds no desk"):
        backup.back_up(empty, tmp_path / "of-nothing", with_key=False)


def test_a_check_names_what_is_broken_and_how_to_fix_it(filled: Harbour) -> None:
    filled.processes.stop("desk")
    desk = Desk(settings(filled), RealClock())
    try:
        assert not checking.is_broken(checking.check(desk))
        with desk.look() as session:
            kept = list(named(session))
        first = next(one for one in on_disk(desk.settings.data) if (one.folder, one.sha256) in kept)
        first.path.write_bytes(b"other bytes")
        with sqlite3.connect(desk.settings.data / "desk.sqlite") as records:
            records.execute("UPDATE logbook SET reason = 'all well' WHERE id = 4")
        broken = {line.what: line for line in checking.check(desk) if line.weight is checking.Weight.BROKEN}
        assert broken.keys() == {"files", "logbook"}
        assert "altered" in broken["files"].said
        assert broken["logbook"].said.startswith("line 4")
        assert "files" not in {
            line.what for line in checking.check(desk, quick=True) if line.weight is checking.Weight.BROKEN
        }
        stray = desk.pictures.keep(b"of a report that was refused")
        assert "left-over files" in {line.what for line in checking.check(desk)}
        assert drop_unnamed(desk) == 0, "what just came may be of an act under way"
        os.utime(desk.pictures.path(stray), (1, 1))
        assert drop_unnamed(desk) == 1
    finally:
        desk.close()


def test_the_commands_say_what_they_did(filled: Harbour, tide: Terminal, tmp_path: Path) -> None:
    data = {"TIDE_DATA": str(filled.folder / "desk")}
    place = tmp_path / "copy"
    done = tide("desk", "backup", str(place), **data)
    assert done.returncode == 0, done.stderr
    assert "The master key is not in it" in done.stdout
    assert tide("desk", "backup", str(place), "--verify", **data).stdout.startswith(f"{place} is whole")
    checked = tide("desk", "check", **data)
    assert (checked.returncode, "each as it was written" in checked.stdout) == (0, True), checked.stdout
    told = json.loads(tide("desk", "restore", str(place), "--json", TIDE_DATA=str(tmp_path / "new")).stdout)
    assert told["files"] > 0
    refused = tide("desk", "restore", str(place), **data)
    assert (refused.returncode, "is not empty" in refused.stderr) == (1, True)
    assert "Traceback" not in refused.stderr


def test_a_check_opens_no_tables_of_another_release_and_no_damaged_ones(tmp_path: Path) -> None:
    place = tmp_path / "desk"
    Desk(Settings(data=place), RealClock()).close()
    environment = {"TIDE_DATA": str(place)}
    assert operating.check(environment, quick=True, told=lambda done, of: None)
    with sqlite3.connect(place / "desk.sqlite") as records:
        records.execute("DROP TABLE kept_answers")
    with pytest.raises(Invalid, match="cannot be read"):
        operating.check(environment, quick=True, told=lambda done, of: None)
    with sqlite3.connect(place / "desk.sqlite") as records:
        records.execute("UPDATE alembic_version SET version_num = '0024'")
    with pytest.raises(Invalid, match="of another release"):
        operating.check(environment, quick=True, told=lambda done, of: None)
    (place / "desk.sqlite").write_bytes(b"no database")
    with pytest.raises(Invalid, match="no desk's records"):
        operating.check(environment, quick=True, told=lambda done, of: None)


UNASKED = {
    "/v1/live",
    "/v1/sign-in/provider",
    "/v1/sign-in/provider/back",
    "/readyz",
    "/v1/clock",
    "/v1/apps/{app}/dossier/folder",
}
"""What has no end, needs a provider, an engine, a clock that can be moved, or files that are not beside the records."""


def test_a_desk_with_the_demos_data_of_an_earlier_release_is_upgraded_whole(tmp_path: Path) -> None:
    """The demo as it was played in at revision 0024, kept as SQL: three weeks of a company with four stores."""
    sql = lzma.decompress((Path(__file__).parent / "data" / "demo-0024.sql.xz").read_bytes()).decode()
    place = tmp_path / "desk" / "desk.sqlite"
    place.parent.mkdir()
    with sqlite3.connect(place) as records:
        records.executescript(sql)
        before = _counts(records)
    desk = Desk(Settings(data=place.parent), RealClock())
    with sqlite3.connect(place) as records:
        after = _counts(records)
    gone = before.keys() - after.keys() | {name for name in before if before[name] > after.get(name, 0)}
    assert gone == {"sign_ins"}, "everybody signs in once more, and nothing else is lost"
    told = {line.what: line for line in checking.check(desk, quick=True)}
    assert {line.what for line in told.values() if line.weight is checking.Weight.BROKEN} == {"files", "master key"}
    assert told["logbook"].said == f"{before['logbook']} lines, each as it was written"
    with desk.act("operator") as act:
        owner = next(person for person in act.session.scalars(select(Person)) if person.grants)
        _, token = tokens.make(act.as_person(owner.id), "after the upgrade", standing_of(owner.grants))
    answers = asyncio.run(_read(desk, token))
    desk.close()
    assert {path: answer.text[:300] for path, answer in answers.items() if answer.status_code not in (200, 422)} == {}
    assert len([1 for answer in answers.values() if answer.status_code == 200]) > 60


async def _read(desk: Desk, token: str) -> dict[str, httpx.Response]:
    """Everything that is read of a desk, its apps and their releases, answered without its engine."""
    document = json.loads((ROOT / "console" / "openapi.json").read_text(encoding="utf-8"))
    read = [path for path, operations in document["paths"].items() if "get" in operations and path not in UNASKED]
    transport, headers = httpx.ASGITransport(desk_app(desk)), {"Authorization": f"Bearer {token}"}
    async with httpx.AsyncClient(transport=transport, base_url="http://desk", headers=headers) as line:
        apps = [app["name"] for app in (await line.get("/v1/apps")).json()]
        asked = [path for path in read if "{" not in path]
        asked += [path.format(app=apps[0]) for path in read if re.findall(r"{(\w+)}", path) == ["app"]]
        for app in apps:
            releases = f"/v1/apps/{app}/releases"
            for one in (await line.get(releases)).json():
                asked += [f"{releases}/{one['version']}{more}" for more in ("", "/readiness", "/course", "/watches")]
        return {path: await line.get(path) for path in asked}


def _counts(records: sqlite3.Connection) -> dict[str, int]:
    names = records.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name <> 'alembic_version'")
    return {name: records.execute(f"SELECT count(*) FROM {name}").fetchone()[0] for (name,) in names.fetchall()}


def test_every_kind_of_file_is_in_a_backup() -> None:
    """A folder of files by digest that nobody added to the table would be missing in every backup."""
    source = (ROOT / "src" / "restless_tide" / "desk" / "desk.py").read_text(encoding="utf-8")
    folders = set(re.findall(r'(?:DigestFiles|PackageFiles)\(settings\.data / "([\w-]+)"\)', source))
    assert folders == NAMED.keys()


def test_the_settings_are_told_from_one_table_and_all_are_read() -> None:
    assert as_table() in (ROOT / "docs" / "operating.md").read_text(encoding="utf-8")
    told = {name for one in SETTINGS for name in one.variables}
    assert all(name in as_help() for name in told)
    source = (ROOT / "src" / "restless_tide" / "desk" / "settings.py").read_text(encoding="utf-8")
    read = {f"TIDE_{name.upper()}" for name in re.findall(r'(?:given\.get|number|one_of)\("(\w+)"', source)}
    assert read | {"TIDE_REPOSITORIES"} == told
    assert settings_from({"TIDE_TRUSTED_PROXIES": "10.0.0.1, ::1"}).trusted_proxies == ("10.0.0.1", "::1")


def test_a_wheel_in_an_empty_environment_serves_everything(tmp_path: Path) -> None:
    """As docs/operating.md says: the file is installed into an environment of its own, and the console is in it."""
    subprocess.run(["make", "--silent", "wheel"], cwd=ROOT, check=True, capture_output=True)
    wheel = max((ROOT / "dist").glob("restless_tide-*.whl"), key=lambda path: path.stat().st_mtime)
    place = tmp_path / "installed"
    # its libraries are those of this environment: fetching them again would take minutes and prove nothing of ours
    subprocess.run(
        [sys.executable, "-m", "pip", "install", "--quiet", "--no-deps", "--no-index", "--target", str(place), str(wheel)],
        check=True,
    )  # fmt: skip
    environment = {"PYTHONPATH": str(place), "PATH": os.environ["PATH"], "TIDE_DATA": str(tmp_path / "data")}
    tide = [sys.executable, "-P", "-m", "restless_tide.cli.main"]
    init = [*tide, "desk", "init", "--name", "Ida Fenwick", "--email", "ida@example.org"]
    password = "sea-lavender-3"
    ran = subprocess.run(
        init, env=environment | {"TIDE_PASSWORD": password}, cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert ran.returncode == 0, ran.stderr
    script = (
        "import restless_tide, sys; from restless_tide.service.app import desk_app, CONSOLE_FOLDER;"
        "from restless_tide.service.serve import open_desk; from restless_tide.desk.settings import settings_from;"
        "import os; from fastapi.testclient import TestClient; desk = open_desk(settings_from(os.environ));\n"
        "with TestClient(desk_app(desk), base_url='http://127.0.0.1:7100') as line:\n"
        "    page = line.get('/'); asset = page.text.split('src=\"')[1].split('\"')[0]\n"
        "    told = line.post('/v1/sign-in', json={'email': 'ida@example.org', 'password': 'sea-lavender-3'})\n"
        "    print(restless_tide.__file__, CONSOLE_FOLDER.is_dir(), page.status_code, line.get(asset).status_code, told.json()['may'])\n"
    )
    served = subprocess.run(
        [sys.executable, "-P", "-c", script], env=environment, cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert served.returncode == 0, served.stderr
    told = served.stdout.strip().splitlines()[-1].split(" ", 4)
    assert told == [str(place / "restless_tide" / "__init__.py"), "True", "200", "200", "an owner"]


def test_assets_come_compressed_and_once(harbour: Harbour) -> None:
    with httpx.Client(base_url=harbour.address, **OPENLY) as line:
        page = line.get("/").text
        asset = page.split('src="')[1].split('"')[0]
        plain = line.get(asset, headers={"Accept-Encoding": "identity"})
        for coding in ("br", "gzip"):
            with line.stream("GET", asset, headers={"Accept-Encoding": coding}) as packed:
                size = sum(len(block) for block in packed.iter_raw())
            assert packed.headers["content-encoding"] == coding
            assert packed.headers["vary"] == "Accept-Encoding"
            assert "immutable" in packed.headers["cache-control"]
            assert packed.headers["content-type"].partition(";")[0] == plain.headers["content-type"].partition(";")[0]
            assert size < len(plain.content) / 2
