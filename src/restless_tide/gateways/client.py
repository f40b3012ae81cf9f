"""A client of the gateway protocol: each method is one call, typed, and safe to repeat.

Two things can go wrong and they are kept apart: the store said no (StoreRefused; asking again in
the same words is useless) or nobody knows what the store did (StoreUnreachable; asking again under
the same idempotency key is right).
"""

from __future__ import annotations

import threading
import time
import uuid
from collections.abc import Callable
from contextlib import ExitStack
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, BinaryIO, TypeVar

import httpx
import jwt
from pydantic import BaseModel, ValidationError

from restless_tide import tus
from restless_tide.core.dates import http_date, seconds_asked
from restless_tide.core.errors import Invalid, StoreRefused, StoreUnreachable
from restless_tide.core.limits import LARGEST_DOCUMENT_BYTES, LARGEST_FILM_BYTES
from restless_tide.core.rulebook import Rulebook, read_served_rulebook
from restless_tide.gateways import protocol
from restless_tide.gateways.protocol import ConnectionFile
from restless_tide.peers import hold_outward
from restless_tide.request import request_id
from restless_tide.tls import verified

Answer = TypeVar("Answer", bound=BaseModel)

ASSERTION_LIFE_SECONDS = 60
UPLOAD_BLOCK_BYTES = 4 * 1024 * 1024
_TIMEOUT = httpx.Timeout(10.0, connect=3.0)
_LIMITS = httpx.Limits(max_connections=100, max_keepalive_connections=20, keepalive_expiry=3.0)
"""An idle connection is left before servers usually close it (5 s): a halt that met one just then would be asked again later."""
_UNKNOWN_OUTCOME = frozenset({408, 425, 429, 500, 502, 503, 504})
_GONE = frozenset({404, 410})
NOT_YET = "too-early"
GONE = "gone"
"""The code of an answer to HEAD, which has no body, that says that a thing is not there (any more)."""
UNREADABLE = "store-answer-unreadable"
"""The code of an error because a store's answer is not the gateway protocol."""
LONGEST_ANSWER_BYTES = 16 * 1024**2
LONGEST_CALL_SECONDS = 20.0
LONGEST_FETCH_SECONDS = 600.0
"""Of a call that fetches a file."""
LEAST_SKEW_SECONDS = 20.0


