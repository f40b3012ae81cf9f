"""The review desk: the last look, what reviewers are told, and the correspondence with them."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from fastapi.responses import FileResponse

from restless_tide.core.documents import DOCUMENT_TYPES
from restless_tide.core.rights import Right
from restless_tide.desk import correspondence, documents, find, last_look, reviewer_briefs
from restless_tide.desk.desk import Act
from restless_tide.service import shown_reviewing
from restless_tide.service.briefs import brief_change
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.routes.pictures import FILE_HEADERS, Digest
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.reviewing import BriefTold, BriefWanted, LookTold, MessageWanted, ReceivedWanted, ThreadTold

router = router_of("reviewing", "/v1/apps/{app}")


@router.get("/releases/{version}/look")
@needs(Right.SEE)
def look(
    app: str,
    version: str,
    desk: TheDesk,
    _: SignedIn,
    store: Annotated[
        str | None, Query(max_length=300, description="a store, or store/track; none: all of its places")
    ] = None,
) -> LookTold:
    """The last look before a hand-in: all that people and the reviewer will see, beside what is live now."""
    with desk.look() as session:
        now = desk.clock.now()
        return shown_reviewing.look(last_look.of_release(session, find.app(session, app), version, store, now), now)


@router.get("/reviewer-briefs")
@needs(Right.SEE)
def briefs(app: str, desk: TheDesk, _: SignedIn) -> list[BriefTold]:
    """What the reviewers of an app are told at each store, in every round."""
    with desk.look() as session:
        berths = sorted(find.app(session, app).berths, key=lambda berth: berth.store.name)
        return [shown_reviewing.brief(session, one, reviewer_briefs.of_berth(session, one)) for one in berths]


@router.patch("/reviewer-briefs/{store}")
@needs(Right.PREPARE)
def change_brief(app: str, store: str, wanted: BriefWanted, desk: TheDesk, person: SignedIn) -> BriefTold:
    """Change what the reviewers of an app are told at a store; what is left out stays."""
    with desk.act(person.id) as act:
        row = reviewer_briefs.change(act, app, store, brief_change(wanted))
        act.session.flush()
        berth = find.berth(act.session, find.app(act.session, app), find.store(act.session, store))
        return shown_reviewing.brief(act.session, berth, row)


@router.get("/releases/{version}/legs/{place:path}/messages")
@needs(Right.SEE)
def threads(app: str, version: str, place: str, desk: TheDesk, _: SignedIn) -> list[ThreadTold]:
    """The correspondence with the reviewers of a leg, the newest round first."""
    with desk.look() as session:
        return shown_reviewing.threads(session, correspondence.of_leg(session, app, version, place))


@router.post("/releases/{version}/legs/{place:path}/messages", status_code=202)
@needs(Right.STEER)
def write(
    app: str, version: str, place: str, wanted: MessageWanted, desk: TheDesk, person: SignedIn
) -> list[ThreadTold]:
    """Write to the reviewer of its last round."""
    with desk.act(person.id) as act:
        correspondence.write(act, app, version, place, wanted.words, wanted.files)
        return _threads(act, app, version, place)


@router.post("/releases/{version}/legs/{place:path}/appeals", status_code=202)
@needs(Right.STEER)
def appeal(
    app: str, version: str, place: str, wanted: MessageWanted, desk: TheDesk, person: SignedIn
) -> list[ThreadTold]:
    """Appeal against the refusal of its last round; the store looks at the same submission again."""
    with desk.act(person.id) as act:
        correspondence.appeal(act, app, version, place, wanted.words, wanted.files)
        return _threads(act, app, version, place)


@router.post("/releases/{version}/legs/{place:path}/received-messages", status_code=201)
@needs(Right.PREPARE)
def received(
    app: str, version: str, place: str, wanted: ReceivedWanted, desk: TheDesk, person: SignedIn
) -> list[ThreadTold]:
    """Enter what a reviewer wrote on the store's own pages or by mail."""
    with desk.act(person.id) as act:
        correspondence.note_received(act, app, version, place, wanted.words, wanted.files, asks=wanted.asks)
        return _threads(act, app, version, place)


def _threads(act: Act, app: str, version: str, place: str) -> list[ThreadTold]:
    act.session.flush()
    return shown_reviewing.threads(act.session, correspondence.of_leg(act.session, app, version, place))


@router.get("/review-messages/{message}/files/{sha256}", response_class=FileResponse)
@needs(Right.SEE)
def message_file(app: str, message: str, sha256: Digest, desk: TheDesk, _: SignedIn) -> FileResponse:
    """A file of a message."""
    with desk.look() as session:
        named = correspondence.file_of(session, app, message, sha256)
    found, place = documents.place_of(desk, sha256)
    return FileResponse(
        place, media_type=DOCUMENT_TYPES[found.format], filename=str(named["name"]), headers=FILE_HEADERS
    )
