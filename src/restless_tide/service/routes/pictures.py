"""The pictures and films of an app's dossier, and their files."""

from __future__ import annotations

from pathlib import Path as FilePath
from typing import Annotated

from fastapi import Header, Path, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import FileResponse

from restless_tide.core.limits import LARGEST_FILM_BYTES
from restless_tide.core.rights import Reach, Right
from restless_tide.desk import app_pictures, find, importing, making
from restless_tide.desk.desk import Desk
from restless_tide.service import shown_pictures
from restless_tide.service.bodies import A_FILE, body_to_file
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.routes.dossier import read_revision
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.pictures import (
    PictureFileTold,
    PictureImportTold,
    PictureImportWanted,
    PicturesTold,
    PicturesWanted,
    RecognisedTold,
)

router = router_of("pictures", "/v1")
Digest = Annotated[str, Path(pattern=r"^[0-9a-f]{64}$", description="SHA-256 in hexadecimal digits")]
FILE_HEADERS = {
    "Cache-Control": "private, max-age=86400, immutable",
    "Content-Security-Policy": "default-src 'none'",
    "X-Content-Type-Options": "nosniff",
}


@router.post("/pictures", status_code=201, openapi_extra=A_FILE)
@needs(Right.PREPARE, Reach.SOME)
async def keep(request: Request, desk: TheDesk, person: SignedIn) -> PictureFileTold:
    """Put a file of a picture or a film in; a set names it by its digest. Files that no set names are dropped after a while."""
    part = desk.dossier_files.part()
    try:
        sha256 = await body_to_file(request, part, LARGEST_FILM_BYTES, "film")
        return await run_in_threadpool(_keep, desk, person.id, part, sha256)
    finally:
        part.unlink(missing_ok=True)


def _keep(desk: Desk, person: str, part: FilePath, sha256: str) -> PictureFileTold:
    return shown_pictures.file(app_pictures.keep_file(desk, person, part, sha256))


@router.get("/pictures/{sha256}", response_class=FileResponse)
@needs(Right.SEE, Reach.SOME)
def fetch(sha256: Digest, desk: TheDesk, _: SignedIn) -> FileResponse:
    """A file that was put in, or made for a store, as it is."""
    kind, place = app_pictures.known_file(desk, sha256)
    media_type = shown_pictures.media_type(kind)
    ending = media_type.partition("/")[2]
    return FileResponse(place, media_type=media_type, filename=f"{sha256[:12]}.{ending}", headers=FILE_HEADERS, content_disposition_type="inline")  # fmt: skip


@router.get("/pictures/{sha256}/small", response_class=FileResponse)
@needs(Right.SEE, Reach.SOME)
def fetch_small(sha256: Digest, desk: TheDesk, _: SignedIn) -> FileResponse:
    """A small copy of a picture, or of the first moment of a film, as WebP."""
    return FileResponse(making.small_copy(desk, sha256), media_type="image/webp", headers=FILE_HEADERS)


@router.get("/apps/{app}/dossier/pictures")
@needs(Right.SEE)
def read_pictures(app: str, desk: TheDesk, _: SignedIn) -> PicturesTold:
    """The pictures of an app as they are put in, and what each store gets of them."""
    with desk.look() as session:
        return shown_pictures.pictures_of(session, find.app(session, app))


@router.put("/apps/{app}/dossier/pictures/{locale}/{picture_class}")
@needs(Right.PREPARE)
def put_pictures(
    app: str,
    locale: Annotated[str, Path(description="BCP 47, such as en or de-AT")],
    picture_class: str,
    wanted: PicturesWanted,
    desk: TheDesk,
    person: SignedIn,
    if_match: Annotated[
        str | None, Header(description="the revision of the set as you read it; 0 for one that was not there")
    ] = None,
) -> PicturesTold:
    """Have these pictures be a set, in this order, for all stores or for one alone; an empty list takes the set out."""
    with desk.act(person.id) as act:
        revision = read_revision(if_match)
        app_pictures.put(act, app, locale, picture_class, wanted.pictures, wanted.store, revision)
    making.make_for(desk, app)
    with desk.look() as session:
        return shown_pictures.pictures_of(session, find.app(session, app))


@router.post("/apps/{app}/dossier/picture-imports")
@needs(Right.PREPARE)
def import_pictures(app: str, wanted: PictureImportWanted, desk: TheDesk, person: SignedIn) -> PictureImportTold:
    """Put files in where they belong by their sides and their names, in the order of the names."""
    files = [importing.Named(one.sha256, one.name) for one in wanted.files]
    with desk.act(person.id) as act:
        found = importing.place(act, app, files, instead=wanted.instead, trial=wanted.trial)
    if not wanted.trial:
        making.make_for(desk, app)
    return PictureImportTold(
        files=[RecognisedTold.of(one) for one in found],
        put_in=0 if wanted.trial else sum(not one.why for one in found),
    )
