"""Packages, builds and consignments."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Response
from fastapi.responses import FileResponse

from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.errors import NotFound
from restless_tide.core.listing import BuildOrder
from restless_tide.core.packages import Facts, read_icon
from restless_tide.core.retention import RetentionRule
from restless_tide.core.rights import Apps, Reach, Right
from restless_tide.core.versions import Step
from restless_tide.desk import answers, builds, expiries, find, numbers, packages, whose
from restless_tide.desk.desk import Desk
from restless_tide.service import shown, shown_builds
from restless_tide.service.paging import link_next
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import Reached, SignedIn, TheDesk
from restless_tide.wire.base import AnyInstant
from restless_tide.wire.builds import (
    AnswersWanted,
    AppExpiryTold,
    BuildTold,
    BuildWanted,
    ClearingTold,
    ClearWanted,
    ComparisonTold,
    ConsignmentTold,
    ProposalTold,
    ReservationTold,
    ReserveWanted,
    StandingAnswerTold,
)

router = router_of("builds", "/v1")

_NOSNIFF = {"X-Content-Type-Options": "nosniff"}


def _demand_package(desk: Desk, reach: Apps, sha256: str) -> None:
    """Hold whoever is limited to some apps to packages of those, or of no build yet. Raises NotFound."""
    if reach is not None:
        with desk.look() as session:
            apps = whose.of_package(session, sha256)
        if apps and not reach.intersection(apps):
            raise NotFound("No package of yours has this SHA-256.", code="package-unknown")


@router.head("/packages/{sha256}")
@needs(Right.SEE_BUILDS, Reach.SOME)
def package_known(sha256: str, desk: TheDesk, reach: Reached) -> Response:
    """200 when these bytes have arrived already, 404 when not."""
    _demand_package(desk, reach, sha256)
    with desk.look() as session:
        builds.known_package(session, sha256)
    return Response(status_code=200)


@router.get("/packages/{sha256}/file", response_class=FileResponse)
@needs(Right.SEE, Reach.SOME)
def package_file(sha256: str, desk: TheDesk, reach: Reached) -> FileResponse:
    """The file of a package, unchanged: for a step that a person carries to a store."""
    _demand_package(desk, reach, sha256)
    with desk.look() as session:
        facts = Facts.of(builds.known_package(session, sha256).facts)
    name = f"{facts.identifier}-{facts.version}-{facts.number}.{facts.format}"
    return FileResponse(desk.files.path(sha256), media_type="application/octet-stream", filename=name)


@router.get("/packages/{sha256}")
@needs(Right.SEE, Reach.SOME)
def package(sha256: str, desk: TheDesk, reach: Reached) -> Facts:
    """What was read out of a package."""
    _demand_package(desk, reach, sha256)
    with desk.look() as session:
        return Facts.of(builds.known_package(session, sha256).facts)


@router.get("/packages/{sha256}/icon", response_class=Response)
@needs(Right.SEE_BUILDS, Reach.SOME)
def package_icon(sha256: str, desk: TheDesk, reach: Reached) -> Response:
    """The icon inside a package, where a browser can show it."""
    _demand_package(desk, reach, sha256)
    with desk.look() as session:
        facts = Facts.of(builds.known_package(session, sha256).facts)
    with desk.files.path(sha256).open("rb") as source:
        content = read_icon(source, facts)
    if content is None or facts.icon is None:
        raise NotFound("This package holds no icon that a browser can show.", code="icon-unknown")
    headers = {
        "Cache-Control": "private, max-age=86400, immutable",
        "Content-Security-Policy": "default-src 'none'",
    } | _NOSNIFF
    return Response(content, media_type=facts.icon.media_type, headers=headers)


@router.get("/apps/{app}/numbers")
@needs(Right.SEE_BUILDS)
def next_numbers(
    app: str, desk: TheDesk, _: SignedIn, store: Annotated[list[str] | None, Query()] = None, step: Step = Step.PATCH
) -> ProposalTold:
    """The smallest version and number that fit at all these stores (none named: wherever the app has a berth), and why."""
    found, cautions = numbers.propose(desk, app, store or [], step)
    return shown_builds.proposal(app, store or [], found, cautions)


@router.get("/apps/{app}/reservations")
@needs(Right.SEE_BUILDS)
def reservations(app: str, desk: TheDesk, _: SignedIn) -> list[ReservationTold]:
    """Numbers that are held for builds still being made."""
    with desk.look() as session:
        return [shown_builds.reservation(row) for row in numbers.of_app(session, app)]


@router.post("/apps/{app}/reservations", status_code=201)
@needs(Right.HAND_IN)
def reserve(app: str, wanted: ReserveWanted, desk: TheDesk, person: SignedIn) -> ProposalTold:
    """Hold the next version and number, so that nobody else gets the same."""
    row, found, cautions = numbers.reserve(desk, person.id, app, wanted.stores, wanted.step, wanted.label)
    return shown_builds.proposal(app, row.stores, found, cautions, row.id)


@router.delete("/apps/{app}/reservations/{reservation}", status_code=204)
@needs(Right.HAND_IN)
def give_back(app: str, reservation: str, desk: TheDesk, person: SignedIn) -> None:
    """Give a reserved build number back."""
    with desk.act(person.id) as act:
        numbers.give_back(act, app, reservation)


@router.get("/apps/{app}/builds")
@needs(Right.SEE_BUILDS)
def of_app(
    app: str,
    desk: TheDesk,
    _: SignedIn,
    response: Response,
    platform: str | None = None,
    state: ConsignmentState | None = None,
    text: str = "",
    order: BuildOrder = BuildOrder.NEWEST,
    since: AnyInstant | None = None,
    after: str | None = None,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
) -> list[BuildTold]:
    """The builds of an app; the next page is in the Link header (RFC 8288)."""
    wish = builds.Wish(platform, state, text, order, since, after, limit + 1)
    with desk.look() as session:
        rows = builds.of_app(session, app, wish)
        if len(rows) > limit:
            asked = {"platform": platform, "state": state, "text": text, "order": order, "since": since}
            link_next(response, f"/v1/apps/{app}/builds", rows[limit - 1].id, limit=limit, **asked)
        return [shown.build(session, row) for row in rows[:limit]]


@router.get("/apps/{app}/builds/{build}")
@needs(Right.SEE_BUILDS)
def one_of_app(app: str, build: str, desk: TheDesk, _: SignedIn, platform: str | None = None) -> BuildTold:
    """One build of an app by id, ``VERSION``, ``VERSION (NUMBER)``, ``NUMBER``, ``latest`` or the beginning of its id."""
    with desk.look() as session:
        return shown.build(session, find.build_of(session, find.app(session, app), build, platform))


@router.get("/apps/{app}/retention")
@needs(Right.SEE)
def retention(app: str, desk: TheDesk, _: SignedIn) -> ClearingTold:
    """The app's retention rule, and what it would clear now."""
    with desk.look() as session:
        return shown_builds.clearing(packages.plan(desk, session, app), done=False)


