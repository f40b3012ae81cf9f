"""What the desk takes in is bounded, and what goes wrong inside is said, logged and counted."""

from __future__ import annotations

import json
import pkgutil
import shutil
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from importlib import import_module
from pathlib import Path
from typing import Any

import anyio
import httpx
import pytest
from anyio import to_thread
from pydantic import TypeAdapter

from restless_tide import wire
from restless_tide.client import Denied, DeskUnreachable, Invalid, NotFound, Tide, Unauthenticated
from restless_tide.core.packages import Facts
from restless_tide.demo.processes import HOST
from restless_tide.desk import sessions
from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.passwords import HASHES_AT_ONCE
from restless_tide.desk.settings import Settings
from restless_tide.engine.webhooks import Answer, Letter, Webhooks
from restless_tide.gateways import protocol
from restless_tide.service.app import desk_app
from restless_tide.service.brake import MOST_FAILED_SIGN_INS
from restless_tide.service.threads import MOST_WAITING_TO_SIGN_IN
from restless_tide.wire.base import Wanted
from tests.harbour import EMAIL, PASSWORD, Harbour, settled, until
from tests.listening import Slow, letterbox, running, slow
from tests.patience import OPENLY, PATIENCE_SECONDS
from tests.ports import own_ports
from tests.service.test_conformance import port


def asked(harbour: Harbour, method: str, path: str, **sent: Any) -> httpx.Response:
    headers = {"Authorization": f"Bearer {harbour.token}"} | sent.pop("headers", {})
    return httpx.request(method, f"{harbour.address}{path}", headers=headers, **OPENLY, **sent)


# what is handed in


@pytest.mark.parametrize(
    "title",
    ["T\r\nBcc: x@example.org", "a\nb", "tab\there", "bell\u0007", "line\u2028separator", "lone \ud800", "x" * 301],
    ids=["header", "break", "tab", "bell", "separator", "surrogate", "long"],
)
def test_a_title_is_one_line(harbour: Harbour, title: str) -> None:
    body = json.dumps({"name": "oneline", "title": title, "identifiers": {"android": "org.example.oneline"}})
    answer = asked(harbour, "POST", "/v1/apps", content=body, headers={"Content-Type": "application/json"})
    assert answer.status_code == 422, answer.text
    assert "title" in answer.json()["detail"] or "JSON" in answer.json()["detail"]
    assert "oneline" not in {app.name for app in harbour.tide.apps.every()}


def test_a_title_is_kept_in_one_form(harbour: Harbour) -> None:
    app = harbour.tide.apps.register("cafe", title="Cafe\u0301", identifiers={"android": "org.example.cafe"})
    assert app.title == "Café"


@pytest.mark.parametrize(
    ("method", "path", "sent"),
    [
        ("PUT", "/v1/apps/bounded/retention", {"json": {"keep_newest": 1, "keep_days": 1.7e308}}),
        ("POST", "/v1/tokens", {"json": {"label": "x", "days": 3_000_000}}),
        ("POST", "/v1/clock", {"json": {"show": "9999-12-31T23:59:59-12:00"}}),
        ("POST", "/v1/clock", {"json": {"show": "0001-01-01T00:00:00+12:00"}}),
        ("GET", f"/v1/logbook?before={10**30}", {}),
        ("GET", f"/v1/live?after={10**30}", {}),
    ],
)
def test_numbers_and_dates_beyond_all_use_are_refused(
    harbour: Harbour, method: str, path: str, sent: dict[str, Any]
) -> None:
    if "bounded" not in {app.name for app in harbour.tide.apps.every()}:
        harbour.tide.apps.register("bounded", title="Bounded", identifiers={"android": "org.example.bounded"})
    answer = asked(harbour, method, path, **sent)
    assert answer.status_code == 422, answer.text
    assert harbour.tide.builds.retention("bounded").rule.keep_days < 40_000


def test_an_etag_that_is_none_is_refused_and_a_strange_one_fits_nothing(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("openfield",))
    for tag, expected in (
        ('"²"', (412, "stale-view")),
        (f'"{"9" * 30}"', (412, "stale-view")),
        ("²", (422, "etag-unfit")),
    ):
        answer = asked(
            harbour, "PUT", f"/v1/apps/{app}/releases/1.0.0/notes/en", json={"text": "x"},
            headers={"If-Match": tag.encode()},
        )  # fmt: skip
        assert (answer.status_code, answer.json()["code"]) == expected


# who may say what


