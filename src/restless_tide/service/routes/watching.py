"""The overview, the logbook, health and, on throw-away desks, the clock."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Annotated

from fastapi import Depends, Query, Request, Response
from pydantic_core import to_json
from sqlalchemy.exc import SQLAlchemyError

from restless_tide import __version__
from restless_tide.core.rights import Apps, Reach, Right
from restless_tide.core.testers import write_csv
from restless_tide.desk import apps, logbook, overview, search, stores
from restless_tide.desk.desk import Desk
from restless_tide.service import contract, shown
from restless_tide.service.metrics import CONTENT_TYPE
from restless_tide.service.remembered import Remembered
from restless_tide.service.rights import needs, open_to_anyone
from restless_tide.service.router import router_of
from restless_tide.service.routes.cohorts import CSV_TYPE, csv_answer
from restless_tide.service.signed_in import Reached, SignedIn, TheDesk, WhoAsks
from restless_tide.wire.base import Instant, Number
from restless_tide.wire.watching import (
    CallTold,
    ClockTold,
    ClockWanted,
    FoundTold,
    HealthTold,
    LineTold,
    OverviewTold,
    ReadyTold,
    VerificationTold,
)

router = router_of("watching")

_LONGEST_PAGE = 500


@router.get("/healthz")
@open_to_anyone
def health() -> HealthTold:
    """Whether the service answers."""
    return HealthTold(version=__version__)


@router.get("/readyz")
@open_to_anyone
def ready(request: Request, response: Response, desk: TheDesk) -> ReadyTold:
    """Whether the service can do its work: the database takes writes, and an engine works on it."""
    engine = getattr(request.app.state, "engine", None)
    try:
        with desk.database.writing():
            database = True
    except SQLAlchemyError:
        database = False
    standing_by = engine is not None and engine.standing_by
    works = engine is not None and (engine.working or standing_by)
    if not (database and works):
        response.status_code = 503
    return ReadyTold(
        status="ready" if database and works else "not ready",
        engine="standing by" if standing_by else "working" if works else "stopped",
        database="writable" if database else "not writable",
    )


@router.get("/metrics", include_in_schema=False)
@open_to_anyone
def metrics(request: Request) -> Response:
    """The service's own figures in OpenMetrics form; they name stores, and nothing else."""
    return Response(request.app.state.metrics.told(), media_type=CONTENT_TYPE)


@router.get("/v1/overview", response_model=OverviewTold)
@needs(Right.SEE, Reach.SOME)
def look_over(request: Request, desk: TheDesk, reach: Reached) -> Response:
    """Every app that you reach at every store: what is live, what is under way, what needs a person."""
    now, mail_trouble = desk.clock.now(), desk.background.mail_trouble
    overview_of: Remembered[bytes] = request.app.state.overview

    def made() -> bytes:
        return _looked_over(desk, now, mail_trouble).model_dump_json(exclude={"now"}).encode()

    if reach is not None:
        return Response(_looked_over(desk, now, None, reach).model_dump_json(), media_type="application/json")
    told = overview_of.told(desk, now, made, mail_trouble)
    return Response(to_json({"now": now})[:-1] + b"," + told[1:], media_type="application/json")


def _looked_over(desk: Desk, now: datetime, mail_trouble: str | None, reach: Apps = None) -> OverviewTold:
    """With a reach only of these apps, and without what concerns the desk as a whole."""
    with desk.look() as session:
        rows = [
            shown.berth_row(view)
            for view in overview.look_over(session, now)
            if reach is None or view.berth.app.name in reach
        ]
        desk_calls = [
            call
            for call in (
                *overview.look_over_proposals(session, now),
                *overview.look_over_rules(session, now),
                *overview.look_over_desk(session, mail_trouble),
            )
            if reach is None or any(call.place.startswith(f"/apps/{app}/") for app in reach)
        ]
        return OverviewTold(
            now=now,
            apps=apps.number(session) if reach is None else len(reach),
            stores=len(stores.every(session)),
            rows=rows,
            store_calls=[shown.store_call(row, call) for row, call in overview.look_over_stores(session, now, reach)],
            desk_calls=[CallTold.of(call) for call in desk_calls],
        )


