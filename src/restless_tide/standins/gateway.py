"""The HTTP face of a simulated store: the gateway protocol, and the control by which tests and demos drive it."""

import base64
import hashlib
import json
import secrets
import threading
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from datetime import datetime, timedelta
from typing import Annotated, Any

import jwt
from cryptography.hazmat.primitives.asymmetric import ec
from fastapi import Depends, FastAPI, Form, Header, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from jwt.algorithms import ECAlgorithm
from pydantic import BaseModel

from restless_tide.gateways import protocol
from restless_tide.standins.judgement import Refusal
from restless_tide.standins.shelf import Thing
from restless_tide.standins.store import SimulatedStore, fresh, problem

TOKEN_LIFE_SECONDS = 600
TURN_SECONDS = 0.2
EVENTS_PER_PAGE = 500
MAY = ("read", "builds", "trials", "releases", "rollouts")


class ClockWish(BaseModel):
    step_hours: float = 0.0
    speed: float | None = None
    set_to: datetime | None = None


class ActByHand(BaseModel):
    submission: str


class Mischief(BaseModel):
    """How the store shall misbehave; what is not named stays as it is."""

    outage: bool | None = None
    lose_answers: int | None = None
    slow_seconds: float | None = None
    reject_next: list[str] | None = None
    taken_names: list[str] | None = None


