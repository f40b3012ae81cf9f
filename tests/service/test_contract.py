"""The OpenAPI document is what the service does: calls of every shape, right and wrong, are answered as it says."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis.errors import Unsatisfiable
from schemathesis import GenerationMode

from tests.harbour import Harbour
from tests.patience import PATIENCE_SECONDS

DOCUMENT = Path(__file__).parents[2] / "console" / "openapi.json"
SCHEMA = schemathesis.openapi.from_dict(json.loads(DOCUMENT.read_text(encoding="utf-8")))
CHECKS = [
    schemathesis.specs.openapi.checks.status_code_conformance,
    schemathesis.specs.openapi.checks.content_type_conformance,
    schemathesis.specs.openapi.checks.response_headers_conformance,
    schemathesis.specs.openapi.checks.response_schema_conformance,
]
LEFT_OUT = {
    "GET /v1/live": "it has no end",
    "POST /v1/clock": "it moves the clock of every other test",
    "POST /v1/sign-out": "it ends the token that asks",
    "POST /v1/people/{person_id}/endings": "it may end the one who asks",
    "POST /v1/halts": "it would halt what other tests raise",
}
STORES_AWAY = (502, 503)
"""What a desk answers where a store does not, or refuses."""
EXAMPLES = int(os.environ.get("TIDE_EXAMPLES", "1"))
"""So many calls of each operation and kind; ``TIDE_EXAMPLES=50`` for a long look."""


@schemathesis.serializer(
    "application/offset+octet-stream",
    "application/octet-stream",
    "text/csv",
    "application/cloudevents+json",
    "application/cloudevents-batch+json",
)
def _as_bytes(_: Any, value: Any) -> bytes:
    return value if isinstance(value, bytes) else str(value).encode()


@pytest.fixture(scope="module")
def wild(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Harbour]:
    """A desk for calls of every shape, with an app in it."""
    opened = Harbour.open(tmp_path_factory.mktemp("wild"), {"TIDE_JOIN_ATTEMPTS": "1000000"})
    opened.connect_stores()
    opened.tide.apps.register("marram", title="Marram", identifiers={"android": "org.example.marram"})
    yield opened
    opened.close()


def operations() -> list[Any]:
    return [one for found in SCHEMA.get_all_operations() if (one := found.ok()).label not in LEFT_OUT]


@pytest.mark.parametrize("operation", operations(), ids=lambda one: one.label)
def test_whatever_is_sent_the_desk_answers_as_its_document_says(operation: Any, wild: Harbour) -> None:
    """Calls that fit the document, and calls that do not."""
    headers = {"Authorization": f"Bearer {wild.token}"}
    wrong = []

    def tried(case: Any) -> None:
        if "app" in case.path_parameters:
            case.path_parameters["app"] = "marram"
        answer = case.call(base_url=wild.address, headers=headers, timeout=PATIENCE_SECONDS)
        if answer.status_code >= 500 and answer.status_code not in STORES_AWAY:
            wrong.append(f"{case.as_curl_command()}: {answer.text}")
        case.validate_response(answer, checks=CHECKS)

    for mode in GenerationMode:
        calls = given(case=operation.as_strategy(generation_mode=mode))(tried)
        with suppress(Unsatisfiable):  # what takes nothing cannot be given anything wrong
            settings(
                max_examples=EXAMPLES, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True,
                phases=[Phase.generate],
            )(calls)()  # fmt: skip
    assert not wrong
