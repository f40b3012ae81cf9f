"""Builds on their way: uploads that survive every cut, one line for a build server, numbers, signing, retention."""

from __future__ import annotations

import base64
import hashlib
import json
import os
import signal
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

import httpx
import pytest
from tusclient.client import TusClient

from restless_tide.client import Conflict, Denied, Invalid, NotFound, NotReady, Tide, TooLarge
from restless_tide.client import uploads as sending
from restless_tide.client.line import Line
from restless_tide.core.numbers import BuildNumber
from restless_tide.demo.history import MARRAM, write_history
from restless_tide.standins.packages import PackageRecipe, write_apk, write_ipa, write_msix, write_msix_bundle
from restless_tide.wire.releases import LegWanted
from tests.harbour import FAST, PLACE, Harbour, until
from tests.patience import OPENLY, PATIENCE_SECONDS
from tests.service.test_cli import Terminal
from tests.toolchain import Recipe, make_aab

CONSOLE = Path(__file__).parents[2] / "console"


@pytest.fixture
def tide(harbour: Harbour, tmp_path: Path) -> Terminal:
    return Terminal(harbour, tmp_path)


def large(harbour: Harbour, app: str, megabytes: int = 8, number: int = 1) -> Path:
    return harbour.package(app, "openfield", number=number, padding_bytes=megabytes * 1_000_000)


# uploads


@pytest.mark.filterwarnings("ignore")
def test_a_public_tus_client_uploads_to_the_desk_and_goes_on_after_a_cut(harbour: Harbour) -> None:
    file = large(harbour, harbour.new_app(), 3)
    sha256 = hashlib.sha256(file.read_bytes()).hexdigest()
    client = TusClient(f"{harbour.address}/v1/uploads", headers={"Authorization": f"Bearer {harbour.token}"})
    metadata = {"sha256": sha256, "filename": file.name}
    uploader = client.uploader(str(file), chunk_size=1_000_000, metadata=metadata, upload_checksum=True)  # fmt: skip
    uploader.upload_chunk()
    mine = {entry.sha256: entry for entry in harbour.tide.builds.uploads()}
    assert mine[sha256].offset_bytes == 1_000_000
    again = client.uploader(str(file), chunk_size=1_000_000, url=uploader.url)
    assert again.get_offset() == 1_000_000
    again.upload()
    assert harbour.tide.builds.package(sha256).number == BuildNumber(1)
    assert sha256 not in {entry.sha256 for entry in harbour.tide.builds.uploads()}


def test_the_consoles_tus_client_uploads_to_the_desk(harbour: Harbour) -> None:
    file = large(harbour, harbour.new_app(), 2)
    sha256 = hashlib.sha256(file.read_bytes()).hexdigest()
    script = """
      const tus = require('tus-js-client'), fs = require('fs')
      const [file, endpoint, token, sha256] = process.argv.slice(1)
      new tus.Upload(fs.createReadStream(file), { endpoint, chunkSize: 700000, uploadSize: fs.statSync(file).size,
        metadata: { sha256, filename: 'a.apk' }, headers: { Authorization: `Bearer ${token}` },
        onError: (wrong) => { console.error(String(wrong)); process.exit(1) }, onSuccess: () => console.log('whole') }).start()
    """
    command = ["node", "-e", script, str(file), f"{harbour.address}/v1/uploads", harbour.token, sha256]
    done = subprocess.run(command, cwd=CONSOLE, capture_output=True, text=True, timeout=60, check=False)
    assert done.stdout.strip() == "whole", done.stderr
    assert harbour.tide.builds.package(sha256).sha256 == sha256