class Gateway:
    """One store's gateway, as one client of it. ``outward``: it may not lead to this machine or into a private network."""

    def __init__(self, connection: ConnectionFile, *, name: str, outward: bool = False) -> None:
        self._name = name
        self._connection = connection
        self._outward = outward
        self._transport: httpx.BaseTransport = httpx.HTTPTransport(
            trust_env=False, verify=verified(connection.gateway), limits=_LIMITS
        )
        self._requests = httpx.Client(
            base_url=connection.gateway, timeout=_TIMEOUT, trust_env=False, transport=self._transport
        )
        """What makes the requests. They go straight to the transport: a gateway leads nowhere else and sets no cookies,
        and looking for these takes a third of a call."""
        self._lock = threading.Lock()
        self._token: str | None = None
        self._token_until = 0.0
        self.skew_seconds = 0.0
        self.clock: datetime | None = None
        """What the store's own clock showed with its last answer."""
        self._rulebook: tuple[str, Rulebook] | None = None
        try:
            key = jwt.PyJWK.from_dict(connection.private_key, algorithm=protocol.ALGORITHM).key
            jwt.encode({"iss": connection.client_id}, key, algorithm=protocol.ALGORITHM)
        except (jwt.PyJWTError, ValueError, TypeError, KeyError):
            raise Invalid(
                f"The private key in the connection file of {name} is no ES256 key.",
                remedy="Make a new connection file at the store and use it unchanged.",
                code="key-unfit",
            ) from None
        self._key = key

    def close(self) -> None:
        self._requests.close()

    # what is so

    def rulebook(self) -> Rulebook:
        """The rulebook in force; asked for anew only when its revision changed. Raises Invalid for a broken one."""
        known = self._rulebook
        headers = {"If-None-Match": known[0]} if known else {}
        answer = self._send("GET", "/v1/rulebook", headers=headers)
        if known is not None and answer.status_code == httpx.codes.NOT_MODIFIED:
            return known[1]
        rules = read_served_rulebook(answer.content, self._name)
        self._rulebook = (answer.headers.get("etag", ""), rules) if answer.headers.get("etag") else None
        return rules

    def next_rulebook(self) -> Rulebook | None:
        """The announced next revision, or None. Raises Invalid for a broken one."""
        try:
            answer = self._send("GET", "/v1/rulebook/next")
        except StoreRefused as none:
            if none.code in ("none-announced", StoreRefused.code):
                return None
            raise
        return read_served_rulebook(answer.content, self._name)

    def account(self) -> protocol.Account:
        return self._call("GET", "/v1/account", protocol.Account)

    def holdings(self, berth: str) -> protocol.Holdings:
        return self._call("GET", f"/v1/berths/{berth}/holdings", protocol.Holdings)

    def consignment(self, consignment: str) -> protocol.ConsignmentAnswer:
        return self._call("GET", f"/v1/consignments/{consignment}", protocol.ConsignmentAnswer)

    def events(self, after: int) -> tuple[protocol.StoreEvent, ...]:
        return self._call("GET", "/v1/events", protocol.Events, params={"after": after}).events

    def trial(self, trial: str) -> protocol.TrialAnswer:
        return self._call("GET", f"/v1/trials/{trial}", protocol.TrialAnswer)

    def usage(self, trial: str) -> tuple[protocol.UsageDay, ...]:
        return self._call("GET", f"/v1/trials/{trial}/usage", protocol.Usage).days

    def report_picture(self, report: str, place: int) -> bytes:
        """A picture of a field report, from 1."""
        return self._send("GET", f"/v1/reports/{report}/pictures/{place}").content

    def availability(self, berth: str) -> protocol.AvailabilityMessage:
        return self._call("GET", f"/v1/berths/{berth}/availability", protocol.AvailabilityMessage)

    def dossier(self, berth: str) -> protocol.Dossier:
        return self._call("GET", f"/v1/berths/{berth}/dossier", protocol.Dossier)

    def dossier_picture(self, berth: str, sha256: str, into: Path) -> None:
        """Fetch the file of a picture or a film that the store holds."""
        self._send("GET", f"/v1/berths/{berth}/dossier/pictures/{sha256}", into=into, most=LARGEST_FILM_BYTES)

    def dossier_document(self, berth: str, sha256: str, into: Path) -> None:
        """Fetch the file of a document that the store holds."""
        self._send("GET", f"/v1/berths/{berth}/dossier/documents/{sha256}", into=into, most=LARGEST_DOCUMENT_BYTES)

    def reviewer_file(self, submission: str, sha256: str, into: Path) -> None:
        """Fetch a file that a reviewer sent."""
        self._send("GET", f"/v1/submissions/{submission}/files/{sha256}", into=into, most=LARGEST_DOCUMENT_BYTES)

    def gauges(self, berth: str, after: str = "") -> protocol.GaugePage:
        """The hours that were counted after a cursor, a page at a time; from the first one without it."""
        asked = {"after": after} if after else {}
        return self._call("GET", f"/v1/berths/{berth}/gauges", protocol.GaugePage, params=asked)

    # what we want

    def set_availability(
        self, berth: str, wanted: protocol.AvailabilityMessage, key: str
    ) -> protocol.AvailabilityAnswer:
        return self._call("POST", f"/v1/berths/{berth}/availability", protocol.AvailabilityAnswer, body=wanted, key=key)

    def write_texts(self, berth: str, wanted: protocol.TextsRequest, key: str) -> protocol.TextsAnswer:
        return self._call("POST", f"/v1/berths/{berth}/dossier/texts", protocol.TextsAnswer, body=wanted, key=key)

    def write_pictures(self, berth: str, wanted: protocol.PicturesRequest, key: str) -> protocol.PicturesAnswer:
        place = f"/v1/berths/{berth}/dossier/pictures"
        return self._call("POST", place, protocol.PicturesAnswer, body=wanted, key=key)

    def write_answers(
        self, berth: str, wanted: protocol.DossierAnswersRequest, key: str
    ) -> protocol.DossierAnswersAnswer:
        place = f"/v1/berths/{berth}/dossier/answers"
        return self._call("POST", place, protocol.DossierAnswersAnswer, body=wanted, key=key)

    def write_goods(self, berth: str, wanted: protocol.GoodsRequest, key: str) -> protocol.GoodsAnswer:
        return self._call("POST", f"/v1/berths/{berth}/dossier/goods", protocol.GoodsAnswer, body=wanted, key=key)

    def begin_push(self, address: str, key: str) -> protocol.PushAnswer:
        """Have events pushed to ``address``, signed with the secret in the answer."""
        body = protocol.PushRequest(address=address)
        return self._call("POST", "/v1/pushes", protocol.PushAnswer, body=body, key=key)

    def rotate_push(self, push: str, key: str) -> protocol.PushAnswer:
        """A new secret; for a day each event is signed with both."""
        return self._call("POST", f"/v1/pushes/{push}/rotation", protocol.PushAnswer, key=key)

    def end_push(self, push: str, key: str) -> protocol.PushAnswer:
        return self._call("POST", f"/v1/pushes/{push}/end", protocol.PushAnswer, key=key)

    def drill(self, act: str, key: str) -> protocol.DrillAnswer:
        """The whole way of an act, with no effect. Raises StoreRefused where the gateway has no drills."""
        body = protocol.DrillRequest.model_validate({"act": act})
        return self._call("POST", "/v1/drills", protocol.DrillAnswer, body=body, key=key)

    def open_berth(self, wanted: protocol.BerthRequest, key: str) -> protocol.BerthAnswer:
        return self._call("POST", "/v1/berths", protocol.BerthAnswer, body=wanted, key=key)

    def rename_berth(self, berth: str, name: str, key: str) -> protocol.BerthAnswer:
        wanted = protocol.NameRequest(name=name)
        return self._call("POST", f"/v1/berths/{berth}/name", protocol.BerthAnswer, body=wanted, key=key)

    def open_track(self, berth: str, wanted: protocol.TrackRequest, key: str) -> protocol.TrackAnswer:
        return self._call("POST", f"/v1/berths/{berth}/tracks", protocol.TrackAnswer, body=wanted, key=key)

    def rename_track(self, berth: str, track: str, title: str, key: str) -> protocol.TrackAnswer:
        wanted = protocol.TitleRequest(title=title)
        path = f"/v1/berths/{berth}/tracks/{track}/title"
        return self._call("POST", path, protocol.TrackAnswer, body=wanted, key=key)

    def close_track(self, berth: str, track: str, key: str) -> protocol.TrackAnswer:
        return self._call("POST", f"/v1/berths/{berth}/tracks/{track}/close", protocol.TrackAnswer, key=key)

    def send_package(
        self, berth: str, source: BinaryIO, size_bytes: int, key: str, told: Callable[[int], None] = lambda _: None
    ) -> str:
        """Upload a file by tus 1.0, going on where an earlier attempt under the same key stopped.

        ``told`` hears how many bytes the store holds. Returns the upload's id, also where the store holds it no longer: then
        an earlier try's call has taken it, and the store answers the next one under the same key as it answered that.
        """
        upload = self._call(
            "POST",
            f"/v1/berths/{berth}/uploads",
            protocol.UploadAnswer,
            key=key,
            headers=tus.to_begin(size_bytes),
        ).id
        place = f"/v1/uploads/{upload}"
        try:
            offset = tus.arrived(self._send("HEAD", place, headers=tus.SPOKEN).headers)
        except StoreRefused as no:
            if no.code != GONE:
                raise
            return upload
        source.seek(offset)
        while offset < size_bytes:
            block = source.read(UPLOAD_BLOCK_BYTES)
            answer = self._send("PATCH", place, content=block, headers=tus.to_go_on(offset, block))
            offset = tus.arrived(answer.headers)
            told(offset)
        return upload

    def consign(self, berth: str, wanted: protocol.ConsignmentRequest, key: str) -> protocol.ConsignmentAnswer:
        return self._call("POST", f"/v1/berths/{berth}/consignments", protocol.ConsignmentAnswer, body=wanted, key=key)

    def answer(self, consignment: str, answers: dict[str, str], key: str) -> protocol.ConsignmentAnswer:
        body = protocol.AnswersRequest(answers=answers)
        return self._call(
            "POST", f"/v1/consignments/{consignment}/answers", protocol.ConsignmentAnswer, body=body, key=key
        )

    def open_trial(self, berth: str, wanted: protocol.TrialRequest, key: str) -> protocol.TrialAnswer:
        return self._call("POST", f"/v1/berths/{berth}/trials", protocol.TrialAnswer, body=wanted, key=key)

    def close_trial(self, trial: str, key: str) -> protocol.TrialAnswer:
        return self._call("POST", f"/v1/trials/{trial}/close", protocol.TrialAnswer, key=key)

    def seat(self, trial: str, addresses: tuple[str, ...], key: str) -> protocol.TrialAnswer:
        """Seats for these; whoever sits there already keeps one seat."""
        body = protocol.TestersRequest(addresses=addresses)
        return self._call("POST", f"/v1/trials/{trial}/testers", protocol.TrialAnswer, body=body, key=key)

    def unseat(self, trial: str, addresses: tuple[str, ...], key: str) -> protocol.TrialAnswer:
        body = protocol.TestersRequest(addresses=addresses)
        return self._call("POST", f"/v1/trials/{trial}/removals", protocol.TrialAnswer, body=body, key=key)

    def submit(self, berth: str, wanted: protocol.SubmissionRequest, key: str) -> protocol.SubmissionAnswer:
        return self._call("POST", f"/v1/berths/{berth}/submissions", protocol.SubmissionAnswer, body=wanted, key=key)

    def recall(self, submission: str, key: str) -> protocol.SubmissionAnswer:
        return self._call("POST", f"/v1/submissions/{submission}/recall", protocol.SubmissionAnswer, key=key)

    def write_reviewer(self, submission: str, wanted: protocol.MessageRequest, key: str) -> protocol.MessageAnswer:
        path = f"/v1/submissions/{submission}/messages"
        return self._call("POST", path, protocol.MessageAnswer, body=wanted, key=key)

    def appeal(self, submission: str, wanted: protocol.MessageRequest, key: str) -> protocol.SubmissionAnswer:
        path = f"/v1/submissions/{submission}/appeals"
        return self._call("POST", path, protocol.SubmissionAnswer, body=wanted, key=key)

    def launch(self, submission: str, share: float, key: str) -> protocol.RolloutAnswer:
        body = protocol.ShareRequest(share=share)
        return self._call("POST", f"/v1/submissions/{submission}/rollout", protocol.RolloutAnswer, body=body, key=key)

    def set_share(self, submission: str, share: float, key: str) -> protocol.RolloutAnswer:
        body = protocol.ShareRequest(share=share)
        return self._call(
            "POST", f"/v1/submissions/{submission}/rollout/share", protocol.RolloutAnswer, body=body, key=key
        )

    def steer(self, submission: str, act: str, reason: str, key: str) -> protocol.RolloutAnswer:
        """``act`` is pause, resume, halt or withdraw."""
        body = protocol.ReasonRequest(reason=reason)
        return self._call(
            "POST", f"/v1/submissions/{submission}/rollout/{act}", protocol.RolloutAnswer, body=body, key=key
        )

    # how it is said

    def _call(
        self,
        method: str,
        path: str,
        kind: type[Answer],
        *,
        body: BaseModel | None = None,
        key: str | None = None,
        params: dict[str, Any] | None = None,
        headers: dict[str, str] | None = None,
    ) -> Answer:
        sent = dict(headers or {})
        if key is not None:
            sent[protocol.IDEMPOTENCY_HEADER] = key
        json = body.model_dump(mode="json") if body is not None else None
        answer = self._send(method, path, json=json, params=params, headers=sent)
        try:
            return kind.model_validate_json(answer.content)
        except ValidationError:
            raise StoreUnreachable(
                f"{self._name} answered {method} {path} with something that is not the gateway protocol.",
                remedy="Tell the people who run the gateway; the act is tried again meanwhile.",
                code=UNREADABLE,
            ) from None

    def _send(self, method: str, path: str, **sent: Any) -> httpx.Response:
        headers = sent.pop("headers", {})
        for attempt in (1, 2):
            bearer = {"Authorization": f"Bearer {self._bearer(anew=attempt == 2)}"}
            answer = self._reach(method, path, headers=headers | bearer, **sent)
            if answer.status_code != httpx.codes.UNAUTHORIZED:
                break
        self._demand_success(answer)
        return answer

    def _bearer(self, *, anew: bool) -> str:
        with self._lock:
            if anew or self._token is None or time.monotonic() >= self._token_until:
                answer = self._reach("POST", "/v1/token", data=self._token_request())
                if answer.status_code == httpx.codes.UNAUTHORIZED and self._clocks_differ(answer):
                    answer = self._reach("POST", "/v1/token", data=self._token_request())
                self._demand_success(answer)
                try:
                    token = protocol.TokenAnswer.model_validate_json(answer.content)
                except ValidationError:
                    raise StoreUnreachable(f"{self._name} answered the token request with nonsense.") from None
                self._token = token.access_token
                self._token_until = time.monotonic() + max(token.expires_in - 30, 0)
            return self._token

    def _token_request(self) -> dict[str, str]:
        """RFC 7523, section 2.2: the client proves itself by an assertion signed with its key."""
        now = int(time.time() + self.skew_seconds)
        claims = {
            "iss": self._connection.client_id,
            "sub": self._connection.client_id,
            "aud": f"{self._connection.gateway.rstrip('/')}/v1/token",
            "iat": now,
            "exp": now + ASSERTION_LIFE_SECONDS,
            "jti": str(uuid.uuid4()),
        }
        return {
            "grant_type": "client_credentials",
            "client_assertion_type": protocol.ASSERTION_TYPE,
            "client_assertion": jwt.encode(claims, self._key, algorithm=protocol.ALGORITHM),
        }

    def _clocks_differ(self, answer: httpx.Response) -> bool:
        """Whether the store's clock (its Date header) is another than ours; then ours is set by it for this store."""
        told = http_date(answer.headers.get("date", ""))
        skew = (told - datetime.now(UTC)).total_seconds() if told else 0.0
        if abs(skew - self.skew_seconds) < LEAST_SKEW_SECONDS:
            return False
        self.skew_seconds = skew
        return True

    def _reach(
        self, method: str, path: str, *, into: Path | None = None, most: int = LONGEST_ANSWER_BYTES, **sent: Any
    ) -> httpx.Response:
        """One call, read to its end within a bound of bytes and of time; what succeeds is written ``into`` a file if there is
        one."""
        sent["headers"] = {**(sent.get("headers") or {}), protocol.REQUEST_HEADER: request_id.get() or uuid.uuid4().hex}
        until = time.monotonic() + (LONGEST_CALL_SECONDS if into is None else LONGEST_FETCH_SECONDS)
        try:
            with ExitStack() as around:
                request = self._requests.build_request(method, path, **sent)
                if self._outward:
                    hold_outward(request)
                answer = self._transport.handle_request(request)
                around.callback(answer.close)
                to_file = into is not None and answer.is_success
                file = around.enter_context(into.open("wb")) if into is not None and to_file else None
                content, came = bytearray(), 0
                for block in answer.iter_bytes():
                    came += len(block)
                    if file is not None:
                        file.write(block)
                    else:
                        content += block
                    if came > (most if to_file else LONGEST_ANSWER_BYTES) or time.monotonic() > until:
                        raise StoreUnreachable(
                            f"{self._name} answered {method} {path} without end; it was cut off.",
                            remedy="Tell the people who run the gateway; the act is tried again meanwhile.",
                            code=UNREADABLE,
                        )
                self._note_clock(answer.headers.get(protocol.CLOCK_HEADER, ""))
                return httpx.Response(
                    answer.status_code, headers=_kept(answer.headers), content=bytes(content), request=request
                )
        except (httpx.TransportError, httpx.DecodingError) as wrong:
            raise StoreUnreachable(
                f"{self._name} does not answer at {self._connection.gateway} ({_told_transport(wrong)}).",
                remedy="Check the address and whether the store is up; orders are kept and tried again.",
            ) from None

    def _note_clock(self, told: str) -> None:
        """Keep what the store's own clock shows; one that cannot be read tells nothing."""
        try:
            clock = datetime.fromisoformat(told)
        except ValueError:
            return
        self.clock = clock if clock.tzinfo is not None else None

    def _demand_success(self, answer: httpx.Response) -> None:
        if answer.is_success or answer.status_code == httpx.codes.NOT_MODIFIED:
            return
        if answer.is_redirect or answer.status_code < httpx.codes.BAD_REQUEST:
            raise StoreUnreachable(
                f"{self._name} leads elsewhere (status {answer.status_code}); redirects are not followed.",
                remedy="Connect it by the address it really has.",
                code=UNREADABLE,
            )
        problem = _problem(answer)
        detail = str(problem.get("detail") or f"{self._name} answered {answer.status_code}.")
        without_body = GONE if answer.request.method == "HEAD" and answer.status_code in _GONE else StoreRefused.code
        code = str(problem.get("code") or without_body)
        remedy = str(problem.get("remedy") or "")
        if answer.status_code in _UNKNOWN_OUTCOME or code == NOT_YET:
            wrong = StoreUnreachable(detail, remedy=remedy, code=code if code == NOT_YET else None)
            wrong.wait_seconds = seconds_asked(answer.headers.get("retry-after", ""))
            raise wrong
        if answer.status_code in (httpx.codes.UNAUTHORIZED, httpx.codes.FORBIDDEN):
            raise StoreRefused(
                f"{self._name} does not accept the key: {detail}",
                remedy=remedy or "Make a new connection file at the store and connect it again.",
                code="store-key-refused",
            )
        raise StoreRefused(detail, remedy=remedy, code=code)


