"""The pictures of an app: put in once for all stores, or for one store alone; sent where they differ.

What is locked at a store is kept and sent automatically as soon as the lock opens.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

from sqlalchemy import Row, delete, select
from sqlalchemy.orm import Session

from restless_tide.core.catalogue import catalogue
from restless_tide.core.errors import Finding, Invalid, Level, NotFound
from restless_tide.core.limits import MOST_PICTURES
from restless_tide.core.locales import locale_of
from restless_tide.core.order import OrderKind
from restless_tide.core.picture_rules import PictureFormat
from restless_tide.core.picture_sets import (
    ICON,
    Digests,
    PicturesAt,
    Sets,
    against_sending_sets,
    check_sets,
    differing_sets,
    place_of_set,
    set_at,
    taken_sets,
    unplaced_sets,
)
from restless_tide.core.pictures import Made, PictureFacts
from restless_tide.core.rulebook import Rulebook
from restless_tide.desk import find, lanes, retiring, revisions
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.parts import Part, Wanting, flat, nested
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import (
    App,
    AppPictureSet,
    Berth,
    HeldPictures,
    IconLikeness,
    MadePicture,
    Package,
    PictureFile,
    Store,
)

Files = Mapping[str, Mapping[str, Sequence[str]]]
"""By locale and class: digests of files."""
Place = tuple[str, str]
"""A locale and a class."""
_FACTS = ("sha256", "format", "width", "height", "size_bytes", "transparent", "plain", "seconds", "codec")


def of_app(session: Session, app: App) -> list[AppPictureSet]:
    """Every set of an app, those of one store among them; without those that were taken out."""
    found = select(AppPictureSet).where(AppPictureSet.app_id == app.id)
    rows = session.scalars(found.order_by(AppPictureSet.picture_class, AppPictureSet.locale))
    return [row for row in rows if row.pictures]


def keep_file(desk: Desk, person: str, part: Path, sha256: str) -> PictureFacts:
    """Keep the file at ``part``, which is this digest's. Raises Invalid or TooLarge for what is no picture or film.

    The same file a second time is the same picture.
    """
    with desk.act(person) as act:
        known = act.session.get(PictureFile, sha256)
        if known is not None and desk.dossier_files.path(sha256).exists():
            part.unlink(missing_ok=True)
            known.kept_at = act.now  # it is wanted again, so it is kept for long again
            return facts_of(known)
    facts = desk.reader.read_picture(part, sha256)
    desk.dossier_files.adopt(part)
    with desk.act(person) as act:
        if act.session.get(PictureFile, sha256) is None:
            act.session.add(PictureFile(**{name: getattr(facts, name) for name in _FACTS}, kept_at=act.now))
    return facts


def facts_of(row: PictureFile) -> PictureFacts:
    return PictureFacts(**{name: getattr(row, name) for name in _FACTS})


def files_of(session: Session, digests: Collection[str]) -> dict[str, PictureFacts]:
    """What these files are, by digest. Raises NotFound for one that was not put in."""
    rows = session.scalars(select(PictureFile).where(PictureFile.sha256.in_(digests)))
    files = {row.sha256: facts_of(row) for row in rows}
    strange = next((one for one in digests if one not in files), None)
    if strange is not None:
        raise NotFound(f"The file {strange[:12]} was not put in.", remedy="Send it first.", code="picture-unknown")
    return files


def language_of(app: App) -> str:
    """The first language of an app; English where it has no place at a store yet."""
    return app.berths[0].language if app.berths else "en"


def made_of(row: MadePicture) -> Made:
    return Made(row.sha256, PictureFormat(row.format), row.width, row.height, row.size_bytes, row.trouble)


def known_file(desk: Desk, sha256: str) -> tuple[str, Path]:
    """The format of a file that was put in or made, and where it lies. Raises NotFound."""
    with desk.look() as session:
        original = session.get(PictureFile, sha256)
        made = select(MadePicture.format).where(MadePicture.sha256 == sha256).limit(1)
        kind = original.format if original is not None else session.scalar(made)
    place = desk.dossier_files.path(sha256)
    if kind is None or not place.exists():
        raise NotFound(f"There is no picture {sha256[:12]} here.", code="picture-unknown")
    return kind, place


def at_berth(session: Session, berth: Berth) -> PicturesAt:
    """The pictures of a berth's app as its store concerns them."""
    rows = _rows(session, berth.app_id)
    there = session.execute(
        select(HeldPictures.locale, HeldPictures.picture_class, HeldPictures.files, HeldPictures.kept).where(
            HeldPictures.berth_id == berth.id
        )
    ).all()
    way = lanes.on_its_way(session, berth.id, OrderKind.WRITE_PICTURES)
    return replace(
        _given(session, berth.app, rows, berth.id, berth.language),
        held=_by_locale(((row.locale, row.picture_class), row.files) for row in there if row.files),
        ordered=_by_locale((place, files) for payload in way.payloads for place, files in _ordered(payload)),
        kept=frozenset((row.locale, row.picture_class) for row in there if row.kept),
        refused=_by_locale(_ordered(way.refused)) if way.refused is not None else {},
        refused_because=way.because,
    )


