"""The conformance suite of the gateway protocol: run against any gateway, clause by clause.

Each check is named by the clause of docs/gateway-protocol.md that it holds the gateway to. The suite
opens a berth of its own, sends a package, and takes it through review and rollout; it waits for the
store's processing and review, so run it against a trial account or a stand-in whose clock runs fast.
"""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import httpx
import jwt
from pydantic import BaseModel, ValidationError

from restless_tide.core.errors import TideError
from restless_tide.core.packages import Facts
from restless_tide.gateways import protocol
from restless_tide.gateways.protocol import ConnectionFile

_POLL_SECONDS = 0.2


@dataclass(frozen=True)
class Finding:
    """One clause: held or not; ``skipped`` says why it could not be tried."""

    clause: str
    said: str
    held: bool
    why: str = ""
    skipped: bool = False


Check = tuple[str, str, "Callable[[Suite], None]"]
"""A clause's number, what it says, and how it is tried."""


class Broken(Exception):
    """The gateway breaks a clause, and how."""


class NotTried(Exception):
    """A clause cannot be tried here, and why."""


@dataclass
class Material:
    """What the suite may use: a package to send, and how long to wait for the store's own work, in seconds."""

    package: bytes
    facts: Facts
    patience_seconds: float = 60.0
    ask: Callable[[str], None] = lambda _: None
    """Called when a person has to do something meanwhile, such as a first build by hand."""


@dataclass
class Suite:
    """One run against one gateway. ``found`` grows while ``run`` works."""

    connection: ConnectionFile
    material: Material
    http: httpx.Client
    checks: Sequence[Check]
    known: dict[str, Any] = field(default_factory=dict)

    def run(self) -> Iterator[Finding]:
        """Try every clause in order; a clause that builds on a broken one is skipped."""
        for clause, said, check in self.checks:
            try:
                check(self)
            except Broken as wrong:
                yield Finding(clause, said, False, str(wrong))
            except NotTried as why:
                yield Finding(clause, said, True, str(why), skipped=True)
            except KeyError as missing:
                yield Finding(clause, said, True, f"needs {missing.args[0]}, which was not had", skipped=True)
            except (httpx.HTTPError, TideError) as wrong:
                yield Finding(clause, said, False, f"the call failed: {wrong}")
            else:
                yield Finding(clause, said, True)

    # how it speaks

    def assertion(self, **changed: Any) -> str:
        now = int(time.time())
        claims: dict[str, Any] = {
            "iss": self.connection.client_id,
            "sub": self.connection.client_id,
            "aud": f"{self.connection.gateway.rstrip('/')}/v1/token",
            "iat": now,
            "exp": now + 60,
            "jti": str(uuid.uuid4()),
        }
        key = jwt.PyJWK.from_dict(self.connection.private_key, algorithm=protocol.ALGORITHM).key
        return jwt.encode(claims | changed, key, algorithm=protocol.ALGORITHM)

    def ask_token(self, assertion: str) -> httpx.Response:
        form = {
            "grant_type": "client_credentials",
            "client_assertion_type": protocol.ASSERTION_TYPE,
            "client_assertion": assertion,
        }
        return self.http.post("/v1/token", data=form)

    def call(
        self,
        method: str,
        path: str,
        *,
        key: str | None = None,
        body: BaseModel | dict[str, Any] | None = None,
        **sent: Any,
    ) -> httpx.Response:
        headers = {"Authorization": f"Bearer {self.known['a token']}", **sent.pop("headers", {})}
        if key is not None:
            headers[protocol.IDEMPOTENCY_HEADER] = key
        content = body.model_dump(mode="json") if isinstance(body, BaseModel) else body
        return self.http.request(method, path, headers=headers, json=content, **sent)

    def done(self, path: str, kind: type[BaseModel], body: BaseModel | dict[str, Any] | None, what: str) -> Any:
        """A mutating call under a fresh key; its answer must fit ``kind``."""
        key = str(uuid.uuid4())
        answer = self.call("POST", path, key=key, body=body)
        demand(answer.is_success, f"POST {path} was answered {answer.status_code}: {answer.text[:200]}")
        self.known[f"the key of {what}"] = (key, path, body, answer.json())
        return fits(answer, kind)

    def wait(self, look: Callable[[], Any], over: Callable[[Any], bool], what: str) -> Any:
        deadline = time.monotonic() + self.material.patience_seconds
        seen = look()
        while not over(seen):
            if time.monotonic() > deadline:
                raise NotTried(f"{what} did not end within {self.material.patience_seconds:g} s")
            time.sleep(_POLL_SECONDS)
            seen = look()
        return seen

    def last_state(self, kind: str, subject: str) -> str | None:
        events = [event for event in self.events() if event.type == kind and event.subject == subject]
        return str(events[-1].data.get("state")) if events else None

    def events(self, after: int = 0) -> list[protocol.StoreEvent]:
        found: list[protocol.StoreEvent] = []
        while page := fits(self.call("GET", "/v1/events", params={"after": after}), protocol.Events).events:
            found += page
            after = page[-1].sequence
        return found


def fits(answer: httpx.Response, kind: type[Any]) -> Any:
    """The answer as a message of the protocol. Raises Broken."""
    demand(answer.is_success, f"{answer.request.url.path} was answered {answer.status_code}: {answer.text[:200]}")
    media = answer.headers.get("content-type", "").partition(";")[0]
    demand(media == "application/json", f"{answer.request.url.path} is {media or 'without a type'}, not JSON")
    try:
        return kind.model_validate_json(answer.content)
    except ValidationError as wrong:
        places = ", ".join(".".join(map(str, error["loc"])) for error in wrong.errors()[:4])
        raise Broken(f"{answer.request.url.path} does not fit {kind.__name__}: look at {places}") from None


def demand(held: object, why: str) -> None:
    if not held:
        raise Broken(why)


def demand_problem(answer: httpx.Response, status: tuple[int, ...], code: str | None = None) -> None:
    """An RFC 9457 document with a stable code and a sentence."""
    where = f"{answer.request.method} {answer.request.url.path}"
    demand(
        answer.status_code in status, f"{where} was answered {answer.status_code}, not {' or '.join(map(str, status))}"
    )
    media = answer.headers.get("content-type", "").partition(";")[0]
    demand(media == "application/problem+json", f"{where}: the error is {media or 'without a type'}")
    document = answer.json()
    demand(document.get("code") and document.get("detail"), f"{where}: the problem has no code or no detail")
    demand(code is None or document["code"] == code, f"{where}: the code is {document['code']!r}, not {code!r}")
