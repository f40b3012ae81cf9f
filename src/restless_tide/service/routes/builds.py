"""Packages, builds and consignments."""

from __future__ import annotations

import re
from typing import Annotated

from fastapi import APIRouter, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import FileResponse
from starlette.requests import ClientDisconnect

from restless_tide.core.errors import Invalid
from restless_tide.core.packages import Facts, inspect_package
from restless_tide.core.versions import Step
from restless_tide.desk import builds, find
from restless_tide.desk.desk import Desk
from restless_tide.records.package_files import ArrivingFile
from restless_tide.service import shown
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.builds import (
    AnswersWanted,
    BuildTold,
    BuildWanted,
    CheckWanted,
    ConsignmentTold,
    PackageTold,
    ProposalTold,
    PushWanted,
    SheetTold,
)
from restless_tide.wire.problems import findings_told

router = APIRouter(prefix="/v1", tags=["builds"])

_SHA256 = re.compile(r"[0-9a-f]{64}")
_GATHER_BYTES = 1024 * 1024


@router.head("/packages/{sha256}")
def package_known(sha256: str, desk: TheDesk, _: SignedIn) -> Response:
    """200 when these bytes have arrived already, 404 when not."""
    with desk.look() as session:
        builds.known_package(session, sha256)
    return Response(status_code=200)


@router.get("/packages/{sha256}/file", response_class=FileResponse)
def package_file(sha256: str, desk: TheDesk, _: SignedIn) -> FileResponse:
    """The file of a package, unchanged: for a step that a person carries to a store."""
    with desk.look() as session:
        facts = Facts.model_validate(builds.known_package(session, sha256).facts)
    name = f"{facts.identifier}-{facts.version}-{facts.number}.{facts.format}"
    return FileResponse(desk.files.path(sha256), media_type="application/octet-stream", filename=name)


@router.put(
    "/packages/{sha256}",
    openapi_extra={
        "requestBody": {
            "required": True,
            "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
        }
    },
)
async def take_package(sha256: str, request: Request, desk: TheDesk, person: SignedIn) -> PackageTold:
    """Take in a package file, streamed; it is kept only when its digest is the one in the address."""
    if not _SHA256.fullmatch(sha256):
        raise Invalid(
            f"{sha256!r} is no SHA-256 digest.",
            remedy="Write 64 hexadecimal digits, small letters.",
            code="digest-unfit",
        )
    arriving = await run_in_threadpool(desk.files.arriving, sha256, desk.settings.largest_package_bytes)
    try:
        gathered = bytearray()
        async for block in request.stream():
            gathered += block
            if len(gathered) >= _GATHER_BYTES:
                await run_in_threadpool(arriving.write, bytes(gathered))
                gathered.clear()
        await run_in_threadpool(arriving.write, bytes(gathered))
        return await run_in_threadpool(_keep, desk, person.id, arriving, sha256)
    except ClientDisconnect:
        raise Invalid(
            "The line was cut before the package had arrived.", remedy="Push it again.", code="package-cut-off"
        ) from None
    finally:
        await run_in_threadpool(arriving.discard)


def _keep(desk: Desk, person: str, arriving: ArrivingFile, sha256: str) -> PackageTold:
    facts = inspect_package(arriving.verified(), sha256)
    known_before = desk.files.holds(sha256)
    arriving.keep()
    with desk.act(person) as act:
        builds.keep_package(act, facts)
    return PackageTold(sha256=sha256, facts=facts, known_before=known_before)


@router.post("/apps/{app}/checks")
def check(app: str, wanted: CheckWanted, desk: TheDesk, _: SignedIn) -> SheetTold:
    """What stands against sending packages of these facts to a store, before any byte travels."""
    facts = [Facts.model_validate(entry) for entry in wanted.facts]
    return SheetTold(findings=findings_told(builds.check(desk, app, wanted.store, facts)))


@router.get("/apps/{app}/numbers")
def numbers(
    app: str, desk: TheDesk, _: SignedIn, store: Annotated[str, Query()], step: Step = Step.PATCH
) -> ProposalTold:
    """The version and number that may come next at a store, and why."""
    return shown.proposal(app, store, builds.next_numbers(desk, app, store, step))


@router.get("/apps/{app}/builds")
def of_app(app: str, desk: TheDesk, _: SignedIn) -> list[BuildTold]:
    with desk.look() as session:
        return [shown.build(session, row) for row in builds.of_app(session, app)]


@router.post("/apps/{app}/builds", status_code=201)
def enter(app: str, wanted: BuildWanted, desk: TheDesk, person: SignedIn) -> BuildTold:
    """Enter a build made of packages that have arrived; the same packages again are the same build."""
    with desk.act(person.id) as act:
        row, known_before = builds.enter(act, app, wanted.packages)
        return shown.build(act.session, row, known_before=known_before)


@router.get("/builds/{build}")
def one(build: str, desk: TheDesk, _: SignedIn) -> BuildTold:
    with desk.look() as session:
        return shown.build(session, find.build(session, build))


@router.post("/builds/{build}/consignments", status_code=202)
def push(build: str, wanted: PushWanted, desk: TheDesk, person: SignedIn) -> ConsignmentTold:
    """Send a build to a store; what does not fit is refused before the first byte goes there."""
    sent = builds.push(desk, person.id, build, wanted.store)
    with desk.look() as session:
        return shown.consignment(session, find.consignment(session, sent.id))


@router.get("/consignments/{consignment}")
def consignment(consignment: str, desk: TheDesk, _: SignedIn) -> ConsignmentTold:
    with desk.look() as session:
        return shown.consignment(session, find.consignment(session, consignment))


@router.post("/consignments/{consignment}/answers", status_code=202)
def answer(consignment: str, wanted: AnswersWanted, desk: TheDesk, person: SignedIn) -> ConsignmentTold:
    """Answer what the store holds the build for."""
    with desk.act(person.id) as act:
        return shown.consignment(act.session, builds.answer(act, consignment, wanted.answers))