def unplaced(session: Session, app: App, language: str = "en") -> PicturesAt:
    """The pictures of an app as a store concerns them where it has no place yet."""
    return _given(session, app, _rows(session, app.id), None, language)


def _rows(session: Session, app_id: str) -> Sequence[Row[str | None, str, str, list[str]]]:
    """Every set of an app, also those that were taken out: its berth, locale, class and pictures."""
    wanted = select(AppPictureSet.berth_id, AppPictureSet.locale, AppPictureSet.picture_class, AppPictureSet.pictures)
    return session.execute(wanted.where(AppPictureSet.app_id == app_id)).all()


def _given(
    session: Session,
    app: App,
    rows: Sequence[Row[str | None, str, str, list[str]]],
    berth_id: str | None,
    language: str,
) -> PicturesAt:
    mine = [row for row in rows if row.berth_id in (None, berth_id)]
    digests = {one for row in mine for one in row.pictures}
    facts = select(*(getattr(PictureFile, name) for name in _FACTS)).where(PictureFile.sha256.in_(digests))
    files = session.execute(facts).all() if digests else ()
    made = session.scalars(select(MadePicture).where(MadePicture.original.in_(digests))) if digests else ()
    return PicturesAt(
        language=language,
        common=_by_locale(((row.locale, row.picture_class), row.pictures) for row in mine if row.berth_id is None),
        own=_by_locale(((row.locale, row.picture_class), row.pictures) for row in mine if row.berth_id is not None),
        files={row.sha256: PictureFacts(*row) for row in files},
        made={row.recipe: made_of(row) for row in made},
        icon_apart=_icon_apart(
            session,
            app,
            [((row.locale, row.picture_class), row.pictures) for row in mine if row.berth_id is None],
            language,
        ),
    )


def _by_locale(sets: Iterable[tuple[Place, Sequence[str]]]) -> dict[str, dict[str, Digests]]:
    found: dict[str, dict[str, Digests]] = {}
    for (locale, key), files in sets:
        found.setdefault(locale, {})[key] = tuple(files)
    return found


def _ordered(payload: Mapping[str, Any]) -> list[tuple[Place, Sequence[str]]]:
    told: Mapping[str, Mapping[str, Sequence[Mapping[str, str]]]] = payload["pictures"]
    return [
        ((locale, key), [str(one["sha256"]) for one in files])
        for locale, sets in told.items()
        for key, files in sets.items()
    ]


def icon_of(sets: Iterable[tuple[Place, Sequence[str]]], language: str) -> str | None:
    """The original of the icon that all stores share; ``sets`` are those that all share."""
    icons = {locale: pictures[0] for (locale, key), pictures in sets if key == ICON and pictures}
    return icons.get(language) or next(iter(icons.values()), None)


def shared(rows: Iterable[AppPictureSet]) -> list[tuple[Place, Sequence[str]]]:
    """The sets that all stores share."""
    return [((row.locale, row.picture_class), row.pictures) for row in rows if row.berth_id is None]


