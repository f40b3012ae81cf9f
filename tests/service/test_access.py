"""Who may ask, what is kept secret, and what happens to bad input at the HTTP interface."""

from __future__ import annotations

import json
import sqlite3
from pathlib import Path
from typing import Any

import httpx
import pytest
from argon2 import Type, extract_parameters

from restless_tide.client import Denied, Invalid, StoreRefused, StoreUnreachable, Tide, Unauthenticated
from restless_tide.core.rights import Grant, Role
from restless_tide.records.database import Database
from tests.harbour import EMAIL, PASSWORD, Harbour, until
from tests.patience import OPENLY
from tests.quick_hashes import THOROUGH
from tests.service.test_rights import A_PASSWORD, person

OPEN_TO_ALL = {
    ("get", "/healthz"),
    ("get", "/readyz"),
    ("post", "/v1/sign-in"),
    ("post", "/v1/password-resets"),
    ("get", "/v1/sign-in/ways"),
    ("get", "/v1/sign-in/provider"),
    ("get", "/v1/sign-in/provider/back"),
    ("get", "/v1/personal-links/{code}"),
    ("post", "/v1/personal-links/{code}"),
    ("post", "/v1/stores/{store}/events"),
    ("options", "/v1/uploads"),
}

TUS = {"Tus-Resumable": "1.0.0"}
CHUNK = TUS | {"Upload-Offset": "0", "Content-Type": "application/offset+octet-stream"}


def test_nothing_but_health_and_sign_in_answers_without_a_sign_in(harbour: Harbour) -> None:
    with httpx.Client(base_url=harbour.address, **OPENLY) as nobody:
        assert nobody.get("/healthz").json()["status"] == "ok"
        assert nobody.get("/v1/openapi.json").status_code == 401
        for path, methods in harbour.tide.watching.contract()["paths"].items():
            for method in methods:
                if (method, path) not in OPEN_TO_ALL:
                    answer = nobody.request(method, path.replace("{", "").replace("}", ""))
                    assert answer.status_code == 401, f"{method} {path}"
                    if method != "head":
                        assert answer.json()["code"] == "unauthenticated"


def test_a_session_begins_with_the_password_and_ends_with_the_sign_out(harbour: Harbour) -> None:
    with httpx.Client(base_url=harbour.address, **OPENLY) as browser:
        assert browser.post("/v1/sign-in", json={"email": EMAIL, "password": "wrong-password"}).status_code == 401
        assert (
            browser.post("/v1/sign-in", json={"email": "nobody@example.org", "password": PASSWORD}).status_code == 401
        )
        answer = browser.post("/v1/sign-in", json={"email": EMAIL.upper(), "password": PASSWORD})
        cookie = answer.headers["set-cookie"].lower()
        assert "httponly" in cookie
        assert "samesite=strict" in cookie
        assert browser.get("/v1/me").json()["email"] == EMAIL
        kept = browser.cookies["tide_session"]
        assert browser.post("/v1/sign-out").status_code == 204
        assert browser.get("/v1/me", headers={"Cookie": f"tide_session={kept}"}).status_code == 401


def test_a_password_is_hashed_with_at_least_the_work_that_the_standard_asks_for() -> None:
    """The second recommended choice of RFC 9106, section 4. Tests themselves hash with less: tests/quick_hashes.py."""
    kept = extract_parameters(THOROUGH.hash(PASSWORD))
    assert kept.type is Type.ID
    assert kept.memory_cost >= 64 * 1024
    assert kept.time_cost >= 3
    assert kept.parallelism >= 4
    assert kept.salt_len >= 16
    assert kept.hash_len >= 32


def test_a_token_can_be_revoked_and_expires(harbour: Harbour) -> None:
    made = harbour.tide.people.make_token("build server", days=2)
    with Tide(harbour.address, token=made.value) as server:
        assert server.people.me().email == EMAIL
        harbour.tide.people.revoke_token(made.token.id)
        with pytest.raises(Unauthenticated, match="was revoked"):
            server.people.me()
    short = harbour.tide.people.make_token("short", days=1)
    with Tide(harbour.address, token=short.value) as server:
        server.people.me()
        harbour.pass_hours(25)
        with pytest.raises(Unauthenticated, match="has expired"):
            server.people.me()
    with (
        Tide(harbour.address, token="tide_unknown") as stranger,
        pytest.raises(Unauthenticated, match="unknown at this desk"),
    ):
        stranger.people.me()
    assert made.value not in json.dumps([token.model_dump(mode="json") for token in harbour.tide.people.tokens()])


