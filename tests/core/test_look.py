"""The last look: what it holds, what of it is new, what goes to review together, when it is another one."""

from __future__ import annotations

from datetime import UTC, datetime
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from restless_tide.core.availability import Availability
from restless_tide.core.correspondence import MessageKind, waits_for_answer
from restless_tide.core.errors import Invalid
from restless_tide.core.good import GoodKind, GoodText, SoldGood
from restless_tide.core.goods import GoodsAt
from restless_tide.core.known import Known, LegKnown
from restless_tide.core.leg import LegPhase
from restless_tide.core.look import (
    ForReviewer,
    Line,
    LookPart,
    after_verdict,
    compared,
    item_of,
    items_of,
    items_without,
    lines_of,
    packed,
    revision_of,
    unpacked,
)
from restless_tide.core.picture_sets import PicturesAt
from restless_tide.core.review_items import good_item, good_of, item_told, kind_of
from restless_tide.core.texts import TextsAt
from tests.core.test_rulebooks import NORTHGATE, OPENFIELD

NOW = datetime(2026, 11, 27, 12, tzinfo=UTC)
MAPS = SoldGood(
    kind=GoodKind.KEPT, price=Decimal("4.50"), currency="EUR", texts={"en": GoodText(name="Maps", description="All.")}
)
ICON, SCREEN, OTHER = (letter * 64 for letter in "abc")


def known(**change: object) -> Known:
    values: dict[str, object] = {
        "texts": TextsAt(language="en", common={}, own={}, held={"en": {"tagline": "At the shore."}}, ordered={}),
        "pictures": PicturesAt(held={"en": {"stills": (SCREEN,)}}),
        "goods": GoodsAt(language="en", store="northgate", goods={}, held={"maps": MAPS}),
        "offered": Availability(countries=("NO", "SE")),
        "leg": LegKnown(version="1.0.0", phase=LegPhase.DRAFT, notes={"en": "New."}),
    }
    return Known(now=NOW, day=NOW, identifier="app", **(values | change))  # type: ignore[arg-type]


LINES = lines_of(NORTHGATE, known())
parts = st.sampled_from(list(LookPart))
lines = st.lists(
    st.builds(Line, parts, st.sampled_from("pqr"), st.just("Title"), st.text(max_size=3), st.tuples(st.sampled_from("xyz"))),
    max_size=8,
    unique_by=lambda line: line.key,
)  # fmt: skip


def test_a_look_holds_what_the_store_holds_and_what_is_on_its_way() -> None:
    seen = {line.key: line for line in LINES}
    assert seen["notes", "en"].value == "New."
    assert seen["texts", "en/tagline"].value == "At the shore."
    assert seen["pictures", "en/stills"].each == (SCREEN,)
    assert seen["goods", "maps"].value.endswith("en: All.")
    assert seen["offer", "countries"].each == ("NO", "SE")
    coming = known(texts=TextsAt("en", {}, {}, {"en": {"tagline": "Old."}}, {"en": {"tagline": "On its way."}}))
    assert {line.key: line.value for line in lines_of(NORTHGATE, coming)}["texts", "en/tagline"] == "On its way."
    for_reviewer = lines_of(NORTHGATE, known(), ForReviewer("Stands.", "Drafted.", "rita", "f" * 64, ("a.pdf",)))
    told = [line for line in for_reviewer if line.part is LookPart.REVIEWER]
    assert [line.place for line in told] == ["standing", "drafted", "sign-in", "files"]


@given(lines)
def test_every_change_makes_another_revision_and_nothing_else_does(found: list[Line]) -> None:
    before = revision_of({"north": found})
    assert revision_of({"north": list(found)}) == before
    assert unpacked(packed(found)) == tuple(found)
    assert revision_of({"north": unpacked(packed(found))}) == before
    assert revision_of({"open": found}) != before
    for at, line in enumerate(found):
        assert revision_of({"north": [*found[:at], line._replace(value=line.value + "!"), *found[at + 1 :]]}) != before


