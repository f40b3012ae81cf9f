"""The goods sold inside an app: what a store takes, what differs there, and where they stand."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given as drawn
from hypothesis import strategies as st
from pydantic import ValidationError

from restless_tide.core.dossier_folder import unwritten_good, written_good
from restless_tide.core.errors import Invalid, Level
from restless_tide.core.evidence import evidence
from restless_tide.core.good import Good, GoodKind, GoodText, SoldGood, price_text, reference_of
from restless_tide.core.goods import (
    GoodsAt,
    against_sending_goods,
    as_sold,
    check_goods,
    differing_goods,
    good_recipes,
    good_told,
    state_of_good,
    unentered_goods,
)
from restless_tide.core.goods_rules import GoodsRules
from restless_tide.core.known import Known, MendAct, NodeState
from restless_tide.core.picture_rules import PictureFormat
from restless_tide.core.pictures import Made, PictureFacts
from restless_tide.core.rulebook import Rulebook, read_rulebook
from restless_tide.core.texts import TextState
from restless_tide.standins.__main__ import RULEBOOKS

NORTHGATE, OPENFIELD, SLATEHOUSE = (
    read_rulebook((RULEBOOKS / f"{name}.toml").read_text(encoding="utf-8"))
    for name in ("northgate", "openfield", "slatehouse")
)
NOW = datetime(2026, 11, 2, 9, tzinfo=UTC)
PICTURE = "a" * 64
FILES = {PICTURE: PictureFacts(PICTURE, "png", 640, 640, 9_000)}
MAPS = Good(
    kind=GoodKind.KEPT,
    price=Decimal("4.50"),
    currency="EUR",
    texts={"en": GoodText(name="Maps", description="All islands."), "de": GoodText(name="Karten", description="Alle.")},
    picture=PICTURE,
)


def at(goods: dict[str, Good | None], **more: Any) -> GoodsAt:
    return GoodsAt("en", "northgate", goods, files=FILES, **more)


def codes(rules: Rulebook, good: Good, reference: str = "maps", **more: Any) -> list[str]:
    return [found.code for found in check_goods(rules, at({reference: good}, **more))]


def test_a_good_that_fits_is_sold_as_each_store_wants_it() -> None:
    for rules in (NORTHGATE, OPENFIELD, SLATEHOUSE):
        assert codes(rules, MAPS) == []
    assert as_sold(NORTHGATE, at({}), MAPS) == SoldGood(**MAPS.model_dump(exclude={"stores"}))
    assert as_sold(OPENFIELD, at({}), MAPS) == SoldGood(**MAPS.model_dump(exclude={"stores", "picture"}))


@pytest.mark.parametrize(
    ("rules", "change", "code"),
    [
        (NORTHGATE, {"kind": GoodKind.USED_UP}, "good-kind"),
        (NORTHGATE, {"kind": GoodKind.RENEWED, "months": 2}, "good-months"),
        (NORTHGATE, {"currency": "USD"}, "good-currency"),
        (NORTHGATE, {"price": Decimal("0.79")}, "good-price"),
        (NORTHGATE, {"price": Decimal("900.01")}, "good-price"),
        (NORTHGATE, {"picture": None}, "good-picture-missing"),
        (NORTHGATE, {"texts": {"de": MAPS.texts["de"]}}, "good-text-missing"),
        (NORTHGATE, {"texts": {"en": GoodText(name="Maps")}}, "good-text-missing"),
        (NORTHGATE, {"texts": {"en": GoodText(name="n" * 35, description="d")}}, "good-text-too-long"),
        (NORTHGATE, {"texts": {"en": GoodText(name="n", description="d" * 151)}}, "good-text-too-long"),
        (SLATEHOUSE, {"texts": {"en": MAPS.texts["en"]}}, "good-text-missing"),
        (SLATEHOUSE, {"price": Decimal("0.99")}, "good-price"),
        (OPENFIELD, {"price": Decimal("250.01")}, "good-price"),
    ],
)
def test_what_a_store_would_refuse_is_said_before(rules: Rulebook, change: dict[str, Any], code: str) -> None:
    assert codes(rules, MAPS.model_copy(update=change)) == [code]


def test_a_reference_may_be_too_long_for_one_store_alone() -> None:
    assert codes(SLATEHOUSE, MAPS, "m" * 31) == ["good-reference"]
    assert codes(NORTHGATE, MAPS, "m" * 31) == []


def test_more_goods_than_a_store_takes_are_told_once() -> None:
    many = {f"good-{number}": MAPS for number in range(26)}
    assert [found.code for found in check_goods(SLATEHOUSE, at(dict(many)))] == ["goods-too-many"]


def test_a_picture_is_made_for_the_store_and_never_enlarged() -> None:
    large = {PICTURE: replace(FILES[PICTURE], width=1_280, height=1_280)}
    given = replace(at({"maps": MAPS}), files=large)
    (recipe,) = good_recipes(NORTHGATE, given)
    assert [(found.code, found.level) for found in check_goods(NORTHGATE, given)] == [
        ("picture-to-make", Level.CAUTION)
    ]
    assert differing_goods(NORTHGATE, given) == {"maps": None}
    made = replace(given, made={recipe.key: Made("b" * 64, PictureFormat.PNG, 640, 640, 5_000)})
    sent = differing_goods(NORTHGATE, made)["maps"]
    assert sent is not None
    assert sent.picture == "b" * 64
    small = replace(given, files={PICTURE: replace(FILES[PICTURE], width=600, height=600)})
    assert [found.code for found in against_sending_goods(NORTHGATE, small)] == ["picture-too-small"]


def test_what_is_taken_out_or_not_meant_for_a_store_is_taken_from_sale_there() -> None:
    held = {"maps": SoldGood(**MAPS.model_dump(exclude={"stores"}))}
    off = held["maps"].model_copy(update={"on_sale": False})
    assert differing_goods(NORTHGATE, at({"maps": None}, held=held)) == {"maps": off}
    elsewhere = MAPS.model_copy(update={"stores": ("openfield",)})
    assert differing_goods(NORTHGATE, at({"maps": elsewhere}, held=held)) == {"maps": off}
    assert differing_goods(NORTHGATE, at({"maps": None}, held={"maps": off})) == {}
    assert differing_goods(NORTHGATE, at({}, held=held)) == {}
    assert unentered_goods(at({}, held=held)) == ["maps"]


SOLD = SoldGood(**MAPS.model_dump(exclude={"stores"}))
_UNDER_WAY = [
    ({}, TextState.COMPLETE),
    ({"held": {"maps": SOLD}}, TextState.ACCEPTED),
    ({"held": {"maps": SOLD.model_copy(update={"price": Decimal(5)})}}, TextState.CHANGED),
    ({"ordered": {"maps": SOLD}}, TextState.ORDERED),
    ({"kept": frozenset({"maps"})}, TextState.WAITS),
    ({"refused": {"maps": SOLD}}, TextState.REFUSED),
]


@pytest.mark.parametrize(("more", "state"), _UNDER_WAY)
def test_where_a_good_stands(more: dict[str, Any], state: TextState) -> None:
    assert state_of_good(at({"maps": MAPS}, **more), "maps", SOLD) is state


BARE = NORTHGATE.model_copy(
    update={"things": {**NORTHGATE.things, "goods": NORTHGATE.things["goods"].model_copy(update={"when": None})}}
)


@pytest.mark.parametrize(
    ("rules", "given", "state", "mend"),
    [
        (BARE, at({}), NodeState.MISSING, MendAct.WRITE_GOODS),
        (BARE, at({"maps": MAPS}), NodeState.MISSING, MendAct.SEND_GOODS),
        (BARE, at({"maps": MAPS.model_copy(update={"currency": "USD"})}), NodeState.MISSING, MendAct.WRITE_GOODS),
        (BARE, at({"maps": MAPS}, ordered={"maps": SOLD}), NodeState.WAITING, MendAct.WAIT),
        (BARE, at({"maps": MAPS}, held={"maps": SOLD}), NodeState.DONE, MendAct.NONE),
        (BARE, at({}, held={"maps": SOLD}), NodeState.DONE, MendAct.NONE),
        (BARE, at({"maps": MAPS, "b": MAPS}, held={"maps": SOLD}), NodeState.DOUBTFUL, MendAct.SEND_GOODS),
        (BARE, at({"maps": MAPS, "b": MAPS}, held={"maps": SOLD}, kept=frozenset("b")), NodeState.DONE, MendAct.NONE),
        (OPENFIELD, at({}), NodeState.NOT_ASKED, MendAct.NONE),
        (OPENFIELD, at({"maps": MAPS}), NodeState.DOUBTFUL, MendAct.SEND_GOODS),
        (NORTHGATE, at({}), NodeState.DOUBTFUL, MendAct.WRITE_GOODS),
    ],
)
def test_where_the_goods_stand_for_a_release(rules: Rulebook, given: GoodsAt, state: NodeState, mend: MendAct) -> None:
    found = evidence(rules, "goods", Known(now=NOW, day=NOW, identifier="org.example.it", goods=given))
    assert (found.state, found.mend) == (state, mend)
    assert any(one.level is Level.BLOCKER for one in found.findings) == (state is NodeState.MISSING)


@pytest.mark.parametrize("text", ["", "Maps", "-maps", "a/b", "x" * 81, "ä"])
def test_a_reference_is_one_that_every_store_and_folder_can_hold(text: str) -> None:
    with pytest.raises(Invalid, match="no reference"):
        reference_of(text)


@pytest.mark.parametrize(
    "change",
    [
        {"months": 1}, {"kind": "renewed"}, {"price": 0}, {"currency": "euro"}, {"texts": {}}, {"texts": {"en": {"name": ""}}},
        {"texts": {"no such locale": {"name": "x"}}}, {"picture": "short"}, {"sold": True},
    ],
)  # fmt: skip
def test_what_is_no_good_is_refused(change: dict[str, Any]) -> None:
    with pytest.raises(ValidationError):
        Good.model_validate(MAPS.model_dump() | change)


@pytest.mark.parametrize(
    ("rules", "told"),
    [
        ({"kinds": ["kept"], "fewest": 3, "most": 2}, "nothing is between"),
        ({"kinds": ["kept"], "lowest_price": "5", "highest_price": "4"}, "above the highest"),
        ({"kinds": ["kept"], "months": [1]}, "those are not taken"),
        ({"kinds": ["kept"], "picture": {"sizes": [[9, 9]], "every_size": True}}, "one picture for all languages"),
        ({"kinds": ["kept"], "picture": {"formats": ["mp4"]}}, "no format of a picture"),
    ],
)
def test_rules_that_do_not_fit_together_are_refused(rules: dict[str, Any], told: str) -> None:
    with pytest.raises(ValidationError, match=told):
        GoodsRules.model_validate(rules)


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('[things.more]\nkind = "goods"\ntitle = "More"\n', "several things are of kind goods"),
        ("", "has no \\[goods\\]"),
    ],
)
def test_a_thing_of_kind_goods_stands_once_and_has_its_rules(text: str, told: str) -> None:
    book = (RULEBOOKS / "northgate.toml").read_text(encoding="utf-8")
    if not text:
        begin, end = book.index("[goods]"), book.index("[availability]")
        book = book[:begin] + book[end:]
    with pytest.raises(Invalid, match=told):
        read_rulebook(book + text)


@pytest.mark.parametrize(
    ("price", "told"), [("4.5", "4.50"), ("100", "100.00"), ("0.125", "0.125"), ("4.5000", "4.50"), ("1E+2", "100.00")]
)
def test_a_price_is_written_as_people_write_it(price: str, told: str) -> None:
    assert price_text(Decimal(price)) == told


_texts = st.dictionaries(
    st.sampled_from(["en", "de", "nb"]),
    st.builds(GoodText, name=st.text(min_size=1, max_size=20), description=st.text(max_size=20)),
    min_size=1,
)
_goods = st.builds(
    Good,
    kind=st.sampled_from([GoodKind.KEPT, GoodKind.USED_UP]),
    price=st.decimals("0.01", "9999", places=2),
    currency=st.sampled_from(["EUR", "NOK"]),
    months=st.none(),
    on_sale=st.booleans(),
    texts=_texts,
    picture=st.sampled_from([None, PICTURE]),
    stores=st.sampled_from([(), ("northgate",)]),
)


@drawn(_goods)
def test_a_good_is_read_as_it_is_written(good: Good) -> None:
    assert unwritten_good(written_good(good)) == good
    assert written_good(good) == written_good(Good.model_validate_json(good.model_dump_json()))
    assert price_text(good.price) in good_told(good)
