"""The HTTP face of a simulated store: the gateway protocol. docs/gateway-protocol.md is the specification."""

import json
import threading
import time
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from typing import Annotated, Any, Literal

from fastapi import Depends, FastAPI, Form, Header, Path, Query, Request, Response, Security
from fastapi.concurrency import run_in_threadpool
from fastapi.exceptions import RequestValidationError
from fastapi.responses import FileResponse, JSONResponse
from fastapi.routing import APIRoute
from fastapi.security import HTTPBearer
from starlette.exceptions import HTTPException

from restless_tide import tus
from restless_tide.core.rulebook import Rulebook
from restless_tide.gateways import protocol
from restless_tide.standins import moods, offering, pushing, reviewers, testers_page, testing, tracks
from restless_tide.standins.control import control
from restless_tide.standins.entrance import Entrance
from restless_tide.standins.judgement import Refusal
from restless_tide.standins.moods import PROBLEM
from restless_tide.standins.shelf import Thing
from restless_tide.standins.store import SimulatedStore, fresh, problem

TURN_SECONDS = 0.2
EVENTS_PER_PAGE = 500
UPLOAD_LIFE = timedelta(days=7)
_LONGEST_KEY = 200

_PROBLEM_SCHEMA = {
    "type": "object",
    "required": ["type", "title", "code", "detail"],
    "properties": {name: {"type": "string"} for name in ("type", "title", "code", "detail")},
}
_PROBLEMS: dict[int | str, dict[str, Any]] = {
    status: {"description": told, "content": {PROBLEM: {"schema": _PROBLEM_SCHEMA}}}
    for status, told in (("4XX", "refused: RFC 9457"), ("5XX", "nobody knows: ask again"), (422, "does not fit"))
}


def standin_app(store: SimulatedStore, address: str) -> FastAPI:
    """The stand-in as an ASGI application; ``address`` is where it will be reached."""

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        stopping = threading.Event()
        ticker = threading.Thread(target=_tick, args=(store, stopping), daemon=True)
        pusher = pushing.Pusher(store)
        ticker.start()
        pusher.start()
        yield
        stopping.set()
        ticker.join()
        pusher.stop()
        store.shelf.close()

    app = FastAPI(
        title="The gateway protocol of Restless Tide",
        version="1",
        contact={"name": "Whoever runs the gateway"},
        license_info={"name": "MIT License", "identifier": "MIT"},
        servers=[{"url": "/", "description": "the gateway"}],
        description="Served by a store, or by an adapter in front of one. docs/gateway-protocol.md explains it.",
        lifespan=lifespan,
        responses=_PROBLEMS,
        docs_url=None,
        redoc_url=None,
        openapi_url="/v1/openapi.json",
        generate_unique_id_function=lambda route: route.name,
    )
    entrance = app.state.entrance = Entrance(store, address)
    store.address = address
    busy: list[str] = []
    _answer_problems(app)
    moods.install(app, store)
    _add_standing(app, store, entrance)
    _add_offering(app, store, busy)
    _add_builds(app, store, busy)
    _add_tracks(app, store, busy)
    _add_trials(app, store, busy)
    _add_releases(app, store, busy)
    _add_events(app, store, busy)
    _name_nouns(app)
    app.include_router(testers_page.pages(store))
    app.include_router(control(store, entrance, busy))
    return app


def _name_nouns(app: FastAPI) -> None:
    """Each operation belongs to the noun that its address begins with."""
    app.openapi_tags = []
    for route in app.routes:
        if isinstance(route, APIRoute) and route.path.startswith("/v1/"):
            noun = route.path.split("/")[2]
            route.tags = [noun]
            if noun not in [tag["name"] for tag in app.openapi_tags]:
                app.openapi_tags.append({"name": noun, "description": f"what begins with /v1/{noun}"})


_TOKEN = "/v1/token"


