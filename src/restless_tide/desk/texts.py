"""The texts of an app: written once for all stores, or for one store alone; sent where they differ.

What is locked at a store is kept and sent automatically as soon as the lock opens.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from restless_tide.core.catalogue import catalogue
from restless_tide.core.errors import Finding, Invalid, Level, NotFound
from restless_tide.core.limits import MOST_LOCALES
from restless_tide.core.locales import locale_of
from restless_tide.core.order import OrderKind
from restless_tide.core.texts import (
    Texts,
    TextsAt,
    check_texts,
    differing,
    place_of,
    unwritten,
)
from restless_tide.desk import find, lanes, retiring, revisions
from restless_tide.desk.desk import Act
from restless_tide.desk.parts import Part, Wanting, flat, nested
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, AppText, Berth, HeldText, Store


def of_app(session: Session, app: App) -> list[AppText]:
    """Every text of an app, those of one store among them; without those that were taken out."""
    found = select(AppText).where(AppText.app_id == app.id, AppText.text != "")
    return list(session.scalars(found.order_by(AppText.locale, AppText.field)))


def locales_of(session: Session, app: App) -> list[str]:
    """The locales in which anything is written."""
    found = select(AppText.locale).where(AppText.app_id == app.id, AppText.text != "").distinct()
    return sorted(session.scalars(found))


def at_berth(session: Session, berth: Berth) -> TextsAt:
    """The texts of a berth's app as its store concerns them."""
    written = session.execute(
        select(AppText.berth_id, AppText.locale, AppText.field, AppText.text)
        .where(AppText.app_id == berth.app_id)
        .order_by(AppText.locale, AppText.field)
    ).all()
    there = session.execute(
        select(HeldText.locale, HeldText.field, HeldText.text, HeldText.kept).where(HeldText.berth_id == berth.id)
    ).all()
    way = lanes.on_its_way(session, berth.id, OrderKind.WRITE_TEXTS)
    return TextsAt(
        language=berth.language,
        common=_by_locale(row[1:] for row in written if row[0] is None),
        own=_by_locale(row[1:] for row in written if row[0] == berth.id),
        held=_by_locale(row[:3] for row in there if row.text),
        ordered=_merged([payload["texts"] for payload in way.payloads]),
        kept=frozenset((row.locale, row.field) for row in there if row.kept),
        refused=way.refused["texts"] if way.refused is not None else {},
        refused_because=way.because,
        name=berth.listed_name,
    )


def unplaced(session: Session, app: App, language: str = "en") -> TextsAt:
    """The texts of an app as a store concerns them where it has no place yet."""
    rows = [row for row in of_app(session, app) if row.berth_id is None]
    common = _by_locale((row.locale, row.field, row.text) for row in rows)
    return TextsAt(language=language, common=common, own={}, held={}, ordered={}, name=app.title)


def _by_locale(rows: Iterable[Sequence[str]]) -> dict[str, dict[str, str]]:
    found: dict[str, dict[str, str]] = {}
    for locale, field, text in rows:
        found.setdefault(locale, {})[field] = text
    return found


def _merged(payloads: Sequence[Mapping[str, Mapping[str, str]]]) -> dict[str, dict[str, str]]:
    found: dict[str, dict[str, str]] = {}
    for payload in payloads:
        for locale, fields in payload.items():
            found.setdefault(locale, {}).update(fields)
    return found


def one(session: Session, app: App, locale: str, field: str, berth: Berth | None) -> AppText | None:
    """A text as it is written here, also an emptied one; None: nobody ever wrote it."""
    wanted = select(AppText).where(AppText.app_id == app.id, AppText.locale == locale, AppText.field == field)
    here = AppText.berth_id.is_(None) if berth is None else AppText.berth_id == berth.id
    return session.scalar(wanted.where(here))


def write(
    act: Act,
    app_name: str,
    locale: str,
    texts: Mapping[str, str],
    store_name: str | None = None,
    revision: revisions.ReadRevision | None = None,
) -> list[AppText]:
    """Write texts of one locale, for all stores or for one alone; an empty text takes it out there.

    ``revision`` is that of the one text as it was read, 0 for one that did not exist. Raises StaleView with the other's
    text when someone has changed it since, and Invalid for a field that nobody asks for.
    """
    app, place = retiring.app_in_use(act.session, app_name), locale_of(locale)
    berth = find.berth(act.session, app, find.store(act.session, store_name)) if store_name else None
    for field in texts:
        _demand_field(berth, field)
    known = {*locales_of(act.session, app), place}
    if len(known) > MOST_LOCALES:
        raise Invalid(f"An app has texts in {MOST_LOCALES} locales at most.", code="too-many-locales")
    if revision is not None and len(texts) != 1:
        raise Invalid("A revision is that of one text; write one at a time with it.", code="etag-unfit")
    written = []
    for field, text in texts.items():
        row = one(act.session, app, place, field, berth)
        if revision is not None:
            theirs = row.text if row is not None else ""
            revisions.demand(act, row, revision, f"{field} in {place}", place_of(place, field), theirs, text)
        before = row.text if row is not None else ""
        if text == before:
            written += [row] if row is not None else []
            continue
        if row is None:
            row = AppText(
                app_id=app.id, berth_id=berth.id if berth else None, locale=place, field=field, text="", revision=0
            )
            act.session.add(row)
        _put(act, app, row, text)
        written.append(row)
    act.session.flush()
    return written


