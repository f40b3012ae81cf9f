"""Files of pictures that a store holds and nobody put in here: fetched from it, so that they can be seen and taken over."""

from __future__ import annotations

import hashlib

import structlog
from sqlalchemy import select

from restless_tide.core.errors import Invalid, TooLarge
from restless_tide.core.picture_sets import set_at, unplaced_sets
from restless_tide.desk import app_pictures, find
from restless_tide.desk.desk import Desk
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import PictureFile

_log = structlog.get_logger("desk")


def fetch_held(desk: Desk, person: str, app_name: str, store_name: str) -> int:
    """Fetch the files of the sets that only the store has; returns how many came. One that is no picture stops no other.

    Raises StoreUnreachable or StoreRefused where the store does not hand them out.
    """
    with desk.look() as session:
        app = find.app(session, app_name)
        store = find.store(session, store_name)
        berth = find.berth(session, app, store)
        rules, given, reference = rules_of(store), app_pictures.at_berth(session, berth), berth.store_ref or ""
        held = [one for place in unplaced_sets(rules, given) for one in set_at(given.held, *place)]
        known = set(session.scalars(select(PictureFile.sha256).where(PictureFile.sha256.in_(held))))
        if store.hand_carried or not set(held) - known:
            return 0
        gateway = desk.gateway(store)
    came = 0
    for sha256 in dict.fromkeys(one for one in held if one not in known):
        content = gateway.dossier_picture(reference, sha256)
        if hashlib.sha256(content).hexdigest() != sha256:
            _log.warning("a store handed out another file than it names", store=store_name, sha256=sha256)
            continue
        part = desk.dossier_pictures.part()
        try:
            part.write_bytes(content)
            app_pictures.keep_file(desk, person, part, sha256)
            came += 1
        except (Invalid, TooLarge) as wrong:
            _log.warning("a file that a store holds is no picture", store=store_name, sha256=sha256, why=wrong.detail)
        finally:
            part.unlink(missing_ok=True)
    return came
