"""Made-up apps that break none, one or two rules of a rulebook, each break known by the rule that it is about.

``BREAKS`` has one entry for each rule that an app can break. Which of them a rulebook has, the rulebook says.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

from restless_tide.core.answer_shapes import plain, shape_at
from restless_tide.core.availability import Availability
from restless_tide.core.catalogue import AnswerForm, Form, PictureForm
from restless_tide.core.documents import DocumentFormat
from restless_tide.core.good import Good, GoodKind, GoodText
from restless_tide.core.goods_rules import GoodsRules
from restless_tide.core.limits import LONGEST_REFERENCE, MOST_GOODS
from restless_tide.core.numbers import MOST_PARTS
from restless_tide.core.picture_rules import PictureFormat
from restless_tide.core.rule import When
from restless_tide.core.rulebook import LocksAt, Numbering, OfferPart, Rulebook, Thing, ThingKind, Who
from restless_tide.standins.packages import PackageRecipe, write_apk, write_ipa, write_msix
from tests.foresight.gallery import gallery, sides, sound_film, sound_pictures

WRITERS: dict[str, Callable[[Path, PackageRecipe], Path]] = {"apk": write_apk, "ipa": write_ipa, "msix": write_msix}
LIVE, EARLIER = "1.0.0", 4
"""The version that is live where there is a history, and the highest number of the version to come."""
LANGUAGE = "en"
_WORDS = ["walk", "along", "the", "shore", "and", "write", "down", "what", "grows", "between", "the", "dunes", "and", "the", "tide", "line"]  # fmt: skip


@dataclass
class Case:
    """One app on its way to one store. ``live``: a release of it is live there already, free or paid as ``before`` says."""

    name: str
    rules: Rulebook
    live: bool
    format: str
    recipes: list[PackageRecipe]
    texts: dict[str, dict[str, str]]
    notes: dict[str, str]
    replies: dict[str, Any]
    pictures: dict[str, list[str]]
    goods: dict[str, Good]
    before: Availability = field(default_factory=Availability)
    offer: Availability | None = None
    release: str = "1.1.0"
    answers: str = "first"
    papers_valid: bool = True
    listed_name: str = ""
    while_reviewed: str = ""
    broken: list[str] = field(default_factory=list)

    @property
    def identifier(self) -> str:
        return f"org.example.saltgrass.{self.name}"

    def change(self, **changed: object) -> None:
        """Change every package."""
        self.recipes = [replace(recipe, **changed) for recipe in self.recipes]  # type: ignore[arg-type]

    def write(self, folder: Path) -> list[Path]:
        write = WRITERS[self.format]
        return [write(folder / f"{self.name}-{at}.{self.format}", recipe) for at, recipe in enumerate(self.recipes)]


def sound(name: str, rules: Rulebook, dice: random.Random) -> Case:
    """An app that breaks no rule."""
    kind = next(one for one in rules.packages.formats if one in WRITERS)
    recipe = PackageRecipe(f"org.example.saltgrass.{name}", "1.1.0", EARLIER + 1, name.title(), padding_bytes=2_000)
    wanted = rules.packages.processors_required.get(kind, ("x64",))
    recipes = [replace(recipe, processor=processor) for processor in wanted] if kind == "msix" else [recipe]
    case = Case(
        name, rules, dice.random() < 0.5, kind, recipes, {LANGUAGE: _texts(rules, dice)},
        dict.fromkeys(rules.review.notes_locales_required or (LANGUAGE,), "What is new."),
        {key: sound_reply(rules, key, dice) for key in rules.questionnaire.questions},
        _pictures(rules, dice),
        {},
        listed_name=name.title(),
    )  # fmt: skip
    case.goods = sound_goods(rules, dice, at_least=_goods_wanted(case))
    if rules.availability.paid and dice.random() < 0.3:
        case.before = _paid(rules)
    return case


def _goods_thing(rules: Rulebook) -> Thing | None:
    return next((thing for thing in rules.graph.values() if thing.kind is ThingKind.GOODS), None)


def _goods_wanted(case: Case) -> int:
    """How many goods the review wants on sale, by what the case answers."""
    thing = _goods_thing(case.rules)
    if case.rules.goods is None or thing is None:
        return 0
    asked = thing.when is None or thing.when.answer is None or case.replies.get(thing.when.answer) in thing.when.one_of
    return case.rules.goods.fewest if asked else 0


def sound_goods(rules: Rulebook, dice: random.Random, at_least: int = 0) -> dict[str, Good]:
    """Some goods that a store takes."""
    count = max(at_least, dice.choice((0, 0, 1, 2)))
    return {f"good-{at}": sound_good(rules, dice) for at in range(count)} if rules.goods is not None else {}


def sound_good(rules: Rulebook, dice: random.Random) -> Good:
    wanted = rules.goods
    assert wanted is not None
    kind = dice.choice(wanted.kinds)
    texts = {
        locale: GoodText(name=dice.choice(_WORDS).title(), description="What it is.")
        for locale in (LANGUAGE, *wanted.locales_required)
    }
    shown = wanted.picture is not None and (wanted.picture.fewest or dice.random() < 0.5)
    return Good(
        kind=kind,
        price=(wanted.lowest_price or Decimal("0.99")) + dice.randrange(20),
        currency=(wanted.currencies or ("EUR",))[0],
        months=dice.choice(wanted.months or (1,)) if kind is GoodKind.RENEWED else None,
        texts=texts,
        picture=good_picture(wanted, larger=dice.random() < 0.4) if shown else None,
    )


def good_picture(wanted: GoodsRules, *, larger: bool = False) -> str:
    """A picture of a good, as it is wanted, or larger."""
    assert wanted.picture is not None
    side = wanted.picture.sizes[0][0] if wanted.picture.sizes else wanted.picture.smallest_side
    side = round(side * 1.5) if larger else side
    return gallery().still(side, side, "good")


def _texts(rules: Rulebook, dice: random.Random) -> dict[str, str]:
    """One text for each field, by the field's own key."""
    found = {}
    for key, limits in rules.listing.fields.items():
        if not limits.required and dice.random() < 0.5:
            continue
        found[key] = _text(rules, key, dice)[: limits.limit_characters]
    return found


