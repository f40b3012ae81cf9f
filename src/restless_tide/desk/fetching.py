"""Files that a store holds and nobody put in here: fetched from it, so that they can be seen and taken over."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import structlog
from sqlalchemy import select

from restless_tide.core.answers import ungiven
from restless_tide.core.documents import FileAnswer
from restless_tide.core.errors import Invalid, TooLarge
from restless_tide.core.goods import unentered_goods
from restless_tide.core.picture_sets import set_at, unplaced_sets
from restless_tide.desk import app_answers, app_goods, app_pictures, documents, find
from restless_tide.desk.desk import Desk
from restless_tide.desk.stores import rules_of
from restless_tide.records.digest_files import digest_of
from restless_tide.records.tables import Document, PictureFile

_log = structlog.get_logger("desk")


def fetch_held(desk: Desk, person: str, app_name: str, store_name: str) -> int:
    """Fetch the pictures and documents that only the store has; returns how many came. An unfit one stops no other.

    Raises StoreUnreachable or StoreRefused where the store does not hand them out.
    """
    with desk.look() as session:
        app = find.app(session, app_name)
        store = find.store(session, store_name)
        berth = find.berth(session, app, store)
        rules, reference = rules_of(store), berth.store_ref or ""
        shown, sold = app_pictures.at_berth(session, berth), app_goods.at_berth(session, berth)
        pictures = {one for place in unplaced_sets(rules, shown) for one in set_at(shown.held, *place)}
        pictures |= app_goods.pictures_in({name: sold.held[name] for name in unentered_goods(sold)})
        answered = ungiven(rules, app_answers.at_berth(session, berth)).values()
        papers = {one.sha256: one.name for one in answered if isinstance(one, FileAnswer)}
        here = set(session.scalars(select(PictureFile.sha256).where(PictureFile.sha256.in_(pictures))))
        here |= set(session.scalars(select(Document.sha256).where(Document.sha256.in_(papers))))
        if store.hand_carried or not {*pictures, *papers} - here:
            return 0
        gateway = desk.gateway(store)
    came = 0
    for sha256 in sorted(pictures - here):
        fetch = partial(gateway.dossier_picture, reference, sha256)
        came += _kept(desk, store_name, sha256, fetch, partial(app_pictures.keep_file, desk, person, sha256=sha256))
    for sha256, name in papers.items():
        if sha256 not in here:
            fetch = partial(gateway.dossier_document, reference, sha256)
            came += _kept(desk, store_name, sha256, fetch, partial(documents.keep_file, desk, person, name=name))
    return came


def _kept(
    desk: Desk, store_name: str, sha256: str, fetch: Callable[[Path], None], keep: Callable[[Path], object]
) -> bool:
    """Keep what a store hands out; whether it is what it was said to be."""
    part = desk.dossier_files.part()
    try:
        fetch(part)
        if digest_of(part) != sha256:
            _log.warning("a store handed out another file than it names", store=store_name, sha256=sha256)
            return False
        keep(part)
    except (Invalid, TooLarge) as wrong:
        _log.warning("a file that a store holds is unfit", store=store_name, sha256=sha256, why=wrong.detail)
        return False
    finally:
        part.unlink(missing_ok=True)
    return True
