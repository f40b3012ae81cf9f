"""The last look before a hand-in: all that people and the reviewer will see of a release at a store, beside what is live.

A look is a list of lines. Its revision is a digest of them: as long as it is the same, nothing that is seen has changed.
What was handed in is kept as such a list, so that a later look can say what is live now, and what the store has approved.
"""

from __future__ import annotations

import hashlib
import json
import zlib
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple

from restless_tide.core.answer_checks import rated
from restless_tide.core.answer_shapes import shape_at, worded
from restless_tide.core.answers import asked
from restless_tide.core.errors import Invalid
from restless_tide.core.goods import good_told
from restless_tide.core.known import Known, case_of
from restless_tide.core.review_items import ALWAYS, ReviewItem, good_item, item_told, kind_of
from restless_tide.core.rulebook import ReviewRules, Rulebook
from restless_tide.core.sizes import size


class LookPart(StrEnum):
    """What a line is about."""

    BUILD = "build"
    NOTES = "notes"
    TEXTS = "texts"
    PICTURES = "pictures"
    ANSWERS = "answers"
    GOODS = "goods"
    OFFER = "offer"
    REVIEWER = "reviewer"


PART_TITLES: Mapping[LookPart, str] = {
    LookPart.BUILD: "The build",
    LookPart.NOTES: "Release notes",
    LookPart.TEXTS: "Texts",
    LookPart.PICTURES: "Pictures",
    LookPart.ANSWERS: "Answers",
    LookPart.GOODS: "Goods",
    LookPart.OFFER: "Where and for how much",
    LookPart.REVIEWER: "For the reviewer only",
}
_ITEM_OF = {
    LookPart.BUILD: ReviewItem.BUILD,
    LookPart.NOTES: ReviewItem.NOTES,
    LookPart.TEXTS: ReviewItem.TEXTS,
    LookPart.PICTURES: ReviewItem.PICTURES,
    LookPart.ANSWERS: ReviewItem.ANSWERS,
}
_REVISION_DIGITS = 12


class Line(NamedTuple):
    """One thing that is seen. ``place`` names it within its part; ``each`` are the members where it is a list of things."""

    part: LookPart
    place: str
    title: str
    value: str
    each: tuple[str, ...] = ()

    @property
    def key(self) -> tuple[str, str]:
        return self.part, self.place


Lines = Sequence[Line]


@dataclass(frozen=True, slots=True)
class ForReviewer:
    """What the reviewer alone gets. ``sign_in`` is the name to sign in with, and ``sealed`` a digest of the whole of it."""

    standing: str = ""
    drafted: str = ""
    sign_in: str = ""
    sealed: str = ""
    files: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Compared:
    """A line as it will be and as it is live; None: it is not there. ``added`` and ``removed`` are members of a list."""

    part: LookPart
    place: str
    title: str
    new: Line | None
    live: Line | None

    @property
    def changed(self) -> bool:
        return _content(self.new) != _content(self.live)

    @property
    def added(self) -> tuple[str, ...]:
        return _beyond(self.new, self.live)

    @property
    def removed(self) -> tuple[str, ...]:
        return _beyond(self.live, self.new)


def _content(line: Line | None) -> tuple[str, tuple[str, ...]] | None:
    return None if line is None else (line.value, line.each)


def _beyond(one: Line | None, other: Line | None) -> tuple[str, ...]:
    known = set(other.each) if other is not None else set()
    return tuple(member for member in (one.each if one is not None else ()) if member not in known)


def lines_of(rules: Rulebook, known: Known, reviewer: ForReviewer = ForReviewer()) -> tuple[Line, ...]:
    """All that is seen of a release at a store: what the store holds, and what was sent to it and is on its way."""
    return (
        *_build(known),
        *(
            Line(LookPart.NOTES, locale, f"Release notes, {locale}", text)
            for locale, text in sorted(((known.leg.notes if known.leg is not None else None) or {}).items())
        ),
        *_texts(rules, known),
        *_pictures(rules, known),
        *_answers(rules, known),
        *_goods(known),
        *_offer(known),
        *_reviewer(reviewer),
    )


def _build(known: Known) -> Iterable[Line]:
    part, build = LookPart.BUILD, known.build
    if build is None:
        return
    facts = build.facts
    yield Line(part, "build", "Build", build.label.removeprefix("Build "))
    if facts:
        yield Line(part, "size", "Size", " + ".join(size(one.size_bytes) for one in facts))
    for place, title, members in (
        ("permissions", "Permissions", {name for one in facts for name in one.permissions}),
        ("capabilities", "Capabilities", {name for one in facts for name in one.capabilities}),
        ("languages", "Languages", {name for one in facts for name in one.locales}),
        ("devices", "Devices", {name for one in facts for name in one.device_families}),
    ):
        if members:
            yield Line(part, place, title, "", tuple(sorted(members)))
    levels = sorted({one.lowest_platform for one in facts if one.lowest_platform})
    if levels:
        yield Line(part, "platform", "Runs from platform", ", ".join(levels))


def _texts(rules: Rulebook, known: Known) -> Iterable[Line]:
    given, fields = known.texts, list(rules.listing.fields)
    for locale in sorted({*given.held, *given.ordered}):
        texts = {**given.held.get(locale, {}), **given.ordered.get(locale, {})}
        for field in sorted(texts, key=lambda name: fields.index(name) if name in fields else len(fields)):
            if texts[field]:
                title = rules.listing.title(field) if field in fields else field
                yield Line(LookPart.TEXTS, f"{locale}/{field}", f"{title}, {locale}", texts[field])