def _problem(answer: httpx.Response) -> dict[str, Any]:
    try:
        content = answer.json()
    except ValueError:
        return {}
    return content if isinstance(content, dict) else {}


def _kept(headers: httpx.Headers) -> dict[str, str]:
    """The headers without those that speak of an encoding which is undone already."""
    undone = ("content-encoding", "content-length", "transfer-encoding")
    return {name: value for name, value in headers.items() if name not in undone}


def _told_transport(wrong: httpx.TransportError | httpx.DecodingError) -> str:
    match wrong:
        case httpx.ConnectTimeout() | httpx.ReadTimeout() | httpx.WriteTimeout() | httpx.PoolTimeout():
            return "not in time"
        case httpx.ConnectError():
            return "nothing can be reached there"
        case _:
            return "the line broke"


def read_connection_file(text: str) -> ConnectionFile:
    """Read a connection file. Raises Invalid, never repeating what the file holds."""
    try:
        return ConnectionFile.model_validate_json(text)
    except ValidationError as wrong:
        places = ", ".join(sorted({".".join(map(str, error["loc"])) or "the file" for error in wrong.errors()}))
        raise Invalid(
            f"This is no connection file: look at {places}.",
            remedy="It holds gateway, client_id and private_key, as JSON; use the file the store handed out unchanged.",
            code="connection-file-unfit",
        ) from None
