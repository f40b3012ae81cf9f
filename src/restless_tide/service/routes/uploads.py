"""Resumable uploads of package files by tus 1.0: core, creation, checksum, expiration and termination."""

from __future__ import annotations

import base64
from email.utils import format_datetime
from typing import Annotated

from fastapi import Header, Request, Response
from fastapi.concurrency import run_in_threadpool
from starlette.requests import ClientDisconnect

from restless_tide import tus
from restless_tide.core.errors import Conflict, Invalid, StaleView, TooLarge, UnknownMedia
from restless_tide.core.rights import Reach, Right
from restless_tide.desk import uploads
from restless_tide.desk.desk import Desk
from restless_tide.records.package_files import ArrivingFile
from restless_tide.records.tables import Upload
from restless_tide.service.rights import needs, open_to_anyone
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.builds import UploadTold

router = router_of("uploads", "/v1/uploads")

_EXTENSIONS = "creation,checksum,expiration,termination"
_GATHER_BYTES = 1024 * 1024
_CHUNK = {
    "requestBody": {"required": True, "content": {tus.CHUNK_TYPE: {"schema": {"type": "string", "format": "binary"}}}}
}
Version = Annotated[str | None, Header(alias="Tus-Resumable", description="1.0.0")]


@router.options("", status_code=204)
@open_to_anyone
def able(desk: TheDesk) -> Response:
    """What this endpoint can do."""
    headers = {
        **tus.SPOKEN,
        "Tus-Version": tus.VERSION,
        "Tus-Extension": _EXTENSIONS,
        "Tus-Max-Size": str(desk.settings.largest_package_bytes),
        "Tus-Checksum-Algorithm": ",".join(tus.CHECKSUMS),
    }
    return Response(status_code=204, headers=headers)


@router.get("")
@needs(Right.HAND_IN, Reach.SOME)
def unfinished(desk: TheDesk, person: SignedIn, sha256: str | None = None) -> list[UploadTold]:
    """Your unfinished uploads, so that they can go on from wherever you are."""
    with desk.look() as session:
        return [_told(desk, row) for row in uploads.unfinished(session, person.id, sha256)]


@router.post("", status_code=201)
@needs(Right.HAND_IN, Reach.SOME)
def begin(
    desk: TheDesk,
    person: SignedIn,
    length: Annotated[int, Header(alias="Upload-Length", gt=0, description="of the whole file, in bytes")],
    metadata: Annotated[
        str,
        Header(
            alias="Upload-Metadata",
            description="filename, and sha256 so that it is found again after a cut, each base64",
        ),
    ] = "",
    version: Version = None,
) -> Response:
    """Begin an upload, or find your unfinished one of the same bytes; its address is in Location."""
    _demand_version(version)
    given = _metadata(metadata)
    with desk.act(person.id) as act:
        upload = uploads.begin(act, desk, given.get("sha256", ""), length, given.get("filename", ""))
    offset = _arrived(desk, upload)
    return Response(status_code=201, headers=_headers(upload, offset) | {"Location": f"/v1/uploads/{upload.id}"})


@router.head("/{upload_id}")
@needs(Right.HAND_IN, Reach.SOME)
def offset(upload_id: str, desk: TheDesk, person: SignedIn) -> Response:
    """How far the upload has come."""
    with desk.look() as session:
        upload = uploads.one(session, person.id, upload_id)
    headers = _headers(upload, _arrived(desk, upload)) | {"Upload-Length": str(upload.size_bytes)}
    return Response(status_code=200, headers=headers | {"Cache-Control": "no-store"})