def _answer_problems(app: FastAPI) -> None:
    @app.exception_handler(Refusal)
    def refused(request: Request, wrong: Refusal) -> JSONResponse:
        answer = problem(wrong.code, wrong.detail)
        if request.url.path == _TOKEN:  # RFC 6749, section 5.2
            answer["error"] = "invalid_client" if wrong.status == 401 else wrong.code.replace("-", "_")
        return JSONResponse(answer, wrong.status, media_type=PROBLEM)

    @app.exception_handler(RequestValidationError)
    def unfit(request: Request, wrong: RequestValidationError) -> JSONResponse:
        told = "; ".join(f"{'.'.join(map(str, error['loc']))}: {error['msg']}" for error in wrong.errors())
        answer = problem("request-unfit", f"The request does not fit: {told}.")
        if request.url.path == _TOKEN:
            return JSONResponse(answer | {"error": "invalid_request"}, 400, media_type=PROBLEM)
        return JSONResponse(answer, 422, media_type=PROBLEM)

    @app.exception_handler(HTTPException)
    def plain(request: Request, wrong: HTTPException) -> JSONResponse:
        code = "not-found" if wrong.status_code == 404 else "request-unfit"
        answer = problem(code, f"{request.method} {request.url.path}: {wrong.detail}.")
        headers = dict(wrong.headers or {})
        if wrong.status_code == 405:  # of all operations at this address, not of the first alone
            there = [one for one in app.routes if isinstance(one, APIRoute) and one.path_regex.match(request.url.path)]
            headers["Allow"] = ", ".join(sorted({method for one in there for method in one.methods or ()}))
        return JSONResponse(answer, wrong.status_code, headers, PROBLEM)


_BEARER = HTTPBearer(auto_error=False, description="from POST /v1/token")
Key = Annotated[
    str,
    Header(alias=protocol.IDEMPOTENCY_HEADER, min_length=1, max_length=_LONGEST_KEY, pattern=r"^[!-~]+$"),
]
Named = Annotated[str, Path(min_length=1, max_length=100, pattern=r"^[\w.-]+$")]


def _known(
    request: Request, authorization: Annotated[str, Header(include_in_schema=False)] = "", _: Any = Security(_BEARER)
) -> str:
    client: str = request.app.state.entrance.known(authorization)
    return client


Known = Annotated[str, Depends(_known)]


def _doer(store: SimulatedStore, busy: list[str]) -> Callable[..., JSONResponse]:
    """How an act is carried out: slowly if so told, once under its key, its answer kept."""

    def done(
        request: Request, key: str, act: str, subject: str, body: Thing, work: Callable[[], Thing]
    ) -> JSONResponse:
        reached = time.time()
        busy.append(key)
        try:
            time.sleep(store.setting("slow_seconds", 0.0))
        finally:
            busy.remove(key)
        asked_by = request.headers.get(protocol.REQUEST_HEADER, "")[:_LONGEST_KEY]
        status, answer = store.perform(key, act, subject, body, work, asked_by, reached)
        return JSONResponse(answer, status, media_type="application/json" if status < 400 else PROBLEM)

    return done


def _add_standing(app: FastAPI, store: SimulatedStore, entrance: Entrance) -> None:
    @app.post("/v1/token", openapi_extra={"security": []})
    def token(
        grant_type: Annotated[str, Form()],
        client_assertion_type: Annotated[str, Form()],
        client_assertion: Annotated[str, Form()],
    ) -> protocol.TokenAnswer:
        """Give an access token for a signed assertion (chapter 2)."""
        return entrance.admit(grant_type, client_assertion_type, client_assertion)

    @app.get(
        "/v1/rulebook", responses={304: {"description": "not changed since If-None-Match"}}, response_model=Rulebook
    )
    def rulebook(_: Known, if_none_match: Annotated[str, Header()] = "") -> Response:
        """What the store takes and does, as data (chapter 3)."""
        store.turn()
        headers = {"ETag": f'"{store.rules.revision}"'}
        if if_none_match.strip() == headers["ETag"] and not store.setting("spoil_rulebook", False):
            return Response(status_code=304, headers=headers)
        document = store.rules.model_dump(mode="json")
        if store.setting("spoil_rulebook", False):
            headers["ETag"], document["review"]["usual_hours"] = '"spoiled"', "soon"
        return JSONResponse(document, headers=headers)

    @app.get("/v1/rulebook/next", response_model=Rulebook)
    def next_rulebook(_: Known) -> Response:
        """The announced next revision, with its date in ``in_force_since``."""
        store.turn()
        announced = store.setting("announced", None)
        if announced is None:
            raise Refusal("none-announced", "No other revision is announced.", status=404)
        return JSONResponse(announced, headers={"ETag": f'"{announced["revision"]}"'})

    @app.get("/v1/account")
    def account(_: Known) -> protocol.Account:
        """Whose account it is, and what about it expires."""
        return protocol.Account.model_validate(store.account())


