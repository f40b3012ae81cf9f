"""The edge of the service: what other sites' pages cannot do, how HTTP is spoken, and where the desk never calls."""

from __future__ import annotations

import base64
import hashlib
import json
import re
import socket
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

import httpx
import pytest
from tusclient.client import TusClient

from restless_tide.client import Tide
from restless_tide.core.rights import Grant, Role
from restless_tide.desk.joining import _fit_name
from restless_tide.peers import LeadsInward, hold_outward, leads_inward
from restless_tide.service import edge
from restless_tide.service.location import LOCATIONS
from tests.harbour import Harbour
from tests.patience import OPENLY
from tests.service.test_rights import A_PASSWORD, person

TUS = {"Tus-Resumable": "1.0.0"}


@pytest.fixture
def line(harbour: Harbour) -> Iterator[httpx.Client]:
    headers = {"Authorization": f"Bearer {harbour.token}"}
    with httpx.Client(base_url=harbour.address, headers=headers, **OPENLY) as opened:
        yield opened


@pytest.fixture
def browser(harbour: Harbour) -> Iterator[httpx.Client]:
    """A browser in which a release manager is signed in."""
    _, email = person(harbour, Grant(Role.OWNER))
    with httpx.Client(base_url=harbour.address, **OPENLY) as opened:
        assert opened.post("/v1/sign-in", json={"email": email, "password": A_PASSWORD}).is_success
        yield opened


# acts of other sites' pages


@pytest.mark.parametrize(
    "headers",
    [
        {"Origin": "http://evil.example"},
        {"Origin": "null"},
        {"Sec-Fetch-Site": "cross-site"},
        {"Sec-Fetch-Site": "same-site", "Origin": "http://127.0.0.1:9"},
    ],
)
@pytest.mark.parametrize("path", ["/v1/testers/imports", "/v1/sign-out", "/v1/me/endings", "/v1/tokens"])
def test_a_page_of_another_site_does_nothing_with_our_session(
    browser: httpx.Client, path: str, headers: dict[str, str]
) -> None:
    answer = browser.post(path, content=b'{"label": "x"}', headers=headers | {"Content-Type": "text/plain"})
    assert (answer.status_code, answer.json()["code"]) == (403, "other-origin")
    assert browser.get("/v1/me").is_success


def test_our_own_page_and_a_program_are_let_in(browser: httpx.Client, line: httpx.Client, harbour: Harbour) -> None:
    own = {"Origin": harbour.address, "Sec-Fetch-Site": "same-origin"}
    assert browser.post("/v1/tokens", json={"label": "own"}, headers=own).status_code == 201
    assert browser.post("/v1/tokens", json={"label": "typed"}).status_code == 201
    elsewhere = {"Origin": "http://evil.example"}
    assert line.post("/v1/tokens", json={"label": "by token"}, headers=elsewhere).status_code == 201


# media types, methods, headers


@pytest.mark.parametrize(
    ("method", "path", "media"),
    [
        ("POST", "/v1/apps", "text/plain"),
        ("POST", "/v1/apps", "application/x-www-form-urlencoded"),
        ("POST", "/v1/testers/imports", "text/plain"),
        ("POST", "/v1/pictures", "multipart/form-data"),
        ("POST", "/v1/sign-in", "text/plain"),
    ],
)
def test_a_body_of_another_kind_is_answered_415(line: httpx.Client, method: str, path: str, media: str) -> None:
    answer = line.request(method, path, content=b"{}", headers={"Content-Type": media})
    assert (answer.status_code, answer.json()["code"]) == (415, "unknown-media"), answer.text
    assert "Send it as" in answer.json()["remedy"]


def test_every_method_of_a_path_is_named_where_one_is_refused(line: httpx.Client, harbour: Harbour) -> None:
    app = harbour.new_app()
    refused = line.put(f"/v1/apps/{app}", json={})
    assert refused.status_code == 405
    assert refused.headers["allow"] == "DELETE, GET, HEAD, OPTIONS, PATCH"
    assert line.options(f"/v1/apps/{app}").headers["allow"] == refused.headers["allow"]
    assert line.delete("/v1/nowhere").status_code == 404
    unread = line.get("/v1/sign-in")
    assert (unread.status_code, unread.headers["allow"]) == (405, "OPTIONS, POST")
    keyed = line.request("TRACE", f"/v1/apps/{app}", headers={"Idempotency-Key": "a-key", "If-Match": "*"})
    assert (keyed.status_code, keyed.headers["allow"]) == (405, refused.headers["allow"])
    line.post("/v1/tokens", json={"label": "one"}, headers={"Idempotency-Key": "of-405"})
    for given in ({"Idempotency-Key": "of-405"}, {"Idempotency-Key": "no key"}, {"If-Match": "no tag"}):
        assert line.put("/v1/apps", json={}, headers=given).status_code == 405, given


