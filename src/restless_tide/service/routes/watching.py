"""The overview, the logbook, health and, on throw-away desks, the clock."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated, Any

from fastapi import APIRouter, Query, Request, Response

from restless_tide import __version__
from restless_tide.desk import apps, logbook, overview, stores
from restless_tide.service import shown
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.watching import ClockTold, ClockWanted, HealthTold, LineTold, OverviewTold, VerificationTold

router = APIRouter(tags=["watching"])

_LONGEST_PAGE = 500


@router.get("/healthz")
def health() -> HealthTold:
    return HealthTold(version=__version__)


@router.get("/v1/overview")
def look_over(desk: TheDesk, _: SignedIn) -> OverviewTold:
    """Every app at every store: what is live, what is under way, what needs a person."""
    with desk.look() as session:
        return OverviewTold(
            now=desk.clock.now(),
            apps=len(apps.every(session)),
            stores=len(stores.every(session)),
            rows=[shown.berth_row(session, view) for view in overview.look_over(session)],
        )


@router.get("/v1/logbook")
def lines(
    request: Request,
    response: Response,
    desk: TheDesk,
    _: SignedIn,
    app: str | None = None,
    before: Annotated[int | None, Query(description="go on below this line")] = None,
    limit: Annotated[int, Query(ge=1, le=_LONGEST_PAGE)] = 100,
) -> list[LineTold]:
    """The logbook, newest first; the Link header (RFC 8288) leads to the next page."""
    with desk.look() as session:
        rows = logbook.lines(session, app, before, limit)
        if len(rows) == limit:
            following = request.url.include_query_params(before=rows[-1].id)
            response.headers["Link"] = f'<{following.path}?{following.query}>; rel="next"'
        return shown.lines(session, rows)


@router.get("/v1/logbook/verification")
def verification(desk: TheDesk, _: SignedIn) -> VerificationTold:
    """Walk the chain of digests from the first line to the last."""
    with desk.look() as session:
        count, broken = logbook.verify(session)
    return VerificationTold(lines=count, first_broken=broken)


@router.get("/v1/clock")
def clock(desk: TheDesk, _: SignedIn) -> ClockTold:
    return ClockTold(now=desk.clock.now())


@router.post("/v1/clock")
def move_clock(wanted: ClockWanted, desk: TheDesk, _: SignedIn) -> ClockTold:
    """Move the clock of a throw-away desk; refused on every other."""
    if wanted.show is not None:
        desk.clock.show(wanted.show)
    if wanted.step_hours:
        desk.clock.step(timedelta(hours=wanted.step_hours))
    return ClockTold(now=desk.clock.now())


@router.get("/v1/openapi.json", include_in_schema=False)
def contract(request: Request, _: SignedIn) -> dict[str, Any]:
    """The OpenAPI 3.1 document of this service."""
    document: dict[str, Any] = request.app.openapi()
    return document
