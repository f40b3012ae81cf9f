"""The questions that a store asks about an app, and the ratings by region that follow from the answers: as data.

A question may mean a topic of the catalogue; it then takes the catalogue's answer, translated to the store's own
choices. A rating table is a valid one only if it says something of every region, whatever is answered.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import cached_property
from graphlib import CycleError, TopologicalSorter
from itertools import product

from pydantic import AwareDatetime, Field, model_validator

from restless_tide.core.catalogue import AnswerForm, Topic, catalogue
from restless_tide.core.documents import DocumentFormat
from restless_tide.core.limits import LARGEST_DOCUMENT_BYTES, LARGEST_NUMBER, MOST_CHOICES, MOST_QUESTIONS
from restless_tide.core.rule import MOST_DEEP, CountedIn, Rules, When, decided

KEY = r"^[a-z0-9][a-z0-9-]{0,59}$"
MOST_CASES = 20_000
NOT_TAKEN = ""
CHOSEN = (AnswerForm.CHOICE, AnswerForm.CHOICES)


class QuestionRules(Rules):
    """One question, by the store's own key for it. Without own choices it takes those of its topic as they are."""

    means: str | None = Field(default=None, description="the topic of the catalogue; none: as it is called")
    text: str = Field(default="", max_length=400, description="the store's own words; none: the topic's")
    help: str = Field(default="", max_length=600)
    form: AnswerForm | None = Field(default=None, description="of a question that means no topic")
    choices: dict[str, str] = Field(
        default_factory=dict, max_length=MOST_CHOICES, description="the store's own choices, with its words for them"
    )
    maps: dict[str, str] = Field(
        default_factory=dict,
        description="the topic's choices, or of a grid its kinds, as the store calls them; of several choices, one that it "
        "does not take is an empty text",
    )
    kinds: dict[str, str] = Field(default_factory=dict, max_length=MOST_CHOICES, description="of a grid: its rows")
    attributes: dict[str, str] = Field(default_factory=dict, max_length=20, description="of a grid: its columns")
    maps_attributes: dict[str, str] = Field(default_factory=dict, description="of a grid: the topic's attributes")
    lowest: int = Field(default=0, ge=-LARGEST_NUMBER, le=LARGEST_NUMBER, description="of a number")
    highest: int = Field(default=1_000_000, ge=-LARGEST_NUMBER, le=LARGEST_NUMBER, description="of a number")
    limit_characters: int = Field(default=2_000, gt=0, description="of words, counted as counted_in says")
    counted_in: CountedIn = "characters"
    formats: tuple[DocumentFormat, ...] = Field(default=(), description="of a document; none: any that the desk takes")
    largest_bytes: int = Field(
        default=LARGEST_DOCUMENT_BYTES, gt=0, le=LARGEST_DOCUMENT_BYTES, description="of a document"
    )
    required: bool = Field(default=True, description="a release is not reviewed without an answer")
    refused_answers: tuple[str, ...] = Field(default=(), description="choices with which no release is reviewed")
    when: When | None = Field(default=None, description="asked only of apps of which this holds; none: of all")
    applies_from: AwareDatetime | None = Field(default=None, description="asked from this instant on")


class Region(Rules):
    title: str = Field(min_length=1, max_length=80)
    countries: tuple[str, ...] = Field(default=(), description="ISO 3166 codes; none: all that no other region has")


class RatingRule(Rules):
    grade: str
    regions: tuple[str, ...] = Field(default=(), description="none: in all")
    when: When | None = Field(default=None, description="over answers with choices; none: always")


class RatingRules(Rules):
    """Grades by region: of the rules that hold, the strictest grade counts."""

    grades: dict[str, str] = Field(min_length=1, max_length=20, description="from the mildest to the strictest")
    regions: dict[str, Region] = Field(min_length=1, max_length=40)
    rules: tuple[RatingRule, ...] = Field(min_length=1, max_length=200)

    def rules_in(self, region: str) -> list[RatingRule]:
        """The rules of a region."""
        return [rule for rule in self.rules if not rule.regions or region in rule.regions]


