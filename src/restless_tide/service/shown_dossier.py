"""The dossier and the readiness sheet as the service shows them."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.catalogue import catalogue
from restless_tide.core.changes import measured
from restless_tide.core.graph import Standing
from restless_tide.core.rulebook import Rulebook
from restless_tide.core.texts import (
    Taken,
    TextsAt,
    TextState,
    at,
    check_texts,
    differing,
    lock_told,
    state_of_text,
    taken,
    unwritten,
)
from restless_tide.desk import dossiers, texts
from restless_tide.desk.locks import standing_at
from restless_tide.desk.readiness import PlaceSheet, ReleaseSheets
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, AppText, Berth, Person
from restless_tide.wire.dossier import (
    FieldTold,
    SendingTold,
    StoreCheckTold,
    StoreFieldTold,
    StoreTextsTold,
    StoreTextTold,
    TextsTold,
    WrittenTextTold,
)
from restless_tide.wire.problems import findings_told
from restless_tide.wire.readiness import PlaceSheetTold, ReadinessTold, ThingTold


def readiness(found: ReleaseSheets) -> ReadinessTold:
    return ReadinessTold(
        app=found.app.name,
        app_title=found.app.title,
        version=found.version,
        drafted=found.drafted,
        verdict=found.verdict,
        places=[_place(one) for one in found.places],
    )


def _place(one: PlaceSheet) -> PlaceSheetTold:
    return PlaceSheetTold.of(
        one.sheet,
        place=str(one.address),
        store=one.address.store,
        store_title=one.store_title,
        place_title=one.place_title,
        day=one.day,
        rulebook_revision=one.rules.revision,
        first_release=one.first_release,
        means=one.rules.listing.meanings(),
        shows=one.rules.listing.picture_meanings(),
        topics=one.rules.questionnaire.topics(),
        things=[ThingTold.of(line, findings=findings_told(line.findings)) for line in one.sheet.lines],
        announced=list(one.announced),
    )


def texts_of(session: Session, app: App) -> TextsTold:
    """All texts of an app: as they are written, and as each store gets them."""
    rows = texts.of_app(session, app)
    people = {person.id: person.name for person in session.scalars(select(Person))}
    berths = [berth for berth in app.berths if berth.store.in_use]
    named = {berth.id: berth.store.name for berth in app.berths}
    return TextsTold(
        app=app.name,
        locales=texts.locales_of(session, app),
        fields=[FieldTold(key=key, **meaning.model_dump()) for key, meaning in catalogue().fields.items()],
        texts=[written(row, people, named) for row in rows],
        stores=[_at_store(session, berth) for berth in berths if rules_of(berth.store).listing.fields],
    )


def written(row: AppText, people: dict[str, str], stores: dict[str, str]) -> WrittenTextTold:
    return WrittenTextTold.of(
        row,
        store=stores.get(row.berth_id) if row.berth_id else None,
        changed_by=people.get(row.changed_by, row.changed_by),
    )


def _at_store(session: Session, berth: Berth) -> StoreTextsTold:
    rules, given, standing = rules_of(berth.store), texts.at_berth(session, berth), standing_at(session, berth)
    listing, changed = rules.listing, differing(rules, given)
    got = taken(rules, given)
    there = {(one.locale, one.field) for one in got}
    emptied = [(locale, name) for locale, fields in changed.items() for name in fields if (locale, name) not in there]
    told = [*(_got(given, one) for one in got), *(_emptied(rules, given, *place) for place in emptied)]
    return StoreTextsTold(
        store=berth.store.name,
        store_title=rules.store,
        language=berth.language,
        locales=list(listing.locales),
        fields=[_field(rules, key, standing) for key in listing.fields],
        texts=told,
        findings=findings_told(check_texts(rules, given, listing.fields)),
        unwritten=sum(len(fields) for fields in unwritten(rules, given).values()),
        differing=sum(len(fields) for fields in changed.values()),
        refused_because=given.refused_because if any(one.state is TextState.REFUSED for one in told) else "",
        hand_carried=berth.store.hand_carried,
    )


def _field(rules: Rulebook, key: str, standing: Standing) -> StoreFieldTold:
    field = rules.listing.fields[key]
    return StoreFieldTold(
        key=key,
        means=rules.listing.meaning(key),
        title=rules.listing.title(key),
        help=field.help,
        form=rules.listing.form(key),
        limit=field.limit_characters,
        counted_in=field.counted_in,
        required=field.required,
        locales_required=list(field.locales_required),
        lock=lock_told(rules, key, standing),
    )


def _got(given: TextsAt, one: Taken) -> StoreTextTold:
    return StoreTextTold.of(
        one,
        state=state_of_text(given, one.locale, one.field, one.text),
        left=one.left,
        held=at(given.held, one.locale, one.field),
    )


def _emptied(rules: Rulebook, given: TextsAt, locale: str, name: str) -> StoreTextTold:
    """What the store still holds, and nobody has written here any more."""
    field = rules.listing.fields[name]
    return StoreTextTold(
        locale=locale,
        field=name,
        text="",
        origin=None,
        state=state_of_text(given, locale, name, ""),
        length=measured("", field.counted_in),
        left=field.limit_characters,
        held=at(given.held, locale, name),
    )


def checked(found: dossiers.Checked) -> StoreCheckTold:
    rules = rules_of(found.store)
    return StoreCheckTold(
        store=found.store.name,
        store_title=rules.store,
        means=rules.listing.meanings(),
        shows=rules.listing.picture_meanings(),
        topics=rules.questionnaire.topics(),
        findings=findings_told(found.findings),
    )


def sending(found: dossiers.Sending) -> SendingTold:
    store = found.berth.store
    return SendingTold(
        store=store.name,
        store_title=rules_of(store).store,
        sent=found.sent,
        kept=found.kept,
        pictures_sent=found.pictures_sent,
        pictures_kept=found.pictures_kept,
        answers_sent=found.answers_sent,
        answers_kept=found.answers_kept,
        goods_sent=found.goods_sent,
        goods_kept=found.goods_kept,
    )