def _add_offering(app: FastAPI, store: SimulatedStore, busy: list[str]) -> None:
    done = _doer(store, busy)

    @app.post("/v1/berths", response_model=protocol.BerthAnswer)
    def open_berth(request: Request, body: protocol.BerthRequest, _: Known, key: Key) -> Response:
        """Open a berth: a place for an app at the store."""
        return done(
            request, key, "open berth", body.identifier, body.model_dump(mode="json"), lambda: store.open_berth(body)
        )

    @app.post("/v1/berths/{berth}/name", response_model=protocol.BerthAnswer)
    def rename_berth(request: Request, berth: Named, body: protocol.NameRequest, _: Known, key: Key) -> Response:
        """Give a berth another name."""
        work = lambda: store.rename_berth(berth, body.name)  # noqa: E731
        return done(request, key, "rename berth", berth, body.model_dump(mode="json"), work)

    @app.get("/v1/berths/{berth}/holdings")
    def holdings(berth: Named, _: Known) -> protocol.Holdings:
        """The builds that the store holds of an app."""
        store.turn()
        return protocol.Holdings.model_validate(store.holdings(berth))

    @app.get("/v1/berths/{berth}/availability")
    def availability(berth: Named, _: Known) -> protocol.AvailabilityMessage:
        """Where and from when the app is offered."""
        return protocol.AvailabilityMessage.model_validate(offering.availability(store, berth))

    @app.post("/v1/berths/{berth}/availability", response_model=protocol.AvailabilityAnswer)
    def set_availability(
        request: Request, berth: Named, body: protocol.AvailabilityMessage, _: Known, key: Key
    ) -> Response:
        """Set where and from when the app is offered."""
        work = lambda: offering.set_availability(store, berth, body)  # noqa: E731
        return done(request, key, "set availability", berth, body.model_dump(mode="json"), work)

    @app.get("/v1/berths/{berth}/dossier")
    def dossier(berth: Named, _: Known) -> protocol.Dossier:
        """The texts, pictures, answers and goods that the store holds."""
        return protocol.Dossier.model_validate(offering.dossier(store, berth))

    @app.post("/v1/berths/{berth}/dossier/texts", response_model=protocol.TextsAnswer)
    def write_texts(request: Request, berth: Named, body: protocol.TextsRequest, _: Known, key: Key) -> Response:
        """Write texts of the dossier."""
        work = lambda: offering.write_texts(store, berth, body)  # noqa: E731
        return done(request, key, "write texts", berth, body.model_dump(mode="json"), work)

    @app.post("/v1/berths/{berth}/dossier/pictures", response_model=protocol.PicturesAnswer)
    def write_pictures(request: Request, berth: Named, body: protocol.PicturesRequest, _: Known, key: Key) -> Response:
        """Put a set of pictures into the dossier."""
        work = lambda: offering.write_pictures(store, berth, body)  # noqa: E731
        return done(request, key, "write pictures", berth, body.model_dump(mode="json"), work)

    @app.get("/v1/berths/{berth}/dossier/pictures/{sha256}", response_class=FileResponse)
    def dossier_picture(berth: Named, sha256: protocol.Digest, _: Known) -> FileResponse:
        """A picture of the dossier, as the store keeps it."""
        held = offering.dossier(store, berth)
        shown = {one for sets in held["pictures"].values() for files in sets.values() for one in files}
        if sha256 not in shown | {good["picture"] for good in held["goods"].values()}:
            raise Refusal("picture-unknown", "We hold no such file of this app.", status=404)
        return FileResponse(offering.kept_file(store, sha256), media_type="application/octet-stream")

    @app.get("/v1/berths/{berth}/dossier/documents/{sha256}", response_class=FileResponse)
    def dossier_document(berth: Named, sha256: protocol.Digest, _: Known) -> FileResponse:
        """A document of the dossier, as it was handed in."""
        held = offering.dossier(store, berth)["answers"]
        if not any(isinstance(one, dict) and one.get("sha256") == sha256 for one in held.values()):
            raise Refusal(protocol.DOCUMENT_UNKNOWN, "We hold no such document of this app.", status=404)
        return FileResponse(offering.kept_file(store, sha256), media_type="application/octet-stream")

    @app.post("/v1/berths/{berth}/dossier/answers", response_model=protocol.DossierAnswersAnswer)
    def write_answers(
        request: Request, berth: Named, body: protocol.DossierAnswersRequest, _: Known, key: Key
    ) -> Response:
        """Answer the store's questions about the app."""
        work = lambda: offering.write_answers(store, berth, body)  # noqa: E731
        return done(request, key, "write answers", berth, body.model_dump(mode="json"), work)

    @app.post("/v1/berths/{berth}/dossier/goods", response_model=protocol.GoodsAnswer)
    def write_goods(request: Request, berth: Named, body: protocol.GoodsRequest, _: Known, key: Key) -> Response:
        """Write what is sold within the app."""
        work = lambda: offering.write_goods(store, berth, body)  # noqa: E731
        return done(request, key, "write goods", berth, body.model_dump(mode="json"), work)

    @app.get("/v1/berths/{berth}/gauges")
    def gauges(
        berth: Named,
        _: Known,
        after: Annotated[str, Query(max_length=200)] = "",
        limit: Annotated[int, Query(ge=1, le=protocol.MOST_HOURS)] = protocol.MOST_HOURS,
    ) -> protocol.GaugePage:
        """What was counted by the hour."""
        store.turn()
        return protocol.GaugePage.model_validate(store.gauges(berth, after, limit))