@router.get("/v1/search")
@needs(Right.SEE, Reach.SOME)
def found(
    desk: TheDesk,
    who: WhoAsks,
    reach: Reached,
    text: Annotated[str, Query(max_length=200, description="all of these words")],
) -> list[FoundTold]:
    """Apps, releases, builds, cohorts, testers and stores that hold every word; a few of each kind."""
    with desk.look() as session:
        return [
            FoundTold.of(hit)
            for hit in search.found(session, text, reach, testers=who.standing.everywhere(Right.SEE_TESTERS))
        ]


def _which_lines(
    reach: Reached,
    app: str | None = None,
    by: Annotated[str, Query(max_length=200, description="who: part of a name or address, the desk, a store")] = "",
    act: Annotated[str, Query(max_length=200, description="part of what was done")] = "",
    find: Annotated[str, Query(max_length=400, description="words of the object, the act or the reason")] = "",
    since: Instant | None = None,
    until: Instant | None = None,
) -> logbook.Wanted:
    return logbook.Wanted(app, by, act, find, since, until, reach)


WhichLines = Annotated[logbook.Wanted, Depends(_which_lines)]


@router.get("/v1/logbook")
@needs(Right.SEE, Reach.SOME)
def lines(
    request: Request,
    response: Response,
    desk: TheDesk,
    _: SignedIn,
    wanted: WhichLines,
    before: Annotated[Number | None, Query(description="go on below this line")] = None,
    limit: Annotated[int, Query(ge=1, le=_LONGEST_PAGE)] = 100,
) -> list[LineTold]:
    """The logbook, newest first; the Link header (RFC 8288) leads to the next page."""
    with desk.look() as session:
        rows = logbook.lines(session, wanted, before, limit)
        if len(rows) == limit:
            following = request.url.include_query_params(before=rows[-1].id)
            response.headers["Link"] = f'<{following.path}?{following.query}>; rel="next"'
        return shown.lines(session, rows)


@router.get(
    "/v1/logbook/export",
    response_class=Response,
    responses={200: {"content": {CSV_TYPE: {"schema": {"type": "string"}}}}},
)
@needs(Right.SEE, Reach.SOME)
def export(desk: TheDesk, _: SignedIn, wanted: WhichLines) -> Response:
    """The lines that fit as CSV (RFC 4180), newest first; formulas are neutralised."""
    with desk.look() as session:
        rows = logbook.export_rows(session, wanted)
    return csv_answer(write_csv(logbook.HEADER, rows), "logbook.csv")


@router.get("/v1/logbook/verification")
@needs(Right.SEE, Reach.SOME)
def verification(desk: TheDesk, _: SignedIn) -> VerificationTold:
    """Walk the chain of digests from the first line to the last."""
    with desk.look() as session:
        count, broken = logbook.verify(session)
    return VerificationTold(lines=count, first_broken=broken)


@router.get("/v1/clock")
@needs(Right.WHO, Reach.SOME)
def clock(desk: TheDesk, _: SignedIn) -> ClockTold:
    """What the desk's clock shows."""
    return ClockTold(now=desk.clock.now())


@router.post("/v1/clock")
@needs(Right.ARRANGE_DESK, Reach.DESK)
def move_clock(wanted: ClockWanted, desk: TheDesk, _: SignedIn) -> ClockTold:
    """Move the clock of a throw-away desk; refused on every other."""
    if wanted.show is not None:
        desk.clock.show(wanted.show)
    if wanted.step_hours:
        desk.clock.step(timedelta(hours=wanted.step_hours))
    desk.ring()
    return ClockTold(now=desk.clock.now())


@router.get("/v1/openapi.json", include_in_schema=False)
@needs(Right.WHO, Reach.SOME)
def openapi(request: Request, _: SignedIn) -> Response:
    """The OpenAPI 3.1 document of this service."""
    return Response(contract.encoded(request.app), media_type="application/json")
