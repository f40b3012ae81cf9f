"""Acts that are repeated are done once; acts with a condition are done only where it holds."""

from __future__ import annotations

import sqlite3
import threading
import uuid
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

import httpx
import pytest

from restless_tide.client import Tide
from tests.harbour import Harbour, until
from tests.patience import OPENLY


@pytest.fixture
def line(harbour: Harbour) -> Iterator[httpx.Client]:
    headers = {"Authorization": f"Bearer {harbour.token}"}
    with httpx.Client(base_url=harbour.address, headers=headers, **OPENLY) as opened:
        yield opened


def keyed(key: str = "") -> dict[str, str]:
    return {"Idempotency-Key": key or uuid.uuid4().hex}


# repeated acts


def test_the_same_act_again_gets_the_same_answer_and_is_done_once(harbour: Harbour, line: httpx.Client) -> None:
    app, key = harbour.new_app(), keyed()
    body = {"stores": ["openfield"], "label": "a build"}
    first, again = (line.post(f"/v1/apps/{app}/reservations", json=body, headers=key) for _ in range(2))
    assert (first.status_code, first.json()) == (again.status_code, again.json())
    assert again.headers["idempotency-replayed"] == "true"
    assert len(harbour.tide.builds.reservations(app)) == 1
    made = [line.post("/v1/tokens", json={"label": app}, headers=(once := keyed("k-" + app))).json() for _ in range(2)]
    assert once
    assert made[0]["value"] == made[1]["value"]
    assert [token.label for token in harbour.tide.people.tokens()].count(app) == 1


def test_a_key_is_for_one_request_of_one_asker(harbour: Harbour, line: httpx.Client) -> None:
    key = keyed()
    assert line.post("/v1/tokens", json={"label": "first"}, headers=key).status_code == 201
    other = line.post("/v1/tokens", json={"label": "second"}, headers=key)
    assert (other.status_code, other.json()["code"]) == (409, "key-used")
    mine = harbour.tide.people.make_token("another").value
    elsewhere = line.post("/v1/tokens", json={"label": "second"}, headers=key | {"Authorization": f"Bearer {mine}"})
    assert elsewhere.status_code == 201
    harbour.tide.people.revoke_token(elsewhere.json()["token"]["made_by"])
    gone = line.post("/v1/tokens", json={"label": "second"}, headers=key | {"Authorization": f"Bearer {mine}"})
    assert gone.status_code == 401, "an answer is given again only to who is still let in"


@pytest.mark.parametrize("key", ["", "x" * 201, "with space", "ä"])
def test_a_key_that_is_none_is_refused(line: httpx.Client, key: str) -> None:
    answer = line.post("/v1/tokens", json={"label": "x"}, headers={"Idempotency-Key": key.encode()})
    assert (answer.status_code, answer.json()["code"]) == (422, "key-unfit")


def test_an_act_that_was_refused_may_be_sent_again(harbour: Harbour, line: httpx.Client) -> None:
    key, name = keyed(), f"later{uuid.uuid4().hex[:6]}"
    assert line.post("/v1/apps", json={"name": name, "identifiers": {}}, headers=key).status_code == 422
    body = {"name": name, "title": "Later", "identifiers": {"ios": f"org.example.{name}"}}
    assert line.post("/v1/apps", json=body, headers=key).status_code == 201


def test_many_at_once_with_one_key_are_one_act(harbour: Harbour, line: httpx.Client) -> None:
    key = keyed()

    def tried(_: int) -> int:
        headers = {"Authorization": f"Bearer {harbour.token}"} | key
        return httpx.post(
            f"{harbour.address}/v1/tokens", json={"label": "crowd"}, headers=headers, **OPENLY
        ).status_code

    with ThreadPoolExecutor(8) as many:
        told = list(many.map(tried, range(8)))
    assert set(told) == {201}
    assert [token.label for token in harbour.tide.people.tokens()].count("crowd") == 1