def _icon_apart(session: Session, app: App, sets: Sequence[tuple[Place, Sequence[str]]], language: str) -> float | None:
    icon = icon_of(sets, language)
    package = newest_package(session, app) if icon is not None else None
    likeness = session.get(IconLikeness, (icon, package)) if icon and package else None
    return likeness.apart if likeness is not None else None


def newest_package(session: Session, app: App) -> str | None:
    """The digest of a package of the newest build, whose icon the one put in is held against."""
    build = find.newest_build(session, app, [entry.platform for entry in app.identifiers])
    packages: list[Package] = [one.package for one in build.packages] if build is not None else []
    return next((package.sha256 for package in packages if package.cleared_at is None), None)


def one(session: Session, app: App, locale: str, key: str, berth: Berth | None) -> AppPictureSet | None:
    """A set as it is put in here, also an emptied one; None: nobody ever put anything in."""
    wanted = select(AppPictureSet).where(
        AppPictureSet.app_id == app.id, AppPictureSet.locale == locale, AppPictureSet.picture_class == key
    )
    here = AppPictureSet.berth_id.is_(None) if berth is None else AppPictureSet.berth_id == berth.id
    return session.scalar(wanted.where(here))


def put(
    act: Act,
    app_name: str,
    locale: str,
    key: str,
    pictures: Sequence[str],
    store_name: str | None = None,
    revision: revisions.ReadRevision | None = None,
) -> AppPictureSet | None:
    """Have these pictures, in this order, be the set of a class in a locale, for all stores or for one alone; none takes it out.

    ``revision`` is that of the set as it was read, 0 for one that did not exist. Raises StaleView when someone has changed
    it since, Invalid for a class that nobody asks for, NotFound for a picture that was not put in.
    """
    app, place = retiring.app_in_use(act.session, app_name), locale_of(locale)
    berth = find.berth(act.session, app, find.store(act.session, store_name)) if store_name else None
    _demand_class(berth, key)
    if len(pictures) > MOST_PICTURES or len(set(pictures)) < len(pictures):
        raise Invalid(
            f"A set has each picture once, and {MOST_PICTURES} at most; these are {len(pictures)}.",
            code="pictures-unfit",
        )
    files_of(act.session, pictures)
    row = one(act.session, app, place, key, berth)
    before = list(row.pictures) if row is not None else []
    if revision is not None:
        there = place_of_set(place, key)
        revisions.demand(act, row, revision, f"{key} in {place}", there, told(before), told(pictures))
    if list(pictures) == before:
        return row
    if row is None:
        row = AppPictureSet(
            app_id=app.id,
            berth_id=berth.id if berth else None,
            locale=place,
            picture_class=key,
            pictures=[],
            revision=0,
        )
        act.session.add(row)
    row.pictures, row.revision = list(pictures), row.revision + 1
    row.changed_at, row.changed_by = act.now, act.person
    at = f" at {berth.store.name}" if berth is not None else ""
    act.log(
        "pictures put in" if pictures else "pictures taken out",
        f"pictures {app.name} {place} {key}{at}",
        app=app.name,
        before={"pictures": before},
        after={"pictures": list(pictures)},
    )
    act.session.flush()
    return row


def told(pictures: Sequence[str]) -> str:
    """A set as it is shown where two people changed it: the first letters of each digest, in order."""
    return ", ".join(one[:12] for one in pictures)


def _demand_class(berth: Berth | None, key: str) -> None:
    known = list(rules_of(berth.store).listing.pictures) if berth is not None else list(catalogue().pictures)
    if key in known:
        return
    where = f"{rules_of(berth.store).store} has" if berth is not None else "The classes that all stores share are"
    raise Invalid(
        f"There is no class of pictures {key!r}.",
        remedy=f"{where}: {', '.join(known) or 'none'}.",
        code="picture-class-unknown",
    )