def _put(act: Act, app: App, row: AppText, text: str) -> None:
    """Give a text its new words, with its line in the logbook."""
    berth = act.session.get(Berth, row.berth_id) if row.berth_id else None
    at = f" at {berth.store.name}" if berth is not None else ""
    before, row.text, row.revision = row.text, text, row.revision + 1
    row.changed_at, row.changed_by = act.now, act.person
    act.log(
        "text written" if text else "text taken out",
        f"text {app.name} {row.locale} {row.field}{at}",
        app=app.name,
        before={"text": before},
        after={"text": text},
    )


def _demand_field(berth: Berth | None, field: str) -> None:
    known = list(rules_of(berth.store).listing.fields) if berth is not None else list(catalogue().fields)
    if field in known:
        return
    where = f"{rules_of(berth.store).store} has" if berth is not None else "The fields that all stores share are"
    raise Invalid(
        f"There is no field {field!r}.",
        remedy=f"{where}: {', '.join(known) or 'none'}.",
        code="field-unknown",
    )


def copy_locale(act: Act, app_name: str, source: str, target: str) -> int:
    """Copy every common text of one locale to another where that has none; returns how many. Raises NotFound, Invalid."""
    app, begins, ends = retiring.app_in_use(act.session, app_name), locale_of(source), locale_of(target)
    if begins == ends:
        raise Invalid(f"{begins} cannot be copied to itself.", code="language-unfit")
    rows = [row for row in of_app(act.session, app) if row.berth_id is None]
    there = {row.field for row in rows if row.locale == ends}
    copied = {row.field: row.text for row in rows if row.locale == begins}
    if not copied:
        raise _nothing_in(act.session, app, begins)
    wanted = {field: text for field, text in copied.items() if field not in there}
    write(act, app_name, ends, wanted)
    return len(wanted)


def drop_locale(act: Act, app_name: str, locale: str) -> int:
    """Take out every text of a locale, those of single stores too; returns how many. Stores hold them until they are sent."""
    app, place = retiring.app_in_use(act.session, app_name), locale_of(locale)
    rows = [row for row in of_app(act.session, app) if row.locale == place]
    if not rows:
        raise _nothing_in(act.session, app, place)
    for row in rows:
        _put(act, app, row, "")
    act.session.flush()
    return len(rows)


def _nothing_in(session: Session, app: App, locale: str) -> NotFound:
    return NotFound(
        f"{app.title} has no texts in {locale}.",
        remedy=f"It has them in: {', '.join(locales_of(session, app)) or 'no locale'}.",
        code="locale-unknown",
    )


def check(session: Session, app: App, store: Store, berth: Berth | None, common: Texts, own: Texts) -> list[Finding]:
    """What a store would say of texts that are not written here yet. Raises Invalid for what is no locale."""
    rules = rules_of(store)
    unknown = _strange(common, list(catalogue().fields), "the fields that all stores share")
    common = {locale_of(locale): fields for locale, fields in common.items()}
    given = at_berth(session, berth) if berth is not None else unplaced(session, app)
    mine = {locale_of(locale): fields for locale, fields in own.items()}
    strange = _strange(mine, list(rules.listing.fields), f"the fields of {rules.store}")
    said = check_texts(rules, replace(given, common=common, own=mine), rules.listing.fields)
    return [*unknown, *strange, *said]


def _strange(texts: Texts, known: Sequence[str], what: str) -> list[Finding]:
    """A blocker for each field that is not among the known ones."""
    return [
        Finding(
            "field-unknown",
            Level.BLOCKER,
            f"{field!r} is not among {what}.",
            place_of(locale, field),
            f"They are: {', '.join(known)}.",
        )
        for locale, fields in texts.items()
        for field in fields
        if field not in known
    ]


def _wanting(session: Session, berth: Berth, now: datetime) -> Wanting[tuple[str, str]]:
    given = at_berth(session, berth)
    return Wanting(flat(differing(rules_of(berth.store), given)), flat(given.ordered), given.kept, nested)


PART = Part(
    noun="texts",
    kind=OrderKind.WRITE_TEXTS,
    table=HeldText,
    wanting=_wanting,
    lock=lambda rules, place: rules.lock_of_field(place[1]),
    by_place=flat,
    told=" ".join,
)


def take_over(act: Act, app_name: str, berth: Berth) -> int:
    """Take over here what a store holds and nobody wrote here; returns how many texts.

    What all stores share becomes the common text; what only this store asks for becomes its own.
    """
    rules, given = rules_of(berth.store), at_berth(act.session, berth)
    found = unwritten(rules, given)
    for locale, fields in found.items():
        common = {rules.listing.meaning(key): text for key, text in fields.items()}
        shared = {meaning: text for meaning, text in common.items() if meaning is not None}
        write(act, app_name, locale, shared)
        alone = {key: text for key, text in fields.items() if rules.listing.meaning(key) is None}
        if alone:
            write(act, app_name, locale, alone, berth.store.name)
    return sum(map(len, found.values()))


def remove_of(act: Act, app: App) -> None:
    """Remove the texts of an app that is removed."""
    act.session.execute(delete(AppText).where(AppText.app_id == app.id))