@router.put("/apps/{app}/retention")
@needs(Right.PREPARE)
def set_retention(app: str, wanted: RetentionRule, desk: TheDesk, person: SignedIn) -> ClearingTold:
    """Set how long package files are kept."""
    with desk.act(person.id) as act:
        packages.set_rule(act, app, wanted)
    with desk.look() as session:
        return shown_builds.clearing(packages.plan(desk, session, app), done=False)


@router.post("/apps/{app}/clearings")
@needs(Right.PREPARE)
def clear(app: str, wanted: ClearWanted, desk: TheDesk, person: SignedIn) -> ClearingTold:
    """Clear what the rule lets go, or only say what that would be."""
    if not wanted.dry_run:
        return shown_builds.clearing(packages.clear(desk, person.id, app, wanted.rule), done=True)
    with desk.look() as session:
        return shown_builds.clearing(packages.plan(desk, session, app, wanted.rule), done=False)


@router.get("/apps/{app}/expiries")
@needs(Right.SEE)
def app_expiries(app: str, desk: TheDesk, _: SignedIn) -> list[AppExpiryTold]:
    """What of the app expires when, the soonest first."""
    with desk.look() as session:
        return [shown_builds.expiry(found) for found in expiries.of_app(session, find.app(session, app))]


@router.get("/apps/{app}/berths/{store}/standing-answers")
@needs(Right.SEE)
def standing_answers(app: str, store: str, desk: TheDesk, _: SignedIn) -> list[StandingAnswerTold]:
    """What is answered automatically when this store asks."""
    with desk.look() as session:
        berth = find.berth(session, find.app(session, app), find.store(session, store))
        return [StandingAnswerTold.of(row) for row in answers.at(session, berth)]


@router.delete("/apps/{app}/berths/{store}/standing-answers/{code}", status_code=204)
@needs(Right.PREPARE)
def forget_answer(app: str, store: str, code: str, desk: TheDesk, person: SignedIn) -> None:
    """Forget an answer that a store would be given automatically."""
    with desk.act(person.id) as act:
        answers.forget(act, app, store, code)


@router.get("/builds/{build}/comparison")
@needs(Right.SEE)
def compare(
    build: str, desk: TheDesk, _: SignedIn, to: Annotated[str, Query(description="the later build")]
) -> ComparisonTold:
    """Two builds side by side: what a person must notice first."""
    with desk.look() as session:
        return shown_builds.comparison(session, find.build(session, build), find.build(session, to))


@router.post("/apps/{app}/builds", status_code=201)
@needs(Right.HAND_IN)
def enter(app: str, wanted: BuildWanted, desk: TheDesk, person: SignedIn) -> BuildTold:
    """Enter a build made of packages that have arrived; the same packages again are the same build."""
    with desk.act(person.id) as act:
        source = builds.Source(wanted.revision, wanted.repository)
        row, known_before = builds.enter(act, app, wanted.packages, source)
        return shown.build(act.session, row, known_before=known_before)


@router.get("/builds/{build}")
@needs(Right.SEE_BUILDS)
def one(build: str, desk: TheDesk, _: SignedIn) -> BuildTold:
    """One build, with its consignments."""
    with desk.look() as session:
        return shown.build(session, find.build(session, build))


@router.get("/consignments/{consignment}")
@needs(Right.SEE_BUILDS)
def consignment(consignment: str, desk: TheDesk, _: SignedIn) -> ConsignmentTold:
    """One consignment: a build at a store."""
    with desk.look() as session:
        return shown.consignment(session, find.consignment(session, consignment))


@router.post("/consignments/{consignment}/answers", status_code=202)
@needs(Right.PREPARE)
def answer(consignment: str, wanted: AnswersWanted, desk: TheDesk, person: SignedIn) -> ConsignmentTold:
    """Answer what the store holds the build for."""
    with desk.act(person.id) as act:
        given = builds.answer(act, consignment, wanted.answers, standing=wanted.standing, anyway=wanted.anyway)
        return shown.consignment(act.session, given)