def _pictures(rules: Rulebook, known: Known) -> Iterable[Line]:
    given = known.pictures
    for locale in sorted({*given.held, *given.ordered}):
        sets = {**given.held.get(locale, {}), **given.ordered.get(locale, {})}
        for key in sorted(sets):
            if sets[key]:
                title = rules.listing.picture_title(key) if key in rules.listing.pictures else key
                yield Line(LookPart.PICTURES, f"{locale}/{key}", f"{title}, {locale}", "", tuple(sets[key]))


def _answers(rules: Rulebook, known: Known) -> Iterable[Line]:
    given = {**known.answers.held, **known.answers.ordered}
    questions = asked(rules, known.answers, case_of(known), known.day)
    for region, grade in rated(rules, questions).items():
        yield Line(LookPart.OFFER, f"rating/{region}", f"Rating, {region}", grade or "open: an answer is missing")
    for question in questions:
        if question.key in given:
            shape = shape_at(rules, question.key)
            yield Line(LookPart.ANSWERS, question.key, shape.title, worded(shape, given[question.key]))


def _goods(known: Known) -> Iterable[Line]:
    for reference, good in sorted({**known.goods.held, **known.goods.ordered}.items()):
        said = [good_told(good)]
        said += [f"{locale}: {text.description}" for locale, text in sorted(good.texts.items()) if text.description]
        yield Line(LookPart.GOODS, reference, reference, "\n".join(said), (good.picture,) if good.picture else ())


def _offer(known: Known) -> Iterable[Line]:
    part, offer = LookPart.OFFER, known.offered
    price = f"{offer.currency} {offer.price}" if offer.price is not None else "free"
    yield Line(part, "price", "Price", price)
    yield Line(part, "countries", "Countries", "" if offer.countries else "everywhere the store is", offer.countries)
    yield Line(part, "who", "Who may get it", ", ".join(offer.organisations) or str(offer.who))


def _reviewer(reviewer: ForReviewer) -> Iterable[Line]:
    part = LookPart.REVIEWER
    if reviewer.standing:
        yield Line(part, "standing", "Standing note", reviewer.standing)
    if reviewer.drafted:
        yield Line(part, "drafted", "Since the last review", reviewer.drafted)
    if reviewer.sign_in:
        yield Line(part, "sign-in", "Sign-in", f"{reviewer.sign_in} (password sealed, {reviewer.sealed[:6]})")
    if reviewer.files:
        yield Line(part, "files", "Attachments", "", reviewer.files)


# beside what is live, and what was approved


def compared(new: Lines, live: Lines | None) -> list[Compared]:
    """Every line beside the one that is live, part by part; what is live and will be gone, too."""
    before = {line.key: line for line in live or ()}
    after = {line.key: line for line in new}
    order = list(LookPart)
    found = [
        Compared(line.part, line.place, line.title, after.get(key), before.get(key))
        for key, line in {**before, **after}.items()
    ]
    places = {key: at for at, key in enumerate(after)}
    return sorted(found, key=lambda one: (order.index(one.part), places.get((one.part, one.place), len(places))))


def item_of(line: Line) -> str | None:
    """The item of a submission that a line belongs to; None for what is no item."""
    if line.part is LookPart.GOODS:
        return good_item(line.place)
    kind = _ITEM_OF.get(line.part)
    return str(kind) if kind is not None else None


def items_of(rules: ReviewRules, lines: Lines, approved: Lines | None, *, production: bool = True) -> list[str]:
    """What goes to review together: the build and the notes, and in production what the store has not approved as it stands."""
    told = [str(one) for one in ALWAYS]
    if production:
        before = {line.key: line for line in approved or ()}
        changed = [line for line in lines if _content(before.get(line.key)) != _content(line)]
        gone = [line for key, line in before.items() if key not in {one.key for one in lines}]
        for line in (*changed, *(one for one in gone if one.part is not LookPart.GOODS)):
            item = item_of(line)
            if item is not None and kind_of(item) in rules.go_together:
                told.append(item)
    return list(dict.fromkeys(told))


def items_without(rules: ReviewRules, items: Sequence[str], without: Collection[str], store: str) -> list[str]:
    """The items without those that are kept back. Raises Invalid for one that has to go along."""
    for item in items:
        if item in without and must_go(rules, item):
            raise Invalid(f"{store} wants {item_told(item)} together with the version.", code="item-must-go")
    return [item for item in items if item not in without]


def must_go(rules: ReviewRules, item: str) -> bool:
    """Whether an item that has changed cannot be kept back."""
    return item in {str(one) for one in ALWAYS} or kind_of(item) in rules.must_go


def after_verdict(approved: Lines | None, handed_in: Lines, items: Collection[str]) -> tuple[Line, ...]:
    """What a store has approved, now that it has approved these items of what was handed in."""
    kept = [line for line in approved or () if item_of(line) not in items]
    return (*kept, *(line for line in handed_in if item_of(line) in items))


# kept


def revision_of(lines: Mapping[str, Lines]) -> str:
    """The revision of a look at several places, by the lines of each."""
    told = json.dumps({place: list(lines[place]) for place in sorted(lines)}, ensure_ascii=False)
    return hashlib.sha256(told.encode()).hexdigest()[:_REVISION_DIGITS]


def packed(lines: Lines) -> bytes:
    """Lines as they are kept."""
    return zlib.compress(json.dumps(list(lines), ensure_ascii=False).encode())


def unpacked(content: bytes) -> tuple[Line, ...]:
    """Lines as ``packed`` wrote them."""
    return tuple(
        Line(LookPart(part), place, title, value, tuple(each))
        for part, place, title, value, each in json.loads(zlib.decompress(content))
    )