def _pictures(rules: Rulebook, dice: random.Random) -> dict[str, list[str]]:
    """What each class demands, and some that may be left out: digests of originals in the gallery."""
    found = {}
    for key, rule in rules.listing.pictures.items():
        wanted = rule.fewest and not rule.also_from
        if wanted or dice.random() < (0.1 if rules.listing.picture_form(key) is PictureForm.FILM else 0.25):
            found[key] = sound_pictures(rules, key, dice)
    return found


def _text(rules: Rulebook, key: str, dice: random.Random) -> str:
    match rules.listing.form(key):
        case Form.ADDRESS:
            return f"https://example.org/{key}/{dice.randrange(1000)}"
        case Form.WORDS:
            return ", ".join(dice.sample(_WORDS, 3))
    return " ".join(dice.sample(_WORDS, 6)).capitalize() + "."


def sound_reply(rules: Rulebook, key: str, dice: random.Random) -> Any:
    """Some answer to a question, in the store's own choices, that the store does not refuse."""
    question, shape = rules.questionnaire.questions[key], shape_at(rules, key)
    choices = [choice for choice in shape.choices if choice not in question.refused_answers]
    match shape.form:
        case AnswerForm.CHOICE:
            return dice.choice(choices)
        case AnswerForm.CHOICES:
            return [choice for choice in choices if dice.random() < 0.5] or choices[:1]
        case AnswerForm.NUMBER:
            return dice.randint(question.lowest, question.highest)
        case AnswerForm.GRID:
            return {kind: [one for one in shape.attributes if dice.random() < 0.3] for kind in shape.kinds}
        case AnswerForm.FILE:
            return plain(gallery().document(dice.choice(rules.questionnaire.documents(key))))
    return " ".join(dice.sample(_WORDS, 5))


def _paid(rules: Rulebook) -> Availability:
    price = (rules.availability.lowest_price or Decimal("0.99")) + 1
    return Availability(price=price, currency=(rules.availability.currencies or ("EUR",))[0])


Change = Callable[[Case, random.Random], None]
Fits = Callable[[Case], bool]
BREAKS: dict[str, tuple[Fits, Change]] = {}


def breaks(rule: str, fits: Fits) -> Callable[[Change], Change]:
    """A way to break ``rule``, for the cases that ``fits`` them."""

    def keep(change: Change) -> Change:
        BREAKS[rule] = (fits, change)
        return change

    return keep