def _add_builds(app: FastAPI, store: SimulatedStore, busy: list[str]) -> None:
    done = _doer(store, busy)
    told_by_tus: dict[int | str, dict[str, Any]] = {
        204: {"description": "tus 1.0", "headers": {"Upload-Offset": {"schema": {"type": "integer"}}}}
    }

    @app.options("/v1/berths/{berth}/uploads", status_code=204, response_class=Response, openapi_extra={"security": []})
    def able(berth: Named) -> Response:
        """What uploads may do here (tus)."""
        told = {"Tus-Version": tus.VERSION, "Tus-Extension": "creation,checksum,expiration,termination"}
        return Response(
            status_code=204, headers=tus.SPOKEN | told | {"Tus-Checksum-Algorithm": ",".join(tus.CHECKSUMS)}
        )

    @app.post("/v1/berths/{berth}/uploads", status_code=201, response_model=protocol.UploadAnswer)
    def begin_upload(
        request: Request,
        berth: Named,
        _: Known,
        upload_length: Annotated[int, Header(ge=0, lt=2**50)],
        idempotency_key: Annotated[str, Header(max_length=200)] = "",
    ) -> Response:
        """Begin an upload (tus)."""
        work = lambda: store.begin_upload(berth, upload_length)  # noqa: E731
        answer = done(request, idempotency_key or fresh("key"), "begin upload", berth, {"length": upload_length}, work)
        answer.headers.update(tus.SPOKEN)
        if answer.status_code == 200:
            answer.status_code = 201
            answer.headers["Location"] = f"/v1/uploads/{json.loads(bytes(answer.body))['id']}"
        return answer

    @app.head("/v1/uploads/{upload}")
    def upload_offset(upload: Named, _: Known) -> Response:
        """How much of an upload has arrived (tus)."""
        return Response(headers=_tus_headers(store, upload) | {"Cache-Control": "no-store"})

    @app.patch(
        "/v1/uploads/{upload}",
        status_code=204,
        responses=told_by_tus,
        openapi_extra={
            "requestBody": {
                "required": True,
                "content": {tus.CHUNK_TYPE: {"schema": {"type": "string", "format": "binary"}}},
            }
        },
    )
    async def append(
        upload: Named,
        request: Request,
        _: Known,
        upload_offset: Annotated[int, Header(ge=0)],
        upload_checksum: Annotated[str | None, Header()] = None,
    ) -> Response:
        """The next bytes of an upload (tus)."""
        block = await request.body()
        await run_in_threadpool(_append, store, upload, upload_offset, upload_checksum, block)
        return Response(status_code=204, headers=_tus_headers(store, upload))

    @app.delete("/v1/uploads/{upload}", status_code=204, responses={204: {"description": "the upload is gone"}})
    def terminate(upload: Named, _: Known) -> Response:
        """Drop an upload (tus)."""
        store.needed("upload", upload)
        (store.uploads / upload).unlink(missing_ok=True)
        store.shelf.remove("upload", upload)
        return Response(status_code=204, headers=tus.SPOKEN)

    @app.post("/v1/berths/{berth}/consignments", response_model=protocol.ConsignmentAnswer)
    def consign(request: Request, berth: Named, body: protocol.ConsignmentRequest, _: Known, key: Key) -> Response:
        """Hand in an uploaded package as a build."""
        return done(request, key, "consign", berth, body.model_dump(mode="json"), lambda: store.consign(berth, body))

    @app.get("/v1/consignments/{consignment}")
    def consignment(consignment: Named, _: Known) -> protocol.ConsignmentAnswer:
        """How far the store is with a build."""
        store.turn()
        return protocol.ConsignmentAnswer.model_validate(store.needed("consignment", consignment))

    @app.post("/v1/consignments/{consignment}/answers", response_model=protocol.ConsignmentAnswer)
    def answer(request: Request, consignment: Named, body: protocol.AnswersRequest, _: Known, key: Key) -> Response:
        """Answer what the store asks about a build."""
        work = lambda: store.answer(consignment, body.answers)  # noqa: E731
        return done(request, key, "answer", consignment, body.model_dump(mode="json"), work)


