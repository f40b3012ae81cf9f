"""Field reports: the inbox, what is decided about them, and symbol files."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

from fastapi import Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from sqlalchemy.orm import Session

from restless_tide.core.crashes.symbols import LARGEST_BYTES as LARGEST_SYMBOLS
from restless_tide.core.errors import Invalid, NotFound
from restless_tide.core.listing import ReportOrder
from restless_tide.core.report import ReportEvent, ReportKind, ReportState
from restless_tide.core.rights import Reach, Right
from restless_tide.core.testers import write_csv
from restless_tide.desk import builds, find, inbox, pictures, reports, symbols
from restless_tide.desk.desk import Desk
from restless_tide.desk.reports import Filing
from restless_tide.records.tables import FieldReport
from restless_tide.service import shown_reports
from restless_tide.service.bodies import A_FILE, whole_body
from restless_tide.service.paging import link_next
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.routes.cohorts import CSV_TYPE, csv_answer
from restless_tide.service.signed_in import Reached, SignedIn, TheDesk, WhoAsks
from restless_tide.wire.base import AnyInstant
from restless_tide.wire.reports import (
    BuildNumbersTold,
    DecideAllWanted,
    DecidedTold,
    DecideWanted,
    GroupTold,
    LeftTold,
    ReplyWanted,
    ReportDetailTold,
    ReportTold,
    ReportWanted,
    SymbolFileTold,
    TicketWanted,
)

router = router_of("reports", "/v1")

_PICTURE_HEADERS = {
    "Cache-Control": "private, no-store",
    "X-Content-Type-Options": "nosniff",
    "Content-Security-Policy": "default-src 'none'",
}


@router.get("/reports")
@needs(Right.SEE_TESTERS, Reach.SOME)
def listed(
    desk: TheDesk,
    reach: Reached,
    response: Response,
    app: str | None = None,
    build: str | None = None,
    cohort: str | None = None,
    kind: ReportKind | None = None,
    state: Annotated[list[ReportState] | None, Query()] = None,
    group: str | None = None,
    text: str = "",
    since: AnyInstant | None = None,
    order: ReportOrder = ReportOrder.NEWEST,
    after: Annotated[str | None, Query(description="the last report of the page before")] = None,
    limit: Annotated[int, Query(ge=1, le=500)] = 50,
) -> list[ReportTold]:
    """Field reports by when they came. A cohort is one of the named app."""
    wanted = replace(_wanted(app, build, cohort, kind, state, group, text), since=since, reach=reach)
    with desk.look() as session:
        rows = inbox.page(session, wanted, order=order, after=after, limit=limit + 1)
        if len(rows) > limit:
            asked: dict[str, object] = {
                "app": app,
                "build": build,
                "cohort": cohort,
                "kind": kind,
                "group": group,
                "text": text,
            }
            asked |= {"state": state, "since": since, "order": order}
            link_next(response, "/v1/reports", rows[limit - 1].id, limit=limit, **asked)
        return shown_reports.some_reports(session, rows[:limit])


def _wanted(
    app: str | None,
    build: str | None,
    cohort: str | None,
    kind: ReportKind | None,
    state: list[ReportState] | None,
    group: str | None,
    text: str,
) -> inbox.Wanted:
    if cohort is not None and app is None:
        raise Invalid("Of which app is the cohort?", remedy="Name the app, too.", code="app-missing")
    return inbox.Wanted(app, build, cohort, kind, state or (), group, text)


@router.get("/reports/counts")
@needs(Right.SEE, Reach.SOME)
def counts(
    desk: TheDesk,
    reach: Reached,
    app: str | None = None,
    build: str | None = None,
    cohort: str | None = None,
    kind: ReportKind | None = None,
    group: str | None = None,
    text: str = "",
) -> dict[str, int]:
    """How many there are in each state."""
    with desk.look() as session:
        return inbox.counted(session, replace(_wanted(app, build, cohort, kind, None, group, text), reach=reach))


@router.get(
    "/reports/export", response_class=Response, responses={200: {"content": {CSV_TYPE: {"schema": {"type": "string"}}}}}
)
@needs(Right.SEE_TESTERS, Reach.SOME)
def export(
    desk: TheDesk,
    reach: Reached,
    app: str | None = None,
    build: str | None = None,
    kind: ReportKind | None = None,
    state: Annotated[list[ReportState] | None, Query()] = None,
    text: str = "",
) -> Response:
    """The reports as CSV (RFC 4180), without who sent them; formulas are neutralised."""
    with desk.look() as session:
        wanted = replace(_wanted(app, build, None, kind, state, None, text), reach=reach)
        rows = inbox.export_rows(session, wanted)
    return csv_answer(write_csv(inbox.HEADER, rows), "reports.csv")


@router.get("/reports/{report}")
@needs(Right.SEE_TESTERS)
def one(report: str, desk: TheDesk, _: SignedIn) -> ReportDetailTold:
    """One report, whole."""
    with desk.look() as session:
        return shown_reports.report(session, find.report(session, report))


@router.get("/reports/{report}/pictures/{place}", response_class=Response)
@needs(Right.SEE_TESTERS)
def picture(report: str, place: int, desk: TheDesk, _: SignedIn) -> Response:
    """A picture of a report, as it was sent."""
    with desk.look() as session:
        row = next((entry for entry in find.report(session, report).pictures if entry.position == place), None)
    if row is None:
        raise NotFound(f"Report {report} has no picture {place}.", code="picture-unknown")
    return Response(desk.pictures.read(row.sha256), media_type=row.media_type, headers=_PICTURE_HEADERS)


@router.post("/apps/{app}/reports", status_code=201)
@needs(Right.REPORT)
def file(app: str, wanted: ReportWanted, desk: TheDesk, who: WhoAsks, person: SignedIn) -> ReportDetailTold:
    """File a report: a remark, or a crash with its stack."""
    if wanted.tester:  # else whoever may file a report learned who tests the app
        who.demand(Right.SEE_TESTERS, app)
    with desk.act(person.id) as act:
        app_row = find.app(act.session, app)
        build = find.build_of(act.session, app_row, wanted.build) if wanted.build else None
        if build is None and wanted.version is not None and wanted.number is not None:
            build = builds.same(act.session, app_row, wanted.version, wanted.number, wanted.platform)
        tester = find.tester_of(act.session, app_row, wanted.tester) if wanted.tester else None
        filing = Filing(
            wanted.kind,
            text=wanted.text,
            device=wanted.device,
            system=wanted.system,
            language=wanted.language,
            at=wanted.at,
            stack=wanted.stack,
            thrown=wanted.thrown,
            message=wanted.message,
            frames=[frame.model_dump() for frame in wanted.frames],
        )
        row = reports.file(desk, act, app_row, filing, build=build, tester=tester)
        return shown_reports.report(act.session, row)


@router.post("/reports/{report}/pictures", status_code=201, openapi_extra=A_FILE)
@needs(Right.KEEP_TESTERS)
async def add_picture(report: str, request: Request, desk: TheDesk, person: SignedIn) -> ReportDetailTold:
    """Put a picture into a report; it is drawn anew, so that only the picture is kept."""
    content = await whole_body(request, pictures.LARGEST_BYTES, "picture")
    await run_in_threadpool(pictures.add, desk, person.id, report, content)
    return await run_in_threadpool(_told, desk, report)


def _told(desk: Desk, report: str) -> ReportDetailTold:
    with desk.look() as session:
        return shown_reports.report(session, find.report(session, report))


@router.post("/reports/{report}/decisions")
@needs(Right.KEEP_TESTERS)
def decide(report: str, wanted: DecideWanted, desk: TheDesk, person: SignedIn) -> ReportDetailTold:
    """Accept it, mark it as fixed in a build or as the same as another, close it, open it again."""
    with desk.act(person.id) as act:
        row = reports.decide(act, report, _decision(wanted))
        return _fresh(act.session, row)


@router.post("/report-decisions")
@needs(Right.KEEP_TESTERS, Reach.SOME)
def decide_all(wanted: DecideAllWanted, desk: TheDesk, person: SignedIn, reach: Reached) -> DecidedTold:
    """The same decision on several reports, as one act; those it cannot be made on stay as they are, with the reason."""
    with desk.act(person.id) as act:
        done, left = reports.decide_all(act, wanted.reports, _decision(wanted), reach)
        act.session.flush()
        return DecidedTold(
            done=shown_reports.some_reports(act.session, done),
            left=[LeftTold(report=name, why=why) for name, why in left.items()],
        )


def _decision(wanted: DecideWanted) -> reports.Decision:
    return reports.Decision(ReportEvent(wanted.act), wanted.build, wanted.duplicate_of, wanted.reason)


def _fresh(session: Session, row: FieldReport) -> ReportDetailTold:
    session.flush()
    session.refresh(row)
    return shown_reports.report(session, row)


@router.post("/reports/{report}/replies", status_code=202)
@needs(Right.KEEP_TESTERS)
def reply(report: str, wanted: ReplyWanted, desk: TheDesk, person: SignedIn) -> ReportDetailTold:
    """Answer the tester by mail."""
    with desk.act(person.id) as act:
        reports.reply(act, report, wanted.text)
    return _told(desk, report)


@router.put("/reports/{report}/ticket")
@needs(Right.KEEP_TESTERS)
def set_ticket(report: str, wanted: TicketWanted, desk: TheDesk, person: SignedIn) -> ReportDetailTold:
    """Say where else a report is followed."""
    with desk.act(person.id) as act:
        return _fresh(act.session, reports.set_ticket(act, report, wanted.ticket))


@router.get("/apps/{app}/crash-groups")
@needs(Right.SEE)
def groups(app: str, desk: TheDesk, _: SignedIn, build: str | None = None) -> list[GroupTold]:
    """The crashes of an app, equal ones together, the most frequent first."""
    with desk.look() as session:
        return [shown_reports.group(found) for found in inbox.groups(session, app, build)]


@router.get("/apps/{app}/test-numbers")
@needs(Right.SEE)
def numbers(app: str, desk: TheDesk, _: SignedIn) -> list[BuildNumbersTold]:
    """Who has which build, how much it is used, how often that goes well, and what came back; the newest build first."""
    with desk.look() as session:
        return [shown_reports.build_numbers(found) for found in inbox.numbers(session, app)]


@router.get("/builds/{build}/symbols")
@needs(Right.SEE_BUILDS)
def symbol_files(build: str, desk: TheDesk, _: SignedIn) -> list[SymbolFileTold]:
    """The symbol files of a build."""
    with desk.look() as session:
        build_id = find.build(session, build).id
    return [shown_reports.symbol_file(row) for row in symbols.files(desk, build_id)]


@router.post("/builds/{build}/symbols", status_code=201, openapi_extra=A_FILE)
@needs(Right.HAND_IN)
async def keep_symbols(
    build: str, request: Request, desk: TheDesk, person: SignedIn, name: Annotated[str, Query(min_length=1)]
) -> SymbolFileTold:
    """Keep a file that brings names back into this build's stacks; crashes that came before are read anew."""
    content = await whole_body(request, LARGEST_SYMBOLS, "symbol file")
    return await run_in_threadpool(_keep_symbols, desk, person.id, build, name, content)


def _keep_symbols(desk: Desk, person: str, build: str, name: str, content: bytes) -> SymbolFileTold:
    row = symbols.keep(desk, person, build, name, content)
    with desk.act(person) as act:
        named = reports.name_again(desk, act, find.build(act.session, build))
    return shown_reports.symbol_file(row, named)