def test_a_bare_number_is_no_instant(line: httpx.Client) -> None:
    answer = line.get("/v1/logbook?since=0")
    assert answer.status_code == 422
    assert "write an instant like" in answer.text


def test_facts_of_a_format_that_is_none_are_refused(line: httpx.Client, harbour: Harbour) -> None:
    facts = {"format": "", "identifier": "x", "number": "1", "sha256": "", "size_bytes": 0, "version": "1"}
    answer = line.post(f"/v1/apps/{harbour.new_app()}/checks", json={"facts": [facts]})
    assert answer.status_code == 422
    assert "the format is one of" in answer.text


def test_head_answers_as_get_without_the_body(line: httpx.Client) -> None:
    for path in ("/v1/apps", "/healthz", "/", "/v1/me"):
        whole, head = line.get(path), line.head(path)
        assert (head.status_code, head.content) == (whole.status_code, b"")
        assert head.headers["content-type"] == whole.headers["content-type"]
    assert line.head("/v1/nothing").status_code == 404


def test_answers_are_neither_guessed_nor_kept(line: httpx.Client) -> None:
    answer = line.get("/v1/me")
    assert answer.headers["x-content-type-options"] == "nosniff"
    assert answer.headers["cache-control"] == "no-store"
    assert answer.headers["referrer-policy"] == "no-referrer"
    page = line.get("/")
    for directive in ("base-uri 'none'", "form-action 'self'", "frame-ancestors 'none'"):
        assert directive in page.headers["content-security-policy"]


def test_a_half_sent_body_is_cut_off(monkeypatch: pytest.MonkeyPatch) -> None:
    import anyio

    monkeypatch.setattr(edge, "SLOWEST_BODY_SECONDS", 0.05)
    sent = [{"type": "http.request", "body": b"{", "more_body": True}]

    async def receive() -> Any:
        if sent:
            return sent.pop()
        await anyio.sleep_forever()

    async def drive() -> list[str]:
        received = edge._in_time(receive)
        return [(await received())["type"] for _ in range(2)]

    assert anyio.run(drive) == ["http.request", "http.disconnect"]


def test_data_is_for_its_own_user_alone(harbour: Harbour) -> None:
    folder = harbour.folder / "desk"
    loose = [path.name for path in folder.rglob("*") if path.is_file() and path.stat().st_mode & 0o077]
    assert [name for name in loose if not name.startswith("desk.sqlite")] == []


def test_what_was_made_is_told_with_an_address_that_something_answers_at(line: httpx.Client, harbour: Harbour) -> None:
    paths = harbour.tide.watching.contract()["paths"]
    for key, (pattern, _) in LOCATIONS.items():
        method, path = key.split()
        assert "201" in paths[path][method.lower()]["responses"], key
        shapes = {re.sub(r"{\w+}", "{}", known) for known in paths}
        assert re.sub(r"{\w+}", "{}", pattern) in shapes, f"{key} names {pattern}, where nothing answers"
    made = line.post("/v1/tokens", json={"label": "told"})
    assert made.headers["location"] == f"/v1/tokens/{made.json()['token']['id']}"
    app = harbour.new_app()
    cohort = line.post(f"/v1/apps/{app}/cohorts", json={"name": "early", "kind": "crew"})
    assert cohort.status_code == 201, cohort.text
    assert line.get(cohort.headers["location"]).json()["name"] == cohort.json()["name"]


# uploads by a client that knows nothing of us


