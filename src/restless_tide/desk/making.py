"""What stores get of pictures is made of the originals in the background, each file once, and kept under its digest.

So what a store would say of a file is known before anything is sent.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path

import structlog
from sqlalchemy import delete, or_, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import LostLease, TideError
from restless_tide.core.goods import good_recipes
from restless_tide.core.order import OrderKind
from restless_tide.core.picture_sets import recipes
from restless_tide.core.pictures import Recipe
from restless_tide.desk import app_goods, app_pictures, documents, find, lanes
from restless_tide.desk.desk import ENGINE, Desk
from restless_tide.desk.stores import carrying, rules_of
from restless_tide.records.tables import (
    App,
    AppAnswer,
    AppGood,
    AppPictureSet,
    Document,
    HeldAnswer,
    HeldPictures,
    IconLikeness,
    MadePicture,
    PictureFile,
)

SMALL_SIDE = 480
"""Pixels of the longer side of a small copy."""
UNUSED_DAYS = 30
"""A file that nothing names any more is kept so long, so that what was taken out can be put in again."""
_log = structlog.get_logger("desk")


@dataclass(frozen=True)
class Comparison:
    """An icon to be held against the one inside a package, both by their digests."""

    original: str
    package: str


def make_all(desk: Desk) -> int:
    """Make what any store gets and is not made yet; returns how much. One app stops no other."""
    with desk.look() as session:
        having = or_(*(App.id.in_(select(table.app_id)) for table in (AppPictureSet, AppGood)))
        names = list(session.scalars(select(App.name).where(having, App.retired_at.is_(None))))
    done = 0
    for name in names:
        try:
            done += make_for(desk, name, again=True)
        except LostLease:
            raise
        except TideError as wrong:
            _log.warning("the pictures of an app could not be made", app=name, why=wrong.detail)
    return done


def make_for(desk: Desk, app_name: str, *, again: bool = False) -> int:
    """The same for one app. ``again``: also what could not be made before, such as for want of memory."""
    with desk.look() as session:
        app = find.app(session, app_name)
        wanted = list(_wanted(session, app, again))
        comparison = _comparison(session, app)
    done = 0
    for recipe in dict.fromkeys(wanted):
        try:
            _make(desk, recipe)
            done += 1
        except LostLease:
            raise
        except TideError as wrong:
            _log.warning("a picture could not be made", original=recipe.original, why=wrong.detail)
            _note(desk, recipe, MadePicture(sha256="", size_bytes=0, trouble=wrong.detail))
    if comparison is not None:
        _compare(desk, comparison)
    return done


def _wanted(session: Session, app: App, again: bool) -> Iterator[Recipe]:
    berths = {berth.store_id: berth for berth in app.berths}
    for store in carrying(session, app):
        berth = berths.get(store.id)
        given = app_pictures.at_berth(session, berth) if berth is not None else app_pictures.unplaced(session, app)
        sold = app_goods.at_berth(session, berth) if berth is not None else app_goods.unplaced(session, app, store)
        for recipe in (*recipes(rules_of(store), given), *good_recipes(rules_of(store), sold)):
            made = given.made.get(recipe.key) or sold.made.get(recipe.key)
            if made is None or (again and made.trouble):
                yield recipe


def _make(desk: Desk, recipe: Recipe) -> None:
    part = desk.dossier_files.part()
    try:
        desk.reader.make_picture(desk.dossier_files.path(recipe.original), recipe, part)
        size_bytes, sha256 = part.stat().st_size, desk.dossier_files.adopt(part)
    finally:
        part.unlink(missing_ok=True)
    _note(desk, recipe, MadePicture(sha256=sha256, size_bytes=size_bytes, trouble=""))


def _note(desk: Desk, recipe: Recipe, made: MadePicture) -> None:
    """Keep the result of a recipe, in the place of an earlier one."""
    made.recipe, made.original, made.format = recipe.key, recipe.original, recipe.format
    made.width, made.height = recipe.width, recipe.height
    with desk.act(ENGINE) as act:
        act.session.merge(made)


def _comparison(session: Session, app: App) -> Comparison | None:
    """The icons that are to be compared, unless they were."""
    language = app_pictures.language_of(app)
    sets = app_pictures.shared(app_pictures.of_app(session, app))
    icon, package = app_pictures.icon_of(sets, language), app_pictures.newest_package(session, app)
    if icon is None or package is None or session.get(IconLikeness, (icon, package)) is not None:
        return None
    return Comparison(icon, package)


def _compare(desk: Desk, wanted: Comparison) -> None:
    icon, package = desk.dossier_files.path(wanted.original), desk.files.path(wanted.package)
    apart = None
    try:
        apart = desk.reader.icons_apart(icon, package)
    except TideError as wrong:
        _log.warning("two icons could not be compared", original=wanted.original, why=wrong.detail)
    with desk.act(ENGINE) as act:
        if act.session.get(IconLikeness, (wanted.original, wanted.package)) is None:
            act.session.add(IconLikeness(original=wanted.original, package=wanted.package, apart=apart))


def small_copy(desk: Desk, sha256: str) -> Path:
    """Where a small copy of a file lies; it is made when it is first asked for. Raises NotFound."""
    _, source = app_pictures.known_file(desk, sha256)
    place = desk.small_pictures / f"{sha256}.webp"
    if not place.exists():
        place.parent.mkdir(parents=True, exist_ok=True)
        part = place.with_name(f"{secrets.token_hex(8)}.part")
        try:
            desk.reader.reduce_picture(source, SMALL_SIDE, part)
            part.replace(place)
        finally:
            part.unlink(missing_ok=True)
    return place


def drop_unused(desk: Desk) -> int:
    """Remove files that no set and no store has named for long; returns how many originals went."""
    with desk.act(ENGINE) as act:
        session = act.session
        named = {one for pictures in session.scalars(select(AppPictureSet.pictures)) for one in pictures}
        named |= app_goods.pictures_entered(session)
        there = (
            _ordered(session)
            | app_goods.pictures_there(session)
            | {one for files in session.scalars(select(HeldPictures.files)) for one in files}
        )
        old = select(PictureFile.sha256).where(PictureFile.kept_at < act.now - timedelta(days=UNUSED_DAYS))
        unused = [sha256 for sha256 in session.scalars(old) if sha256 not in named | there]
        made = (
            set(session.scalars(select(MadePicture.sha256).where(MadePicture.original.in_(unused))))
            if unused
            else set()
        )
        if unused:
            session.execute(delete(MadePicture).where(MadePicture.original.in_(unused)))
            session.execute(delete(IconLikeness).where(IconLikeness.original.in_(unused)))
            session.execute(delete(PictureFile).where(PictureFile.sha256.in_(unused)))
        session.flush()
        still = set(session.scalars(select(MadePicture.sha256).where(MadePicture.sha256.in_(made)))) if made else set()
        documented = _documents(session)
        old_documents = documents.drop_unused(act, documented, UNUSED_DAYS)
        kept = set(session.scalars(select(PictureFile.sha256))) | set(session.scalars(select(Document.sha256)))
        gone = {*unused, *made, *old_documents} - {""} - still - named - there - kept
        act.afterwards(lambda: _drop_files(desk, gone))
    return len(unused) + len(old_documents)


def _documents(session: Session) -> set[str]:
    """The documents that an answer names, here or at a store, or one that is on its way."""
    waiting = lanes.pending_payloads(session, OrderKind.WRITE_ANSWERS)
    here = documents.named_in(session.scalars(select(AppAnswer.answer)))
    there = documents.named_in(session.scalars(select(HeldAnswer.answer)))
    shown = documents.for_reviewers(session)
    return here | there | shown | {one for sent in waiting for one in documents.named_in(sent["answers"].values())}


def _ordered(session: Session) -> set[str]:
    """The files that are on their way to stores."""
    return {
        str(one["sha256"])
        for payload in lanes.pending_payloads(session, OrderKind.WRITE_PICTURES)
        for sets in payload["pictures"].values()
        for files in sets.values()
        for one in files
    }


def _drop_files(desk: Desk, digests: set[str]) -> None:
    for sha256 in digests:
        desk.dossier_files.drop(sha256)
        (desk.small_pictures / f"{sha256}.webp").unlink(missing_ok=True)