def test_somebody_elses_token_cannot_be_revoked(harbour: Harbour) -> None:
    _, email = person(harbour, Grant(Role.RELEASE_MANAGER))
    mine = harbour.tide.people.make_token("mine")
    with Tide(harbour.address) as other:
        other.people.sign_in(email, A_PASSWORD)
        assert mine.token.id not in {token.id for token in other.people.tokens()}
        with pytest.raises(Exception, match="You have no token"):
            other.people.revoke_token(mine.token.id)


def test_the_key_of_a_store_is_found_nowhere_but_sealed(own_harbour: Harbour) -> None:
    connection = own_harbour.control("northgate", "connections", {})
    secret = connection["private_key"]["d"]
    own_harbour.tide.stores.connect("northgate", connection)
    answers = json.dumps([store.model_dump(mode="json") for store in own_harbour.tide.stores.every()])
    logbook = json.dumps([line.model_dump(mode="json") for line in own_harbour.tide.watching.logbook()])
    with pytest.raises(Invalid) as refused:
        own_harbour.tide.stores.connect("northgate", connection | {"gateway": "ftp://nowhere"})
    with pytest.raises(Invalid) as unfit:
        own_harbour.tide.stores.connect(
            "northgate", connection | {"private_key": connection["private_key"] | {"crv": "P-999"}}
        )
    kept = b"".join(path.read_bytes() for path in (own_harbour.folder / "desk").rglob("*") if path.is_file())
    logs = b"".join(path.read_bytes() for path in own_harbour.folder.glob("desk.log"))
    for text in (answers, logbook, str(refused.value), str(unfit.value), kept.decode("latin-1"), logs.decode()):
        assert secret not in text
    assert PASSWORD.encode() not in kept + logs
    assert own_harbour.token.encode() not in kept + logs
    assert (own_harbour.folder / "desk" / "master.key").stat().st_mode & 0o777 == 0o600


def test_a_store_with_another_master_key_does_not_open(own_harbour: Harbour) -> None:
    own_harbour.processes.stop("desk")
    (own_harbour.folder / "desk" / "master.key").unlink()
    own_harbour.processes.start("desk")
    until(
        lambda: own_harbour.tide.stores.every(),
        lambda stores: all(store.trouble and "does not open" in store.trouble for store in stores),
    )


@pytest.mark.parametrize(
    ("connection", "complaint"),
    [
        ({}, "look at client_id, gateway, private_key"),
        ({"gateway": "gopher://x", "client_id": "c", "private_key": {}}, "look at gateway"),
        ({"gateway": "http://127.0.0.1:9", "client_id": "c", "private_key": {"kty": "EC"}}, "no ES256 key"),
    ],
)
def test_an_unfit_connection_file_is_refused_and_nothing_is_kept(
    harbour: Harbour, connection: dict[str, Any], complaint: str
) -> None:
    with pytest.raises(Invalid, match=complaint):
        harbour.tide.stores.connect("unfit", connection)
    assert "unfit" not in {store.name for store in harbour.tide.stores.every()}


def test_a_store_that_is_away_or_does_not_know_the_key_is_not_connected(harbour: Harbour) -> None:
    connection = harbour.control("northgate", "connections", {})
    stranger = harbour.control("openfield", "connections", {})
    before = [store.name for store in harbour.tide.stores.every()]
    with pytest.raises(StoreUnreachable, match="does not answer"):
        harbour.tide.stores.connect("away", connection | {"gateway": "http://127.0.0.1:9"})
    with pytest.raises(StoreRefused, match="does not accept the key"):
        harbour.tide.stores.connect("stranger", connection | {"private_key": stranger["private_key"]})
    assert [store.name for store in harbour.tide.stores.every()] == before


def test_only_a_throw_away_desk_has_a_clock_that_can_be_moved(own_harbour: Harbour) -> None:
    own_harbour.processes.stop("desk")
    own_harbour.processes.environment = {"TIDE_POLL_SECONDS": "0.1"}
    own_harbour.processes.start("desk")
    with pytest.raises(Denied, match="runs by real time"):
        own_harbour.tide.watching.move_clock(step_hours=1)


def raw(harbour: Harbour, method: str, path: str, **sent: Any) -> httpx.Response:
    headers = {"Authorization": f"Bearer {harbour.token}"} | sent.pop("headers", {})
    return httpx.request(method, f"{harbour.address}{path}", headers=headers, **OPENLY, **sent)


