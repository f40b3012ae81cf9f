"""The contract: every error crosses the wire and comes back as what it was; the client speaks plainly."""

from __future__ import annotations

import http.server
import threading
from collections.abc import Iterator

import pytest

from restless_tide.client import DeskUnreachable, Tide
from restless_tide.core import errors
from restless_tide.core.errors import Finding, ImpossibleAct, Level, NotReady, TideError, family
from restless_tide.wire.problems import Problem, error_from, problem_of


@pytest.mark.parametrize("kind", sorted(family().values(), key=lambda kind: kind.code), ids=lambda kind: kind.code)
def test_every_error_of_the_family_crosses_the_wire_unchanged(kind: type[TideError]) -> None:
    sent = kind("what is wrong", remedy="how to fix it", code="the-very-case")
    problem = problem_of(sent)
    back = error_from(problem.model_dump(mode="json"), problem.status)
    assert type(back) is kind
    assert (back.detail, back.remedy, back.code) == (sent.detail, sent.remedy, sent.code)
    assert 400 <= problem.status < 600


def test_what_is_possible_and_every_finding_cross_too() -> None:
    refused = ImpossibleAct("no", possible=["halt", "withdraw"])
    back = error_from(problem_of(refused).model_dump(mode="json"), 409)
    assert isinstance(back, ImpossibleAct)
    assert back.possible == ("halt", "withdraw")
    finding = Finding("notes-missing", Level.BLOCKER, "no notes", "notes.en", "write them")
    ready = error_from(problem_of(NotReady("no", findings=[finding])).model_dump(mode="json"), 409)
    assert ready.findings == (finding,)


@pytest.mark.parametrize(
    ("document", "status", "kind"),
    [
        ({}, 404, errors.NotFound),
        ({}, 418, TideError),
        ({"type": "about:blank", "title": "Oh"}, 401, errors.Unauthenticated),
        ({"type": "tag:elsewhere"}, 503, TideError),
    ],
)
def test_a_problem_of_another_maker_is_read_by_its_status(
    document: dict[str, str], status: int, kind: type[TideError]
) -> None:
    assert isinstance(error_from(document, status), kind)
    assert error_from(document, status).detail


def test_codes_of_the_family_are_distinct() -> None:
    kinds: list[type[TideError]] = [TideError]
    for kind in kinds:
        kinds.extend(kind.__subclasses__())
    assert len({kind.code for kind in kinds}) == len(set(kinds))
    assert set(Problem.model_fields) == {"type", "title", "status", "detail", "code", "remedy", "possible", "findings"}


class Nonsense(http.server.BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        self.send_response(200)
        self.end_headers()
        self.wfile.write(b"<html>hello</html>")

    def log_message(self, *_: object) -> None:
        return


@pytest.fixture
def somebody_else() -> Iterator[str]:
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Nonsense)
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()
    thread.join()
    server.server_close()


def test_something_that_is_no_desk_is_said_to_be_none(somebody_else: str) -> None:
    with Tide(somebody_else, token="tide_x") as tide, pytest.raises(DeskUnreachable, match="no Restless Tide desk"):
        tide.watching.overview()
    with Tide("http://127.0.0.1:9") as tide, pytest.raises(DeskUnreachable, match="No desk answers"):
        next(tide.watching.follow())
