"""The goods sold inside an app: entered once for all stores, sent where they differ.

What is locked at a store is kept and sent automatically as soon as the lock opens.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Finding, Invalid
from restless_tide.core.good import Good, SoldGood, read_sold, reference_of
from restless_tide.core.goods import (
    GoodsAt,
    against_sending_goods,
    check_goods,
    differing_goods,
    good_told,
    place_of_good,
    unentered_goods,
)
from restless_tide.core.limits import MOST_GOODS
from restless_tide.core.order import OrderKind
from restless_tide.desk import app_pictures, held, lanes, retiring, revisions
from restless_tide.desk.desk import Act
from restless_tide.desk.parts import Part, Wanting
from restless_tide.desk.stores import carrying, rules_of
from restless_tide.records.tables import App, AppGood, Berth, HeldGood, MadePicture, PictureFile, Store


def of_app(session: Session, app: App) -> list[AppGood]:
    """Every good of an app, without those that were taken out."""
    found = select(AppGood).where(AppGood.app_id == app.id, AppGood.good.is_not(None))
    return list(session.scalars(found.order_by(AppGood.reference)))


def good_of(row: AppGood) -> Good | None:
    """A good as it is entered; None: it was taken out."""
    return None if row.good is None else Good.model_validate(row.good)


def one(session: Session, app: App, reference: str) -> AppGood | None:
    """A good as it is entered here, also one taken out; None: nobody ever entered it."""
    return session.scalar(select(AppGood).where(AppGood.app_id == app.id, AppGood.reference == reference))


def at_berth(session: Session, berth: Berth) -> GoodsAt:
    """The goods of a berth's app as its store concerns them."""
    there = held.rows(session, HeldGood, berth)
    way = lanes.on_its_way(session, berth.id, OrderKind.WRITE_GOODS)
    return replace(
        _given(session, berth.app, berth.store.name, berth.language),
        held={reference: read_sold(row.good) for reference, row in there.items() if row.good is not None},
        ordered={name: good for payload in way.payloads for name, good in _by_reference(payload["goods"]).items()},
        kept=frozenset(reference for reference, row in there.items() if row.kept),
        refused=_by_reference(way.refused["goods"]) if way.refused is not None else {},
        refused_because=way.because,
    )


def unplaced(session: Session, app: App, store: Store | None = None, language: str = "en") -> GoodsAt:
    """The goods of an app as a store concerns them where it has no place yet."""
    return _given(session, app, store.name if store is not None else "", language)


def _given(session: Session, app: App, store: str, language: str) -> GoodsAt:
    rows = session.scalars(select(AppGood).where(AppGood.app_id == app.id))
    return _with_pictures(session, GoodsAt(language, store, {row.reference: good_of(row) for row in rows}))


def _with_pictures(session: Session, given: GoodsAt) -> GoodsAt:
    digests = {good.picture for good in given.goods.values() if good is not None and good.picture is not None}
    if not digests:
        return given
    made = session.scalars(select(MadePicture).where(MadePicture.original.in_(digests)))
    return replace(
        given,
        files=app_pictures.files_of(session, digests),
        made={row.recipe: app_pictures.made_of(row) for row in made},
    )


def _by_reference(goods: Mapping[str, Any]) -> dict[str, SoldGood]:
    return {
        reference: read_sold(good if isinstance(good, dict) else good.model_dump()) for reference, good in goods.items()
    }


def write(
    act: Act, app_name: str, reference: str, good: Good | None, revision: revisions.ReadRevision | None = None
) -> AppGood | None:
    """Enter a good, or change it; None takes it out.

    ``revision`` is that of the good as it was read, 0 for one that did not exist. Raises StaleView when someone has changed
    it since, Invalid for a reference or a store that there is not, or one good too many, NotFound for a picture that was not
    put in.
    """
    app = retiring.app_in_use(act.session, app_name)
    row = one(act.session, app, reference_of(reference))
    if good is not None:
        _demand_fit(act.session, app, row, good)
    before = good_of(row) if row is not None else None
    if revision is not None:
        revisions.demand(act, row, revision, f"The good {reference}", place_of_good(reference), good_told(before), good_told(good))  # fmt: skip
    if good == before:
        return row
    if row is None:
        row = AppGood(app_id=app.id, reference=reference, good=None, revision=0)
        act.session.add(row)
    row.good, row.revision = None if good is None else good.model_dump(mode="json"), row.revision + 1
    row.changed_at, row.changed_by = act.now, act.person
    act.log(
        "good entered" if before is None else "good taken out" if good is None else "good changed",
        f"good {app.name} {reference}",
        app=app.name,
        before={"good": good_told(before)},
        after={"good": good_told(good)},
    )
    act.session.flush()
    return row


