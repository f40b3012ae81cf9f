"""What each order about a dossier asks of a store, and what follows from the answer: texts, pictures, answers, goods."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from typing import Any

from sqlalchemy.orm import Session

from restless_tide.core.documents import DOCUMENT_TYPES, DocumentFormat
from restless_tide.core.errors import StoreRefused
from restless_tide.core.good import read_sold
from restless_tide.core.picture_rules import MEDIA_TYPES, PictureFormat
from restless_tide.desk import app_answers, app_goods, app_pictures, documents, held, parts
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.lanes import needed
from restless_tide.desk.parts import Part
from restless_tide.gateways import protocol
from restless_tide.gateways.way import Way
from restless_tide.records.tables import Berth, Order

Call = Callable[[Way], Any]


def write_texts(desk: Desk, session: Session, order: Order) -> Call:
    reference = needed(session, Berth, order.subject).store_ref or ""
    wanted = protocol.TextsRequest(texts=order.payload["texts"])
    return lambda way: way.write_texts(reference, wanted, order.id)


def write_pictures(desk: Desk, session: Session, order: Order) -> Call:
    berth = needed(session, Berth, order.subject)
    reference, sets = berth.store_ref or "", order.payload["pictures"]
    files = {one["sha256"] for classes in sets.values() for those in classes.values() for one in those}

    def call(way: Way, uploads: dict[str, str], key: str) -> protocol.PicturesAnswer:
        return way.write_pictures(reference, _pictures(sets, uploads), key)

    there = _there(session, order, berth, app_pictures.PART)
    return _with_files(desk, order, berth, files, there, protocol.PICTURE_UNKNOWN, call)


def _there(session: Session, order: Order, berth: Berth, part: Part[Any]) -> Collection[str]:
    """The files that the store held when the order was placed; of an order by an earlier release, those that it holds now."""
    told = order.payload.get(parts.THERE)
    return told if told is not None else part.files(held.rows(session, part.table, berth))


def _pictures(sets: dict[str, Any], uploads: dict[str, str]) -> protocol.PicturesRequest:
    """The sets of an order, each file with its upload, where it has one."""

    def sent(one: dict[str, Any]) -> protocol.PictureSent:
        media_type = MEDIA_TYPES[PictureFormat(one["format"])]
        return protocol.PictureSent(
            sha256=one["sha256"], media_type=media_type, size_bytes=one["size_bytes"], upload=uploads.get(one["sha256"])
        )

    pictures = {
        locale: {key: tuple(map(sent, files)) for key, files in classes.items()} for locale, classes in sets.items()
    }
    return protocol.PicturesRequest(pictures=pictures)


def _upload(desk: Desk, way: Way, key: str, berth: str, sha256: str) -> str:
    """Have the store take a file for the call under a key; returns the upload."""
    file = desk.dossier_files.path(sha256)
    with file.open("rb") as source:
        return way.send_package(berth, source, file.stat().st_size, f"{key}-{sha256[:16]}")


def write_answers(desk: Desk, session: Session, order: Order) -> Call:
    berth, answers = needed(session, Berth, order.subject), order.payload["answers"]
    files = documents.named_in(answers.values())
    reference = berth.store_ref or ""

    def call(way: Way, uploads: dict[str, str], key: str) -> protocol.DossierAnswersAnswer:
        wanted = protocol.DossierAnswersRequest(answers=answers, uploads=uploads)
        return way.write_answers(reference, wanted, key)

    there = _there(session, order, berth, app_answers.PART)
    return _with_files(desk, order, berth, files, there, protocol.DOCUMENT_UNKNOWN, call)


def write_goods(desk: Desk, session: Session, order: Order) -> Call:
    berth = needed(session, Berth, order.subject)
    goods = {name: read_sold(good) for name, good in order.payload["goods"].items()}
    reference = berth.store_ref or ""

    def call(way: Way, uploads: dict[str, str], key: str) -> protocol.GoodsAnswer:
        return way.write_goods(reference, protocol.GoodsRequest.of(goods, uploads), key)

    there = _there(session, order, berth, app_goods.PART)
    return _with_files(desk, order, berth, app_goods.pictures_in(goods), there, protocol.PICTURE_UNKNOWN, call)


def _with_files(
    desk: Desk,
    order: Order,
    berth: Berth,
    files: Collection[str],
    there: Collection[str],
    unknown: str,
    call: Callable[[Way, dict[str, str], str], Any],
) -> Call:
    """A call before which the files that the store does not hold are uploaded; a person takes all of them along.

    Where the store no longer holds one that it was seen to hold, and says ``unknown``, every file goes again.
    """
    reference, known_there = berth.store_ref or "", () if berth.store.hand_carried else there

    def made(way: Way, known: Collection[str], key: str) -> Any:
        lacking = sorted(set(files) - set(known))
        return call(way, {sha256: _upload(desk, way, key, reference, sha256) for sha256 in lacking}, key)

    def whole(way: Way) -> Any:
        try:
            return made(way, known_there, order.id)
        except StoreRefused as no:
            if no.code != unknown or not there:
                raise
        return made(way, (), f"{order.id}-whole")

    return whole


def attached(
    desk: Desk, way: Way, key: str, berth: str, files: Collection[Mapping[str, Any]]
) -> tuple[protocol.Attached, ...]:
    """Files for a reviewer, each uploaded for the call under a key."""
    return tuple(
        protocol.Attached(
            sha256=one["sha256"],
            name=one["name"],
            media_type=DOCUMENT_TYPES[DocumentFormat(one["format"])],
            size_bytes=one["size_bytes"],
            upload=_upload(desk, way, key, berth, one["sha256"]),
        )
        for one in files
    )


def written(part: Part[Any]) -> Callable[[Act, Order, Any], None]:
    """What follows when a store has taken a part of a dossier: it holds what its answer says."""

    def note(act: Act, order: Order, answer: Any) -> None:
        berth = needed(act.session, Berth, order.subject)
        parts.seen(act, berth, part, part.of(answer), answer.sequence)
        act.log(f"{part.noun} held", part.about(berth), app=berth.app.name)

    return note


def refused(part: Part[Any]) -> Callable[[Act, Order, str], None]:
    """What follows when it has refused them."""

    def note(act: Act, order: Order, reason: str) -> None:
        berth = needed(act.session, Berth, order.subject)
        parts.refused(act, berth, part, part.by_place(order.payload[part.noun]))
        act.log(f"{part.noun} refused", part.about(berth), app=berth.app.name, reason=reason)

    return note