def _add_tracks(app: FastAPI, store: SimulatedStore, busy: list[str]) -> None:
    done = _doer(store, busy)

    @app.get("/v1/berths/{berth}/tracks")
    def held_tracks(berth: Named, _: Known) -> protocol.Tracks:
        """The tracks of a berth, and the build that each holds."""
        store.turn()
        return protocol.Tracks.model_validate(tracks.listing(store, berth))

    @app.post("/v1/berths/{berth}/tracks", response_model=protocol.TrackAnswer)
    def open_track(request: Request, berth: Named, body: protocol.TrackRequest, _: Known, key: Key) -> Response:
        """Open a track for testing."""
        work = lambda: tracks.open_own(store, berth, body)  # noqa: E731
        return done(request, key, "open track", berth, body.model_dump(mode="json"), work)

    @app.post("/v1/berths/{berth}/tracks/{track}/title", response_model=protocol.TrackAnswer)
    def rename_track(
        request: Request, berth: Named, track: Named, body: protocol.TitleRequest, _: Known, key: Key
    ) -> Response:
        """Give a track another title."""
        work = lambda: tracks.rename_own(store, berth, track, body.title)  # noqa: E731
        return done(request, key, "rename track", f"{berth} {track}", body.model_dump(mode="json"), work)

    @app.post("/v1/berths/{berth}/tracks/{track}/close", response_model=protocol.TrackAnswer)
    def close_track(request: Request, berth: Named, track: Named, _: Known, key: Key) -> Response:
        """Close a track."""
        work = lambda: tracks.close_own(store, berth, track)  # noqa: E731
        return done(request, key, "close track", f"{berth} {track}", {}, work)


