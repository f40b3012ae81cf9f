"""What was live where, now and at any instant before; and pictures of rollouts."""

from __future__ import annotations

import re
from datetime import datetime, timedelta
from typing import Annotated, Any

from fastapi import Depends, Query
from fastapi.responses import Response

from restless_tide.core.availability import Availability
from restless_tide.core.errors import Invalid
from restless_tide.core.rights import Reach, Right
from restless_tide.core.strip import LONGEST_SPAN, USUAL_SPAN, Layer, told, told_where
from restless_tide.core.testers import write_csv
from restless_tide.core.wall_clock import known_zone
from restless_tide.desk import find, strips
from restless_tide.desk.desk import Desk
from restless_tide.plots import of
from restless_tide.plots.child import drawn
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.routes.cohorts import CSV_TYPE, csv_answer
from restless_tide.service.signed_in import Reached, SignedIn, TheDesk
from restless_tide.wire.base import Instant
from restless_tide.wire.strips import LayerTold, LiveTold, MarkTold, StoreStripTold, StretchTold, StripTold

_BEFORE = timedelta(hours=6)
PNG_TYPE = "image/png"
router = router_of("strips", "/v1")
_A_PICTURE: dict[int | str, dict[str, Any]] = {
    200: {"content": {PNG_TYPE: {"schema": {"type": "string", "format": "binary"}}}}
}
Zone = Annotated[str, Query(max_length=60, description="the zone in which a picture tells times (IANA)")]


def _span(
    app: str,
    desk: TheDesk,
    since: Annotated[
        Instant | None,
        Query(description=f"unless said, {USUAL_SPAN.days} days before the end, or where what is known begins"),
    ] = None,
    until: Annotated[Instant | None, Query(description="now, unless said")] = None,
) -> tuple[datetime, datetime]:
    now = desk.clock.now()
    end = min(until or now, now)
    begin = since or _usual_begin(desk, app, end)
    if begin >= end:
        raise Invalid("A strip ends after it begins, and not in the future.", code="span-unfit")
    if end - begin > LONGEST_SPAN:
        raise Invalid(f"A strip is {LONGEST_SPAN.days} days long at most.", code="span-too-long")
    return begin, end


def _usual_begin(desk: Desk, app: str, end: datetime) -> datetime:
    with desk.look() as session:
        first = strips.first_seen(session, app)
    begin = end - USUAL_SPAN
    return max(begin, min(first, end) - _BEFORE) if first is not None else begin


Span = Annotated[tuple[datetime, datetime], Depends(_span)]


@router.get("/offered")
@needs(Right.SEE, Reach.SOME)
def live(
    desk: TheDesk,
    reach: Reached,
    app: Annotated[str | None, Query(max_length=100, description="none: every app")] = None,
    at: Annotated[Instant | None, Query(description="now, unless said")] = None,
    country: Annotated[
        str | None, Query(max_length=40, description="only what is offered there (ISO 3166 alpha-2)")
    ] = None,
) -> list[LiveTold]:
    """What every store offers new people, now or at an instant before."""
    now = desk.clock.now()
    if at is not None and at > now:
        raise Invalid(
            "Nobody knows what will be live then.", remedy="Name an instant that is past.", code="instant-unfit"
        )
    if country is not None and not re.fullmatch("[A-Za-z]{2}", country):
        raise Invalid(f"{country!r} is no country.", remedy="Write its two letters, such as DE.", code="country-unfit")
    instant = at or now
    with desk.look() as session:
        return [
            LiveTold(
                app=one.berth.app.name,
                app_title=one.berth.app.title,
                store=one.berth.store.name,
                store_title=one.title,
                platform=one.berth.platform,
                at=instant,
                known_since=one.since,
                **_offered(one.layers, one.offer, known=one.since is not None and one.since <= instant),
            )
            for one in strips.live(session, app, instant, country)
            if reach is None or one.berth.app.name in reach
        ]


def _offered(layers: tuple[Layer, ...], offer: Availability | None, *, known: bool = True) -> dict[str, Any]:
    return {
        "told": told(layers, offer, known=known),
        "where": told_where(offer),
        "layers": [LayerTold(version=one.version, state=one.state, part=one.part) for one in layers],
        "closed": offer is not None and offer.closed,
        "countries": list(offer.countries) if offer is not None else [],
    }


@router.get("/apps/{app}/strip")
@needs(Right.SEE)
def strip(app: str, desk: TheDesk, _: SignedIn, span: Span) -> StripTold:
    """What new people were offered at every store over a time, stretch by stretch."""
    since, until = span
    with desk.look() as session:
        found = strips.of_app(session, app, since, until)
        row = find.app(session, app)
        return StripTold(
            app=row.name,
            app_title=row.title,
            since=since,
            until=until,
            stores=[
                StoreStripTold(
                    store=one.berth.store.name,
                    store_title=one.title,
                    platform=one.berth.platform,
                    known_since=one.since,
                    stretches=[
                        StretchTold(since=part.since, until=part.until, **_offered(part.layers, part.offer))
                        for part in one.stretches
                    ],
                    marks=[MarkTold.of(mark) for mark in one.marks],
                )
                for one in found
            ],
        )


@router.get(
    "/apps/{app}/strip/csv",
    response_class=Response,
    responses={200: {"content": {CSV_TYPE: {"schema": {"type": "string"}}}}},
)
@needs(Right.SEE)
def as_csv(app: str, desk: TheDesk, _: SignedIn, span: Span) -> Response:
    """The same as CSV (RFC 4180), a line for each version in each stretch."""
    with desk.look() as session:
        rows = strips.rows(strips.of_app(session, app, *span))
    return csv_answer(write_csv(strips.CSV_HEADER, rows), f"{app}-live.csv")


@router.get("/apps/{app}/strip/png", response_class=Response, responses=_A_PICTURE)
@needs(Right.SEE)
def as_png(app: str, desk: TheDesk, _: SignedIn, span: Span, zone: Zone = "UTC") -> Response:
    """The same as a picture."""
    name = _zone(zone)
    with desk.look() as session:
        values = of.strip(session, app, *span, zone=name)
    return _picture(drawn(values), f"{app}-live.png")


@router.get("/apps/{app}/releases/{version}/picture", response_class=Response, responses=_A_PICTURE)
@needs(Right.SEE)
def picture(app: str, version: str, desk: TheDesk, _: SignedIn, zone: Zone = "UTC") -> Response:
    """The course of a release's rollout at every store: share, how often people met a crash, acts and verdicts."""
    name = _zone(zone)
    with desk.look() as session:
        release = find.release(session, find.app(session, app), version)
        values = of.rollout(session, release, desk.clock.now(), zone=name)
    return _picture(drawn(values), f"{app}-{version}.png")


def _zone(name: str) -> str:
    try:
        return known_zone(name)
    except ValueError as wrong:
        raise Invalid(f"{str(wrong)[:1].upper()}{str(wrong)[1:]}.", code="zone-unknown") from None


def _picture(content: bytes, name: str) -> Response:
    headers = {"Content-Disposition": f'inline; filename="{name}"', "Cache-Control": "no-store"}
    return Response(content, media_type=PNG_TYPE, headers=headers)