class QuestionnaireRules(Rules):
    """All questions about an app, in the order in which the store asks them, and what follows from the answers."""

    questions: dict[str, QuestionRules] = Field(default_factory=dict, max_length=MOST_QUESTIONS)
    ratings: RatingRules | None = None

    def topic(self, key: str) -> str | None:
        """The topic that a question means; None: only this store asks for it."""
        meant = self.questions[key].means or key
        return meant if meant in catalogue().topics else None

    def topics(self) -> dict[str, str]:
        """What each question means that several stores share."""
        return {key: topic for key in self.questions if (topic := self.topic(key)) is not None}

    @cached_property
    def in_sequence(self) -> list[str]:
        """The questions, each after those that its condition looks at. Raises CycleError."""
        follows = {key: rule.when.answers_named() if rule.when else set() for key, rule in self.questions.items()}
        return list(TopologicalSorter(follows).static_order())

    def check_condition(self, place: str, when: When) -> None:
        """Raise ValueError where a condition names what is not asked here, or no answer to it."""
        if when.depth() > MOST_DEEP:
            raise ValueError(f"{place} is put together {when.depth()} deep; {MOST_DEEP} at most")
        for one in when.comparisons():
            if one.answer is None:
                continue
            if one.answer not in self.questions:
                raise ValueError(f"{place} names {one.answer}, which no question is called")
            form = self.form(one.answer)
            if one.at_least is not None and form is not AnswerForm.NUMBER:
                raise ValueError(f"{place} compares {one.answer} with a number, and it is none")
            known = self.attributes(one.answer) if form is AnswerForm.GRID else self.choices(one.answer)
            strange = [choice for choice in one.one_of if choice not in known]
            strange += [one.kind] if one.kind is not None and one.kind not in self.kinds(one.answer) else []
            if strange:
                raise ValueError(f"{place} names {', '.join(strange)}, which {one.answer} does not have")

    def _meant(self, key: str) -> Topic | None:
        topic = self.topic(key)
        return catalogue().topics[topic] if topic is not None else None

    def form(self, key: str) -> AnswerForm:
        """How a question is answered."""
        meant = self._meant(key)
        return (meant.form if meant else self.questions[key].form) or AnswerForm.CHOICE

    def text(self, key: str) -> str:
        """What is asked: in the store's own words, or in the catalogue's."""
        meant = self._meant(key)
        return self.questions[key].text or (meant.text if meant else key)

    def help(self, key: str) -> str:
        """What the store says to a question, or the catalogue."""
        meant = self._meant(key)
        return self.questions[key].help or (meant.help if meant else "")

    def choices(self, key: str) -> Mapping[str, str]:
        """The choices that the store takes, with the words for them."""
        meant = self._meant(key)
        return self.questions[key].choices or (meant.choices if meant else {})

    def kinds(self, key: str) -> Mapping[str, str]:
        """The rows of a grid as the store has them."""
        meant = self._meant(key)
        return self.questions[key].kinds or (meant.kinds if meant else {})

    def documents(self, key: str) -> tuple[DocumentFormat, ...]:
        """The formats of a document that the store takes."""
        return self.questions[key].formats or tuple(DocumentFormat)

    def attributes(self, key: str) -> Mapping[str, str]:
        """The columns of a grid as the store has them."""
        meant = self._meant(key)
        return self.questions[key].attributes or (meant.attributes if meant else {})

    @model_validator(mode="after")
    def _means_something_known(self) -> QuestionnaireRules:
        meant: dict[str, str] = {}
        for key, question in self.questions.items():
            known = catalogue().topics
            if question.means is not None and question.means not in known:
                raise ValueError(
                    f"questions.{key} means {question.means!r}, which no topic of the catalogue is; it has "
                    f"{', '.join(known)}"
                )
            topic = self.topic(key)
            if topic is not None and topic in meant:
                raise ValueError(f"questions.{key} and questions.{meant[topic]} both mean {topic}; one may")
            if topic is not None:
                meant[topic] = key
            for trouble in _troubles(self, key, question):
                raise ValueError(f"questions.{key}: {trouble}")
        return self

    @model_validator(mode="after")
    def _can_be_asked_in_an_order(self) -> QuestionnaireRules:
        for key, question in self.questions.items():
            if question.when is not None:
                self.check_condition(f"questions.{key}.when", question.when)
        try:
            _ = self.in_sequence
        except CycleError as wrong:
            circle = " after ".join(wrong.args[1])
            raise ValueError(f"questions are asked after each other in a circle: {circle}") from None
        return self

    @model_validator(mode="after")
    def _rates_every_case(self) -> QuestionnaireRules:
        ratings = self.ratings
        if ratings is None:
            return self
        for number, rule in enumerate(ratings.rules):
            place = f"ratings.rules.{number}"
            if rule.grade not in ratings.grades:
                raise ValueError(f"{place} gives the grade {rule.grade!r}; there are {', '.join(ratings.grades)}")
            strange = [name for name in rule.regions if name not in ratings.regions]
            if strange:
                raise ValueError(f"{place} names {', '.join(strange)}, which no region is called")
            if rule.when is not None:
                self.check_condition(f"{place}.when", rule.when)
                if any(one.answer is None or one.at_least is not None or self.form(one.answer) not in CHOSEN
                       for one in rule.when.comparisons()):  # fmt: skip
                    raise ValueError(f"{place}.when compares something else than answers with choices")
        for region in ratings.regions:
            _demand_every_case(self, ratings, region)
        return self


