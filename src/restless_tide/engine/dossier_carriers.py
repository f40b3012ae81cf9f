"""What each order about a dossier asks of a store, and what follows from the answer: texts, pictures, answers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlalchemy.orm import Session

from restless_tide.core.errors import StoreRefused
from restless_tide.core.picture_rules import MEDIA_TYPES, PictureFormat
from restless_tide.desk import held, parts
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.lanes import needed
from restless_tide.desk.parts import Part
from restless_tide.gateways import protocol
from restless_tide.gateways.way import Way
from restless_tide.records.tables import Berth, HeldPictures, Order

Call = Callable[[Way], Any]


def write_texts(desk: Desk, session: Session, order: Order) -> Call:
    reference = needed(session, Berth, order.subject).store_ref or ""
    wanted = protocol.TextsRequest(texts=order.payload["texts"])
    return lambda way: way.write_texts(reference, wanted, order.id)


def write_pictures(desk: Desk, session: Session, order: Order) -> Call:
    berth = needed(session, Berth, order.subject)
    reference, sets = berth.store_ref or "", order.payload["pictures"]
    rows = held.rows(session, HeldPictures, berth).values()
    there = frozenset(sha256 for row in rows for sha256 in row.files)
    by_hand = berth.store.hand_carried

    def call(way: Way) -> protocol.PicturesAnswer:
        try:
            return way.write_pictures(reference, _pictures(desk, way, order, reference, sets, there, by_hand), order.id)
        except StoreRefused as no:
            if no.code != protocol.PICTURE_UNKNOWN or not there:
                raise
        # the store no longer holds a file that it was seen to hold: every file goes again
        whole = _pictures(desk, way, order, reference, sets, frozenset(), by_hand)
        return way.write_pictures(reference, whole, f"{order.id}-whole")

    return call


def _pictures(
    desk: Desk, way: Way, order: Order, berth: str, sets: dict[str, Any], there: frozenset[str], by_hand: bool
) -> protocol.PicturesRequest:
    """The sets of an order, the files that the store does not hold uploaded before; a person takes all of them along."""
    uploads: dict[str, str] = {}
    pictures: dict[str, dict[str, tuple[protocol.PictureSent, ...]]] = {}
    for locale, classes in sets.items():
        for key, files in classes.items():
            sent = []
            for one in files:
                sha256, size_bytes = one["sha256"], one["size_bytes"]
                if not by_hand and sha256 not in there and sha256 not in uploads:
                    with desk.dossier_pictures.path(sha256).open("rb") as source:
                        uploads[sha256] = way.send_package(berth, source, size_bytes, f"{order.id}-{sha256[:16]}")
                media_type = MEDIA_TYPES[PictureFormat(one["format"])]
                sent.append(
                    protocol.PictureSent(
                        sha256=sha256, media_type=media_type, size_bytes=size_bytes, upload=uploads.get(sha256)
                    )
                )
            pictures.setdefault(locale, {})[key] = tuple(sent)
    return protocol.PicturesRequest(pictures=pictures)


def write_answers(desk: Desk, session: Session, order: Order) -> Call:
    reference = needed(session, Berth, order.subject).store_ref or ""
    wanted = protocol.DossierAnswersRequest(answers=order.payload["answers"])
    return lambda way: way.write_answers(reference, wanted, order.id)


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