def possible(case: Case) -> list[str]:
    """The rules that this case can break."""
    return [
        *(rule for rule, (fits, _) in BREAKS.items() if fits(case)),
        *_of_fields(case.rules),
        *_of_pictures(case.rules),
        *_of_questions(case.rules),
        *_of_goods(case.rules),
    ]


def _of_goods(rules: Rulebook) -> Iterator[str]:
    """What a store demands of every good."""
    wanted = rules.goods
    if wanted is None:
        return
    if wanted.longest_reference < LONGEST_REFERENCE:
        yield "goods.longest_reference"
    yield from (f"goods.{what}" for what in ("name_limit", "description_limit", "first_language"))
    if set(wanted.kinds) != set(GoodKind):
        yield "goods.kinds"
    if wanted.months:
        yield "goods.months"
    if wanted.currencies:
        yield "goods.currencies"
    if wanted.lowest_price is not None:
        yield "goods.lowest_price"
    if wanted.highest_price is not None:
        yield "goods.highest_price"
    if wanted.description_required:
        yield "goods.description_required"
    if wanted.locales_required:
        yield "goods.locales_required"
    if wanted.most < MOST_GOODS:
        yield "goods.most"
    if wanted.fewest:
        yield "goods.fewest"
    if wanted.picture is not None:
        yield "goods.picture.sides"
        if wanted.picture.fewest:
            yield "goods.picture.required"


def _of_questions(rules: Rulebook) -> Iterator[str]:
    """What each question about an app demands of its answer."""
    for key, question in rules.questionnaire.questions.items():
        form, here = rules.questionnaire.form(key), f"questionnaire.questions.{key}"
        if form is AnswerForm.FILE:
            yield from (f"{here}.format", f"{here}.bytes")
        else:
            yield f"{here}.{'range' if form is AnswerForm.NUMBER else 'limit' if form is AnswerForm.TEXT else 'choices'}"
        if question.required and question.applies_from is None:
            yield f"{here}.required"
        if question.refused_answers:
            yield f"{here}.refused"


def _of_pictures(rules: Rulebook) -> Iterator[str]:
    """What each class of pictures demands."""
    for key, rule in rules.listing.pictures.items():
        here, film = f"listing.pictures.{key}", rules.listing.picture_form(key) is PictureForm.FILM
        yield f"{here}.most"
        yield f"{here}.sides"
        yield f"{here}.form"
        if rule.fewest and not rule.also_from:
            yield f"{here}.required"
        if rule.fewest > 1:
            yield f"{here}.fewest"
        if rule.transparent == "required":
            yield f"{here}.opaque"
        if not film and rule.largest_bytes and rules.listing.picture_formats(key)[0] is PictureFormat.PNG:
            yield f"{here}.bytes"
        if film:
            yield from (f"{here}.{what}" for what in ("length", "codec", "needs"))
        if film and len(rules.listing.picture_formats(key)) == 1:
            yield f"{here}.format"


def _of_fields(rules: Rulebook) -> Iterator[str]:
    """What each field of the listing demands of its text."""
    for key, limits in rules.listing.fields.items():
        yield f"listing.fields.{key}.limit"
        if limits.required or limits.locales_required:
            yield f"listing.fields.{key}.required"
        if rules.listing.form(key) is Form.ADDRESS:
            yield f"listing.fields.{key}.address"
        if rules.listing.form(key) is Form.LINE:
            yield f"listing.fields.{key}.line"


def break_rule(case: Case, rule: str, dice: random.Random) -> None:
    """Have the case break this rule."""
    case.broken.append(rule)
    if rule in BREAKS:
        BREAKS[rule][1](case, dice)
        return
    if rule.startswith("goods."):
        _break_good(case, rule.removeprefix("goods."), dice)
        return
    area, _, key, what = rule.split(".")
    if area == "listing" and rule.split(".")[1] == "pictures":
        _break_pictures(case, key, what, dice)
        return
    if area == "questionnaire":
        _break_answer(case, key, what, dice)
        return
    texts, limits = case.texts[LANGUAGE], case.rules.listing.fields[key]
    match what:
        case "limit":
            begin = "https://example.org/" if case.rules.listing.form(key) is Form.ADDRESS else ""
            texts[key] = begin + "x" * (limits.limit_characters + 1 - len(begin))
        case "required":
            texts.pop(key, None)
        case "address":
            texts[key] = dice.choice(["example.org", "https://nowhere", "https://example.org/a b", "ftp://example.org"])
        case "line":
            texts[key] = "one\ntwo"


