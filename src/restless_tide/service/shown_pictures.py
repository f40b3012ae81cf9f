"""The pictures of a dossier as the service shows them."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.catalogue import catalogue
from restless_tide.core.graph import Standing
from restless_tide.core.picture_rules import MEDIA_TYPES, PictureFormat
from restless_tide.core.picture_sets import (
    MOST_APART,
    Digests,
    PicturesAt,
    Piece,
    SetTaken,
    check_sets,
    differing_sets,
    picture_lock_told,
    set_at,
    state_of_set,
    taken_sets,
    unplaced_sets,
)
from restless_tide.core.pictures import PictureFacts, sides_told
from restless_tide.core.rulebook import Rulebook
from restless_tide.core.texts import TextState
from restless_tide.desk import app_pictures
from restless_tide.desk.locks import standing_at
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, AppPictureSet, Berth, IconLikeness, Person
from restless_tide.wire.pictures import (
    IconsTold,
    PictureClassTold,
    PictureFileTold,
    PictureSetTold,
    PicturesTold,
    PieceTold,
    StoreClassTold,
    StorePicturesTold,
    StoreSetTold,
)
from restless_tide.wire.problems import findings_told

_GIF = "image/gif"


def file(facts: PictureFacts) -> PictureFileTold:
    return PictureFileTold.of(facts, media_type=media_type(facts.format))


def media_type(kind: str) -> str:
    """The media type of a file in one of the formats that are taken here."""
    return MEDIA_TYPES[PictureFormat(kind)] if kind in set(PictureFormat) else _GIF


def pictures_of(session: Session, app: App) -> PicturesTold:
    """All pictures of an app: as they are put in, and as each store gets them."""
    rows = app_pictures.of_app(session, app)
    files = app_pictures.files_of(session, {one for row in rows for one in row.pictures})
    people = {person.id: person.name for person in session.scalars(select(Person))}
    named = {berth.id: berth.store.name for berth in app.berths}
    berths = [berth for berth in app.berths if berth.store.in_use and rules_of(berth.store).listing.pictures]
    return PicturesTold(
        app=app.name,
        locales=sorted({row.locale for row in rows}),
        classes=[PictureClassTold(key=key, **meaning.model_dump()) for key, meaning in catalogue().pictures.items()],
        sets=[_set(row, files, people, named) for row in rows],
        stores=[_at_store(session, berth) for berth in berths],
        icons=_icons(session, app, rows),
    )


def _set(
    row: AppPictureSet, files: dict[str, PictureFacts], people: dict[str, str], stores: dict[str, str]
) -> PictureSetTold:
    return PictureSetTold.of(
        row,
        store=stores.get(row.berth_id) if row.berth_id else None,
        pictures=[file(files[one]) for one in row.pictures],
        changed_by=people.get(row.changed_by, row.changed_by),
    )


def _icons(session: Session, app: App, rows: list[AppPictureSet]) -> IconsTold | None:
    icon = app_pictures.icon_of(app_pictures.shared(rows), app_pictures.language_of(app))
    package = app_pictures.newest_package(session, app)
    if icon is None or package is None:
        return None
    likeness = session.get(IconLikeness, (icon, package))
    apart = likeness.apart if likeness is not None else None
    return IconsTold(original=icon, package=package, apart=apart, alike=None if apart is None else apart <= MOST_APART)


def _at_store(session: Session, berth: Berth) -> StorePicturesTold:
    rules, given, standing = rules_of(berth.store), app_pictures.at_berth(session, berth), standing_at(session, berth)
    listing, changed = rules.listing, differing_sets(rules, given)
    got = taken_sets(rules, given)
    there, alone = {(one.locale, one.key) for one in got}, unplaced_sets(rules, given)
    others = [place for place in changed if place not in there] + alone
    told = [*(_got(given, one) for one in got), *(_held_alone(given, *place) for place in others)]
    return StorePicturesTold(
        store=berth.store.name,
        store_title=rules.store,
        language=berth.language,
        locales=list(listing.locales),
        classes=[_class(rules, key, standing) for key in listing.pictures],
        sets=told,
        findings=findings_told(check_sets(rules, given, listing.pictures)),
        unwritten=len(alone),
        differing=len(changed),
        refused_because=given.refused_because if any(one.state is TextState.REFUSED for one in told) else "",
        hand_carried=berth.store.hand_carried,
    )


def _class(rules: Rulebook, key: str, standing: Standing) -> StoreClassTold:
    rule = rules.listing.pictures[key]
    return StoreClassTold.of(
        rule,
        key=key,
        means=rules.listing.picture_meaning(key),
        title=rules.listing.picture_title(key),
        form=rules.listing.picture_form(key),
        formats=list(rules.listing.picture_formats(key)),
        sides=sides_told(rule),
        largest_bytes=rules.listing.largest_file(key),
        also_from=list(rule.also_from),
        lock=picture_lock_told(rules, key, standing),
    )


def _got(given: PicturesAt, one: SetTaken) -> StoreSetTold:
    return StoreSetTold(
        locale=one.locale,
        picture_class=one.key,
        origin=one.origin,
        serves=one.serves,
        state=state_of_set(given, one.locale, one.key, one.files),
        pieces=[_piece(piece) for piece in one.pieces],
        held=list(set_at(given.held, one.locale, one.key)),
    )


def _piece(piece: Piece) -> PieceTold:
    recipe, original = piece.fit.recipe, piece.original
    return PieceTold(
        original=original.sha256,
        file=piece.file,
        as_it_is=recipe is None and not piece.fit.code,
        format=recipe.format if recipe else original.format,
        width=recipe.width if recipe else original.width,
        height=recipe.height if recipe else original.height,
        size_bytes=piece.size_bytes,
        cut=piece.fit.cut,
        flat=piece.fit.flat,
        why=piece.fit.why,
    )


def _held_alone(given: PicturesAt, locale: str, key: str) -> StoreSetTold:
    """What the store holds, and nobody has put in here, or has taken out."""
    emptied: Digests = ()
    return StoreSetTold(
        locale=locale,
        picture_class=key,
        origin=None,
        serves=key,
        state=state_of_set(given, locale, key, emptied),
        pieces=[],
        held=list(set_at(given.held, locale, key)),
    )