def _demand_fit(session: Session, app: App, row: AppGood | None, good: Good) -> None:
    known = {store.name for store in carrying(session, app)}
    strange = [name for name in good.stores if name not in known]
    if strange:
        raise Invalid(
            f"{app.title} is not carried by {', '.join(strange)}.",
            remedy=f"Name one or more of {', '.join(sorted(known)) or 'the stores that carry it'}, or none for all.",
            code="store-unknown",
        )
    if good.picture is not None:
        app_pictures.files_of(session, [good.picture])
    if (row is None or row.good is None) and len(of_app(session, app)) >= MOST_GOODS:
        raise Invalid(f"An app has {MOST_GOODS} goods at most.", remedy="Take one out first.", code="goods-too-many")


def check(session: Session, app: App, store: Store, berth: Berth | None, goods: Mapping[str, Good]) -> list[Finding]:
    """What a store would say of goods that are not entered here yet. Raises NotFound for a picture that was not sent."""
    given = at_berth(session, berth) if berth is not None else unplaced(session, app, store)
    given = _with_pictures(session, replace(given, goods=goods))
    return [found for found in check_goods(rules_of(store), given) if found.code != "picture-to-make"]


def against_sending(session: Session, berth: Berth) -> list[Finding]:
    """What the store would refuse of the goods that it does not hold as they are entered."""
    return against_sending_goods(rules_of(berth.store), at_berth(session, berth))


def _wanting(session: Session, berth: Berth, now: datetime) -> Wanting[str]:
    rules, given = rules_of(berth.store), at_berth(session, berth)
    values = {reference: good for reference, good in differing_goods(rules, given).items() if good is not None}
    return Wanting(values, given.ordered, given.kept, _payload)


def _payload(goods: Mapping[str, SoldGood]) -> dict[str, Any]:
    return {reference: good.model_dump(mode="json") for reference, good in goods.items()}


PART = Part(
    noun="goods",
    kind=OrderKind.WRITE_GOODS,
    table=HeldGood,
    wanting=_wanting,
    lock=lambda rules, _: rules.lock_of_goods(),
    by_place=_by_reference,
    told=str,
    files=lambda rows: pictures_in({key: read_sold(row.good) for key, row in rows.items() if row.good is not None}),
)


def take_over(act: Act, app_name: str, berth: Berth) -> int:
    """Take over here the goods that a store holds and nobody entered here; returns how many. Pictures are here already.

    They are sold where they are sold now: a store that does not hold one is not sent it unless someone says so.
    """
    taken, given = 0, at_berth(act.session, berth)
    selling = [other for other in berth.app.berths if rules_of(other.store).goods is not None]
    known = {other.store.name: held.rows(act.session, HeldGood, other).keys() for other in selling}
    for reference in unentered_goods(given):
        good = given.held[reference]
        if good.picture is not None and act.session.get(PictureFile, good.picture) is None:
            continue
        there = tuple(sorted(name for name, references in known.items() if reference in references))
        write(act, app_name, reference, Good(**good.model_dump(), stores=() if len(there) == len(known) else there))
        taken += 1
    return taken


def pictures_in(goods: Mapping[str, SoldGood]) -> set[str]:
    """The digests of the pictures of goods."""
    return {good.picture for good in goods.values() if good.picture is not None}


def pictures_entered(session: Session) -> set[str]:
    """The digests of the originals that goods name."""
    rows = session.scalars(select(AppGood).where(AppGood.good.is_not(None)))
    return {good.picture for row in rows if (good := good_of(row)) is not None and good.picture is not None}


def pictures_there(session: Session) -> set[str]:
    """The digests of the files of goods that stores hold, or that are on their way to them."""
    rows = session.scalars(select(HeldGood).where(HeldGood.good.is_not(None)))
    found = {good.picture for row in rows if (good := read_sold(row.good)).picture is not None}
    waiting = lanes.pending_payloads(session, OrderKind.WRITE_GOODS)
    return found | {one for payload in waiting for one in pictures_in(_by_reference(payload["goods"]))}


def remove_of(act: Act, app: App) -> None:
    """Remove the goods of an app that is removed."""
    act.session.execute(delete(AppGood).where(AppGood.app_id == app.id))