@pytest.mark.parametrize(
    ("method", "path", "sent", "status", "complaint"),
    [
        (
            "POST",
            "/v1/apps",
            {"content": b"{not json", "headers": {"Content-Type": "application/json"}},
            422,
            "does not fit",
        ),
        ("POST", "/v1/apps", {"json": {"name": "a", "identifiers": {}, "colour": "red"}}, 422, "colour"),
        ("POST", "/v1/apps", {"json": {"name": "Ä B", "identifiers": {"ios": "a.b"}}}, 422, "cannot be the name"),
        ("POST", "/v1/apps", {"json": {"name": "ab", "identifiers": {}}}, 422, "at least one platform"),
        ("POST", "/v1/apps", {"json": {"name": "ab", "identifiers": {"ios": "nodots"}}}, 422, "no identifier"),
        ("POST", "/v1/apps", {"content": bytes(2_000_000)}, 413, "1048576 are taken"),
        ("POST", "/v1/apps", {"content": iter([b"chunked"])}, 411, "announce its length"),
        ("GET", "/v1/logbook?limit=0", {}, 422, "limit"),
        ("GET", "/v1/nothing/here", {}, 404, "nothing at"),
        ("DELETE", "/v1/overview", {}, 405, "Method Not Allowed"),
        (
            "POST",
            "/v1/uploads",
            {"headers": TUS | {"Upload-Length": "5", "Upload-Metadata": "sha256 YQ=="}},
            422,
            "no SHA-256",
        ),
        ("POST", "/v1/uploads", {"headers": {"Upload-Length": "5"}}, 412, "speak tus 1.0.0"),
        ("PATCH", "/v1/uploads/u-none", {"headers": CHUNK, "content": b"x"}, 404, "no such upload"),
    ],
)
def test_bad_input_gets_a_problem_document(
    harbour: Harbour, method: str, path: str, sent: dict[str, Any], status: int, complaint: str
) -> None:
    answer = raw(harbour, method, path, **sent)
    assert answer.status_code == status
    assert answer.headers["content-type"] == "application/problem+json"
    assert complaint in answer.json()["detail"]
    assert "Traceback" not in answer.text


def test_what_is_no_package_leaves_nothing_behind(harbour: Harbour, tmp_path: Path) -> None:
    unfit = tmp_path / "notes.apk"
    unfit.write_text("just text")
    folder = harbour.folder / "desk" / "packages"
    before = sorted(path for path in folder.rglob("*") if path.is_file())
    with pytest.raises(Invalid, match="no archive"):
        harbour.tide.builds.hand_over(unfit)
    assert sorted(path for path in folder.rglob("*") if path.is_file()) == before


def test_a_package_over_the_limit_is_refused_before_it_travels(tmp_path: Path) -> None:
    small = Harbour.open(tmp_path / "small", {"TIDE_LARGEST_PACKAGE": "100000"})
    try:
        large = tmp_path / "large.apk"
        large.write_bytes(bytes(3_000_000))
        with pytest.raises(Exception, match="this desk takes 100000"):
            small.tide.builds.hand_over(large)
        assert list((tmp_path / "small" / "desk" / "packages" / "arriving").iterdir()) == []
    finally:
        small.close()


def test_the_logbook_shows_an_alteration_of_its_file(own_harbour: Harbour) -> None:
    own_harbour.new_app()
    assert own_harbour.tide.watching.verify_logbook().first_broken is None
    with sqlite3.connect(own_harbour.folder / "desk" / "desk.sqlite") as records:
        records.execute("UPDATE logbook SET reason = 'all well' WHERE id = 4")
    assert own_harbour.tide.watching.verify_logbook().first_broken == 4


def test_the_logbook_is_paged_by_links_and_filtered_by_app(harbour: Harbour) -> None:
    app = harbour.new_app(copied=False)
    mine = list(harbour.tide.watching.logbook(app=app))
    assert [line.act for line in mine][-1] == "app registered"
    assert {line.app for line in mine} == {app}
    first = raw(harbour, "GET", "/v1/logbook?limit=2")
    following = raw(harbour, "GET", first.links["next"]["url"])
    assert [line["id"] for line in first.json() + following.json()] == sorted(
        (line["id"] for line in first.json() + following.json()), reverse=True
    )
    assert len({line["id"] for line in first.json() + following.json()}) == 4


def test_people_stand_in_the_logbook_by_pseudonym_only(harbour: Harbour) -> None:
    harbour.new_app()
    with sqlite3.connect(harbour.folder / "desk" / "desk.sqlite") as records:
        rows = records.execute("SELECT person, act, subject, reason, before, after FROM logbook").fetchall()
    text = json.dumps(rows)
    assert "Ida" not in text
    assert EMAIL not in text


def test_the_migrations_make_the_tables_that_the_code_declares(tmp_path: Path) -> None:
    from alembic.autogenerate import compare_metadata
    from alembic.migration import MigrationContext

    from restless_tide.records.columns import Base

    database = Database(tmp_path / "fresh.sqlite")
    database.migrate()
    with database.engine.connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection), Base.metadata) == []
    database.close()