@router.patch("/{upload_id}", status_code=204, openapi_extra=_CHUNK)
@needs(Right.HAND_IN, Reach.SOME)
async def go_on(
    upload_id: str,
    request: Request,
    desk: TheDesk,
    person: SignedIn,
    at: Annotated[int, Header(alias="Upload-Offset", ge=0)],
    kind: Annotated[str, Header(alias="Content-Type")],
    checksum: Annotated[
        str | None, Header(alias="Upload-Checksum", description="sha1 or sha256, and the chunk's digest, base64")
    ] = None,
    version: Version = None,
) -> Response:
    """Send the bytes that come next, any number of them. With the last one the package is read and kept."""
    _demand_version(version)
    if kind != tus.CHUNK_TYPE:
        raise UnknownMedia(f"A chunk is sent as {tus.CHUNK_TYPE}.", code="content-type-unfit")
    wanted = _checksum(checksum)
    with desk.look() as session:
        upload = uploads.one(session, person.id, upload_id)
    if upload.finished_at is not None:
        if at != upload.size_bytes:
            raise Conflict("The upload is finished.", code="upload-finished")
        return Response(status_code=204, headers=_headers(upload, at))
    with desk.files.writing(upload.id, at) as file:
        if not await _take(request, file, upload.size_bytes, wanted):
            return Response(status_code=tus.CHECKSUM_DIFFERS, headers=_headers(upload, at))
        arrived = file.size_bytes
    if arrived == upload.size_bytes:
        await run_in_threadpool(uploads.finish, desk, person.id, upload)
    return Response(status_code=204, headers=_headers(upload, arrived))


@router.delete("/{upload_id}", status_code=204)
@needs(Right.HAND_IN, Reach.SOME)
def give_up(upload_id: str, desk: TheDesk, person: SignedIn) -> Response:
    """Give the upload up and drop what has arrived of it."""
    with desk.look() as session:
        upload = uploads.one(session, person.id, upload_id)
    uploads.drop(desk, person.id, upload)
    return Response(status_code=204, headers=tus.SPOKEN)


async def _take(request: Request, file: ArrivingFile, size_bytes: int, checksum: tus.Checksum | None) -> bool:
    """Write what comes; False when it is not what its checksum says. What came before a cut line stays, unless it has one."""
    gathered = bytearray()

    async def write() -> None:
        if file.size_bytes + len(gathered) > size_bytes:
            file.take_back()
            raise TooLarge(f"More bytes came than the {size_bytes} that were announced.", code="upload-overflows")
        block = bytes(gathered)
        gathered.clear()
        if checksum is not None:
            checksum.update(block)
        await run_in_threadpool(file.write, block)

    try:
        async for block in request.stream():
            gathered += block
            if len(gathered) >= _GATHER_BYTES:
                await write()
        await write()
    except ClientDisconnect:
        if checksum is not None:
            file.take_back()
        else:
            await write()
        return True
    if checksum is not None and not checksum.fits:
        file.take_back()
        return False
    return True


def _demand_version(version: str | None) -> None:
    if version != tus.VERSION:
        told = f"Tus-Resumable: {tus.VERSION}"
        raise StaleView(f"Uploads here speak tus {tus.VERSION}.", remedy=f"Send {told}", code="tus-version")


def _metadata(text: str) -> dict[str, str]:
    try:
        return tus.metadata_of(text)
    except ValueError as wrong:
        raise Invalid(f"The metadata {str(wrong)!r} is not base64.", code="metadata-unfit") from None


def _checksum(text: str | None) -> tus.Checksum | None:
    try:
        return tus.Checksum(text) if text is not None else None
    except ValueError as wrong:
        raise Invalid(str(wrong), code="checksum-unfit") from None


def _arrived(desk: Desk, upload: Upload) -> int:
    return upload.size_bytes if upload.finished_at is not None else desk.files.arrived_bytes(upload.id)


def _headers(upload: Upload, offset: int) -> dict[str, str]:
    done = {"Repr-Digest": f"sha-256=:{_base64_of(upload.sha256)}:"} if upload.finished_at is not None else {}
    return {
        **done,
        **tus.SPOKEN,
        "Upload-Offset": str(offset),
        "Upload-Expires": format_datetime(upload.expires_at, usegmt=True),
    }


def _base64_of(sha256: str) -> str:
    return base64.b64encode(bytes.fromhex(sha256)).decode()


def _told(desk: Desk, row: Upload) -> UploadTold:
    return UploadTold.of(row, address=f"/v1/uploads/{row.id}", offset_bytes=_arrived(desk, row))
