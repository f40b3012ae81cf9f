"""The gateway protocol between the desk's client and a stand-in: proof of identity, repeats, uploads, refusals."""

from __future__ import annotations

import base64
import hashlib
import io
import json
import time
import uuid
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import jwt
import pytest

from restless_tide.core.errors import Invalid, StoreRefused, StoreUnreachable
from restless_tide.gateways import client, protocol
from restless_tide.gateways.client import LONGEST_ANSWER_BYTES, Gateway, read_connection_file
from restless_tide.gateways.protocol import ConnectionFile
from tests.harbour import Harbour
from tests.patience import OPENLY


@pytest.fixture
def connection(harbour: Harbour) -> ConnectionFile:
    return read_connection_file(json.dumps(harbour.control("openfield", "connections", {})))


@pytest.fixture
def gateway(connection: ConnectionFile) -> Iterator[Gateway]:
    opened = Gateway(connection, name="openfield")
    yield opened
    opened.close()


def wanted_berth() -> protocol.BerthRequest:
    name = f"gw{uuid.uuid4().hex[:8]}"
    return protocol.BerthRequest(
        identifier=f"org.example.{name}", name=name, platform="android", language="en", reference=name
    )


def ask_token(connection: ConnectionFile, **changed: Any) -> httpx.Response:
    now = int(time.time())
    claims = {
        "iss": connection.client_id,
        "sub": connection.client_id,
        "aud": f"{connection.gateway}/v1/token",
        "iat": now,
        "exp": now + 60,
        "jti": str(uuid.uuid4()),
    } | changed
    key = jwt.PyJWK.from_dict(connection.private_key, algorithm="ES256").key
    form = {
        "grant_type": "client_credentials",
        "client_assertion_type": protocol.ASSERTION_TYPE,
        "client_assertion": jwt.encode(claims, key, algorithm="ES256"),
    }
    return httpx.post(f"{connection.gateway}/v1/token", data=form, **OPENLY)


def bearer(connection: ConnectionFile) -> dict[str, str]:
    return {"Authorization": f"Bearer {ask_token(connection).json()['access_token']}"}


@pytest.mark.parametrize(
    "changed",
    [
        {"aud": "http://elsewhere/v1/token"},
        {"exp": int(time.time()) - 3600},
        {"iss": "someone-else"},
        {"sub": "client-unknown"},
    ],
    ids=["audience", "expired", "issuer", "unknown client"],
)
def test_an_assertion_that_does_not_prove_who_asks_is_refused(
    connection: ConnectionFile, changed: dict[str, Any]
) -> None:
    answer = ask_token(connection, **changed)
    assert answer.status_code == 401
    assert answer.headers["content-type"] == "application/problem+json"


def test_an_assertion_counts_once(connection: ConnectionFile) -> None:
    assertion = str(uuid.uuid4())
    assert ask_token(connection, jti=assertion).status_code == 200
    replayed = ask_token(connection, jti=assertion)
    assert (replayed.status_code, replayed.json()["code"]) == (401, "assertion-replayed")


def test_every_answer_carries_the_stores_own_clock_and_the_rulebook_its_revision(connection: ConnectionFile) -> None:
    answer = httpx.get(f"{connection.gateway}/v1/rulebook", headers=bearer(connection), **OPENLY)
    assert answer.headers["etag"] == f'"{answer.json()["revision"]}"'
    assert protocol.CLOCK_HEADER.lower() in answer.headers


def test_nothing_but_the_token_is_answered_without_one(connection: ConnectionFile) -> None:
    for method, path in (
        ("GET", "/v1/rulebook"),
        ("GET", "/v1/events"),
        ("POST", "/v1/berths"),
        ("HEAD", "/v1/uploads/x"),
    ):
        assert httpx.request(method, f"{connection.gateway}{path}", **OPENLY).status_code == 401


def test_the_same_key_gives_the_same_answer_and_another_call_under_it_is_a_conflict(
    gateway: Gateway, harbour: Harbour
) -> None:
    wanted, key = wanted_berth(), str(uuid.uuid4())
    first = gateway.open_berth(wanted, key)
    assert gateway.open_berth(wanted, key) == first
    done = [act for act in harbour.control("openfield", "acts") if act["key"] == key]
    assert [act["outcome"] for act in done] == ["done"]
    with pytest.raises(StoreRefused, match="used for another act") as refused:
        gateway.open_berth(wanted_berth(), key)
    assert refused.value.code == "key-reused"


def test_a_refusal_is_kept_like_a_success(gateway: Gateway) -> None:
    wanted = wanted_berth()
    gateway.open_berth(wanted, str(uuid.uuid4()))
    key = str(uuid.uuid4())
    for _ in range(2):
        with pytest.raises(StoreRefused) as refused:
            gateway.open_berth(wanted.model_copy(update={"name": "another name"}), key)
        assert refused.value.code == "identifier-taken"


