"""Documents that answer questions, and their files."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import FileResponse

from restless_tide.core.documents import DOCUMENT_TYPES
from restless_tide.core.limits import LARGEST_DOCUMENT_BYTES, LONGEST_FILE_NAME
from restless_tide.core.rights import Reach, Right
from restless_tide.desk import documents
from restless_tide.service import shown_questions
from restless_tide.service.bodies import A_FILE, body_to_file
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.routes.pictures import FILE_HEADERS, Digest
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.dossier import DocumentTold

router = router_of("documents", "/v1/documents")


@router.post("", status_code=201, openapi_extra=A_FILE)
@needs(Right.PREPARE, Reach.SOME)
async def keep(
    request: Request,
    desk: TheDesk,
    person: SignedIn,
    name: Annotated[str, Query(max_length=LONGEST_FILE_NAME, description="such as permission.pdf")],
) -> DocumentTold:
    """Put a document in; an answer names it as it is told here. Documents that no answer names are dropped after a while."""
    part = desk.dossier_files.part()
    try:
        await body_to_file(request, part, LARGEST_DOCUMENT_BYTES, "document")
        found = await run_in_threadpool(documents.keep_file, desk, person.id, part, name)
    finally:
        part.unlink(missing_ok=True)
    return shown_questions.document(found)


@router.get("/{sha256}", response_class=FileResponse)
@needs(Right.SEE, Reach.SOME)
def fetch(sha256: Digest, desk: TheDesk, _: SignedIn) -> FileResponse:
    """A document as it is."""
    found, place = documents.place_of(desk, sha256)
    return FileResponse(place, media_type=DOCUMENT_TYPES[found.format], filename=found.name, headers=FILE_HEADERS)