def test_an_answer_that_was_lost_is_told_as_lost_and_nothing_is_done_twice(
    harbour: Harbour, line: httpx.Client
) -> None:
    key = keyed()
    assert line.post("/v1/tokens", json={"label": "lost"}, headers=key).status_code == 201
    with sqlite3.connect(harbour.folder / "desk" / "desk.sqlite", timeout=30) as records:
        unkept = "SELECT count(*) FROM kept_answers WHERE status IS NULL"  # kept once the answer has left
        until(lambda: records.execute(unkept).fetchone()[0], lambda count: count == 0)
        records.execute("UPDATE kept_answers SET status = NULL, sealed_body = NULL")
    again = line.post("/v1/tokens", json={"label": "lost"}, headers=key)
    assert (again.status_code, again.json()["code"]) == (409, "answer-lost")


def test_no_kept_answer_holds_a_secret_in_the_open_and_none_is_kept_for_long(own_harbour: Harbour) -> None:
    made = own_harbour.tide.people.make_token("a secret")
    place = own_harbour.folder / "desk"
    kept = b"".join(path.read_bytes() for path in place.glob("desk.sqlite*"))
    assert made.value.encode() not in kept
    own_harbour.processes.stop("desk")
    own_harbour.processes.start("desk")
    with sqlite3.connect(place / "desk.sqlite", timeout=30) as records:
        assert records.execute("SELECT count(*) FROM kept_answers").fetchone()[0] >= 1


def test_the_client_repeats_an_act_whose_answer_was_lost(harbour: Harbour) -> None:
    """Between the client and the desk something cuts the line just before each first answer."""
    app = harbour.new_app()
    desk_port = harbour.processes.ports.desk
    with Cutting(desk_port) as cutting, Tide(f"http://127.0.0.1:{cutting.port}", token=harbour.token) as tide:
        assert tide.builds.reserve(app, "openfield", label="once").version
    assert cutting.cut == 1
    assert len(harbour.tide.builds.reservations(app)) == 1


class Cutting:
    """A way to the desk that swallows the first answer and cuts the line."""

    def __init__(self, to: int) -> None:
        import socket

        self._to, self.cut = to, 0
        self._listens = socket.create_server(("127.0.0.1", 0))
        self.port = self._listens.getsockname()[1]
        self._thread = threading.Thread(target=self._serve, daemon=True)

    def __enter__(self) -> Cutting:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._listens.close()

    def _serve(self) -> None:
        import socket

        while True:
            try:
                caller, _ = self._listens.accept()
            except OSError:
                return
            with caller, socket.create_connection(("127.0.0.1", self._to)) as desk:
                asked = caller.recv(65536)
                while b"\r\n\r\n" not in asked or not asked.rstrip().endswith(b"}"):
                    asked += caller.recv(65536)
                desk.sendall(asked)
                answer = desk.recv(65536)
                if self.cut == 0:
                    self.cut += 1
                    continue
                caller.sendall(answer)


# conditions


def test_what_is_read_again_unchanged_is_not_sent_again(harbour: Harbour, line: httpx.Client) -> None:
    app = harbour.new_app()
    first = line.get(f"/v1/apps/{app}/signing")
    tag = first.headers["etag"]
    assert line.get(f"/v1/apps/{app}/signing", headers={"If-None-Match": f'"other", W/{tag}'}).status_code == 304
    assert line.get(f"/v1/apps/{app}/signing", headers={"If-None-Match": "*"}).content == b""
    assert line.get(f"/v1/apps/{app}/signing", headers={"If-None-Match": '"other"'}).json() == first.json()