def test_an_upload_goes_on_where_it_stopped_and_damage_is_refused(connection: ConnectionFile, gateway: Gateway) -> None:
    berth = gateway.open_berth(wanted_berth(), str(uuid.uuid4())).id
    content, key = bytes(range(256)) * 40, str(uuid.uuid4())
    head = bearer(connection) | {"Tus-Resumable": "1.0.0"}
    made = httpx.post(
        f"{connection.gateway}/v1/berths/{berth}/uploads",
        headers=head | {"Upload-Length": str(len(content)), "Idempotency-Key": key},
        **OPENLY,
    )
    place = f"{connection.gateway}/v1/uploads/{made.json()['id']}"

    def append(offset: int, block: bytes, digest_of: bytes | None = None) -> httpx.Response:
        digest = base64.b64encode(hashlib.sha256(digest_of or block).digest()).decode()
        headers = head | {"Upload-Offset": str(offset), "Upload-Checksum": f"sha256 {digest}"}
        return httpx.patch(place, content=block, headers=headers, **OPENLY)

    assert append(0, content[:4000]).status_code == 204
    assert append(4000, b"damaged", b"promised").json()["code"] == "checksum-differs"
    assert append(0, content[:10]).json()["code"] == "offset-differs"
    assert append(4000, content).json()["code"] == "upload-too-long"
    assert httpx.head(place, headers=head, **OPENLY).headers["Upload-Offset"] == "4000"
    told: list[int] = []
    gateway.send_package(berth, io.BytesIO(content), len(content), key, told.append)
    assert told == [len(content)]
    assert httpx.head(place, headers=head, **OPENLY).headers["Upload-Offset"] == str(len(content))


def test_a_package_that_has_not_arrived_whole_is_not_consigned(connection: ConnectionFile, gateway: Gateway) -> None:
    berth = gateway.open_berth(wanted_berth(), str(uuid.uuid4())).id
    upload = httpx.post(
        f"{connection.gateway}/v1/berths/{berth}/uploads",
        headers=bearer(connection) | {"Upload-Length": "10", "Idempotency-Key": str(uuid.uuid4())},
        **OPENLY,
    ).json()["id"]
    with pytest.raises(StoreRefused, match="has not arrived whole"):
        gateway.consign(
            berth, protocol.ConsignmentRequest(uploads=(upload,), version="1.0.0", number=1), str(uuid.uuid4())
        )


def test_events_are_numbered_without_gaps_and_can_be_read_again(gateway: Gateway, harbour: Harbour) -> None:
    harbour.ready_build(harbour.new_app(), "openfield")
    events = gateway.events(0)
    assert len(events) >= 2
    assert [event.sequence for event in events] == list(range(1, len(events) + 1))
    assert gateway.events(len(events) - 1) == events[-1:]


def test_what_the_store_does_not_know_is_refused_by_name(gateway: Gateway) -> None:
    key = str(uuid.uuid4())
    for ask in (
        lambda: gateway.holdings("berth-none"),
        lambda: gateway.consignment("consignment-none"),
        lambda: gateway.launch("submission-none", 0.5, key),
        lambda: gateway.steer("submission-none", "halt", "", str(uuid.uuid4())),
        lambda: gateway.close_trial("trial-none", str(uuid.uuid4())),
    ):
        with pytest.raises(StoreRefused) as refused:
            ask()
        assert refused.value.code.endswith("-unknown")


def test_no_answer_and_a_closed_store_are_told_apart_from_a_no(
    connection: ConnectionFile, gateway: Gateway, harbour: Harbour
) -> None:
    harbour.control("openfield", "mischief", {"outage": True})
    try:
        with pytest.raises(StoreUnreachable, match="closed for a while"):
            gateway.rulebook()
    finally:
        harbour.control("openfield", "mischief", {"outage": False})
    away = Gateway(connection.model_copy(update={"gateway": "http://127.0.0.1:9"}), name="away")
    with pytest.raises(StoreUnreachable, match="nothing can be reached there"):
        away.rulebook()
    away.close()


@pytest.mark.parametrize(
    "text", ["", "[]", "{", '{"gateway": 1}', '{"gateway": "http://x", "client_id": "", "private_key": {}}']
)
def test_what_is_no_connection_file_is_refused_without_repeating_it(text: str) -> None:
    with pytest.raises(Invalid, match="no connection file") as refused:
        read_connection_file(text)
    assert "private_key" in refused.value.remedy


def test_a_file_may_be_longer_than_an_answer_and_is_bounded_all_the_same(
    connection: ConnectionFile, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    content = b"film" * (LONGEST_ANSWER_BYTES // 4 + 1)

    def answer(request: httpx.Request) -> httpx.Response:
        if request.url.path == "/v1/token":
            return httpx.Response(200, json={"access_token": "t", "expires_in": 600})
        if "/lost" in request.url.path:
            return httpx.Response(404, json={"code": "picture-unknown", "detail": "We hold no such file."})
        return httpx.Response(200, content=content)

    gateway = Gateway(connection, name="far")
    monkeypatch.setattr(gateway, "_transport", httpx.MockTransport(answer))
    gateway.dossier_picture("b", "0" * 64, tmp_path / "film")
    assert (tmp_path / "film").read_bytes() == content
    with pytest.raises(StoreUnreachable, match="without end"):
        gateway.dossier("b")
    with pytest.raises(StoreRefused, match="no such file"):
        gateway.dossier_picture("b", "lost", tmp_path / "lost")
    assert not (tmp_path / "lost").exists()
    monkeypatch.setattr(client, "LARGEST_DOCUMENT_BYTES", 1000)
    with pytest.raises(StoreUnreachable, match="without end"):
        gateway.dossier_document("b", "0" * 64, tmp_path / "paper")
