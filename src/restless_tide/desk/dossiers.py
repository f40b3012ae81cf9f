"""The dossier as a whole: what is written, shown and answered about an app, sent to its stores and read from them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import or_, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Finding, ImpossibleAct
from restless_tide.core.good import Good
from restless_tide.core.readiness import demand_ready, of_stores
from restless_tide.core.rulebook import Rulebook
from restless_tide.core.texts import Texts
from restless_tide.core.texts import against_sending as against_texts
from restless_tide.desk import app_answers, app_goods, app_pictures, find, parts, retiring, stores, texts
from restless_tide.desk.desk import Act
from restless_tide.desk.parts import Part
from restless_tide.desk.stores import rules_of
from restless_tide.gateways.protocol import Dossier
from restless_tide.records.tables import Berth, Store

PARTS: tuple[Part[Any], ...] = (texts.PART, app_pictures.PART, app_answers.PART, app_goods.PART)
"""In the order in which they go to a store."""


@dataclass(frozen=True)
class Sending:
    """What sending to one store comes to: texts, sets of pictures, answers and goods that go now, and
    those kept until a lock opens."""

    berth: Berth
    sent: int
    kept: int
    pictures_sent: int
    pictures_kept: int
    answers_sent: int
    answers_kept: int
    goods_sent: int
    goods_kept: int


@dataclass(frozen=True)
class TakenOver:
    """How many texts, sets of pictures, answers and goods of a store became ours."""

    texts: int
    pictures: int
    answers: int
    goods: int


@dataclass(frozen=True)
class Checked:
    """What one store would say of a dossier that is not written here yet."""

    store: Store
    findings: tuple[Finding, ...]


def send(act: Act, app_name: str, store_name: str | None = None) -> list[Sending]:
    """Order to a store, or to every store, what it does not hold as it is here: texts, pictures, answers and goods.

    What is locked there is kept and goes along when the lock opens. Raises NotReady with what a store would refuse; then
    nothing is sent anywhere.
    """
    app = retiring.app_in_use(act.session, app_name)
    berths = (
        [find.berth(act.session, app, find.store(act.session, store_name))]
        if store_name
        else [berth for berth in app.berths if berth.store_ref and berth.store.in_use]
    )
    if not berths:
        raise ImpossibleAct(
            f"{app.title} has no open berth yet.",
            remedy=f"Open one with: tide berth open --app {app.name} --store STORE",
            code="berth-unknown",
        )
    sheets = [
        (
            rules_of(berth.store).store,
            [
                *against_texts(rules_of(berth.store), texts.at_berth(act.session, berth)),
                *app_pictures.against_sending(act.session, berth),
                *app_answers.against_sending(act.session, berth, act.now),
                *app_goods.against_sending(act.session, berth),
            ],
        )
        for berth in berths
    ]
    demand_ready(of_stores(sheets), f"Sending the dossier of {app.title}")
    return [Sending(berth, *(count for part in PARTS for count in parts.send(act, berth, part))) for berth in berths]


def asks_of_apps(rules: Rulebook) -> bool:
    """Whether a store asks anything about an app besides builds."""
    listing = rules.listing
    return bool(listing.fields or listing.pictures or rules.questionnaire.questions or rules.goods is not None)


Answers = Mapping[str, Any]
"""By topic, or by one store's own questions."""


def check(
    session: Session,
    app_name: str,
    now: datetime,
    common: Texts,
    own: Mapping[str, Texts],
    pictures: app_pictures.Files,
    own_pictures: Mapping[str, app_pictures.Files],
    answers: Answers,
    own_answers: Mapping[str, Answers],
    goods: Mapping[str, Good],
) -> list[Checked]:
    """What each store that carries the app would say of these texts, pictures, answers and goods. Raises Invalid for what is no
    locale, NotFound for a file that was not sent."""
    app = find.app(session, app_name)
    berths = {berth.store.name: berth for berth in app.berths}
    found = []
    for store in stores.carrying(session, app):
        berth, rules, said = berths.get(store.name), rules_of(store), list[Finding]()
        if rules.listing.fields:
            said += texts.check(session, app, store, berth, common, own.get(store.name, {}))
        if rules.listing.pictures:
            said += app_pictures.check(session, app, store, berth, pictures, own_pictures.get(store.name, {}))
        if rules.questionnaire.questions:
            mine = own_answers.get(store.name, {})
            said += app_answers.check(session, app, store, berth, now, answers, mine)
        if rules.goods is not None:
            said += app_goods.check(session, app, store, berth, goods)
        if asks_of_apps(rules):
            found.append(Checked(store, tuple(said)))
    return found


def opened(session: Session, berth: Berth, now: datetime) -> bool:
    """Whether something that is kept at a berth can go now, or need not go any more."""
    return any(parts.opened(session, berth, part, now) for part in PARTS)


def send_kept(act: Act, berth: Berth) -> None:
    """Send what was kept at a berth, as far as its locks are open now."""
    for part in PARTS:
        parts.send_kept(act, berth, part)


def keeping(session: Session) -> list[Berth]:
    """The berths at which something is kept until a lock opens."""
    kept = [select(table.berth_id).where(table.kept) for table in (part.table for part in PARTS)]
    found = session.scalars(select(Berth).where(or_(*(Berth.id.in_(places) for places in kept))))
    return [berth for berth in found if berth.store.in_use and berth.store_ref and berth.app.retired_at is None]


def unread(session: Session, store_id: str) -> list[Berth]:
    """The berths of a store of which it was never read what it holds of the dossier."""
    store = session.get(Store, store_id)
    rules = rules_of(store) if store is not None else None
    if rules is None or not asks_of_apps(rules):
        return []
    unseen = or_(*(getattr(Berth, part.seen_at).is_(None) for part in PARTS))
    waiting = select(Berth).where(Berth.store_id == store_id, Berth.store_ref.is_not(None), unseen)
    return list(session.scalars(waiting))


def read_there(act: Act, berth: Berth, held_there: Dossier) -> None:
    """A store was asked what it holds of the dossier."""
    for part in PARTS:
        if getattr(berth, part.seen_at) is None:
            parts.read_there(act, berth, part, part.of(held_there))
            setattr(berth, part.seen_at, act.now)


def take_over(act: Act, app_name: str, store_name: str) -> TakenOver:
    """Take over here what a store holds and nobody put in here."""
    app = retiring.app_in_use(act.session, app_name)
    berth = find.berth(act.session, app, find.store(act.session, store_name))
    return TakenOver(
        texts.take_over(act, app_name, berth),
        app_pictures.take_over(act, app_name, berth),
        app_answers.take_over(act, app_name, berth),
        app_goods.take_over(act, app_name, berth),
    )
