"""Cohorts and the people in them."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response
from fastapi.concurrency import run_in_threadpool

from restless_tide.core.errors import Invalid
from restless_tide.core.invitation import InvitationState
from restless_tide.core.listing import TesterOrder
from restless_tide.core.rights import Reach, Right
from restless_tide.core.testers import LARGEST_BYTES, write_csv
from restless_tide.desk import cohorts, correcting, find, imports, retiring, testers
from restless_tide.desk import members as people
from restless_tide.desk.desk import Desk
from restless_tide.desk.testers import Personal
from restless_tide.service import shown_testing
from restless_tide.service.bodies import whole_body
from restless_tide.service.paging import link_next
from restless_tide.service.rights import needs
from restless_tide.service.router import Reason, router_of
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.cohorts import (
    AttachWanted,
    BriefWanted,
    CohortChange,
    CohortDetailTold,
    CohortTold,
    CohortWanted,
    CountTold,
    ForgetWanted,
    ForgottenTold,
    ImportTold,
    JoinWanted,
    MemberTold,
    PickWanted,
    RemovalWanted,
    TesterChangeWanted,
    TesterTold,
    TesterWanted,
)
from restless_tide.wire.retiring import OutlookTold, ReasonWanted

router = router_of("testing", "/v1")

CSV_TYPE = "text/csv"
_CSV = {"requestBody": {"required": True, "content": {CSV_TYPE: {"schema": {"type": "string", "format": "binary"}}}}}
_CSV_ANSWER: dict[int | str, dict[str, object]] = {200: {"content": {CSV_TYPE: {"schema": {"type": "string"}}}}}
Limit = Annotated[int, Query(ge=1, le=500)]


@router.get("/apps/{app}/cohorts")
@needs(Right.SEE_BUILDS)
def of_app(app: str, desk: TheDesk, _: SignedIn) -> list[CohortTold]:
    """The cohorts of an app."""
    with desk.look() as session:
        return [shown_testing.cohort(session, row, desk) for row in cohorts.of_app(session, app)]


@router.post("/apps/{app}/cohorts", status_code=201)
@needs(Right.KEEP_TESTERS)
def make(app: str, wanted: CohortWanted, desk: TheDesk, person: SignedIn) -> CohortTold:
    """Make a cohort."""
    with desk.act(person.id) as act:
        row = cohorts.make(act, app, wanted.name, wanted.kind, wanted.stores)
        return shown_testing.cohort(act.session, row, desk)


@router.get("/apps/{app}/cohorts/{cohort}")
@needs(Right.SEE)
def detail(app: str, cohort: str, desk: TheDesk, _: SignedIn) -> CohortDetailTold:
    """Who is in it, seats left, what they have, what they said, what is stuck."""
    with desk.look() as session:
        row = find.cohort(session, find.app(session, app), cohort)
        return shown_testing.cohort_detail(session, row, desk)


@router.patch("/apps/{app}/cohorts/{cohort}")
@needs(Right.KEEP_TESTERS)
def rename(app: str, cohort: str, wanted: CohortChange, desk: TheDesk, person: SignedIn) -> CohortTold:
    """Call it otherwise; its people, trials and link stay."""
    with desk.act(person.id) as act:
        return shown_testing.cohort(act.session, correcting.rename_cohort(act, app, cohort, wanted.name), desk)


@router.delete("/apps/{app}/cohorts/{cohort}", status_code=204)
@needs(Right.KEEP_TESTERS)
def remove_cohort(app: str, cohort: str, desk: TheDesk, person: SignedIn) -> None:
    """Remove a cohort that was never handed a build."""
    with desk.act(person.id) as act:
        correcting.remove_cohort(act, app, cohort)


@router.get("/apps/{app}/cohorts/{cohort}/retirement")
@needs(Right.SEE)
def outlook(app: str, cohort: str, desk: TheDesk, _: SignedIn) -> OutlookTold:
    """What retiring the cohort would meet: what has to end first, and what stays."""
    with desk.look() as session:
        return OutlookTold.of(retiring.cohort_outlook(find.cohort(session, find.app(session, app), cohort)))


@router.put("/apps/{app}/cohorts/{cohort}/retirement")
@needs(Right.KEEP_TESTERS)
def retire(app: str, cohort: str, wanted: ReasonWanted, desk: TheDesk, person: SignedIn) -> CohortTold:
    """Take the cohort out of use: it gets no builds and no people, and what happened stays to be read."""
    with desk.act(person.id) as act:
        return shown_testing.cohort(act.session, retiring.retire_cohort(act, app, cohort, wanted.reason), desk)


@router.delete("/apps/{app}/cohorts/{cohort}/retirement")
@needs(Right.KEEP_TESTERS)
def restore(app: str, cohort: str, desk: TheDesk, person: SignedIn, reason: Reason = "") -> CohortTold:
    """Take the cohort into use again."""
    with desk.act(person.id) as act:
        return shown_testing.cohort(act.session, retiring.restore_cohort(act, app, cohort, reason), desk)


@router.put("/apps/{app}/cohorts/{cohort}/berths/{store}")
@needs(Right.KEEP_TESTERS)
def attach(app: str, cohort: str, store: str, wanted: AttachWanted, desk: TheDesk, person: SignedIn) -> CohortTold:
    """Put the cohort at a store, or set whether new builds go to it there automatically."""
    with desk.act(person.id) as act:
        row = cohorts.attach(act, app, cohort, store, by_itself=wanted.by_itself, track=wanted.track)
        return shown_testing.cohort(act.session, row, desk)


@router.delete("/apps/{app}/cohorts/{cohort}/berths/{store}")
@needs(Right.KEEP_TESTERS)
def detach(app: str, cohort: str, store: str, desk: TheDesk, person: SignedIn) -> CohortTold:
    """Take a store away from a cohort."""
    with desk.act(person.id) as act:
        return shown_testing.cohort(act.session, cohorts.detach(act, app, cohort, store), desk)


@router.put("/apps/{app}/cohorts/{cohort}/brief")
@needs(Right.KEEP_TESTERS)
def keep_brief(app: str, cohort: str, wanted: BriefWanted, desk: TheDesk, person: SignedIn) -> CohortTold:
    """What every trial of the cohort says unless it says otherwise."""
    with desk.act(person.id) as act:
        row = cohorts.keep_brief(act, app, cohort, wanted.brief, wanted.contact)
        return shown_testing.cohort(act.session, row, desk)


@router.put("/apps/{app}/cohorts/{cohort}/join")
@needs(Right.KEEP_TESTERS)
def set_join(app: str, cohort: str, wanted: JoinWanted, desk: TheDesk, person: SignedIn) -> CohortTold:
    """Open or close the link of a walk-in cohort, or make it another one."""
    with desk.act(person.id) as act:
        row = cohorts.set_join(
            act, app, cohort, is_open=wanted.open, limit=wanted.limit, until=wanted.until, renew=wanted.renew
        )
        return shown_testing.cohort(act.session, row, desk)


@router.get("/apps/{app}/cohorts/{cohort}/testers")
@needs(Right.SEE_TESTERS)
def members(
    app: str,
    cohort: str,
    desk: TheDesk,
    _: SignedIn,
    response: Response,
    text: str = "",
    state: InvitationState | None = None,
    order: TesterOrder = TesterOrder.ADDRESS,
    after: str = "",
    limit: Limit = 100,
) -> list[MemberTold]:
    """The people of a cohort, with what they have; ``text`` searches address, name and tags."""
    with desk.look() as session:
        row = find.cohort(session, find.app(session, app), cohort)
        found = people.page(session, row, text=text, state=state, order=order, after=after, limit=limit + 1)
        if len(found) > limit:
            path = f"/v1/apps/{app}/cohorts/{cohort}/testers"
            link_next(response, path, found[limit - 1].tester.email, text=text, state=state, order=order, limit=limit)
        return shown_testing.some_members(session, found[:limit])


@router.post("/apps/{app}/cohorts/{cohort}/testers", status_code=201)
@needs(Right.KEEP_TESTERS)
def add_tester(app: str, cohort: str, wanted: TesterWanted, desk: TheDesk, person: SignedIn) -> TesterTold:
    """Put someone into a cohort; known testers are found by their address."""
    with desk.act(person.id) as act:
        told = Personal(**wanted.model_dump(exclude={"email"}))
        row, caution = cohorts.add_tester(act, app, cohort, wanted.email, told)
        return shown_testing.tester(row, caution=caution)


@router.post("/apps/{app}/cohorts/{cohort}/picks")
@needs(Right.KEEP_TESTERS)
def pick(app: str, cohort: str, wanted: PickWanted, desk: TheDesk, person: SignedIn) -> CountTold:
    """Put testers that the desk knows into a cohort, all or none; answers how many were new to it."""
    with desk.act(person.id) as act:
        return CountTold(count=len(cohorts.pick_testers(act, app, cohort, wanted.testers)))


@router.post("/apps/{app}/cohorts/{cohort}/removals")
@needs(Right.KEEP_TESTERS)
def remove(app: str, cohort: str, wanted: RemovalWanted, desk: TheDesk, person: SignedIn) -> CountTold:
    """Take people out of a cohort; they stay known, and their seats are free."""
    with desk.act(person.id) as act:
        return CountTold(count=cohorts.remove_testers(act, app, cohort, wanted.testers, wanted.reason))


@router.post("/apps/{app}/cohorts/{cohort}/imports", openapi_extra=_CSV)
@needs(Right.KEEP_TESTERS)
async def take_list(
    app: str,
    cohort: str,
    request: Request,
    desk: TheDesk,
    person: SignedIn,
    dry_run: bool = True,
    skip_bad: bool = False,
    column: Annotated[list[str] | None, Query(description="FIELD=HEADER, or FIELD=NUMBER")] = None,
) -> ImportTold:
    """Look at a list of testers (CSV), or import it as one act: all of it or nothing."""
    content = await whole_body(request, LARGEST_BYTES, "list", "Split it.", media=(CSV_TYPE,))
    return await run_in_threadpool(_import, desk, person.id, content, column or [], app, cohort, dry_run, skip_bad)


@router.post("/testers/imports", openapi_extra=_CSV)
@needs(Right.KEEP_TESTERS, Reach.DESK)
async def take_list_of_testers(
    request: Request,
    desk: TheDesk,
    person: SignedIn,
    dry_run: bool = True,
    skip_bad: bool = False,
    column: Annotated[list[str] | None, Query()] = None,
) -> ImportTold:
    """The same for people who are in no cohort yet."""
    content = await whole_body(request, LARGEST_BYTES, "list", "Split it.", media=(CSV_TYPE,))
    return await run_in_threadpool(_import, desk, person.id, content, column or [], None, None, dry_run, skip_bad)


def _import(
    desk: Desk,
    person: str,
    content: bytes,
    columns: list[str],
    app: str | None,
    cohort: str | None,
    dry_run: bool,
    skip_bad: bool,
) -> ImportTold:
    mapping = {}
    for entry in columns:
        name, equals, where = entry.partition("=")
        if not equals:
            raise Invalid(f"{entry!r} names no column.", remedy="Write it as FIELD=HEADER.", code="column-unknown")
        mapping[name.strip()] = where
    if dry_run:
        with desk.look() as session:
            return shown_testing.imported(imports.look(session, content, mapping, app, cohort))
    return shown_testing.imported(imports.apply(desk, person, content, mapping, app, cohort, skip_bad=skip_bad))


@router.get("/apps/{app}/cohorts/{cohort}/export", response_class=Response, responses=_CSV_ANSWER)
@needs(Right.SEE_TESTERS)
def export(app: str, cohort: str, desk: TheDesk, _: SignedIn) -> Response:
    """The people of a cohort as CSV (RFC 4180), with what they have."""
    with desk.look() as session:
        row = find.cohort(session, find.app(session, app), cohort)
        rows = list(people.export_rows(session, row))
    return csv_answer(write_csv(people.HEADER, rows), f"{app}-{cohort}.csv")


def csv_answer(text: str, name: str) -> Response:
    headers = {"Content-Disposition": f'attachment; filename="{name}"', "Cache-Control": "no-store"}
    return Response(text.encode(), media_type=f"{CSV_TYPE}; charset=utf-8", headers=headers)


@router.get("/testers")
@needs(Right.SEE_TESTERS, Reach.DESK)
def every_tester(
    desk: TheDesk,
    _: SignedIn,
    response: Response,
    text: str = "",
    order: TesterOrder = TesterOrder.ADDRESS,
    after: str = "",
    limit: Limit = 100,
) -> list[TesterTold]:
    """Everybody who tests, whatever they test; ``text`` searches address, name and tags."""
    with desk.look() as session:
        rows = testers.search(session, text, order=order, after=after, limit=limit + 1)
        if len(rows) > limit:
            link_next(response, "/v1/testers", rows[limit - 1].email, text=text, order=order, limit=limit)
        return shown_testing.found_testers(session, rows[:limit])


@router.get("/testers/count")
@needs(Right.SEE_TESTERS, Reach.DESK)
def count(desk: TheDesk, _: SignedIn, text: str = "") -> CountTold:
    """How many testers there are."""
    with desk.look() as session:
        return CountTold(count=testers.count(session, text))


@router.get("/testers/export", response_class=Response, responses=_CSV_ANSWER)
@needs(Right.SEE_TESTERS, Reach.DESK)
def export_testers(desk: TheDesk, _: SignedIn, text: str = "") -> Response:
    """Everybody who matches as CSV (RFC 4180); formulas are neutralised."""
    with desk.look() as session:
        return csv_answer(write_csv(testers.HEADER, testers.export_rows(session, text)), "testers.csv")


@router.post("/testers", status_code=201)
@needs(Right.KEEP_TESTERS, Reach.DESK)
def enter(wanted: TesterWanted, desk: TheDesk, person: SignedIn) -> TesterTold:
    """Enter a tester, or add to what is known of one."""
    with desk.act(person.id) as act:
        row, new = testers.get_or_add(act, wanted.email, Personal(**wanted.model_dump(exclude={"email"})))
        act.log("tester entered" if new else "tester changed", f"tester {row.id}")
        return shown_testing.tester(row)


@router.get("/testers/{tester}")
@needs(Right.SEE_TESTERS)
def one(tester: str, desk: TheDesk, _: SignedIn) -> TesterTold:
    """One tester, with their cohorts and what they have."""
    with desk.look() as session:
        return shown_testing.found_testers(session, [find.tester(session, tester)])[0]


@router.patch("/testers/{tester}")
@needs(Right.KEEP_TESTERS)
def change(tester: str, wanted: TesterChangeWanted, desk: TheDesk, person: SignedIn) -> TesterTold:
    """Change what is known of a tester: address, name, platforms, languages, devices, tags, consent."""
    with desk.act(person.id) as act:
        told = Personal(**wanted.model_dump(exclude={"email"}))
        return shown_testing.tester(testers.change(act, tester, told, wanted.email))


@router.post("/testers/{tester}/removal")
@needs(Right.KEEP_TESTERS)
def remove_everywhere(tester: str, wanted: ForgetWanted, desk: TheDesk, person: SignedIn) -> CountTold:
    """Take someone out of all cohorts; answers out of how many."""
    with desk.act(person.id) as act:
        return CountTold(count=cohorts.remove_everywhere(act, tester, wanted.reason))


@router.post("/testers/{tester}/forgetting")
@needs(Right.KEEP_TESTERS, Reach.DESK)
def forget(tester: str, wanted: ForgetWanted, desk: TheDesk, person: SignedIn) -> ForgottenTold:
    """Everything personal of a tester goes for good; counts stay."""
    return ForgottenTold(id=testers.forget(desk, person.id, tester, wanted.reason))
