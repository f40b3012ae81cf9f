"""The signing register and the locker."""

from __future__ import annotations

import re
from typing import Annotated

from fastapi import Query, Request, Response

from restless_tide.core.rights import Right
from restless_tide.desk import expiries, find, locker, signing
from restless_tide.service import shown_builds
from restless_tide.service.bodies import A_FILE, whole_body
from restless_tide.service.rights import needs
from restless_tide.service.router import Reason, router_of
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.signing import (
    DeclareWanted,
    DeviceTold,
    DeviceWanted,
    ExpectWanted,
    HoldWanted,
    LockerFileTold,
    RegisterTold,
    ReplaceWanted,
    ReplacingTold,
    SigningTold,
)

router = router_of("signing", "/v1/apps/{app}")


@router.get("/signing")
@needs(Right.SEE)
def register(app: str, desk: TheDesk, _: SignedIn) -> RegisterTold:
    """Whose signature is expected, who holds the key, what is in the locker, what expires when."""
    with desk.look() as session:
        row = find.app(session, app)
        return RegisterTold(
            pages=[shown_builds.signing_page(page) for page in signing.pages(session, app)],
            devices=[shown_builds.device(device) for device in signing.devices(session, row)],
            locker=[shown_builds.locker_file(file) for file in locker.files(session, row)],
            expiries=[shown_builds.expiry(found) for found in expiries.of_app(session, row)],
        )


@router.put("/signing/expected")
@needs(Right.ARRANGE_APPS)
def expect(app: str, wanted: ExpectWanted, desk: TheDesk, person: SignedIn) -> SigningTold:
    """Expect another certificate from now on; the reason stands in the logbook."""
    with desk.act(person.id) as act:
        page = signing.expect(act, app, wanted.platform, wanted.build, wanted.sha256, wanted.reason)
        return shown_builds.signing_page(page)


@router.put("/signing/declared")
@needs(Right.ARRANGE_APPS)
def declare(app: str, wanted: DeclareWanted, desk: TheDesk, person: SignedIn) -> SigningTold:
    """Declare which permissions and rights the app is meant to ask for."""
    with desk.act(person.id) as act:
        return shown_builds.signing_page(signing.declare(act, app, wanted.platform, wanted.names, wanted.reason))


@router.put("/signing/holder")
@needs(Right.ARRANGE_APPS)
def hold(app: str, wanted: HoldWanted, desk: TheDesk, person: SignedIn) -> SigningTold:
    """Say who holds the signing key of an app."""
    with desk.act(person.id) as act:
        return shown_builds.signing_page(signing.hold(act, app, wanted.platform, wanted.holder, wanted.reason))


@router.post("/signing/replacements", status_code=201)
@needs(Right.ARRANGE_APPS)
def replace(app: str, wanted: ReplaceWanted, desk: TheDesk, person: SignedIn) -> ReplacingTold:
    """Replace a lost sender's key: steps for a person where a store holds on to the first one."""
    with desk.act(person.id) as act:
        steps = signing.replace(act, app, wanted.platform, wanted.sha256, wanted.reason)
        page = signing.page(act.session, find.app(act.session, app), wanted.platform)
        assert page is not None
        return ReplacingTold(page=shown_builds.signing_page(page), steps=[step.title for step in steps])


@router.post("/devices", status_code=201)
@needs(Right.ARRANGE_APPS)
def add_device(app: str, wanted: DeviceWanted, desk: TheDesk, person: SignedIn) -> DeviceTold:
    """Add a device to those that a signing profile covers."""
    with desk.act(person.id) as act:
        expires_at = wanted.expires_at
        return shown_builds.device(
            signing.add_device(act, app, wanted.platform, wanted.name, wanted.identifier, expires_at)
        )


@router.delete("/devices/{device}", status_code=204)
@needs(Right.ARRANGE_APPS)
def remove_device(app: str, device: str, desk: TheDesk, person: SignedIn) -> None:
    """Take a device out of those that a signing profile covers."""
    with desk.act(person.id) as act:
        signing.remove_device(act, app, device)


@router.put("/locker/{name}", openapi_extra=A_FILE)
@needs(Right.ARRANGE_APPS)
async def put_file(
    app: str,
    name: str,
    request: Request,
    desk: TheDesk,
    person: SignedIn,
    platform: Annotated[str, Query()],
    kind: Annotated[str, Query(description="certificate, key, profile or other")] = "other",
) -> LockerFileTold:
    """Put a file into the locker; it is sealed before it is written."""
    content = await whole_body(request, locker.LARGEST_BYTES, "locker file")
    with desk.act(person.id) as act:
        return shown_builds.locker_file(locker.put(act, desk, app, platform, kind, name, content))


@router.get("/locker/{name}/content", response_class=Response)
@needs(Right.FETCH_FILES)
def fetch_file(app: str, name: str, desk: TheDesk, person: SignedIn) -> Response:
    """Fetch a file out of the locker; that stands in the logbook."""
    with desk.act(person.id) as act:
        file, content = locker.fetch(act, desk, app, name)
    plain = re.sub(r"[^A-Za-z0-9._-]", "_", file.name)
    headers = {"Content-Disposition": f'attachment; filename="{plain}"', "Cache-Control": "no-store"}
    return Response(content, media_type="application/octet-stream", headers=headers)


@router.delete("/locker/{name}", status_code=204)
@needs(Right.ARRANGE_APPS)
def take_out(app: str, name: str, desk: TheDesk, person: SignedIn, reason: Reason = "") -> None:
    """Take a file out of the locker for good."""
    with desk.act(person.id) as act:
        locker.take_out(act, app, name, reason)