@given(lines, lines)
def test_a_line_is_marked_exactly_where_it_differs_from_what_is_live(new: list[Line], live: list[Line]) -> None:
    rows = compared(new, live)
    assert {(row.part, row.place) for row in rows} == {line.key for line in (*new, *live)}
    before, after = {line.key: line for line in live}, {line.key: line for line in new}
    for row in rows:
        old, now = before.get((row.part, row.place)), after.get((row.part, row.place))
        same = old is not None and now is not None and (old.value, old.each) == (now.value, now.each)
        assert row.changed is not same
        assert set(row.added) == set(now.each if now else ()) - set(old.each if old else ())
        assert set(row.removed) == set(old.each if old else ()) - set(now.each if now else ())
    assert [row.part for row in rows] == sorted((row.part for row in rows), key=list(LookPart).index)
    assert all(row.changed for row in compared(new, None))


def test_what_was_not_approved_as_it_stands_goes_along_as_the_rulebook_lets() -> None:
    assert items_of(NORTHGATE.review, LINES, None) == ["build", "notes", "texts", "pictures", "goods/maps"]
    assert items_of(OPENFIELD.review, LINES, None) == ["build", "notes", "pictures", "goods/maps"], "no texts there"
    assert items_of(NORTHGATE.review, LINES, LINES) == ["build", "notes"]
    assert items_of(NORTHGATE.review, LINES, None, production=False) == ["build", "notes"]
    cheaper = MAPS.model_copy(update={"price": Decimal(3)})
    changed = lines_of(
        NORTHGATE, known(goods=GoodsAt(language="en", store="n", goods={}, held={"maps": MAPS, "tides": cheaper}))
    )
    assert items_of(NORTHGATE.review, changed, LINES) == ["build", "notes", "goods/tides"]
    without = [line for line in LINES if line.part is not LookPart.PICTURES]
    assert items_of(NORTHGATE.review, without, LINES) == ["build", "notes", "pictures"], "they were taken out"


def test_what_must_go_cannot_be_kept_back() -> None:
    items = ["build", "notes", "texts", "goods/maps"]
    assert items_without(NORTHGATE.review, items, ["goods/maps"], "Northgate") == ["build", "notes", "texts"]
    for must in ("build", "notes", "texts"):
        with pytest.raises(Invalid, match="together with the version"):
            items_without(NORTHGATE.review, items, [must], "Northgate")


@given(lines, lines, st.sets(st.sampled_from(["texts", "pictures", "goods/p", "goods/q", "build"])))
def test_what_is_approved_stands_as_it_was_handed_in(before: list[Line], new: list[Line], items: set[str]) -> None:
    after = after_verdict(before, new, items)
    assert [line for line in after if item_of(line) in items] == [line for line in new if item_of(line) in items]
    assert [line for line in after if item_of(line) not in items] == [
        line for line in before if item_of(line) not in items
    ]
    assert set(items_of(NORTHGATE.review, new, after_verdict(None, new, {item_of(line) or "" for line in new}))) == {
        "build",
        "notes",
    }


def test_items_are_written_and_told() -> None:
    assert (good_of(good_item("maps")), good_of("goods"), good_of("texts")) == ("maps", None, None)
    assert [item_told(item) for item in ("texts", "goods/maps", "else")] == ["the texts", "the good maps", "else"]
    assert kind_of("goods/maps") == "goods"
    assert kind_of("else/x") is None


@pytest.mark.parametrize(
    ("kinds", "waits"),
    [("", False), ("q", True), ("qo", False), ("qs", True), ("oq", True), ("qoq", True), ("s", False), ("qa", False)],
)
def test_a_reviewer_waits_until_we_write(kinds: str, waits: bool) -> None:
    named = {"q": MessageKind.QUESTION, "o": MessageKind.OURS, "s": MessageKind.STORE, "a": MessageKind.APPEAL}
    assert waits_for_answer(named[kind] for kind in kinds) is waits