def _add_trials(app: FastAPI, store: SimulatedStore, busy: list[str]) -> None:
    done = _doer(store, busy)

    @app.post("/v1/berths/{berth}/trials", response_model=protocol.TrialAnswer)
    def open_trial(request: Request, berth: Named, body: protocol.TrialRequest, _: Known, key: Key) -> Response:
        """Open a trial: a build for testers."""
        work = lambda: testing.open_trial(store, berth, body)  # noqa: E731
        return done(request, key, "open trial", body.consignment, body.model_dump(mode="json"), work)

    @app.get("/v1/trials/{trial}")
    def trial(trial: Named, _: Known) -> protocol.TrialAnswer:
        """How a trial stands, with its seats."""
        store.turn()
        return protocol.TrialAnswer.model_validate(testing.trial(store, trial))

    @app.get("/v1/trials/{trial}/usage")
    def usage(trial: Named, _: Known) -> protocol.Usage:
        """How a trial is used, day by day."""
        return protocol.Usage.model_validate(testing.usage(store, trial))

    @app.get("/v1/reports/{report}/pictures/{place}", response_class=Response)
    def report_picture(report: Named, place: Annotated[int, Path(ge=1, le=100)], _: Known) -> Response:
        """A picture that a tester sent with a report."""
        return Response(testing.picture(store, report, place), media_type="application/octet-stream")

    @app.post("/v1/trials/{trial}/testers", response_model=protocol.TrialAnswer)
    def seat(request: Request, trial: Named, body: protocol.TestersRequest, _: Known, key: Key) -> Response:
        """Let testers into a trial."""
        work = lambda: testing.seat(store, trial, body.addresses)  # noqa: E731
        return done(request, key, "seat", trial, body.model_dump(mode="json"), work)

    @app.post("/v1/trials/{trial}/removals", response_model=protocol.TrialAnswer)
    def unseat(request: Request, trial: Named, body: protocol.TestersRequest, _: Known, key: Key) -> Response:
        """Take testers out of a trial."""
        work = lambda: testing.unseat(store, trial, body.addresses)  # noqa: E731
        return done(request, key, "unseat", trial, body.model_dump(mode="json"), work)

    @app.post("/v1/trials/{trial}/close", response_model=protocol.TrialAnswer)
    def close_trial(request: Request, trial: Named, _: Known, key: Key) -> Response:
        """Close a trial."""
        return done(request, key, "close trial", trial, {}, lambda: testing.close_trial(store, trial))


def _add_releases(app: FastAPI, store: SimulatedStore, busy: list[str]) -> None:
    done = _doer(store, busy)

    @app.post("/v1/berths/{berth}/submissions", response_model=protocol.SubmissionAnswer)
    def submit(request: Request, berth: Named, body: protocol.SubmissionRequest, _: Known, key: Key) -> Response:
        """Hand in to review."""
        work = lambda: store.submit(berth, body, reviewers.keep_attached(store, body.attachments))  # noqa: E731
        return done(request, key, "submit", body.version, body.model_dump(mode="json"), work)

    @app.post("/v1/submissions/{submission}/messages", response_model=protocol.MessageAnswer)
    def write_reviewer(
        request: Request, submission: Named, body: protocol.MessageRequest, _: Known, key: Key
    ) -> Response:
        """Write to the reviewer."""
        work = lambda: reviewers.take_message(store, submission, body)  # noqa: E731
        return done(request, key, "write to the reviewer", submission, body.model_dump(mode="json"), work)

    @app.post("/v1/submissions/{submission}/appeals", response_model=protocol.SubmissionAnswer)
    def appeal(request: Request, submission: Named, body: protocol.MessageRequest, _: Known, key: Key) -> Response:
        """Appeal against a refusal."""
        work = lambda: reviewers.appeal(store, submission, body)  # noqa: E731
        return done(request, key, "appeal", submission, body.model_dump(mode="json"), work)

    @app.get("/v1/submissions/{submission}/files/{sha256}", response_class=FileResponse)
    def reviewer_file(submission: Named, sha256: protocol.Digest, _: Known) -> FileResponse:
        """A file that a reviewer sent."""
        return FileResponse(reviewers.sent_file(store, submission, sha256), media_type="application/octet-stream")

    @app.post("/v1/submissions/{submission}/recall", response_model=protocol.SubmissionAnswer)
    def recall(request: Request, submission: Named, _: Known, key: Key) -> Response:
        """Call back from review."""
        return done(request, key, "recall", submission, {}, lambda: store.recall(submission))

    @app.post("/v1/submissions/{submission}/rollout", response_model=protocol.RolloutAnswer)
    def launch(request: Request, submission: Named, body: protocol.ShareRequest, _: Known, key: Key) -> Response:
        """Launch what was approved, to a share of people."""
        work = lambda: store.launch(submission, body.share)  # noqa: E731
        return done(request, key, "launch", submission, body.model_dump(mode="json"), work)

    @app.post("/v1/submissions/{submission}/rollout/share", response_model=protocol.RolloutAnswer)
    def share(request: Request, submission: Named, body: protocol.ShareRequest, _: Known, key: Key) -> Response:
        """Raise a rollout to a share of people."""
        work = lambda: store.set_share(submission, body.share)  # noqa: E731
        return done(request, key, f"share {body.share:g}", submission, body.model_dump(mode="json"), work)

    @app.post("/v1/submissions/{submission}/rollout/{act}", response_model=protocol.RolloutAnswer)
    def steer(
        request: Request,
        submission: Named,
        act: Literal["pause", "resume", "halt", "withdraw"],
        body: protocol.ReasonRequest,
        _: Known,
        key: Key,
    ) -> Response:
        """Pause, resume, halt, finish or withdraw a rollout."""
        return done(request, key, act, submission, body.model_dump(mode="json"), lambda: store.steer(submission, act))

    @app.post("/v1/drills", response_model=protocol.DrillAnswer)
    def drill(request: Request, body: protocol.DrillRequest, _: Known, key: Key) -> Response:
        """Goes the whole way of the act, and changes nothing."""
        work = lambda: {"id": key, "act": body.act}  # noqa: E731
        return done(request, key, f"drill {body.act}", "drill", body.model_dump(mode="json"), work)


