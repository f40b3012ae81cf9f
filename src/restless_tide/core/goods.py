"""The goods sold inside an app: entered once, taken by each store as its rulebook says.

A good has a reference that stays, a kind, a price, texts by language and a picture. What a store gets of it is always
worked out, never kept a second time. What is taken out here is taken from sale where a store holds it: people may
have bought it.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace

from restless_tide.core.changes import measured
from restless_tide.core.errors import Finding, Level
from restless_tide.core.good import Good, SoldGood, price_text
from restless_tide.core.goods_rules import PICTURE, GoodsRules
from restless_tide.core.graph import Standing, locked, locks_later
from restless_tide.core.picture_sets import UNMADE
from restless_tide.core.pictures import Fit, Made, PictureFacts, Recipe, fits, megabytes, sides_told
from restless_tide.core.rulebook import Rulebook
from restless_tide.core.texts import TextState, takes_locale

_AREA = "goods"


@dataclass(frozen=True, slots=True)
class GoodsAt:
    """The goods of an app as one store concerns them. Among ``goods`` a None is one that was taken out.

    ``language`` is the app's first language there, ``store`` the store's short name; ``files`` and ``made`` are what is
    known of pictures, ``held``, ``ordered``, ``kept`` and ``refused`` as texts have them.
    """

    language: str
    store: str
    goods: Mapping[str, Good | None]
    held: Mapping[str, SoldGood] = dataclasses.field(default_factory=dict)
    ordered: Mapping[str, SoldGood] = dataclasses.field(default_factory=dict)
    kept: frozenset[str] = frozenset()
    refused: Mapping[str, SoldGood] = dataclasses.field(default_factory=dict)
    refused_because: str = ""
    files: Mapping[str, PictureFacts] = dataclasses.field(default_factory=dict)
    made: Mapping[str, Made] = dataclasses.field(default_factory=dict)


NO_GOODS = GoodsAt(language="en", store="", goods={})


def place_of_good(reference: str) -> str:
    """How a finding names the place of a good."""
    return f"{_AREA}.{reference}"


def good_at(place: str) -> str | None:
    """The reference of the good that a finding's place names; None where it is about none."""
    area, dot, reference = place.partition(".")
    return reference if area == _AREA and dot else None


def sold_there(rules: Rulebook, given: GoodsAt) -> dict[str, Good]:
    """The goods that a store gets, as they are entered here."""
    if rules.goods is None:
        return {}
    return {
        reference: good
        for reference, good in sorted(given.goods.items())
        if good is not None and (not good.stores or given.store in good.stores)
    }


def picture_fit(rules: GoodsRules, given: GoodsAt, good: Good) -> Fit | None:
    """How a good's picture fits there; None where it has none, or the store takes none."""
    if good.picture is None or rules.picture is None:
        return None
    return fits(rules.classes, PICTURE, given.files[good.picture])[0]


def good_recipes(rules: Rulebook, given: GoodsAt) -> list[Recipe]:
    """Every picture of a good that is to be made for a store."""
    if rules.goods is None:
        return []
    found = (picture_fit(rules.goods, given, good) for good in sold_there(rules, given).values())
    return [fit.recipe for fit in found if fit is not None and fit.recipe is not None]


def as_sold(rules: Rulebook, given: GoodsAt, good: Good) -> SoldGood | None:
    """A good as the store gets it; None where it cannot be sent as it is."""
    demanded, texts = rules.goods, {at: text for at, text in good.texts.items() if takes_locale(rules, at)}
    if demanded is None or not texts:
        return None
    fit, picture = picture_fit(demanded, given, good), None
    if fit is not None:
        made = given.made.get(fit.recipe.key) if fit.recipe is not None else None
        picture = good.picture if fit.recipe is None else made.sha256 if made is not None else ""
        if fit.code or not picture:
            return None
    return SoldGood(**good.model_dump(exclude={"stores", "picture", "texts"}), texts=texts, picture=picture)


