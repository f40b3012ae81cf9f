"""The gateway protocol held against every stand-in, against broken gateways, and against its published document."""

from __future__ import annotations

import json
import threading
from collections.abc import Generator, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import httpx
import pytest
import schemathesis
from fastapi import FastAPI, Request, Response
from hypothesis import HealthCheck, given, settings
from starlette.types import ASGIApp, Receive, Scope, Send

from restless_tide.cli.main import main as tide
from restless_tide.core.packages import inspect_package
from restless_tide.gateways.clauses import check
from restless_tide.gateways.client import Gateway, read_connection_file
from restless_tide.gateways.conformance import Finding, Material
from restless_tide.standins.__main__ import RULEBOOKS, read_rulebook
from restless_tide.standins.gateway import standin_app
from restless_tide.standins.packages import PackageRecipe, write_apk, write_ipa, write_msix
from restless_tide.standins.store import SimulatedStore
from tests.listening import running
from tests.patience import OPENLY
from tests.ports import own_ports

WRITERS = {"northgate": (write_ipa, "ipa"), "openfield": (write_apk, "apk"), "slatehouse": (write_msix, "msix")}
DOCUMENT = Path(__file__).parents[2] / "docs" / "gateway-openapi.json"
IDENTIFIER = "org.example.conformance"
SPEED = 30_000.0


def port() -> int:
    return own_ports().desk


@contextmanager
def gateway(folder: Path, name: str, spoil: Any = None) -> Iterator[tuple[SimulatedStore, str]]:
    """A stand-in whose clock runs fast; ``spoil`` may break it."""
    rules = read_rulebook((RULEBOOKS / f"{name}.toml").read_text(encoding="utf-8"))
    store, where = SimulatedStore(rules, folder / name), port()
    store.clock.run_at(SPEED)
    app: ASGIApp = standin_app(store, f"http://127.0.0.1:{where}")
    if spoil is not None:
        app = spoil(app, store) or app
    with running(app, where) as address:
        yield store, address


def material(folder: Path, name: str, ask: Any = lambda _: None) -> Material:
    write, suffix = WRITERS[name]
    permissions = ("android.permission.VIBRATE",) if suffix == "apk" else ()
    path = write(folder / f"check.{suffix}", PackageRecipe(IDENTIFIER, "1.0.0", 1, "Check", permissions))
    with path.open("rb") as source:
        facts = inspect_package(source)
    return Material(path.read_bytes(), facts, 20.0, ask)


def trying(address: str, given: Material) -> Generator[Finding, None, None]:
    """Each clause, as it is tried."""
    connection = httpx.post(f"{address}/control/connections", **OPENLY).text
    yield from check(read_connection_file(connection), given)


@pytest.mark.parametrize("name", sorted(WRITERS))
def test_every_stand_in_holds_every_clause(tmp_path: Path, name: str) -> None:
    with gateway(tmp_path, name) as (_, address):

        def hand_in(_: str) -> None:
            url = f"{address}/control/hand-in?identifier={IDENTIFIER}"
            threading.Thread(target=httpx.post, args=(url,), kwargs={"content": given.package}).start()

        given = material(tmp_path, name, hand_in)
        found = [*trying(address, given)]
    assert [(finding.clause, finding.why) for finding in found if not finding.held or finding.skipped] == []
    assert len(found) == 36


def forgetting(app: FastAPI, store: SimulatedStore) -> None:
    """It acts again under the same key."""
    store.shelf.given_answer = lambda key: None  # type: ignore[method-assign]
    store.shelf.keep_answer = lambda *_: None  # type: ignore[method-assign]


def without_problem_type(app: FastAPI, store: SimulatedStore) -> ASGIApp:
    """Its errors are plain JSON."""

    async def spoiled(scope: Scope, receive: Receive, send: Send) -> None:
        async def sent(message: Any) -> None:
            if message["type"] == "http.response.start":
                message["headers"] = [
                    (name, value.replace(b"application/problem+json", b"application/json"))
                    for name, value in message["headers"]
                ]
            await send(message)

        await app(scope, receive, sent)

    return spoiled


def gap_in_events(app: FastAPI, store: SimulatedStore) -> None:
    told = store.shelf.events_after
    store.shelf.events_after = lambda after, limit: [  # type: ignore[method-assign]
        event for event in told(after, limit) if event["sequence"] != 4
    ]


def deaf_to_replays(app: FastAPI, store: SimulatedStore) -> None:
    entrance = app.state.entrance
    admit = entrance.admit

    def forgetful(*given: str) -> Any:
        entrance._used = {}
        return admit(*given)

    entrance.admit = forgetful