def test_a_build_servers_token_names_no_tester_and_others_only_those_of_the_app(harbour: Harbour) -> None:
    app, other = harbour.new_app(), harbour.new_app()
    harbour.tide.testing.make_cohort(app, "crew")
    harbour.tide.testing.make_cohort(other, "crew")
    here, there = f"here.{app}@example.org", f"there.{app}@example.org"
    harbour.tide.testing.add_tester(app, "crew", here)
    harbour.tide.testing.add_tester(other, "crew", there)
    limited = harbour.tide.people.make_token("build server", apps=[app]).value
    with Tide(harbour.address, token=limited) as server:
        for who in (here, there, "nobody@example.org"):
            with pytest.raises(Denied, match="see testers"):
                server.reports.file(app, kind="remark", text="x", tester=who)
        assert server.reports.file(app, kind="remark", text="x").id
    assert harbour.tide.reports.file(app, kind="remark", text="x", tester=here).id
    said = set()
    for who in (there, "nobody@example.org"):
        with pytest.raises(NotFound) as refused:
            harbour.tide.reports.file(app, kind="remark", text="x", tester=who)
        said.add(refused.value.detail.replace(who, "WHO"))
    assert len(said) == 1, "the answer does not tell who is known elsewhere"


def test_wrong_passwords_are_held_while_tokens_and_other_places_go_on(own_harbour: Harbour) -> None:
    def tried(password: str) -> int:
        body = {"email": EMAIL, "password": password}
        return httpx.post(f"{own_harbour.address}/v1/sign-in", json=body, **OPENLY).status_code

    assert [tried("wrong") for _ in range(MOST_FAILED_SIGN_INS + 2)] == [401] * MOST_FAILED_SIGN_INS + [429, 429]
    assert tried(PASSWORD) == 429
    assert own_harbour.tide.people.me().email == EMAIL


@pytest.fixture
def inner(tmp_path: Path) -> Iterator[tuple[str, Any, str]]:
    """A desk in this process: its address, its application, and a token."""
    made, token = settled()
    shutil.copytree(made, tmp_path / "desk")
    app = desk_app(Desk(Settings(data=tmp_path / "desk"), RealClock()))
    with running(app, port()) as address:
        yield address, app, token


def test_a_halt_is_served_while_every_other_thread_is_taken(inner: tuple[str, Any, str]) -> None:
    """Without threads of its own it would wait for as long as the others do, which is until it was answered."""
    address, app, token = inner
    entered, over = threading.Semaphore(0), threading.Event()

    def taken() -> None:
        entered.release()
        over.wait()

    app.router.add_api_route("/v1/taken", taken)
    app.router.routes.insert(0, app.router.routes.pop())
    headers = {"Authorization": f"Bearer {token}"}
    threads = int(to_thread_limit())
    with ThreadPoolExecutor(threads + 5) as many:
        asking = [many.submit(httpx.get, f"{address}/v1/taken", **OPENLY) for _ in range(threads + 5)]
        try:
            for _ in range(threads):
                assert entered.acquire(timeout=PATIENCE_SECONDS)
            act = {"act": "halt", "reason": "crashes"}
            steered = httpx.post(
                f"{address}/v1/apps/marram/releases/1.0.0/steering", json=act, headers=headers, **OPENLY
            )
            drilled = httpx.post(f"{address}/v1/drills", json={}, headers=headers, **OPENLY)
            assert not any(one.done() for one in asking)
        finally:
            over.set()
        assert all(one.result().status_code == 200 for one in asking)
    assert (steered.status_code, steered.json()["code"]) == (404, "app-unknown")
    assert drilled.status_code < 500


def to_thread_limit() -> float:
    """How many threads all other requests share."""

    async def asked() -> float:
        return to_thread.current_default_thread_limiter().total_tokens

    return anyio.run(asked)