def _troubles(asked: QuestionnaireRules, key: str, question: QuestionRules) -> Iterator[str]:
    topic, form = asked.topic(key), asked.form(key)
    if topic is None and question.form is None:
        yield "it means no topic, so it says its form"
    if topic is not None and question.form is not None:
        yield f"its form is that of {topic}; it names none"
    if form in CHOSEN and len(asked.choices(key)) < 2:
        yield "it has fewer than two choices"
    if form is AnswerForm.GRID and not (asked.kinds(key) and asked.attributes(key)):
        yield "a grid has kinds and attributes"
    if question.formats and form is not AnswerForm.FILE:
        yield "only what is answered by a document has formats"
    if question.lowest > question.highest:
        yield "lowest is above highest"
    strange = [choice for choice in question.refused_answers if choice not in asked.choices(key)]
    if strange:
        yield f"refused_answers names {', '.join(strange)}, which is no choice"
    meant = catalogue().topics[topic] if topic is not None else None
    if meant is None and (question.maps or question.maps_attributes):
        yield "only what means a topic is mapped"
    if meant is None:
        return
    theirs, ours = (asked.kinds(key), meant.kinds) if form is AnswerForm.GRID else (asked.choices(key), meant.choices)
    yield from _mapped(
        "maps", question.maps, ours, theirs, whole=form is not AnswerForm.GRID, several=form is AnswerForm.CHOICES
    )
    yield from _mapped(
        "maps_attributes", question.maps_attributes, meant.attributes, asked.attributes(key), whole=False
    )


def _mapped(
    name: str,
    maps: Mapping[str, str],
    ours: Iterable[str],
    theirs: Mapping[str, str],
    *,
    whole: bool,
    several: bool = False,
) -> Iterator[str]:
    """What is wrong with a mapping. ``whole``: everything of ours has a counterpart, or of ``several`` choices none."""
    strange = [one for one in maps if one not in ours]
    strange += [one for one in maps.values() if one not in theirs and not (one == NOT_TAKEN and several)]
    if strange:
        yield f"{name} names {', '.join(strange)}, which is not there"
    lost = [one for one in ours if maps.get(one, one) not in theirs and maps.get(one) != NOT_TAKEN]
    if whole and lost:
        yield f"{name} says nothing of {', '.join(lost)}"
    unreached = [one for one in theirs if one not in {maps.get(ours_, ours_) for ours_ in ours}]
    if unreached and not whole:
        yield f"no answer of the topic leads to {', '.join(unreached)}: name it in {name}"


def _demand_every_case(asked: QuestionnaireRules, ratings: RatingRules, region: str) -> None:
    """Raise ValueError if some answers leave a region without a grade."""
    rules = ratings.rules_in(region)
    if any(rule.when is None for rule in rules):
        return
    asking = sorted({key for rule in rules if rule.when is not None for key in rule.when.answers_named()})
    possible = [_possible(asked, key) for key in asking]
    if math.prod(len(answers) for answers in possible) > MOST_CASES:
        raise ValueError(
            f"ratings of {region} look at too many answers together to be checked; add a rule that always holds there"
        )
    for answers in product(*possible):
        given = dict(zip(asking, answers, strict=True))
        if not any(rule.when is not None and decided(rule.when, _in(given)) for rule in rules):
            told = ", ".join(f"{key} = {' and '.join(chosen) or 'not asked'}" for key, chosen in given.items())
            raise ValueError(f"ratings leave a case open in {region}: {told or 'there is no rule'}")


def _possible(asked: QuestionnaireRules, key: str) -> list[tuple[str, ...]]:
    """What may be answered to a question with choices; an empty one where it need not be answered at all."""
    question, choices = asked.questions[key], list(asked.choices(key))
    silent: list[tuple[str, ...]] = [()] if not question.required or question.when or question.applies_from else []
    if asked.form(key) is AnswerForm.CHOICE:
        return [*silent, *((choice,) for choice in choices)]
    if len(choices) > 14:
        raise ValueError(f"ratings look at {key}, which has too many choices to be checked")
    several = [
        tuple(choice for bit, choice in enumerate(choices) if number >> bit & 1)
        for number in range(1, 2 ** len(choices))
    ]
    return [(), *several] if silent else several


def _in(given: Mapping[str, tuple[str, ...]]) -> Callable[[When], bool]:
    return lambda one: any(choice in given.get(one.answer or "", ()) for choice in one.one_of)