def unmoved_halt(app: FastAPI, store: SimulatedStore) -> None:
    steer = store.steer
    store.steer = lambda submission, act: (  # type: ignore[method-assign]
        store.needed("rollout", submission) if act == "halt" else steer(submission, act)
    )


def keyless_events(app: FastAPI, store: SimulatedStore) -> None:
    add = store.shelf.add_event
    store.shelf.add_event = lambda event: add({**event, "key": None})  # type: ignore[method-assign]


def without_clock(app: FastAPI, store: SimulatedStore) -> None:
    @app.middleware("http")
    async def silent(request: Request, proceed: Any) -> Response:
        answer: Response = await proceed(request)
        if "store-clock" in answer.headers:
            del answer.headers["store-clock"]
        return answer


@pytest.mark.parametrize(
    ("spoil", "clause"),
    [
        (forgetting, "1.3"),
        (without_problem_type, "1.4"),
        (gap_in_events, "9.1"),
        (deaf_to_replays, "2.2"),
        (unmoved_halt, "8.2"),
        (keyless_events, "9.3"),
        (without_clock, "1.2"),
    ],
)
def test_a_broken_gateway_is_told_the_clause_it_breaks(tmp_path: Path, spoil: Any, clause: str) -> None:
    with (
        gateway(tmp_path, "openfield", spoil) as (_, address),
        closing(trying(address, material(tmp_path, "openfield"))) as found,
    ):
        assert any(finding.clause == clause and not finding.held for finding in found)


def test_the_command_prints_every_clause_and_ends_by_them(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    material(tmp_path, "openfield")
    connection = tmp_path / "connection.json"
    line = ["gateway", "check", str(connection), str(tmp_path / "check.apk"), "--patience", "20"]
    with gateway(tmp_path / "well", "openfield") as (_, address):
        connection.write_text(httpx.post(f"{address}/control/connections", **OPENLY).text)
        assert tide(line) == 0
    told = capsys.readouterr().out
    assert "✓ 8.2  a halt is done once" in told
    assert "36 clauses hold, 0 do not, 0 could not be tried." in told
    with gateway(tmp_path / "broken", "openfield", forgetting) as (_, address):
        connection.write_text(httpx.post(f"{address}/control/connections", **OPENLY).text)
        assert tide([*line, "--json"]) == 1
    found = json.loads(capsys.readouterr().out)
    assert "1.3" in [finding["clause"] for finding in found if not finding["held"]]
    assert tide(["gateway", "check", str(tmp_path / "check.apk"), str(connection)]) == 1
    assert "no connection file" in capsys.readouterr().err


def test_the_published_document_is_the_one_that_is_served(tmp_path: Path) -> None:
    with gateway(tmp_path, "northgate") as (_, address):
        assert httpx.get(f"{address}/v1/openapi.json", **OPENLY).json() == json.loads(DOCUMENT.read_text())


SCHEMA = schemathesis.openapi.from_dict(json.loads(DOCUMENT.read_text(encoding="utf-8")))
AS_THE_DOCUMENT_SAYS = [
    schemathesis.specs.openapi.checks.status_code_conformance,
    schemathesis.specs.openapi.checks.content_type_conformance,
    schemathesis.specs.openapi.checks.response_schema_conformance,
]


@schemathesis.serializer("application/offset+octet-stream")
def _as_bytes(_: Any, value: Any) -> bytes:
    return value if isinstance(value, bytes) else str(value).encode()


@pytest.fixture(scope="module")
def wild(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[str, str]]:
    """A gateway and a token of it, for calls of every shape."""
    with gateway(tmp_path_factory.mktemp("wild"), "openfield") as (_, address):
        connection = read_connection_file(httpx.post(f"{address}/control/connections", **OPENLY).text)
        opened = Gateway(connection, name="wild")
        token = opened._bearer(anew=False)
        opened.close()
        yield address, token


@pytest.mark.parametrize("operation", [found.ok() for found in SCHEMA.get_all_operations()], ids=lambda one: one.label)
def test_whatever_is_sent_the_gateway_answers_as_its_document_says(operation: Any, wild: tuple[str, str]) -> None:
    address, token = wild
    headers = {} if operation.path == "/v1/token" else {"Authorization": f"Bearer {token}"}

    @given(case=operation.as_strategy())
    @settings(max_examples=12, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)
    def tried(case: Any) -> None:
        answer = case.call(base_url=address, headers=headers)
        assert answer.status_code < 500, f"{case.as_curl_command()}: {answer.text}"
        case.validate_response(answer, checks=AS_THE_DOCUMENT_SAYS)

    tried()