def test_chunks_are_refused_for_what_is_wrong_with_them(harbour: Harbour) -> None:
    content = b"PK" + bytes(999)
    line = Line(harbour.address, harbour.token)
    tus = {"Tus-Resumable": "1.0.0"}
    chunk = tus | {"Content-Type": "application/offset+octet-stream", "Upload-Offset": "0"}
    sha256 = hashlib.sha256(content + os.urandom(4)).hexdigest()
    metadata = f"sha256 {base64.b64encode(sha256.encode()).decode()}"
    place = line.send("POST", "/v1/uploads", headers=tus | {"Upload-Length": "1001", "Upload-Metadata": metadata}).headers["Location"]  # fmt: skip
    with pytest.raises(Conflict, match="stands at 0 bytes, not at 5"):
        line.send("PATCH", place, headers=chunk | {"Upload-Offset": "5"}, content=b"x")
    with pytest.raises(TooLarge, match="More bytes came"):
        line.send("PATCH", place, headers=chunk, content=content * 2)
    raw = httpx.patch(f"{harbour.address}{place}", content=b"abc", **OPENLY,
                      headers=chunk | {"Authorization": f"Bearer {harbour.token}", "Upload-Checksum": "sha256 AAAA"})  # fmt: skip
    assert (raw.status_code, raw.headers["Upload-Offset"]) == (460, "0")
    with pytest.raises(Invalid, match="have the digest"):
        line.send("PATCH", place, headers=chunk, content=content)
    with pytest.raises(NotFound):
        line.send("HEAD", place)
    able = line.send("OPTIONS", "/v1/uploads")
    assert able.headers["Tus-Extension"] == "creation,checksum,expiration,termination"
    line.close()