def test_a_change_is_made_only_on_what_was_read(harbour: Harbour, line: httpx.Client) -> None:
    app = harbour.new_app()
    read = line.get(f"/v1/apps/{app}").headers["etag"]
    first = line.patch(f"/v1/apps/{app}", json={"title": "One"}, headers={"If-Match": read})
    assert first.status_code == 200
    late = line.patch(f"/v1/apps/{app}", json={"title": "Two"}, headers={"If-Match": read})
    assert (late.status_code, late.json()["code"]) == (412, "stale-view")
    assert harbour.tide.apps.one(app).title == "One"
    now = line.get(f"/v1/apps/{app}").headers["etag"]
    either = {"If-Match": f'"other", {now}'}
    assert line.patch(f"/v1/apps/{app}", json={"title": "Three"}, headers=either).status_code == 200
    assert line.patch(f"/v1/apps/{app}", json={"title": "Four"}, headers={"If-Match": "*"}).status_code == 200
    unfit = line.patch(f"/v1/apps/{app}", json={"title": "Five"}, headers={"If-Match": "no tag"})
    assert (unfit.status_code, unfit.json()["code"]) == (422, "etag-unfit")
    weak = line.patch(f"/v1/apps/{app}", json={"title": "Six"}, headers={"If-Match": f"W/{now}"})
    assert weak.status_code == 412, "a weak tag is never enough for a change (RFC 9110, 13.1.1)"


def test_what_has_no_address_of_its_own_is_held_against_the_nearest_that_has(
    harbour: Harbour, line: httpx.Client
) -> None:
    name = f"even-{uuid.uuid4().hex[:6]}"
    read = line.get("/v1/ladders").headers["etag"]
    body = {"stages": "50@24,100"}
    made = line.put(f"/v1/ladders/{name}", json=body, headers={"If-Match": read})
    assert made.is_success, made.text
    assert line.post(f"/v1/ladders/{name}/drop", json={"reason": "x"}, headers={"If-Match": read}).status_code == 412
    now = line.get("/v1/ladders").headers["etag"]
    assert line.post(f"/v1/ladders/{name}/drop", json={"reason": "x"}, headers={"If-Match": now}).is_success


def test_of_many_who_read_the_same_only_one_changes_it(harbour: Harbour) -> None:
    app = harbour.new_app()
    headers = {"Authorization": f"Bearer {harbour.token}"}
    read = httpx.get(f"{harbour.address}/v1/apps/{app}", headers=headers, **OPENLY).headers["etag"]

    def tried(number: int) -> int:
        given = headers | {"If-Match": read}
        body = {"title": f"Title {number}"}
        return httpx.patch(f"{harbour.address}/v1/apps/{app}", json=body, headers=given, **OPENLY).status_code

    with ThreadPoolExecutor(8) as many:
        told = sorted(many.map(tried, range(8)))
    assert told == [200] + [412] * 7


def test_a_condition_on_one_text_may_name_several_revisions_or_any(harbour: Harbour, line: httpx.Client) -> None:
    place = f"/v1/apps/{harbour.new_app()}/dossier/texts/de"

    def written(text: str, condition: str) -> int:
        return line.put(place, json={"texts": {"description": text}}, headers={"If-Match": condition}).status_code

    assert written("One", "*") == 412, "there is none yet"
    assert written("One", '"other", "0"') == 200
    assert written("Two", '"7", "8"') == 412
    assert written("Two", '"7", "1"') == 200
    assert written("Three", "*") == 200
    assert written("Four", "no tag") == 422


def test_what_can_be_changed_keeps_its_tag_while_nothing_changes(harbour: Harbour, line: httpx.Client) -> None:
    """A tag that changes with the time alone would let nobody change anything."""
    app = harbour.new_app()
    harbour.tide.testing.make_cohort(app, "crew", kind="crew")
    harbour.draft(app, stores=("northgate",))
    places = (
        f"/v1/apps/{app}", f"/v1/apps/{app}/signing", f"/v1/apps/{app}/retention", f"/v1/apps/{app}/cohorts/crew",
        f"/v1/apps/{app}/releases/1.0.0", f"/v1/apps/{app}/guards", f"/v1/apps/{app}/reviewer-briefs",
        f"/v1/apps/{app}/standing-checks", f"/v1/apps/{app}/track-rules", "/v1/ladders", "/v1/freezes", "/v1/people",
        "/v1/access-rules", "/v1/subscriptions",
    )  # fmt: skip
    before = {place: line.get(place).headers["etag"] for place in places}
    harbour.tide.watching.move_clock(step_hours=0.05)
    after = {place: line.get(place).headers["etag"] for place in places}
    assert after == before