def check(session: Session, app: App, store: Store, berth: Berth | None, common: Files, own: Files) -> list[Finding]:
    """What a store would say of sets that are not put in here yet; their files are.

    Raises Invalid for what is no locale, NotFound for a file that was not sent.
    """
    rules = rules_of(store)
    unknown = _strange(common, catalogue().pictures, "the classes that all stores share")
    strange = _strange(own, rules.listing.pictures, f"the classes of {rules.store}")
    digests = {
        one for sets in (common, own) for classes in sets.values() for files in classes.values() for one in files
    }
    files = files_of(session, digests)
    made = session.scalars(select(MadePicture).where(MadePicture.original.in_(digests)))
    given = at_berth(session, berth) if berth is not None else unplaced(session, app)
    given = replace(
        given,
        common=_digests(common),
        own=_digests(own),
        files=files,
        made={row.recipe: made_of(row) for row in made},
        icon_apart=None,
    )
    said = [found for found in check_sets(rules, given, rules.listing.pictures) if found.code != "picture-to-make"]
    return [*unknown, *strange, *said]


def _digests(sets: Files) -> Sets:
    return {
        locale_of(locale): {key: tuple(files) for key, files in classes.items()} for locale, classes in sets.items()
    }


def _strange(sets: Mapping[str, Mapping[str, object]], known: Collection[str], what: str) -> list[Finding]:
    """A blocker for each class that is not among the known ones."""
    return [
        Finding("picture-class-unknown", Level.BLOCKER, f"{key!r} is not among {what}.", place_of_set(locale, key), f"They are: {', '.join(known)}.")
        for locale, classes in sets.items()
        for key in classes
        if key not in known
    ]  # fmt: skip


def against_sending(session: Session, berth: Berth) -> list[Finding]:
    """What the store would refuse of the pictures that it does not hold as they are put in."""
    return against_sending_sets(rules_of(berth.store), at_berth(session, berth))


def _wanting(session: Session, berth: Berth, now: datetime) -> Wanting[Place]:
    rules, given = rules_of(berth.store), at_berth(session, berth)
    values = {place: files for place, files in differing_sets(rules, given).items() if files is not None}
    return Wanting(values, flat(given.ordered), given.kept, lambda sets: _payload(rules, given, sets))


def _payload(
    rules: Rulebook, given: PicturesAt, sets: Mapping[Place, Digests]
) -> dict[str, dict[str, list[dict[str, str | int]]]]:
    """The sets of an order; each file with its format and size, so that the engine needs nothing but the file."""
    kinds: dict[str, dict[str, str | int]] = {
        piece.file: {
            "sha256": piece.file,
            "format": str(piece.made.format if piece.made else piece.original.format),
            "size_bytes": piece.size_bytes,
        }
        for taken in taken_sets(rules, given)
        for piece in taken.pieces
    }
    return nested({place: [dict(kinds[one]) for one in files] for place, files in sets.items()})


PART = Part(
    noun="pictures",
    kind=OrderKind.WRITE_PICTURES,
    table=HeldPictures,
    wanting=_wanting,
    lock=lambda rules, place: rules.lock_of_picture(place[1]),
    by_place=flat,
    told=" ".join,
    files=lambda rows: {sha256 for row in rows.values() for sha256 in row.files},
)


def take_over(act: Act, app_name: str, berth: Berth) -> int:
    """Take over here the sets that a store holds and nobody put in here; returns how many. Their files are here already.

    What all stores share becomes the common set; what only this store asks for, and what holds several sizes of one
    picture, becomes its own.
    """
    rules, given, taken = rules_of(berth.store), at_berth(act.session, berth), 0
    for locale, key in unplaced_sets(rules, given):
        files = list(dict.fromkeys(set_at(given.held, locale, key)))
        found = act.session.scalars(select(PictureFile.sha256).where(PictureFile.sha256.in_(files)))
        if len(set(found)) < len(files) or rules.listing.pictures[key].every_size:
            continue
        meaning = rules.listing.picture_meaning(key)
        put(act, app_name, locale, meaning or key, files, None if meaning else berth.store.name)
        taken += 1
    return taken


def remove_of(act: Act, app: App) -> None:
    """Remove the sets of an app that is removed; files that nothing names any more are dropped later."""
    act.session.execute(delete(AppPictureSet).where(AppPictureSet.app_id == app.id))