def test_no_more_than_two_passwords_are_checked_at_once_and_a_few_wait(
    inner: tuple[str, Any, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    address, _, token = inner
    over, under_way, most = threading.Event(), [0], [0]
    counting = threading.Lock()

    def slowly(*_: Any, **__: Any) -> None:
        with counting:
            under_way[0] += 1
            most[0] = max(most[0], under_way[0])
        over.wait()
        with counting:
            under_way[0] -= 1
        raise Unauthenticated("no")

    monkeypatch.setattr(sessions, "sign_in", slowly)

    def tried(number: int) -> int:
        body = {"email": f"{number}@example.org", "password": "guess"}
        return httpx.post(f"{address}/v1/sign-in", json=body, **OPENLY).status_code

    count = HASHES_AT_ONCE + MOST_WAITING_TO_SIGN_IN + 8
    with ThreadPoolExecutor(count) as many:
        asking = [many.submit(tried, number) for number in range(count)]
        try:
            refused = until(lambda: [one for one in asking if one.done()], lambda done: len(done) == 8)
            assert httpx.get(f"{address}/v1/me", headers={"Authorization": f"Bearer {token}"}, **OPENLY).is_success
        finally:
            over.set()
        assert [one.result() for one in refused] == [429] * 8
        assert sorted(one.result() for one in asking) == [401] * (count - 8) + [429] * 8
    assert most[0] == HASHES_AT_ONCE


def test_the_live_feed_ends_when_its_token_is_revoked(harbour: Harbour) -> None:
    made = harbour.tide.people.make_token("a follower")
    heard: list[str] = []
    with Tide(harbour.address, token=made.value) as follower:

        def follow() -> None:
            with follower._line.stream("/v1/live", {"Accept": "text/event-stream"}) as answer:
                heard.append("begun")
                for _ in answer.iter_lines():
                    pass
            heard.append("ended")

        thread = threading.Thread(target=follow)
        thread.start()
        until(lambda: heard, lambda seen: seen == ["begun"])
        harbour.tide.people.revoke_token(made.token.id)
        thread.join()
    assert heard == ["begun", "ended"]


# what goes wrong inside


def test_a_failure_inside_is_answered_without_a_promise_logged_under_its_request_and_counted(
    inner: tuple[str, Any, str], capsys: pytest.CaptureFixture[str]
) -> None:
    address, app, _ = inner

    def broken() -> None:
        raise RuntimeError("a rope broke")

    app.router.add_api_route("/v1/broken", broken)
    app.router.routes.insert(0, app.router.routes.pop())
    answer = httpx.get(f"{address}/v1/broken", headers={"X-Request-Id": "look-for-me"}, **OPENLY)
    assert answer.status_code == 500
    assert answer.headers["x-request-id"] == "look-for-me"
    problem = answer.json()
    assert "Whether it was done is not known" in problem["detail"]
    assert "look-for-me" in problem["remedy"]
    assert "rope" not in answer.text
    assert b'status="500"' in app.state.metrics.told()
    assert "a rope broke" in capsys.readouterr().out


# what goes out


def letter(address: str, number: int = 1) -> Letter:
    return Letter(f"de-{number}", f"su-{number}", address, "{}", {})


@contextmanager
def webhooks(deadline_seconds: float) -> Iterator[tuple[Webhooks, dict[str, Answer]]]:
    answers: dict[str, Answer] = {}
    opened = Webhooks(
        lambda _: None, lambda sent, answer: answers.update({sent.id: answer}), lambda: None, deadline_seconds
    )
    yield opened, answers
    opened.close()


@pytest.mark.parametrize("how", Slow)
def test_a_slow_or_endless_receiver_holds_nobody_else(how: Slow) -> None:
    with webhooks(PATIENCE_SECONDS) as (out, answers), slow(how) as late, letterbox(204) as box:
        assert out.post(letter(late.address, 1))
        assert not out.post(letter(late.address, 1)), "a receiver has one under way at a time"
        assert out.post(letter(box.address, 2))
        assert until(lambda: answers.get("de-2"), lambda answer: answer) == Answer(None, 204)
        if how is Slow.ENDLESS:
            first = until(lambda: answers.get("de-1"), lambda answer: answer)
            assert first is not None
            assert first.trouble is None
        else:
            assert "de-1" not in answers, "it is still waited for"
        late.over()
    assert late.sent_bytes < 8_000_000, "little of an answer is read"


@pytest.mark.parametrize("how", [how for how in Slow if how is not Slow.ENDLESS])
def test_a_slow_receiver_is_given_up_at_one_deadline_over_the_whole_exchange(how: Slow) -> None:
    with webhooks(1.0) as (out, answers), slow(how) as late:
        assert out.post(letter(late.address, 1))
        first = until(lambda: answers.get("de-1"), lambda answer: answer)
        late.over()
    assert first is not None
    assert "within 1 s" in (first.trouble or "")


def test_a_receiver_that_is_gone_ends_its_subscription_and_one_that_asks_to_wait_is_left_alone(
    own_harbour: Harbour,
) -> None:
    with letterbox(410) as gone, letterbox((503, {"Retry-After": "7200"})) as busy:
        ended = own_harbour.tide.notices.subscribe("webhook", gone.address)
        waits = own_harbour.tide.notices.subscribe("webhook", busy.address)
        for made in (ended, waits):
            own_harbour.tide.notices.try_out(made.id)

        def of(subscription: str) -> Any:
            return next(entry for entry in own_harbour.tide.notices.deliveries() if entry.subscription == subscription)

        assert until(lambda: of(ended.id), lambda entry: entry.state == "failed").attempts == 1
        until(lambda: of(waits.id), lambda entry: entry.attempts == 1)
        own_harbour.tide.watching.move_clock(step_hours=1.9)
        box = own_harbour.tide.notices.try_out(
            own_harbour.tide.notices.subscribe("mail", f"x{time.time_ns()}@example.org").id
        )
        until(lambda: of(box.subscription), lambda entry: entry.state == "sent")
        assert of(waits.id).attempts == 1
        own_harbour.tide.watching.move_clock(step_hours=0.2)
        until(lambda: of(waits.id), lambda entry: entry.attempts == 2)
        own_harbour.tide.notices.end(waits.id)
    assert len(gone.got) == 1
    told = next(line for line in own_harbour.tide.watching.logbook(limit=60) if line.act == "subscription ended")
    assert told.subject
    with pytest.raises(Invalid, match="has ended"):
        own_harbour.tide.notices.try_out(ended.id)


def test_every_mail_has_a_date_and_says_that_a_program_wrote_it(harbour: Harbour) -> None:
    address = f"dated{time.time_ns()}@example.org"
    harbour.tide.notices.try_out(harbour.tide.notices.subscribe("mail", address).id)
    (mail,) = until(lambda: harbour.mails(address), lambda mails: mails)
    headers = {name.lower(): value for name, value in mail["headers"].items()}
    assert {"date", "auto-submitted", "list-id", "message-id"} <= set(headers)
    assert headers["auto-submitted"] == "auto-generated"


def test_nothing_outlives_its_parent(tmp_path: Path) -> None:
    """The demo is killed, not stopped: its stores and its desk end with it."""
    ports = own_ports()
    said = (
        "import time; from pathlib import Path; from restless_tide.demo.processes import Ports, Processes\n"
        f"Processes(Path({str(tmp_path)!r}), Ports({ports.desk}), {{}}, ('openfield',)).start('openfield'); print('up', flush=True); time.sleep(999)"
    )
    parent = subprocess.Popen([sys.executable, "-c", said], stdout=subprocess.PIPE, text=True)
    assert parent.stdout is not None
    assert parent.stdout.readline() == "up\n"
    where = f"http://{HOST}:{ports.stores['openfield']}/control/state"
    assert httpx.get(where, **OPENLY).is_success
    parent.send_signal(signal.SIGKILL)
    parent.communicate()

    def answers() -> bool:
        try:
            return httpx.get(where, **OPENLY).is_success
        except (httpx.TransportError, DeskUnreachable):
            return False

    until(answers, lambda alive: not alive)


WIRE = [import_module(f"{wire.__name__}.{found.name}") for found in pkgutil.iter_modules(wire.__path__)]


READ_OUT = {"Facts", *TypeAdapter(Facts).json_schema()["$defs"]}
"""What was read out of packages, by the desk itself or by whoever asks for a check; bounded by what a body may hold."""


def unbounded(schema: Any, place: str) -> Iterator[str]:
    """The texts, lists and maps of a JSON schema that have no bound."""
    if isinstance(schema, list):
        for entry in schema:
            yield from unbounded(entry, place)
    if not isinstance(schema, dict):
        return
    if schema.get("title") in READ_OUT:
        return
    if {"type": "number"}.items() <= next(
        iter(schema.get("anyOf", [{}])), {}
    ).items():  # a decimal number, also as text
        return
    kind = schema.get("type")
    closed = {"enum", "const", "format"} & set(schema)
    if kind == "string" and not closed and "maxLength" not in schema and "pattern" not in schema:
        yield f"{place}: a text"
    if kind == "array" and not {"maxItems", "prefixItems"} & set(schema):
        yield f"{place}: a list"
    if kind == "object" and isinstance(schema.get("additionalProperties"), dict) and "maxProperties" not in schema:
        yield f"{place}: a map"
    for name, entry in schema.items():
        if name == "properties":
            for field, inner in entry.items():
                yield from unbounded(inner, f"{place}.{field}")
        elif name == "$defs":
            for inner in entry.values():
                yield from unbounded(inner, inner.get("title", place))
        elif name not in ("default", "examples"):
            yield from unbounded(entry, place)


MESSAGES = [kind for kind in vars(protocol).values() if isinstance(kind, type) and issubclass(kind, protocol.Message)]


@pytest.mark.parametrize("message", MESSAGES, ids=lambda message: message.__name__)
def test_everything_a_store_may_say_has_a_bound(message: type[protocol.Message]) -> None:
    assert list(unbounded(message.model_json_schema(), message.__name__)) == []


WANTED = {
    kind for module in WIRE for kind in vars(module).values() if isinstance(kind, type) and issubclass(kind, Wanted)
}


@pytest.mark.parametrize(
    "wanted", sorted(WANTED - {Wanted}, key=lambda kind: kind.__name__), ids=lambda kind: kind.__name__
)
def test_everything_a_caller_may_hand_in_has_a_bound(wanted: type[Wanted]) -> None:
    assert list(unbounded(wanted.model_json_schema(), wanted.__name__)) == []
