"""The dossier of an app as a folder in one file, for people who work in a browser."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, TypeVar

from fastapi import Query, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import FileResponse
from starlette.background import BackgroundTask

from restless_tide.core.errors import Invalid
from restless_tide.core.rights import Right
from restless_tide.desk import making
from restless_tide.desk.desk import Desk
from restless_tide.folders import archive, exchange
from restless_tide.folders.files import DossierFolder
from restless_tide.service.bodies import A_FILE, body_to_file
from restless_tide.service.dossier_here import DossierHere
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.folders import FolderChangeTold, FolderCheckTold, FolderTakenTold

router = router_of("folders", "/v1/apps/{app}/dossier")
FOLDER = "dossier"
T = TypeVar("T")


@router.get("/folder", response_class=FileResponse)
@needs(Right.SEE)
def fetch_folder(
    app: str,
    desk: TheDesk,
    person: SignedIn,
    store: Annotated[
        str | None,
        Query(max_length=100, description="what this store gets, under its own names; none: all, as it is here"),
    ] = None,
) -> FileResponse:
    """The dossier as a folder, in a ZIP archive."""
    around = Path(tempfile.mkdtemp(prefix="tide-folder-"))
    try:
        folder, packed = DossierFolder(around / FOLDER), around / "packed.zip"
        here = DossierHere(desk, person.id)
        if store is None:
            exchange.fetch(here, folder, app)
        else:
            exchange.export(here, folder, app, store)
        archive.pack(folder.path, packed)
    except BaseException:
        shutil.rmtree(around, ignore_errors=True)
        raise
    name = "-".join(filter(None, (app, store, f"{FOLDER}.zip")))
    away = BackgroundTask(shutil.rmtree, around, ignore_errors=True)
    return FileResponse(packed, media_type="application/zip", filename=name, background=away)


@router.post("/folder-checks", openapi_extra=A_FILE)
@needs(Right.PREPARE)
async def check_folder(app: str, request: Request, desk: TheDesk, person: SignedIn) -> FolderCheckTold:
    """Hold a folder, in a ZIP archive, against the desk: what it would change, and what each store would say. Nothing is written."""
    here = DossierHere(desk, person.id)

    def work(folder: DossierFolder) -> FolderCheckTold:
        changes = [FolderChangeTold.told(one) for one in exchange.differences(here, folder)]
        return FolderCheckTold(changes=changes, stores=exchange.check(here, folder))

    return await _with_folder(app, request, desk, work)


@router.post("/folders", status_code=201, openapi_extra=A_FILE)
@needs(Right.PREPARE)
async def take_folder(app: str, request: Request, desk: TheDesk, person: SignedIn) -> FolderTakenTold:
    """Write at the desk what was changed in a folder, in a ZIP archive, since both last agreed; what both changed stops it."""
    here = DossierHere(desk, person.id)

    def work(folder: DossierFolder) -> FolderTakenTold:
        changed = exchange.hand_over(here, folder)
        making.make_for(desk, app)
        return FolderTakenTold(written=[place.told() for place in changed])

    return await _with_folder(app, request, desk, work)


async def _with_folder(app: str, request: Request, desk: Desk, work: Callable[[DossierFolder], T]) -> T:
    part = desk.dossier_files.part()
    try:
        await body_to_file(request, part, archive.LARGEST_ARCHIVE_BYTES, "folder")
        return await run_in_threadpool(_unpacked, app, part, work)
    finally:
        part.unlink(missing_ok=True)


def _unpacked(app: str, packed: Path, work: Callable[[DossierFolder], T]) -> T:
    with tempfile.TemporaryDirectory(prefix="tide-folder-") as around:
        folder = DossierFolder(archive.unpack(packed, Path(around)))
        if folder.app() != app:
            raise Invalid(f"This is the folder of {folder.app()}, not of {app}.", code="folder-unfit")
        return work(folder)
