"""What a stand-in wants of goods sold inside an app: its own reading of the rulebook.

Written apart from core's on purpose: if both sides shared this code, a mistake in it would be invisible.
"""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from restless_tide.core.goods_rules import PICTURE, GoodsRules
from restless_tide.core.packages import Facts
from restless_tide.core.rulebook import Rulebook, ThingKind
from restless_tide.gateways.protocol import GoodHeld
from restless_tide.standins import asking, looking
from restless_tide.standins.judgement import Refusal, Thing, length_in


def demand_good(rules: Rulebook, reference: str, good: GoodHeld, language: str) -> None:
    """Raise Refusal for a good that we do not sell."""
    wanted = rules.goods
    if wanted is None:
        raise Refusal("goods-not-taken", "Nothing is sold inside apps here.")
    if good.kind not in wanted.kinds:
        raise Refusal("good-kind", f"We do not sell what is {good.kind}.")
    if len(reference) > wanted.longest_reference:
        raise Refusal("good-reference", f"A reference has {wanted.longest_reference} characters at most here.")
    if good.months and wanted.months and good.months not in wanted.months:
        raise Refusal("good-months", f"{reference} cannot be renewed every {good.months} months here.")
    _demand_price(wanted, reference, good)
    _demand_texts(rules, wanted, reference, good, language)


def _demand_price(wanted: GoodsRules, reference: str, good: GoodHeld) -> None:
    if wanted.currencies and good.currency not in wanted.currencies:
        raise Refusal("currency-not-taken", f"{reference}: we take {', '.join(wanted.currencies)}.")
    if wanted.lowest_price is not None and good.price < wanted.lowest_price:
        raise Refusal("price-unfit", f"{reference} is too cheap for us.")
    if wanted.highest_price is not None and good.price > wanted.highest_price:
        raise Refusal("price-unfit", f"{reference} is too expensive for us.")


def _demand_texts(rules: Rulebook, wanted: GoodsRules, reference: str, good: GoodHeld, language: str) -> None:
    taken = set(rules.listing.locales)
    for locale in {language, *wanted.locales_required}:
        if locale not in good.texts and (not taken or locale in taken):
            raise Refusal("good-text-missing", f"{reference} has no name in {locale}.")
    for locale, text in good.texts.items():
        if taken and locale not in taken:
            raise Refusal("locale-not-taken", f"We sell nothing in {locale}.")
        if length_in(text.name, wanted.counted_in) > wanted.name_limit:
            raise Refusal("good-text-too-long", f"The name of {reference} in {locale} is too long.")
        if length_in(text.description, wanted.counted_in) > wanted.description_limit:
            raise Refusal("good-text-too-long", f"The description of {reference} in {locale} is too long.")
        if wanted.description_required and not text.description.strip():
            raise Refusal("good-text-missing", f"{reference} has no description in {locale}.")


def demand_picture(rules: Rulebook, reference: str, file: Path | None) -> None:
    """Raise Refusal for a picture of a good that we do not show, or that is missing."""
    wanted = rules.goods.picture if rules.goods is not None else None
    if file is None:
        if wanted is not None and wanted.fewest:
            raise Refusal("good-picture-missing", f"{reference} has no picture.")
        return
    if wanted is None or rules.goods is None:
        raise Refusal("good-picture-not-taken", "Goods have no pictures here.")
    looking.demand_still(wanted, reference, looking.look(file), [str(kind) for kind in rules.goods.classes.picture_formats(PICTURE)])  # fmt: skip


def demand_count(rules: Rulebook, goods: dict[str, Thing]) -> None:
    """Raise Refusal for more goods than we take of one app."""
    if rules.goods is not None and len(goods) > rules.goods.most:
        raise Refusal("goods-too-many", f"We sell {rules.goods.most} goods of an app at most.")


def reasons_against_goods(
    rules: Rulebook, goods: dict[str, Thing], answers: Thing, packages: list[Facts], offer: Thing, at: datetime
) -> list[str]:
    """What the review desk misses among the goods of an app."""
    things = [thing for thing in rules.things.values() if thing.kind is ThingKind.GOODS]
    if rules.goods is None or not things:
        return []
    thing = things[0]
    if thing.when is not None and not asking.is_so(rules, thing.when, answers, packages, offer, at):
        return []
    on_sale = [good for good in goods.values() if good["on_sale"]]
    if len(on_sale) < rules.goods.fewest:
        return [f"We find {len(on_sale)} goods on sale, and want {rules.goods.fewest}."]
    return []


def reasons_against_good(goods: dict[str, Thing], reference: str) -> list[str]:
    """What a reviewer finds in one good: people must be able to tell it from others, and buy it here."""
    good, reasons = goods.get(reference), list[str]()
    if good is None:
        return [f"{reference} is not here any more."]
    for locale, text in good["texts"].items():
        name = text["name"].casefold().strip()
        twins = [
            other
            for other, sold in goods.items()
            if other != reference and sold["texts"].get(locale, {}).get("name", "").casefold().strip() == name
        ]
        if twins:
            reasons.append(f"In {locale} {reference} is called like {twins[0]}; people cannot tell them apart.")
        if "://" in text["description"] or "www." in text["description"]:
            reasons.append(f"The description of {reference} in {locale} leads people elsewhere.")
    return reasons