def differing_goods(rules: Rulebook, given: GoodsAt) -> dict[str, SoldGood | None]:
    """What the store would have to be sent, by reference: goods that it does not hold so; None is one that cannot go.

    A good that is taken out here, or no longer meant for this store, is taken from sale there.
    """
    wanted = {reference: as_sold(rules, given, good) for reference, good in sold_there(rules, given).items()}
    for reference, held in given.held.items():
        if reference not in wanted and reference in given.goods and rules.goods is not None:
            wanted[reference] = held.model_copy(update={"on_sale": False})
    return {reference: good for reference, good in wanted.items() if good is None or good != given.held.get(reference)}


def unentered_goods(given: GoodsAt) -> list[str]:
    """The references of goods that the store holds and nobody entered here; they stay there."""
    return [reference for reference in given.held if reference not in given.goods]


def state_of_good(given: GoodsAt, reference: str, good: SoldGood | None) -> TextState:
    """Where a good stands that the store gets; None: it cannot be sent as it is."""
    held = given.held.get(reference)
    if good is not None and good == held:
        return TextState.ACCEPTED
    if good is not None and given.ordered.get(reference) == good:
        return TextState.ORDERED
    if reference in given.kept:
        return TextState.WAITS
    if good is not None and given.refused.get(reference) == good:
        return TextState.REFUSED
    return TextState.CHANGED if held is not None else TextState.COMPLETE


def goods_lock_told(rules: Rulebook, standing: Standing) -> str:
    """Why the goods cannot be changed now, or when they lock; nothing where they may change any time."""
    lock = rules.lock_of_goods()
    return locked("A good", lock, standing) or locks_later("A good", lock, standing)


def check_goods(rules: Rulebook, given: GoodsAt, references: Iterable[str] | None = None) -> list[Finding]:
    """What the store's rules say against the goods as they are entered, or against some of them."""
    demanded, there = rules.goods, sold_there(rules, given)
    if demanded is None:
        return []
    chosen = there if references is None else {one: there[one] for one in references if one in there}
    findings = [
        found for reference, good in chosen.items() for found in _against(rules, demanded, given, reference, good)
    ]
    every = {*there, *given.held}
    if len(every) > demanded.most and any(one not in given.held for one in chosen):
        said = f"{len(every)} goods are there; {rules.store} takes {demanded.most}."
        place = place_of_good(next(one for one in chosen if one not in given.held))
        findings.append(Finding("goods-too-many", Level.BLOCKER, said, place, "Let fewer be sold there."))
    return findings


def _against(rules: Rulebook, demanded: GoodsRules, given: GoodsAt, reference: str, good: Good) -> list[Finding]:
    said = [
        *_of_kind(rules, demanded, reference, good),
        *_of_price(rules, demanded, good),
        *_of_texts(rules, demanded, given, good),
        *_of_picture(rules, demanded, given, good),
    ]
    return [replace(found, detail=f"{reference}: {found.detail}", place=place_of_good(reference)) for found in said]


def _blocker(code: str, said: str, advice: str) -> Finding:
    return Finding(code, Level.BLOCKER, said, remedy=advice)


def _of_kind(rules: Rulebook, demanded: GoodsRules, reference: str, good: Good) -> Iterator[Finding]:
    if good.kind not in demanded.kinds:
        said = f"{rules.store} sells goods that are {', '.join(demanded.kinds)}; this is {good.kind}."
        yield _blocker("good-kind", said, "Name the stores that sell it, without this one.")
    if good.months is not None and demanded.months and good.months not in demanded.months:
        taken = ", ".join(map(str, demanded.months))
        said = f"{rules.store} renews goods after {taken} months; this says {good.months}."
        yield _blocker("good-months", said, "Give another number of months.")
    if len(reference) > demanded.longest_reference:
        said = f"its reference has {len(reference)} characters; {rules.store} takes {demanded.longest_reference}."
        yield _blocker("good-reference", said, "Enter it under a shorter one.")


def _of_price(rules: Rulebook, demanded: GoodsRules, good: Good) -> Iterator[Finding]:
    if demanded.currencies and good.currency not in demanded.currencies:
        said = f"{rules.store} takes prices in {', '.join(demanded.currencies)}; this is in {good.currency}."
        yield _blocker("good-currency", said, "Give its price in one of them.")
        return
    low, high = demanded.lowest_price, demanded.highest_price
    if (low is not None and good.price < low) or (high is not None and good.price > high):
        said = f"it costs {price_text(good.price)}; {rules.store} takes {between(demanded)}."
        yield _blocker("good-price", said, "Give another price.")