def standin_app(store: SimulatedStore, address: str) -> FastAPI:
    """The stand-in as an ASGI application; ``address`` is where it will be reached."""

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        stopping = threading.Event()
        ticker = threading.Thread(target=_tick, args=(store, stopping), daemon=True)
        ticker.start()
        yield
        stopping.set()
        ticker.join()
        store.shelf.close()

    app = FastAPI(title=f"{store.rules.store} (stand-in)", lifespan=lifespan)
    bearers: dict[str, tuple[str, float]] = {}
    seen_assertions: dict[str, float] = {}
    busy: list[str] = []

    def bearer(authorization: Annotated[str, Header()] = "") -> str:
        client, until = bearers.get(authorization.removeprefix("Bearer "), ("", 0.0))
        if not client or until < time.time() or store.shelf.get("client", client) is None:
            raise Refusal("token-unknown", "This token is unknown or has lapsed.", status=401)
        return client

    Known = Annotated[str, Depends(bearer)]
    Key = Annotated[str, Header(alias=protocol.IDEMPOTENCY_HEADER)]

    @app.exception_handler(Refusal)
    def refused(_: Request, wrong: Refusal) -> JSONResponse:
        return JSONResponse(problem(wrong.code, wrong.detail), wrong.status, media_type="application/problem+json")

    @app.exception_handler(RequestValidationError)
    def unfit(_: Request, wrong: RequestValidationError) -> JSONResponse:
        told = "; ".join(f"{'.'.join(map(str, error['loc']))}: {error['msg']}" for error in wrong.errors())
        return JSONResponse(
            problem("request-unfit", f"The request does not fit: {told}."), 422, media_type="application/problem+json"
        )

    @app.middleware("http")
    async def misbehave(request: Request, proceed: Callable[[Request], Awaitable[Response]]) -> Response:
        if request.url.path.startswith("/control") or not request.url.path.startswith("/v1"):
            return await proceed(request)
        if store.setting("outage", False):
            return JSONResponse(problem("outage", "The store is closed for a while."), 503)
        answer = await proceed(request)
        answer.headers[protocol.CLOCK_HEADER] = store.clock.now().isoformat()
        left = store.setting("lose_answers", 0)
        if left and request.method == "POST" and request.url.path != "/v1/token":
            store.shelf.keep_setting("lose_answers", left - 1)
            return JSONResponse(problem("lost", "The answer was lost on the way."), 502)
        return answer

    def done(key: str, act: str, subject: str, body: Thing, work: Callable[[], Thing]) -> JSONResponse:
        busy.append(key)
        time.sleep(store.setting("slow_seconds", 0.0))
        busy.remove(key)
        status, answer = store.perform(key, act, subject, body, work)
        kind = "application/json" if status < 400 else "application/problem+json"
        return JSONResponse(answer, status, media_type=kind)

    @app.post("/v1/token")
    def token(
        grant_type: Annotated[str, Form()],
        client_assertion_type: Annotated[str, Form()],
        client_assertion: Annotated[str, Form()],
    ) -> protocol.TokenAnswer:
        if grant_type != "client_credentials" or client_assertion_type != protocol.ASSERTION_TYPE:
            raise Refusal("invalid-request", "Only client_credentials with a signed assertion is taken.", status=400)
        claims = _proved(store, client_assertion, f"{address}/v1/token")
        if claims["jti"] in seen_assertions:
            raise Refusal("assertion-replayed", "This assertion was used before.", status=401)
        seen_assertions[claims["jti"]] = claims["exp"]
        value = secrets.token_urlsafe(32)
        bearers[value] = (claims["sub"], time.time() + TOKEN_LIFE_SECONDS)
        return protocol.TokenAnswer(access_token=value, expires_in=TOKEN_LIFE_SECONDS, scope=" ".join(MAY))

    @app.get("/v1/rulebook")
    def rulebook(_: Known, response: Response) -> Any:
        response.headers["ETag"] = f'"{store.rules.revision}"'
        return store.rules

    @app.get("/v1/account")
    def account(_: Known) -> protocol.Account:
        until = store.clock.now() + timedelta(days=200)
        return protocol.Account(name="Saltgrass Collective", may=MAY, standing="good", membership_until=until)

    @app.post("/v1/berths")
    def open_berth(body: protocol.BerthRequest, _: Known, key: Key) -> JSONResponse:
        return done(key, "open berth", body.identifier, body.model_dump(), lambda: store.open_berth(body))

    @app.get("/v1/berths/{berth}/holdings")
    def holdings(berth: str, _: Known) -> Thing:
        store.turn()
        return store.holdings(berth)

    @app.post("/v1/berths/{berth}/uploads")
    def begin_upload(berth: str, _: Known, key: Key, upload_length: Annotated[int, Header()]) -> JSONResponse:
        return done(
            key, "begin upload", berth, {"length": upload_length}, lambda: store.begin_upload(berth, upload_length)
        )

    @app.head("/v1/uploads/{upload}")
    def upload_offset(upload: str, _: Known) -> Response:
        return Response(headers=_tus_headers(store, upload))

    @app.patch("/v1/uploads/{upload}")
    async def append(
        upload: str,
        request: Request,
        _: Known,
        upload_offset: Annotated[int, Header()],
        upload_checksum: Annotated[str, Header()],
    ) -> Response:
        block = await request.body()
        await run_in_threadpool(_append, store, upload, upload_offset, upload_checksum, block)
        return Response(status_code=204, headers=_tus_headers(store, upload))

    @app.post("/v1/berths/{berth}/consignments")
    def consign(berth: str, body: protocol.ConsignmentRequest, _: Known, key: Key) -> JSONResponse:
        return done(key, "consign", berth, body.model_dump(), lambda: store.consign(berth, body))

    @app.get("/v1/consignments/{consignment}")
    def consignment(consignment: str, _: Known) -> Thing:
        store.turn()
        thing = store.shelf.get("consignment", consignment)
        if thing is None:
            raise Refusal("consignment-unknown", f"We know no consignment {consignment}.", status=404)
        return thing

    @app.post("/v1/consignments/{consignment}/answers")
    def answer(consignment: str, body: protocol.AnswersRequest, _: Known, key: Key) -> JSONResponse:
        return done(key, "answer", consignment, body.model_dump(), lambda: store.answer(consignment, body.answers))

    @app.post("/v1/berths/{berth}/trials")
    def open_trial(berth: str, body: protocol.TrialRequest, _: Known, key: Key) -> JSONResponse:
        return done(key, "open trial", body.consignment, body.model_dump(), lambda: store.open_trial(berth, body))

    @app.post("/v1/trials/{trial}/testers")
    def seat(trial: str, body: protocol.TesterRequest, _: Known, key: Key) -> JSONResponse:
        return done(key, "seat", trial, body.model_dump(), lambda: store.seat(trial, body.address))

    @app.post("/v1/trials/{trial}/close")
    def close_trial(trial: str, _: Known, key: Key) -> JSONResponse:
        return done(key, "close trial", trial, {}, lambda: store.close_trial(trial))

    @app.post("/v1/berths/{berth}/submissions")
    def submit(berth: str, body: protocol.SubmissionRequest, _: Known, key: Key) -> JSONResponse:
        return done(key, "submit", body.version, body.model_dump(), lambda: store.submit(berth, body))

    @app.post("/v1/submissions/{submission}/recall")
    def recall(submission: str, _: Known, key: Key) -> JSONResponse:
        return done(key, "recall", submission, {}, lambda: store.recall(submission))

    @app.post("/v1/submissions/{submission}/rollout")
    def launch(submission: str, body: protocol.ShareRequest, _: Known, key: Key) -> JSONResponse:
        return done(key, "launch", submission, body.model_dump(), lambda: store.launch(submission, body.share))

    @app.post("/v1/submissions/{submission}/rollout/share")
    def share(submission: str, body: protocol.ShareRequest, _: Known, key: Key) -> JSONResponse:
        return done(
            key, f"share {body.share:g}", submission, body.model_dump(), lambda: store.set_share(submission, body.share)
        )

    @app.post("/v1/submissions/{submission}/rollout/{act}")
    def steer(submission: str, act: str, body: protocol.ReasonRequest, _: Known, key: Key) -> JSONResponse:
        return done(key, act, submission, body.model_dump(), lambda: store.steer(submission, act))

    @app.get("/v1/events")
    def events(_: Known, after: int = 0) -> Thing:
        store.turn()
        return {"events": store.shelf.events_after(after, EVENTS_PER_PAGE)}

    _add_control(app, store, address, busy)
    return app