def _break_pictures(case: Case, key: str, what: str, dice: random.Random) -> None:
    rule, film = case.rules.listing.pictures[key], case.rules.listing.picture_form(key) is PictureForm.FILM
    width, height = sides(rule)
    shorter = max(rule.smallest_side, 180) // 2 * 2
    seconds, hall = rule.shortest_seconds + 1, gallery()
    match what:
        case "most" if film:
            case.pictures[key] = [hall.film(seconds + at, shorter, shorter * 2) for at in range(rule.most + 1)]
        case "most":
            clear = rule.transparent == "required"
            case.pictures[key] = [hall.still(width, height, f"m{at}", transparent=clear) for at in range(rule.most + 1)]
        case "fewest":
            case.pictures[key] = [hall.still(width, height)]
        case "required":
            case.pictures.pop(key, None)
        case "sides" if film:
            case.pictures[key] = [hall.film(seconds, shorter // 4 * 2, shorter)]
        case "sides":
            clear = rule.transparent == "required"
            small = rule.smallest_side if not rule.sizes else min(min(size) for size in rule.sizes)
            case.pictures[key] = [
                hall.still(max(small - 1 - at, 16), max(small - 1, 16), transparent=clear)
                for at in range(max(rule.fewest, 1))
            ]
        case "form":
            wrong = hall.still(64, 128) if film else hall.film(4, 180, 360)
            case.pictures[key] = [wrong] * 1
        case "opaque":
            case.pictures[key] = [hall.still(width, height)]
        case "bytes":
            side = int((rule.largest_bytes / 3) ** 0.5) + 20
            case.pictures[key] = [hall.still(side, side, noisy=True)]
        case "length":
            case.pictures[key] = [hall.film(max(1, rule.shortest_seconds - 2), shorter, shorter * 2)]
        case "codec":
            case.pictures[key] = [hall.film(seconds, shorter, shorter * 2, "mpeg4")]
        case "format":
            case.pictures[key] = [hall.film(seconds, shorter, shorter * 2, "libvpx-vp9", "webm")]
        case "needs":
            case.pictures[key] = [sound_film(rule)]
            case.pictures.pop(rule.needs or "", None)


def _break_good(case: Case, what: str, dice: random.Random) -> None:
    wanted = case.rules.goods
    assert wanted is not None
    reference, good = "good-broken", sound_good(case.rules, dice)
    more: dict[str, Any] = {}
    first = good.texts[LANGUAGE]
    match what:
        case "longest_reference":
            reference = "g" * (wanted.longest_reference + 1)
        case "kinds":
            kind = next(kind for kind in GoodKind if kind not in wanted.kinds)
            more = {"kind": kind, "months": 1 if kind is GoodKind.RENEWED else None}
        case "months":
            more = {"kind": GoodKind.RENEWED, "months": next(at for at in range(2, 12) if at not in wanted.months)}
        case "currencies":
            more = {"currency": "XAF"}
        case "lowest_price":
            more = {"price": Decimal("0.01")}
        case "highest_price":
            more = {"price": Decimal(100_000)}
        case "name_limit":
            more = {"texts": {**good.texts, LANGUAGE: GoodText(name="n" * (wanted.name_limit + 1), description="It.")}}
        case "description_limit":
            long = GoodText(name=first.name, description="d" * (wanted.description_limit + 1))
            more = {"texts": {**good.texts, LANGUAGE: long}}
        case "description_required":
            more = {"texts": {**good.texts, LANGUAGE: GoodText(name=first.name)}}
        case "first_language":
            more = {"texts": {"nb": first, **{at: text for at, text in good.texts.items() if at != LANGUAGE}}}
        case "locales_required":
            more = {"texts": {LANGUAGE: first}}
        case "picture.required":
            more = {"picture": None}
        case "picture.sides":
            more = {"picture": gallery().still(120, 120, "good")}
        case "most":
            case.goods |= {f"good-{at}": good for at in range(wanted.most)}
        case "fewest":
            case.goods = {}
            thing = _goods_thing(case.rules)
            if thing is not None and thing.when is not None:
                _lead_to(case, thing.when)
            return
    case.goods[reference] = good.model_copy(update=more)


def _break_answer(case: Case, key: str, what: str, dice: random.Random) -> None:
    question, shape = case.rules.questionnaire.questions[key], shape_at(case.rules, key)
    match what:
        case "range":
            case.replies[key] = dice.choice([question.lowest - 1, question.highest + 1])
        case "limit":
            case.replies[key] = "x" * (question.limit_characters + 1)
        case "choices" if shape.form is AnswerForm.GRID:
            case.replies[key] = {kind: ["sold"] for kind in shape.kinds}
        case "choices":
            case.replies[key] = ["other"] if shape.form is AnswerForm.CHOICES else "other"
        case "format":
            wrong = next(kind for kind in DocumentFormat if kind not in case.rules.questionnaire.documents(key))
            case.replies[key] = plain(gallery().document(wrong))
        case "bytes":
            kind = case.rules.questionnaire.documents(key)[0]
            case.replies[key] = plain(gallery().document(kind, question.largest_bytes))
        case "refused":
            case.replies[key] = question.refused_answers[0]
        case "required":
            case.replies.pop(key, None)
    if question.when is not None and dice.random() < 0.8:
        _lead_to(case, question.when)


def _lead_to(case: Case, when: When) -> None:
    """Have the case be one of which a single comparison holds, so that the question is asked."""
    for one in when.all:
        _lead_to(case, one)
    told = when.not_ or when
    if told.answer is not None:
        choices = [choice for choice in shape_at(case.rules, told.answer).choices if choice not in told.one_of]
        case.replies[told.answer] = choices[0] if when.not_ else told.one_of[0]
    elif told.permission is not None:
        case.change(permissions=(told.permission,))
    elif told.paid and case.rules.availability.paid:
        case.before = _paid(case.rules)


def _package(case: Case) -> bool:
    return bool(case.recipes)


@breaks("packages.formats", lambda case: any(kind not in case.rules.packages.formats for kind in WRITERS))
def _(case: Case, dice: random.Random) -> None:
    case.format = dice.choice([kind for kind in WRITERS if kind not in case.rules.packages.formats])
    case.recipes = [PackageRecipe(case.identifier, "1.1.0", EARLIER + 1, case.name.title(), padding_bytes=2_000)]


@breaks("packages.identifier", _package)
def _(case: Case, dice: random.Random) -> None:
    case.change(identifier=f"{case.identifier}.other")


@breaks("packages.debuggable", lambda case: case.format == "apk")
def _(case: Case, dice: random.Random) -> None:
    case.change(debuggable=True)


@breaks("packages.largest_bytes", _package)
def _(case: Case, dice: random.Random) -> None:
    case.change(padding_bytes=case.rules.packages.largest_bytes + 1)


@breaks("packages.most_packages", lambda case: case.format == "msix" or case.rules.packages.most_packages == 1)
def _(case: Case, dice: random.Random) -> None:
    kinds, most = ("x64", "arm64", "x86", "arm"), case.rules.packages.most_packages
    case.recipes = [replace(case.recipes[0], processor=kind) for kind in kinds[: most + 1]]


@breaks("packages.one_per_processor", lambda case: case.format == "msix" and case.rules.packages.one_per_processor)
def _(case: Case, dice: random.Random) -> None:
    case.recipes = [case.recipes[0], replace(case.recipes[0], padding_bytes=2_100)]


@breaks("packages.processors_required", lambda case: case.format in case.rules.packages.processors_required)
def _(case: Case, dice: random.Random) -> None:
    case.recipes = [replace(case.recipes[0], processor="arm64")]


@breaks(
    "packages.lowest_target_platform",
    lambda case: case.format == "apk" and bool(case.rules.packages.lowest_target_platform),
)
def _(case: Case, dice: random.Random) -> None:
    case.change(target_platform=(case.rules.packages.lowest_target_platform or 1) - 1)


@breaks("packages.signature_required", lambda case: case.format == "apk" and case.rules.packages.signature_required)
def _(case: Case, dice: random.Random) -> None:
    case.change(signer="")


@breaks(
    "packages.certificate_stays",
    lambda case: case.live and case.format == "apk" and case.rules.packages.certificate_stays,
)
def _(case: Case, dice: random.Random) -> None:
    case.change(signer="Someone else")


@breaks("packages.profile_kinds", lambda case: case.format == "ipa" and bool(case.rules.packages.profile_kinds))
def _(case: Case, dice: random.Random) -> None:
    case.change(devices=("DEMO-DEVICE-0A11",))


@breaks("packages.profile_expired", lambda case: case.format == "ipa")
def _(case: Case, dice: random.Random) -> None:
    case.change(profile_ends=datetime(2026, 1, 1, tzinfo=UTC))


@breaks("packages.smallest_icon_pixels", lambda case: case.rules.packages.smallest_icon_pixels is not None)
def _(case: Case, dice: random.Random) -> None:
    case.change(icon_pixels=(case.rules.packages.smallest_icon_pixels or 1) - 1)


@breaks("packages.icon_opaque", lambda case: case.rules.packages.icon_opaque)
def _(case: Case, dice: random.Random) -> None:
    case.change(icon_transparent=True)


@breaks("packages.reasons_required", lambda case: case.format == "ipa" and case.rules.packages.reasons_required)
def _(case: Case, dice: random.Random) -> None:
    case.change(permissions=("NSCameraUsageDescription",), reason="")


@breaks("numbers.numbering", lambda case: case.live)
def _(case: Case, dice: random.Random) -> None:
    case.change(number=EARLIER)


@breaks("numbers.version_must_exceed_live", lambda case: case.live and case.rules.numbers.version_must_exceed_live)
def _(case: Case, dice: random.Random) -> None:
    case.change(version=LIVE)
    case.release = LIVE


@breaks(
    "numbers.largest_number",
    lambda case: case.format != "msix" and case.rules.numbers.numbering is not Numbering.FOURTH_PART,
)
def _(case: Case, dice: random.Random) -> None:
    case.change(number=case.rules.numbers.largest_number + 1)


@breaks("numbers.most_parts", lambda case: case.format == "ipa" and case.rules.numbers.most_parts < MOST_PARTS)
def _(case: Case, dice: random.Random) -> None:
    case.change(number=".".join(["9"] * (case.rules.numbers.most_parts + 1)))


@breaks("processing.questions", lambda case: any(one.refused_answers for one in case.rules.processing.questions))
def _(case: Case, dice: random.Random) -> None:
    wanted = [one.when_permission for one in case.rules.processing.questions if one.when_permission]
    case.change(permissions=tuple(wanted))
    case.answers = "refused"


@breaks("review.notes_locales_required", lambda case: bool(case.rules.review.notes_locales_required))
def _(case: Case, dice: random.Random) -> None:
    case.notes.pop(dice.choice(case.rules.review.notes_locales_required))


@breaks("review.notes_limit", _package)
def _(case: Case, dice: random.Random) -> None:
    wide = {"characters": 1, "UTF-16 units": 2, "bytes": 4}[case.rules.review.notes_counted_in]
    count = case.rules.review.notes_limit_characters // wide + 1
    case.notes = dict.fromkeys(case.notes or {LANGUAGE: ""}, "🌊" * count)


@breaks("review.version", _package)
def _(case: Case, dice: random.Random) -> None:
    case.release = "9.9.9"


@breaks(
    "listing.begun",
    lambda case: any(one.required for one in case.rules.listing.fields.values()) and len(case.rules.listing.fields) > 1,
)
def _(case: Case, dice: random.Random) -> None:
    keys = list(case.rules.listing.fields)
    needed = [key for key in keys if case.rules.listing.fields[key].required]
    other = dice.choice([key for key in keys if key != needed[-1]])
    case.texts["de"] = {other: _text(case.rules, other, dice)[: case.rules.listing.fields[other].limit_characters]}


@breaks("name.longest", _package)
def _(case: Case, dice: random.Random) -> None:
    case.listed_name = case.name.ljust(case.rules.name.longest + 1, "n")


@breaks("availability.who", lambda case: Who.ORGANISATIONS not in case.rules.availability.who)
def _(case: Case, dice: random.Random) -> None:
    case.offer = case.before.model_copy(update={"who": Who.ORGANISATIONS, "organisations": ("Harbour office",)})


@breaks("availability.paid", lambda case: not case.rules.availability.paid)
def _(case: Case, dice: random.Random) -> None:
    case.offer = Availability(price=Decimal("2.99"), currency="EUR")


def _sells(case: Case) -> bool:
    return case.rules.availability.paid and not case.live


@breaks("availability.currencies", lambda case: _sells(case) and bool(case.rules.availability.currencies))
def _(case: Case, dice: random.Random) -> None:
    case.offer = _paid(case.rules).model_copy(update={"currency": "XAF"})


@breaks("availability.lowest_price", lambda case: _sells(case) and case.rules.availability.lowest_price is not None)
def _(case: Case, dice: random.Random) -> None:
    case.offer = _paid(case.rules).model_copy(update={"price": Decimal("0.01")})


@breaks("availability.highest_price", lambda case: _sells(case) and case.rules.availability.highest_price is not None)
def _(case: Case, dice: random.Random) -> None:
    case.offer = _paid(case.rules).model_copy(update={"price": Decimal(100_000)})


@breaks("availability.may_close", lambda case: not case.rules.availability.may_close)
def _(case: Case, dice: random.Random) -> None:
    case.offer = case.before.model_copy(update={"closed": True})


@breaks(
    "availability.paid_to_free",
    lambda case: case.live and case.rules.availability.paid and not case.rules.availability.paid_to_free,
)
def _(case: Case, dice: random.Random) -> None:
    case.before, case.offer = _paid(case.rules), Availability()


@breaks(
    "availability.free_to_paid",
    lambda case: case.live and case.rules.availability.paid and not case.rules.availability.free_to_paid,
)
def _(case: Case, dice: random.Random) -> None:
    case.before, case.offer = Availability(), _paid(case.rules)


def _locks(case: Case, part: OfferPart, locks_at: LocksAt) -> bool:
    thing = case.rules.deciding(part)
    return thing is not None and thing.locks_at is locks_at


@breaks("things.price.only_downwards", lambda case: case.live and _locks(case, OfferPart.PRICE, LocksAt.ONLY_DOWNWARDS))
def _(case: Case, dice: random.Random) -> None:
    case.before = _paid(case.rules)
    case.offer = case.before.model_copy(update={"price": (case.before.price or Decimal(1)) + 1})


@breaks(
    "things.who.first_review",
    lambda case: (
        case.live and len(case.rules.availability.who) > 1 and _locks(case, OfferPart.WHO, LocksAt.FIRST_REVIEW)
    ),
)
def _(case: Case, dice: random.Random) -> None:
    case.offer = case.before.model_copy(update={"who": Who.ORGANISATIONS, "organisations": ("Harbour office",)})


@breaks(
    "things.papers",
    lambda case: (
        case.rules.availability.paid
        and any(thing.kind == "papers" for thing in case.rules.graph.values())
        and not case.live
    ),
)
def _(case: Case, dice: random.Random) -> None:
    case.papers_valid, case.before, case.offer = False, Availability(), _paid(case.rules)


@breaks(
    "things.price.each_version",
    lambda case: case.rules.availability.paid and _locks(case, OfferPart.PRICE, LocksAt.EACH_VERSION),
)
def _(case: Case, dice: random.Random) -> None:
    case.before, case.while_reviewed = _paid(case.rules), "price"


@breaks(
    "things.texts.each_version",
    lambda case: any(case.rules.lock_of_field(key) is LocksAt.EACH_VERSION for key in case.rules.listing.fields),
)
def _(case: Case, dice: random.Random) -> None:
    case.while_reviewed = "texts"


@breaks(
    "things.pictures.each_version",
    lambda case: any(case.rules.lock_of_picture(key) is LocksAt.EACH_VERSION for key in case.rules.listing.pictures),
)
def _(case: Case, dice: random.Random) -> None:
    case.while_reviewed = "pictures"


@breaks(
    "things.answers.each_version",
    lambda case: any(
        case.rules.lock_of_question(key) is LocksAt.EACH_VERSION for key in case.rules.questionnaire.questions
    ),
)
def _(case: Case, dice: random.Random) -> None:
    case.while_reviewed = "answers"


@breaks(
    "things.goods.each_version",
    lambda case: case.rules.goods is not None and case.rules.lock_of_goods() is LocksAt.EACH_VERSION,
)
def _(case: Case, dice: random.Random) -> None:
    case.while_reviewed = "goods"