def test_a_stock_tus_client_uploads_without_our_metadata(harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app()
    file = harbour.package(app, "openfield", number=7)
    client = TusClient(f"{harbour.address}/v1/uploads", headers={"Authorization": f"Bearer {harbour.token}"})
    with file.open("rb") as source:
        upload = client.uploader(file_stream=source, chunk_size=1024)
        upload.upload()
    assert upload.url is not None
    with httpx.Client(headers={"Authorization": f"Bearer {harbour.token}"}, **OPENLY) as line:
        done = line.head(upload.url, headers=TUS)
        assert done.status_code == 200
        assert done.headers["upload-offset"] == done.headers["upload-length"] == str(file.stat().st_size)
        digest = hashlib.sha256(file.read_bytes()).digest()
        assert done.headers["repr-digest"] == f"sha-256=:{base64.b64encode(digest).decode()}:"
        again = line.patch(
            upload.url,
            content=b"",
            headers=TUS
            | {"Upload-Offset": str(file.stat().st_size), "Content-Type": "application/offset+octet-stream"},
        )
        assert again.status_code == 204
        assert line.head(f"{harbour.address}/v1/packages/{digest.hex()}").status_code == 200


def test_the_upload_endpoint_tells_what_it_can_before_the_sign_in(harbour: Harbour) -> None:
    with httpx.Client(base_url=harbour.address, **OPENLY) as stranger:
        told = stranger.options("/v1/uploads")
        assert told.headers["tus-version"] == "1.0.0"
        assert "creation" in told.headers["tus-extension"]
        refused = stranger.post(
            "/v1/uploads", headers={"Upload-Length": "5", "Authorization": f"Bearer {harbour.token}"}
        )
        assert (refused.status_code, refused.headers["tus-version"]) == (412, "1.0.0")


# the live feed


def test_a_feed_that_is_ahead_of_the_desk_starts_over(harbour: Harbour) -> None:
    with Tide(harbour.address, token=harbour.token) as tide:
        with tide._line.stream("/v1/live", {"Last-Event-ID": str(2**40)}) as answer:
            data = next(line for line in answer.iter_lines() if line.startswith("data:"))
        assert json.loads(data.removeprefix("data:"))["kind"] == "start over"


# where the desk never calls


@pytest.mark.parametrize(
    ("address", "inward"),
    [
        ("127.0.0.1", True),
        ("10.1.2.3", True),
        ("169.254.1.1", True),
        ("::1", True),
        ("fe80::1%eth0", True),
        ("::ffff:192.168.0.1", True),
        ("2002:7f00:1::", True),
        ("64:ff9b::a00:1", True),
        ("2001:0:7f00:1::", True),
        ("224.0.0.1", True),
        ("0.0.0.0", True),
        ("9.9.9.9", False),
        ("2620:fe::fe", False),
        ("2002:909:909::", False),
        ("64:ff9b::909:909", False),
    ],
)
def test_an_address_that_leads_inward_is_known_however_it_is_wrapped(address: str, inward: bool) -> None:
    assert leads_inward(address) is inward


def test_the_connected_peer_is_looked_at_and_nothing_is_sent_to_it() -> None:
    """The name was fine when it was checked, and leads here at the time of the call."""
    heard: list[bytes] = []

    class Inside(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            heard.append(self.requestline.encode())

        def log_message(self, *_: Any) -> None:
            pass

    with HTTPServer(("127.0.0.1", 0), Inside) as server:
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        place = f"http://localhost:{server.server_address[1]}/"
        with (
            httpx.Client(event_hooks={"request": [hold_outward]}, trust_env=False, verify=False) as http,
            pytest.raises(LeadsInward, match="leads inward"),
        ):
            http.get(place)
        server.shutdown()
        thread.join()
    assert heard == []
    assert socket.gethostbyname("localhost").startswith("127.")


# the greeting of a mail that anybody can have sent


@pytest.mark.parametrize(
    ("given", "kept"),
    [
        ("Wren Adeyemi", "Wren Adeyemi"),
        ("  Wren \n Adeyemi ", "Wren Adeyemi"),
        ("Anne-Marie O’Neill, Jr.", "Anne-Marie O’Neill, Jr."),
        ("Łukasz Żółć", "Łukasz Żółć"),
        ("see https://evil.example", ""),
        ("call 0900123456", ""),
        ("evil.example", ""),
        ("me@evil.example", ""),
        ("x" * 61, ""),
        ("<b>hi</b>", ""),
    ],
)
def test_a_name_from_the_join_page_greets_only_where_it_is_one(given: str, kept: str) -> None:
    assert _fit_name(given) == kept