def _of_texts(rules: Rulebook, demanded: GoodsRules, given: GoodsAt, good: Good) -> Iterator[Finding]:
    for locale in dict.fromkeys((given.language, *demanded.locales_required)):
        if locale not in good.texts and takes_locale(rules, locale):
            yield _blocker("good-text-missing", f"it has no name in {locale}; {rules.store} wants one.", "Write it.")
    for locale, text in good.texts.items():
        if not takes_locale(rules, locale):
            continue
        limits = {
            "name": (text.name, demanded.name_limit),
            "description": (text.description, demanded.description_limit),
        }
        for what, (words, limit) in limits.items():
            length = measured(words, demanded.counted_in)
            if length > limit:
                said = f"its {what} in {locale} has {length} {demanded.counted_in}; {rules.store} takes {limit}."
                yield _blocker("good-text-too-long", said, f"Shorten it by {length - limit}.")
        if demanded.description_required and not text.description.strip():
            said = f"it has no description in {locale}; {rules.store} wants one."
            yield _blocker("good-text-missing", said, "Write it.")


def _of_picture(rules: Rulebook, demanded: GoodsRules, given: GoodsAt, good: Good) -> Iterator[Finding]:
    if good.picture is None and demanded.picture is not None and demanded.picture.fewest:
        yield _blocker("good-picture-missing", f"it has no picture; {rules.store} wants one.", "Put one in.")
    fit = picture_fit(demanded, given, good)
    if fit is not None and fit.code:
        yield _blocker(fit.code, f"its picture {fit.why}.", "Put in another one.")
    if fit is None or fit.recipe is None:
        return
    made, most = given.made.get(fit.recipe.key), demanded.classes.largest_file(PICTURE)
    if made is None:
        yield Finding("picture-to-make", Level.CAUTION, f"its picture is still being made for {rules.store}.")
    elif made.trouble:
        yield _blocker(UNMADE, f"its picture cannot be made: {made.trouble}", "Put in another one.")
    elif made.size_bytes > most:
        said = f"its picture has {megabytes(made.size_bytes)}; {rules.store} takes {megabytes(most)}."
        yield _blocker("picture-too-heavy", said, "Put in one with fewer details.")


def against_sending_goods(rules: Rulebook, given: GoodsAt) -> list[Finding]:
    """What the store would refuse of the goods that it does not hold as they are entered."""
    return [found for found in check_goods(rules, given, differing_goods(rules, given)) if found.level is Level.BLOCKER]


def goods_rules_told(demanded: GoodsRules) -> str:
    """What a store takes of goods, in words."""
    parts = [
        ", ".join(demanded.kinds),
        f"names of {demanded.name_limit} and descriptions of {demanded.description_limit} {demanded.counted_in}",
    ]
    prices = [f"in {', '.join(demanded.currencies)}"] if demanded.currencies else []
    prices += [between(demanded)] if between(demanded) else []
    if prices:
        parts.append(f"prices {', '.join(prices)}")
    if demanded.picture is not None:
        wanted = "a picture" if demanded.picture.fewest else "a picture, or none"
        parts.append(f"{wanted}: {sides_told(demanded.picture)}")
    return "; ".join(parts)


def between(demanded: GoodsRules) -> str:
    """The prices that a store takes, such as ``0.80 to 900.00``; nothing where it takes any."""
    low, high = demanded.lowest_price, demanded.highest_price
    if low is not None and high is not None:
        return f"{price_text(low)} to {price_text(high)}"
    if low is not None:
        return f"{price_text(low)} or more"
    return f"{price_text(high)} at most" if high is not None else ""


def every_so_often(months: int) -> str:
    """Such as ``every 12 months``."""
    return "every month" if months == 1 else f"every {months} months"


def good_told(good: Good | SoldGood | None) -> str:
    """A good in one line, as it is shown where two people changed it."""
    if good is None:
        return ""
    every = f" {every_so_often(good.months)}" if good.months else ""
    names = ", ".join(f"{locale}: {text.name}" for locale, text in good.texts.items())
    return f"{good.kind}, {price_text(good.price)} {good.currency}{every}; {names}{'' if good.on_sale else '; not on sale'}"