def _add_control(app: FastAPI, store: SimulatedStore, address: str, busy: list[str]) -> None:
    """What only tests and demos may do; the stand-in listens on loopback."""

    @app.get("/control/state")
    def state() -> Thing:
        waiting = [
            thing["due_at"]
            for kind in ("consignment", "trial", "submission")
            for thing in store.shelf.all(kind)
            if thing.get("due_at")
        ]
        return {
            "store": store.rules.store,
            "now": store.clock.now().isoformat(),
            "speed": store.clock.speed,
            "outage": store.setting("outage", False),
            "lose_answers": store.setting("lose_answers", 0),
            "reject_next": store.setting("reject_next", []),
            "slow_seconds": store.setting("slow_seconds", 0.0),
            "busy": len(busy),
            "waiting": len(waiting),
            "next_due": min(waiting, default=None),
        }

    @app.post("/control/clock")
    def clock(wish: ClockWish) -> Thing:
        if wish.set_to is not None:
            store.clock.set(wish.set_to)
        if wish.speed is not None:
            store.clock.run_at(wish.speed)
        store.clock.step(timedelta(hours=wish.step_hours))
        store.turn()
        return state()

    @app.post("/control/mischief")
    def mischief(wish: Mischief) -> Thing:
        for name, value in wish.model_dump(exclude_none=True).items():
            kept = [name.casefold() for name in value] if name == "taken_names" else value
            store.shelf.keep_setting(name, kept)
        return state()

    @app.post("/control/connections")
    def connection() -> Thing:
        key = ec.generate_private_key(ec.SECP256R1())
        client = fresh("client")
        public = json.loads(ECAlgorithm.to_jwk(key.public_key()))
        store.shelf.put("client", {"id": client, "public_key": public})
        return {"gateway": address, "client_id": client, "private_key": json.loads(ECAlgorithm.to_jwk(key))}

    @app.delete("/control/connections/{client}")
    def revoke(client: str) -> Thing:
        known = store.shelf.get("client", client)
        if known is None:
            raise Refusal("client-unknown", f"We know no client {client}.", status=404)
        store.shelf.put("client", known | {"public_key": None})
        return {"revoked": client}

    @app.get("/control/acts")
    def acts() -> list[Thing]:
        return store.shelf.acts()

    @app.post("/control/acts/{act}")
    def act_on_the_stores_own_pages(act: str, by_hand: ActByHand) -> JSONResponse:
        """Pause, resume, halt or withdraw, as somebody would on the store's own pages."""
        key = fresh("by-hand")
        status, answer = store.perform(key, act, by_hand.submission, {}, lambda: store.steer(by_hand.submission, act))
        return JSONResponse(answer, status)

    @app.get("/control/things/{kind}")
    def things(kind: str) -> list[Thing]:
        return store.shelf.all(kind)


def _proved(store: SimulatedStore, assertion: str, audience: str) -> Thing:
    """The claims of an assertion signed by a client we know (RFC 7523, section 3)."""
    try:
        client = jwt.decode(assertion, options={"verify_signature": False}).get("sub", "")
        known = store.shelf.get("client", client)
        if known is None or known["public_key"] is None:
            raise Refusal("client-unknown", "We do not know this client, or its key was revoked.", status=401)
        key = jwt.PyJWK.from_dict(known["public_key"], algorithm=protocol.ALGORITHM).key
        return jwt.decode(
            assertion,
            key,
            algorithms=[protocol.ALGORITHM],
            audience=audience,
            issuer=client,
            leeway=30,
            options={"require": ["exp", "iat", "jti", "sub", "iss", "aud"]},
        )
    except jwt.PyJWTError as wrong:
        raise Refusal("assertion-unfit", f"The assertion does not prove who you are ({wrong}).", status=401) from None


def _append(store: SimulatedStore, upload: str, offset: int, checksum: str, block: bytes) -> None:
    kept = store.shelf.get("upload", upload)
    if kept is None:
        raise Refusal("upload-unknown", f"We know no upload {upload}.", status=404)
    promised = checksum.removeprefix("sha256 ")
    if base64.b64encode(hashlib.sha256(block).digest()).decode() != promised:
        raise Refusal("checksum-differs", "The bytes do not match their checksum.", status=460)
    path = store.uploads / upload
    if path.stat().st_size != offset:
        raise Refusal("offset-differs", f"We hold {path.stat().st_size} bytes of it.", status=409)
    if offset + len(block) > kept["length"]:
        raise Refusal("upload-too-long", "More bytes than were announced.", status=413)
    with path.open("ab") as file:
        file.write(block)


def _tus_headers(store: SimulatedStore, upload: str) -> dict[str, str]:
    kept = store.shelf.get("upload", upload)
    if kept is None:
        raise Refusal("upload-unknown", f"We know no upload {upload}.", status=404)
    size = (store.uploads / upload).stat().st_size
    return {"Tus-Resumable": protocol.TUS_VERSION, "Upload-Offset": str(size), "Upload-Length": str(kept["length"])}


def _tick(store: SimulatedStore, stopping: threading.Event) -> None:
    while not stopping.wait(TURN_SECONDS):
        store.turn()
