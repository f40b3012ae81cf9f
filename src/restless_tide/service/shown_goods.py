"""The goods of a dossier as the service shows them."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.goods import (
    GoodsAt,
    as_sold,
    check_goods,
    differing_goods,
    goods_lock_told,
    goods_rules_told,
    sold_there,
    state_of_good,
    unentered_goods,
)
from restless_tide.core.goods_rules import GoodsRules
from restless_tide.core.pictures import sides_told
from restless_tide.core.texts import TextState
from restless_tide.desk import app_goods
from restless_tide.desk.locks import standing_at
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, AppGood, Berth, Person
from restless_tide.wire.goods import GoodsTold, GoodTold, StoreGoodsRulesTold, StoreGoodsTold, StoreGoodTold
from restless_tide.wire.problems import findings_told


def goods_of(session: Session, app: App) -> GoodsTold:
    """All goods of an app: as they are entered, and as each store gets them."""
    people = {person.id: person.name for person in session.scalars(select(Person))}
    rows = [_good(row, people) for row in app_goods.of_app(session, app)]
    berths = [berth for berth in app.berths if berth.store.in_use]
    return GoodsTold(
        app=app.name,
        locales=sorted(
            {locale for row in rows for locale in row.good.texts} | {berth.language for berth in app.berths}
        ),
        goods=rows,
        stores=[
            _at_store(session, berth, rules) for berth in berths if (rules := rules_of(berth.store).goods) is not None
        ],
    )


def _good(row: AppGood, people: dict[str, str]) -> GoodTold:
    return GoodTold.of(row, good=app_goods.good_of(row), changed_by=people.get(row.changed_by, row.changed_by))


def _at_store(session: Session, berth: Berth, demanded: GoodsRules) -> StoreGoodsTold:
    rules, given = rules_of(berth.store), app_goods.at_berth(session, berth)
    changed, alone = differing_goods(rules, given), unentered_goods(given)
    told = [
        StoreGoodTold(
            reference=reference,
            good=(sold := as_sold(rules, given, good)),
            entered=True,
            state=state_of_good(given, reference, sold),
            held=given.held.get(reference),
        )
        for reference, good in sold_there(rules, given).items()
    ]
    there = {one.reference for one in told}
    told += [_held_alone(given, reference) for reference in [*changed, *alone] if reference not in there]
    return StoreGoodsTold(
        store=berth.store.name,
        store_title=rules.store,
        language=berth.language,
        rules=StoreGoodsRulesTold.of(
            demanded,
            told=goods_rules_told(demanded),
            picture=sides_told(demanded.picture) if demanded.picture is not None else "",
            picture_required=demanded.picture is not None and demanded.picture.fewest > 0,
        ),
        goods=told,
        findings=findings_told(check_goods(rules, given)),
        unwritten=len(alone),
        differing=len(changed),
        refused_because=given.refused_because if any(one.state is TextState.REFUSED for one in told) else "",
        lock=goods_lock_told(rules, standing_at(session, berth)),
        hand_carried=berth.store.hand_carried,
    )


def _held_alone(given: GoodsAt, reference: str) -> StoreGoodTold:
    """What the store holds, and nobody has entered here, or has taken out."""
    held = given.held[reference]
    wanted = held.model_copy(update={"on_sale": False}) if reference in given.goods else held
    return StoreGoodTold(
        reference=reference, good=None, entered=False, state=state_of_good(given, reference, wanted), held=held
    )