def _add_events(app: FastAPI, store: SimulatedStore, busy: list[str]) -> None:
    done = _doer(store, busy)

    @app.get("/v1/events")
    def events(_: Known, after: Annotated[int, Query(ge=0, lt=2**60)] = 0) -> protocol.Events:
        """What happened since a position, oldest first."""
        store.turn()
        return protocol.Events.model_validate({"events": store.shelf.events_after(after, EVENTS_PER_PAGE)})

    @app.post("/v1/pushes", response_model=protocol.PushAnswer)
    def begin_push(request: Request, body: protocol.PushRequest, _: Known, key: Key) -> Response:
        """Have events pushed to an address."""
        work = lambda: pushing.begin(store, body.address)  # noqa: E731
        return done(request, key, "begin push", "push", body.model_dump(mode="json"), work)

    @app.post("/v1/pushes/{push}/rotation", response_model=protocol.PushAnswer)
    def rotate_push(request: Request, push: Named, _: Known, key: Key) -> Response:
        """Replace the secret that pushed events are signed with."""
        return done(request, key, "rotate push", push, {}, lambda: pushing.rotate(store, push))

    @app.post("/v1/pushes/{push}/end", response_model=protocol.PushAnswer)
    def end_push(request: Request, push: Named, _: Known, key: Key) -> Response:
        """Have nothing pushed any more."""
        return done(request, key, "end push", push, {}, lambda: pushing.end(store, push))


def _append(store: SimulatedStore, upload: str, offset: int, checksum: str | None, block: bytes) -> None:
    kept = store.needed("upload", upload)
    if checksum is not None:
        try:
            told = tus.Checksum(checksum)
        except ValueError as wrong:
            raise Refusal("checksum-unfit", str(wrong)) from None
        told.update(block)
        if not told.fits:
            raise Refusal("checksum-differs", "The bytes do not match their checksum.", status=tus.CHECKSUM_DIFFERS)
    path = store.uploads / upload
    if path.stat().st_size != offset:
        raise Refusal("offset-differs", f"We hold {path.stat().st_size} bytes of it.", status=409)
    if offset + len(block) > kept["length"]:
        raise Refusal("upload-too-long", "More bytes than were announced.", status=413)
    with path.open("ab") as file:
        file.write(block)


def _tus_headers(store: SimulatedStore, upload: str) -> dict[str, str]:
    kept, file = store.needed("upload", upload), store.uploads / upload
    if not file.exists():
        raise Refusal("upload-gone", f"Upload {upload} was taken.", status=410)
    size = file.stat().st_size
    expires = format_datetime(datetime.now(UTC) + UPLOAD_LIFE, usegmt=True)
    return {
        **tus.SPOKEN,
        "Upload-Offset": str(size),
        "Upload-Length": str(kept["length"]),
        "Upload-Expires": expires,
    }


def _tick(store: SimulatedStore, stopping: threading.Event) -> None:
    while not stopping.wait(TURN_SECONDS):
        store.turn()