def test_an_upload_is_taken_up_where_it_was_cut_and_sends_only_the_rest(own_harbour: Harbour) -> None:
    """The service is killed at about nine tenths; the client waits, and sends what is missing."""
    file = large(own_harbour, own_harbour.new_app(), 40)
    size, sent, cut_at, kept = file.stat().st_size, [0], [0], [0]
    line = Line(own_harbour.address, own_harbour.token)

    def told(offset: int) -> None:
        sent[0] += 1
        if not cut_at[0] and offset > 0.9 * size:
            cut_at[0] = sent[0]
            own_harbour.processes.kill("desk")
            (part,) = (own_harbour.folder / "desk" / "packages" / "arriving").iterdir()
            kept[0] = part.stat().st_size
            pool.submit(own_harbour.processes.start, "desk")

    with closing(line), ThreadPoolExecutor(1) as pool:
        sha256, known = sending.send_file(line, file, told)
    assert cut_at[0]
    assert not known
    assert own_harbour.tide.builds.package(sha256).size_bytes == size
    assert kept[0] > 0
    assert sent[0] - cut_at[0] == -(-(size - kept[0]) // 1_048_576), "the rest, and nothing that was written down"


def test_a_push_survives_the_end_of_client_and_store(own_harbour: Harbour, tmp_path: Path) -> None:
    app = own_harbour.new_app()
    file = large(own_harbour, app, 30)
    environment = {**os.environ, "TIDE_URL": own_harbour.address, "TIDE_TOKEN": own_harbour.token}
    command = [sys.executable, "-m", "restless_tide.cli.main", "build", "push", str(file), "--app", app, "--store", "openfield"]  # fmt: skip
    client = subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    until(lambda: [entry.offset_bytes for entry in own_harbour.tide.builds.uploads()], lambda seen: seen and seen[0])
    client.send_signal(signal.SIGKILL)
    client.wait()
    left = own_harbour.tide.builds.uploads()
    assert not left or left[0].offset_bytes > 0
    again = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    until(lambda: own_harbour.tide.builds.of_app(app), lambda seen: seen and seen[0].consignments)
    own_harbour.processes.kill("openfield")
    _, said = again.communicate(timeout=PATIENCE_SECONDS)
    assert again.returncode == 0, said
    time.sleep(0.2)
    own_harbour.processes.start("openfield")
    build = own_harbour.tide.builds.of_app(app)[0]
    seen = until(lambda: own_harbour.tide.builds.consignment(build.consignments[0].id), lambda seen: seen.state == "processing")  # fmt: skip
    assert seen.sent_bytes == file.stat().st_size
    assert len(own_harbour.control("openfield", "things/consignment")) == 1


def test_a_desk_keeps_to_its_quota(tmp_path: Path) -> None:
    opened = Harbour.open(tmp_path / "harbour", FAST | {"TIDE_PACKAGES_QUOTA": "1500000"}, stores=())
    try:
        recipe = PackageRecipe("org.example.a", "1.0.0", 1, "A", padding_bytes=900_000)
        opened.tide.builds.hand_over(write_apk(tmp_path / "a.apk", recipe))
        with pytest.raises(TooLarge, match="1500000 are the most it may keep"):
            opened.tide.builds.hand_over(write_apk(tmp_path / "b.apk", replace(recipe, number=2)))
    finally:
        opened.close()


# one line for a build server


def test_one_line_checks_sends_waits_and_hands_to_a_cohort(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.tide.testing.make_cohort(app, "crew")
    harbour.tide.testing.add_tester(app, "crew", f"wren.{app}@example.org")
    first = harbour.ready_build(app, "openfield")
    limited = harbour.tide.people.make_token("build server", apps=[app]).value
    push = ("build", "push", str(harbour.package(app, "openfield", number=2)), "--app", app, "--store", "openfield")
    with ThreadPoolExecutor(1) as pool:
        running = pool.submit(tide, *push, "--trial", "crew", "--wait", "30", "--json", TIDE_TOKEN=limited)
        until(lambda: [entry.state for build in harbour.tide.builds.of_app(app) for entry in build.consignments],
              lambda seen: "processing" in seen)  # fmt: skip
        harbour.pass_hours(1, desk=False)
        done = running.result()
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert [entry["state"] for entry in told["consignments"]] == ["ready"]
    assert [entry["cohort"] for entry in told["trials"]] == ["crew"]
    assert told["build"]["id"] != first
    assert not harbour.rollouts("openfield", app), "never to production by itself"


def test_each_outcome_of_a_push_has_its_own_code(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    file = harbour.package(app, "openfield", permissions=(PLACE,))
    push = ("build", "push", str(file), "--app", app)
    timed_out = tide(*push, "--store", "openfield", "--wait", "0.5")
    assert timed_out.returncode == 5
    harbour.pass_hours(1, desk=False)
    held = tide(*push, "--store", "openfield", "--wait", "20")
    assert held.returncode == 6
    assert tide(*push, "--url", "http://127.0.0.1:9").returncode == 4
    foreign = harbour.package(app, "northgate")
    refused = tide("build", "push", str(foreign), "--app", app, "--store", "openfield")
    assert refused.returncode == 1
    assert "Nothing was sent" in refused.stderr
    consignment = held.stdout.split("tide build answer ")[1].split()[0]
    assert tide("build", "answer", consignment, "rings-when-locked=no", "--standing").returncode == 0
    with ThreadPoolExecutor(1) as pool:
        second = harbour.package(app, "openfield", number=2, permissions=(PLACE,))
        running = pool.submit(tide, "build", "push", str(second), "--app", app, "--store", "openfield", "--wait", "30")
        until(
            lambda: harbour.tide.builds.of_app(app)[0].consignments, lambda seen: seen and seen[0].state == "processing"
        )
        harbour.pass_hours(1, desk=False)
        done = running.result()
    assert done.returncode == 0, done.stderr
    assert "answered automatically: no" in done.stdout
    answered = [line for line in harbour.tide.watching.logbook(app=app) if line.act == "questions answered"]
    assert {(line.person == "engine", line.reason) for line in answered} == {
        (False, ""),
        (True, "by the standing answers"),
    }
    kept = tide("build", "answers", "--app", app, "--store", "openfield")
    assert "rings-when-locked" in kept.stdout
    assert "Nothing is answered" in tide("build", "answers", "--app", app, "--store", "openfield", "--forget", "rings-when-locked").stdout  # fmt: skip


def test_check_prints_the_sheet_and_ends_by_its_worst_line(tide: Terminal, harbour: Harbour) -> None:
    app = harbour.new_app()
    good = harbour.package(app, "openfield")
    assert tide("build", "check", str(good), "--app", app, "--store", "openfield").returncode == 0
    harbour.push(good, app=app, store="openfield")
    more = harbour.package(app, "openfield", number=2, permissions=("android.permission.CAMERA",))
    wary = tide("build", "check", str(more), "--app", app, "--store", "openfield")
    assert (wary.returncode, "which nobody declared" in wary.stdout) == (7, True)
    stranger = write_apk(
        harbour.folder / "s.apk", PackageRecipe(f"org.example.saltgrass.{app}", "1.0.0", 3, "A", signer="Else")
    )
    wrong = tide("build", "check", str(stranger), "--app", app, "--store", "openfield", "--json")
    assert wrong.returncode == 1
    assert json.loads(wrong.stdout)[0]["findings"][0]["code"] in ("certificate-not-taken", "certificate-differs")


# numbers


def test_two_build_servers_never_get_the_same_number(tide: Terminal, harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app()
    harbour.ready_build(app, "openfield", number=41)
    files = [tmp_path / f"server-{place}.json" for place in range(6)]
    for file in files:
        file.write_text('{"version": "0.0.0", "number": 0}\n')

    def server(file: Path) -> dict[str, Any]:
        words = ("build", "next", "--app", app, "--store", "openfield", "--reserve", "--label", file.stem, "--write", str(file), "--json")  # fmt: skip
        done = tide(*words)
        assert done.returncode == 0, done.stderr
        return json.loads(done.stdout)

    with ThreadPoolExecutor(6) as pool:
        found = list(pool.map(server, files))
    assert sorted(entry["number"] for entry in found) == ["42", "43", "44", "45", "46", "47"]
    assert sorted(json.loads(file.read_text())["number"] for file in files) == [42, 43, 44, 45, 46, 47]
    held = harbour.tide.builds.reservations(app)
    assert len(held) == 6
    harbour.tide.builds.give_back(app, next(entry.id for entry in held if entry.number == BuildNumber(47)))
    harbour.tide.builds.enter(app, [harbour.tide.builds.hand_over(harbour.package(app, "openfield", number=42))[0]])
    assert sorted(str(entry.number) for entry in harbour.tide.builds.reservations(app)) == ["43", "44", "45", "46"]
    assert harbour.tide.builds.next_numbers(app, "openfield").number == BuildNumber(47)


def test_numbers_for_all_stores_need_each_to_be_asked_or_say_so(own_harbour: Harbour) -> None:
    app = own_harbour.new_app()
    own_harbour.ready_build(app, "openfield", number=9)
    own_harbour.processes.stop("northgate")
    found = own_harbour.tide.builds.next_numbers(app)
    assert (found.version, found.number) == ("1.0.0", BuildNumber(10))
    assert [caution.code for caution in found.cautions] == ["store-not-asked"]


# signing


def test_another_certificate_needs_an_act_with_a_reason(harbour: Harbour, tide: Terminal) -> None:
    app = harbour.new_app()
    harbour.ready_build(app, "openfield")
    page = harbour.tide.signing.register(app).pages[0]
    assert (page.platform, page.holder, len(page.certificates)) == ("android", "team", 1)
    other = PackageRecipe(f"org.example.saltgrass.{app}", "1.0.0", 2, "A", signer="Another team")
    file = write_apk(harbour.folder / f"{app}-other.apk", other)
    with pytest.raises(NotReady, match="has seen this app signed with"):
        harbour.push(file, app=app, store="openfield")
    build = harbour.tide.builds.enter(app, [harbour.tide.builds.hand_over(file)[0]])
    with pytest.raises(Invalid, match="needs a reason"):
        harbour.tide.signing.expect(app, "android", build=build.id, reason=" ")
    digest = build.packages[0].signatures[0].signers[0].sha256
    done = tide(
        "signing", "replace", "--app", app, "--platform", "android", "--sha256", digest, "--reason", "laptop lost"
    )
    assert done.returncode == 0, done.stderr
    step = next(step for step in harbour.tide.steps.waiting() if step.app == app)
    assert "take the new sender's key" in step.title
    assert digest in step.texts.values()
    http = f"http://127.0.0.1:{harbour.processes.ports.stores['openfield']}/control/signing-key"
    asked = {"identifier": f"org.example.saltgrass.{app}", "sha256": digest}
    httpx.post(http, params=asked, **OPENLY).raise_for_status()
    harbour.tide.steps.settle(step.id, "done")
    sent = harbour.tide.builds.send(app, build.id, "openfield").consignments[0]
    until(lambda: harbour.tide.builds.consignment(sent.id), lambda seen: seen.state == "processing")
    harbour.pass_hours(1, desk=False)
    until(lambda: harbour.tide.builds.consignment(sent.id), lambda seen: seen.state == "ready")
    with pytest.raises(NotReady, match="has seen this app signed with"):
        harbour.push(harbour.package(app, "openfield", number=3), app=app, store="openfield")
    acts = [line.act for line in harbour.tide.watching.logbook(app=app)]
    assert {"signature first seen", "signing changed", "key replacement begun"} <= set(acts)


@pytest.mark.toolchain
def test_a_bundle_leaves_the_key_to_the_store(harbour: Harbour, tmp_path: Path) -> None:
    app, builds = harbour.new_app(), harbour.tide.builds
    bundle = make_aab(tmp_path / "app", Recipe(identifier=f"org.example.saltgrass.{app}", version="1.0.0", number=1))
    consignment = harbour.push(bundle, app=app, store="openfield")
    until(lambda: builds.consignment(consignment.id), lambda seen: seen.state == "processing")
    assert harbour.tide.signing.register(app).pages[0].holder == "store"
    with pytest.raises(Invalid, match="signed by the store"):
        harbour.tide.signing.hold(app, "android", "team", reason="we want it back")
    builds.enter(app, [builds.hand_over(harbour.package(app, "openfield", number=2))[0]])
    assert harbour.tide.signing.hold(app, "android", "team", reason="APKs from now on").holder == "team"


def test_the_locker_gives_files_to_tokens_of_that_app_alone_and_writes_down_who(
    harbour: Harbour, tide: Terminal, tmp_path: Path
) -> None:
    app, other = harbour.new_app(), harbour.new_app()
    secret = tmp_path / "upload.p12"
    secret.write_bytes(b"sealed-away-" + os.urandom(200))
    harbour.tide.signing.put(app, secret, platform="android", kind="key")
    stored = (harbour.folder / "desk" / "desk.sqlite").read_bytes() + (harbour.folder / "desk" / "desk.sqlite-wal").read_bytes()  # fmt: skip
    assert b"sealed-away-" not in stored
    mine, theirs = (harbour.tide.people.make_token("build server", apps=[name]).value for name in (app, other))
    fetched = tide("locker", "fetch", "upload.p12", "--app", app, "--to", "key.p12", TIDE_TOKEN=mine)
    assert fetched.returncode == 0, fetched.stderr
    written = tmp_path / "key.p12"
    assert written.read_bytes() == secret.read_bytes()
    assert written.stat().st_mode & 0o777 == 0o600
    assert tide("locker", "fetch", "upload.p12", "--app", app, "--to", "x", TIDE_TOKEN=theirs).returncode == 3
    with Tide(harbour.address, token=mine) as server:
        for forbidden in (
            lambda: server.signing.register(app),
            lambda: server.people.make_token("more"),
            lambda: server.releases.of_app(app),
            lambda: server.builds.of_app(other),
            lambda: server.stores.every(),
            lambda: server.signing.take_out(app, "upload.p12"),
        ):
            with pytest.raises(Denied, match="a build server of"):
                forbidden()
        assert server.builds.of_app(app) == []
    lines = [line for line in harbour.tide.watching.logbook(app=app) if line.act == "fetched from the locker"]
    assert len(lines) == 1
    harbour.tide.signing.take_out(app, "upload.p12", reason="rotated")
    with pytest.raises(NotFound, match="there is nothing"):
        harbour.tide.signing.fetch(app, "upload.p12")


def test_devices_and_ends_stand_in_the_register(harbour: Harbour, tide: Terminal, tmp_path: Path) -> None:
    app = harbour.new_app()
    assert (
        tide(
            "signing", "device", "DEMO-DEVICE-AA", "--app", app, "--name", "Bo's phone", "--until", "2027-03-01"
        ).returncode
        == 0
    )
    with pytest.raises(Conflict, match="registered already"):
        harbour.tide.signing.add_device(app, "ios", "DEMO-DEVICE-AA")
    ipa = write_ipa(tmp_path / "a.ipa", PackageRecipe(f"org.example.saltgrass.{app}", "1.0.0", 1, "A"))
    harbour.processing(ipa, app, "northgate")
    shown = tide("signing", "show", "--app", app)
    for told in ("Bo's phone", "The profile in build 1.0.0 (1)", "The expected certificate for ios"):
        assert told in shown.stdout
    device = harbour.tide.signing.register(app).devices[0]
    harbour.tide.signing.remove_device(app, device.id)
    assert not harbour.tide.signing.register(app).devices


# what is kept, found and compared


def test_what_is_in_use_is_never_cleared_and_what_was_cleared_can_come_again(harbour: Harbour, tide: Terminal) -> None:
    app = harbour.new_app()
    builds = harbour.tide.builds
    files = [large(harbour, app, 1, number) for number in (1, 2, 3)]
    ids = [builds.enter(app, [builds.hand_over(file)[0]]).id for file in files]
    builds.send(app, ids[0], "openfield")
    until(lambda: builds.one(ids[0]).consignments[0].state, lambda state: state == "processing")
    dry = tide("build", "clear", "--app", app, "--newest", "1", "--days", "0", "--dry-run")
    assert "Would be cleared: 1 files" in dry.stdout
    assert "processing at Openfield" in dry.stdout
    done = tide("build", "clear", "--app", app, "--newest", "1", "--days", "0", "--yes", "--json")
    assert json.loads(done.stdout)["files"] == 1
    assert [builds.one(build).cleared for build in ids] == [False, True, False]
    with pytest.raises(NotReady, match="was cleared from the desk"):
        builds.send(app, ids[1], "openfield")
    assert builds.hand_over(files[1])[1] is False
    assert not builds.one(ids[1]).cleared
    assert builds.set_retention(app, keep_newest=5, keep_days=30).bytes_free == 0


def test_builds_are_found_filtered_and_paged(harbour: Harbour) -> None:
    app, builds = harbour.new_app(), harbour.tide.builds
    for version, number in (("1.9.0", 1), ("1.10.0", 2), ("1.2.0", 3), ("2.0.0", 4), ("1.9.1", 5)):
        builds.enter(app, [builds.hand_over(harbour.package(app, "openfield", version, number))[0]])
    assert [build.version for build in builds.of_app(app, order="version")] == [
        "2.0.0",
        "1.10.0",
        "1.9.1",
        "1.9.0",
        "1.2.0",
    ]
    assert [str(build.number) for build in builds.each(app, order="oldest", limit=2)] == ["1", "2", "3", "4", "5"]
    assert [str(build.number) for build in builds.of_app(app, text="1.9")] == ["5", "1"]
    assert builds.of_app(app, platform="ios") == builds.of_app(app, state="held") == []


def test_two_builds_are_compared_and_the_icon_is_shown(harbour: Harbour, tide: Terminal) -> None:
    app, builds = harbour.new_app(), harbour.tide.builds
    files = [
        harbour.package(app, "openfield", number=1),
        harbour.package(app, "openfield", number=2, permissions=(PLACE,)),
    ]
    one, other = (builds.enter(app, [builds.hand_over(file)[0]]) for file in files)
    codes = [difference.code for difference in builds.compare(one.id, other.id).differences]
    assert "permission-added" in codes
    assert "Permission added" in tide("build", "compare", one.id, str(files[1])).stdout
    assert "Permission gone" in tide("build", "compare", str(files[1]), str(files[0])).stdout
    answer = harbour.tide._line.send("GET", f"/v1/packages/{one.packages[0].sha256}/icon")
    assert (answer.headers["Content-Type"], answer.content[:4]) == ("image/png", b"\x89PNG")


def test_the_notes_are_drafted_from_the_real_history(harbour: Harbour, tide: Terminal) -> None:
    app, builds = harbour.new_app(), harbour.tide.builds
    revisions = write_history(harbour.folder / "repositories" / app, MARRAM, datetime(2026, 10, 1))
    live = harbour.package(app, "openfield", "2.3.0", 1)
    first = harbour.push(live, app=app, store="openfield", revision=revisions["2.3.0"], repository=app)
    until(lambda: builds.consignment(first.id), lambda seen: seen.state == "processing")
    harbour.pass_hours(1, desk=False)
    until(lambda: builds.consignment(first.id), lambda seen: seen.state == "ready")
    harbour.tide.releases.draft(app, "2.3.0", legs={"openfield": LegWanted(build=first.build)}, notes={"en": "x"})
    harbour.approve(app, "2.3.0")
    harbour.released(app, "2.3.0", lambda release: release.legs[0].launched_at)
    new = builds.enter(app, [builds.hand_over(harbour.package(app, "openfield", "2.4.0", 2))[0]],
                       revision=revisions["2.4.0"], repository=app)  # fmt: skip
    harbour.tide.releases.draft(app, "2.4.0", legs={"openfield": LegWanted(build=new.id)})
    found = harbour.tide.releases.changes(app, "2.4.0")
    assert found.spans[0].from_version == "2.3.0"
    assert found.spans[0].missing_locales == ["en"]
    told = [change.summary for change in found.changes]
    assert "draw contour lines on dune maps" in told
    assert "turn and crop photos of finds" not in told, "people have that already"
    assert "send a page by mail" not in told, "it was taken back"
    done = tide("notes", "draft", "2.4.0", "--app", app, "--write", "en")
    assert done.returncode == 0, done.stderr
    assert harbour.tide.releases.one(app, "2.4.0").notes["en"] == found.draft
    builds.enter(app, [new.packages[0].sha256], repository="../desk")
    with pytest.raises(NotFound, match="no repository"):
        harbour.tide.releases.changes(app, "2.4.0")


def test_a_bundle_of_processor_kinds_goes_to_the_store_as_one(tmp_path: Path) -> None:
    opened = Harbour.open(tmp_path / "harbour", stores=("slatehouse",))
    try:
        opened.connect_stores()
        app = opened.new_app()
        recipe = PackageRecipe(f"org.example.saltgrass.{app}", "1.0.0", 1, "A")
        alone = write_msix(tmp_path / "arm.msix", replace(recipe, processor="arm64"))
        with pytest.raises(NotReady, match="wants a package for x64"):
            opened.push(alone, app=app, store="slatehouse")
        both = [alone, write_msix(tmp_path / "x64.msix", replace(recipe, number=2))]
        bundle = write_msix_bundle(tmp_path / "all.msixbundle", both, replace(recipe, number=2))
        sent = opened.push(bundle, app=app, store="slatehouse")
        until(lambda: opened.tide.builds.consignment(sent.id), lambda seen: seen.state == "processing")
        opened.pass_hours(3, desk=False)
        until(lambda: opened.tide.builds.consignment(sent.id), lambda seen: seen.state == "ready")
    finally:
        opened.close()


def test_what_the_desk_foresees_the_store_says_too(harbour: Harbour) -> None:
    """Sent past the desk's own check, the store turns the same package away, by its own judgement."""
    app = harbour.new_app()
    harbour.ready_build(app, "openfield")
    stranger = PackageRecipe(f"org.example.saltgrass.{app}", "1.0.0", 2, "A", signer="Someone else")
    file = write_apk(harbour.folder / f"{app}-stranger.apk", stranger)
    with pytest.raises(NotReady):
        harbour.push(file, app=app, store="openfield")
    harbour.hand_in("openfield", app, file)
    harbour.pass_hours(1, desk=False)
    things = until(
        lambda: [thing for thing in harbour.control("openfield", "things/consignment") if thing["number"] == "2" and thing["state"] == "refused"],
        lambda seen: seen,
    )  # fmt: skip
    assert any("another key than the one we know" in (thing["reason"] or "") for thing in things)


def test_a_number_with_dots_goes_all_the_way_and_only_where_the_store_takes_it(
    tide: Terminal, harbour: Harbour, tmp_path: Path
) -> None:
    app, builds = harbour.new_app(), harbour.tide.builds
    file = harbour.package(app, "northgate", "1.0.0", "2026.01.05")
    assert tide.json("build", "inspect", str(file))["number"] == "2026.01.05"
    consignment = harbour.processing(file, app, "northgate")
    harbour.pass_hours(1, desk=False)
    until(lambda: builds.consignment(consignment.id), lambda seen: seen.state == "ready")
    assert str(builds.one(consignment.build).number) == "2026.01.05"
    again, same = harbour.package(app, "northgate", "1.0.0", "2026.1.5", padding_bytes=500), tmp_path / "again.ipa"
    again.rename(same)
    with pytest.raises(Conflict, match="known already, with other bytes"):
        builds.enter(app, [builds.hand_over(same)[0]])
    lower = builds.hand_over(harbour.package(app, "northgate", "1.0.0", "2026.1.4"))[0]
    (sheet,) = builds.check(app, [builds.package(lower)], "northgate")
    assert [finding.remedy for finding in sheet.findings if finding.code == "number-not-rising"] == [
        "Build again with number 2026.1.6 or higher."
    ]
    target = tmp_path / "version.json"
    target.write_text('{"version": "0.0.0", "number": 0}\n')
    told = tide("build", "next", "--app", app, "--store", "northgate", "--write", str(target))
    assert "1.0.0 (2026.1.6)" in told.stdout
    assert json.loads(target.read_text()) == {"version": "1.0.0", "number": "2026.1.6"}
    assert [str(entry.number) for entry in builds.of_app(app, order="number")] == ["2026.01.05"]
    both = builds.next_numbers(app, "northgate", "openfield")
    assert str(both.number) == "2027", "a number that the other store takes has one part"
    report = harbour.tide.reports.file(app, text="Slow.", version="1.0.0", number="2026.1.5")
    assert report.build_label == "1.0.0 (2026.01.05)"
