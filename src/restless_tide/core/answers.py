"""The answers about an app: given once by topic, taken by each store as its questionnaire says.

``common`` holds what all stores share, by topic; ``own`` what one store gets instead or alone, by that store's
own key of the question. What a store gets is always worked out of the two, never kept a third time.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import Any

from restless_tide.core.applying import Answer as Answer
from restless_tide.core.applying import Case, holds
from restless_tide.core.catalogue import AnswerForm, Sign, Topic, catalogue
from restless_tide.core.changes import measured
from restless_tide.core.errors import Finding, Invalid, Level
from restless_tide.core.packages.facts import Facts
from restless_tide.core.questionnaire import CHOSEN
from restless_tide.core.rulebook import Rulebook
from restless_tide.core.texts import Origin

LONGEST_ANSWER = 4_000
LARGEST_NUMBER = 1_000_000_000


class AnswerState(StrEnum):
    """Where an answer stands at a store."""

    UNTOUCHED = "untouched"
    BEGUN = "begun"
    COMPLETE = "complete"
    SENT = "sent"
    WAITS = "waits for the review to end"
    ACCEPTED = "accepted"
    CHANGED = "changed since sent"
    REFUSED = "refused"


ANSWERED = frozenset(AnswerState) - {AnswerState.UNTOUCHED, AnswerState.BEGUN}
"""The store has an answer, or can be sent one."""


@dataclass(frozen=True, slots=True)
class AnswersAt:
    """The answers about an app as one store concerns them. In ``common`` and ``own`` a None is an answer taken out.

    ``held`` is what the store was last seen to hold, ``ordered`` what it was ordered and has not confirmed, ``kept`` the
    questions whose change is kept until a lock opens; ``refused`` what it refused last, and why.
    """

    common: Mapping[str, Answer | None] = dataclasses.field(default_factory=dict)
    own: Mapping[str, Answer | None] = dataclasses.field(default_factory=dict)
    held: Mapping[str, Answer] = dataclasses.field(default_factory=dict)
    ordered: Mapping[str, Answer] = dataclasses.field(default_factory=dict)
    kept: frozenset[str] = frozenset()
    refused: Mapping[str, Answer] = dataclasses.field(default_factory=dict)
    refused_because: str = ""


NO_ANSWERS = AnswersAt()


@dataclass(frozen=True, slots=True)
class Shape:
    """How a question may be answered: as the catalogue has it, or as one store does."""

    title: str
    form: AnswerForm
    choices: Mapping[str, str] = dataclasses.field(default_factory=dict)
    kinds: Mapping[str, str] = dataclasses.field(default_factory=dict)
    attributes: Mapping[str, str] = dataclasses.field(default_factory=dict)
    lowest: int = 0
    highest: int = LARGEST_NUMBER


@dataclass(frozen=True, slots=True)
class Asked:
    """A question that a store asks, with what it gets. ``surely``: not only if a build turns out so.

    ``new``: it came up after the store had taken answers. ``answer`` is what the store gets, in its own choices;
    ``stands`` the same, or what it holds where nobody has answered here.
    """

    key: str
    topic: str | None
    answer: Answer | None
    stands: Answer | None
    origin: Origin
    surely: bool
    required: bool
    applies_from: datetime | None
    state: AnswerState
    new: bool


def thawed(value: Any) -> Answer:
    """An answer as JSON has it, with tuples in place of lists."""
    if isinstance(value, Mapping):
        return {str(kind): tuple(str(one) for one in row) for kind, row in value.items()}
    if isinstance(value, list | tuple):
        return tuple(str(one) for one in value)
    return value if isinstance(value, int) and not isinstance(value, bool) else str(value)


def plain(answer: Answer) -> Any:
    """An answer as JSON and TOML have it."""
    if isinstance(answer, Mapping):
        return {kind: list(row) for kind, row in answer.items()}
    return list(answer) if isinstance(answer, tuple) else answer


def shape_of_topic(key: str) -> Shape:
    """How a topic of the catalogue is answered. Raises KeyError."""
    topic = catalogue().topics[key]
    return Shape(topic.title, topic.form, topic.choices, topic.kinds, topic.attributes)


def shape_at(rules: Rulebook, key: str) -> Shape:
    """How a store's question is answered there. Raises KeyError."""
    asked, question = rules.questionnaire, rules.questionnaire.questions[key]
    return Shape(
        asked.text(key),
        asked.form(key),
        asked.choices(key),
        asked.kinds(key),
        asked.attributes(key),
        question.lowest,
        question.highest,
    )


def read_answer(shape: Shape, value: Any, place: str) -> Answer:
    """An answer as a person or a file gives it. Raises Invalid with what may be answered."""
    match shape.form:
        case AnswerForm.CHOICE:
            if isinstance(value, str) and value in shape.choices:
                return value
            raise _unfit(place, f"one of {', '.join(shape.choices)}", value)
        case AnswerForm.CHOICES:
            several = _names(value)
            if several is not None and several and set(several) <= set(shape.choices):
                return tuple(choice for choice in shape.choices if choice in several)
            raise _unfit(place, f"one or more of {', '.join(shape.choices)}", value)
        case AnswerForm.NUMBER:
            whole = value if isinstance(value, int) and not isinstance(value, bool) else None
            if whole is not None and abs(whole) <= LARGEST_NUMBER:
                return whole
            raise _unfit(place, "a whole number", value)
        case AnswerForm.TEXT:
            if isinstance(value, str) and value.strip() and len(value) <= LONGEST_ANSWER:
                return value
            raise _unfit(place, f"a text of 1 to {LONGEST_ANSWER} characters", value)
    return _grid(shape, value, place)


def _grid(shape: Shape, value: Any, place: str) -> Answer:
    told = f"for each of {', '.join(shape.kinds)} a list of {', '.join(shape.attributes)}"
    if not isinstance(value, Mapping) or not set(value) <= set(shape.kinds):
        raise _unfit(place, told, value)
    rows: dict[str, tuple[str, ...]] = {}
    for kind in shape.kinds:
        if kind not in value:
            continue
        row = _names(value[kind])
        if row is None or not set(row) <= set(shape.attributes):
            raise _unfit(f"{place}.{kind}", f"a list of {', '.join(shape.attributes)}; an empty one says none", value)
        rows[kind] = tuple(attribute for attribute in shape.attributes if attribute in row)
    if not rows:
        raise _unfit(place, told, value)
    return rows


def _names(value: Any) -> list[str] | None:
    if isinstance(value, list | tuple) and all(isinstance(name, str) for name in value):
        return list(value)
    return None


def _unfit(place: str, wanted: str, value: Any) -> Invalid:
    return Invalid(f"{place} cannot be {str(value)[:80]!r}.", remedy=f"Give {wanted}.", code="answer-unfit")


def fitted(shape: Shape, answer: Answer) -> Answer | None:
    """What of an answer still fits the choices that there are; None where nothing does."""
    match shape.form:
        case AnswerForm.CHOICE:
            return answer if isinstance(answer, str) and answer in shape.choices else None
        case AnswerForm.CHOICES:
            return tuple(one for one in answer if one in shape.choices) or None if isinstance(answer, tuple) else None
        case AnswerForm.NUMBER:
            return answer if isinstance(answer, int) else None
        case AnswerForm.TEXT:
            return answer if isinstance(answer, str) else None
    if not isinstance(answer, Mapping):
        return None
    rows = {kind: row for kind, row in answer.items() if kind in shape.kinds}
    return {kind: tuple(one for one in row if one in shape.attributes) for kind, row in rows.items()} or None


def worded(shape: Shape, answer: Answer) -> str:
    """An answer in the words of its choices, as a person reads it."""
    if isinstance(answer, Mapping):
        return "; ".join(
            f"{shape.kinds.get(kind, kind)}: {', '.join(shape.attributes.get(one, one) for one in row) or 'no'}"
            for kind, row in answer.items()
        )
    if isinstance(answer, tuple):
        return ", ".join(shape.choices.get(choice, choice) for choice in answer)
    return shape.choices.get(answer, answer) if isinstance(answer, str) else str(answer)


def whole(shape: Shape, answer: Answer | None) -> bool:
    """Whether nothing of an answer is left open: a grid has every row."""
    if answer is None:
        return False
    return not isinstance(answer, Mapping) or set(answer) == set(shape.kinds)


def translated(rules: Rulebook, key: str, answer: Answer) -> Answer | None:
    """The catalogue's answer in a store's own choices; None where nothing of it is asked there."""
    question, shape = rules.questionnaire.questions[key], shape_at(rules, key)
    if isinstance(answer, Mapping):
        rows: dict[str, set[str]] = {}
        open_ = {question.maps.get(kind, kind) for kind in _kinds_meant(rules, key) if kind not in answer}
        for kind, row in answer.items():
            theirs = question.maps.get(kind, kind)
            if theirs in shape.kinds and theirs not in open_:
                rows.setdefault(theirs, set()).update(question.maps_attributes.get(one, one) for one in row)
        return {
            kind: tuple(one for one in shape.attributes if one in rows[kind]) for kind in shape.kinds if kind in rows
        } or None
    if isinstance(answer, tuple):
        named = {question.maps.get(choice, choice) for choice in answer}
        return tuple(choice for choice in shape.choices if choice in named) or None
    if isinstance(answer, str) and shape.form is AnswerForm.CHOICE:
        return question.maps.get(answer, answer)
    return answer


def _kinds_meant(rules: Rulebook, key: str) -> Iterable[str]:
    topic = rules.questionnaire.topic(key)
    return catalogue().topics[topic].kinds if topic is not None else ()


def untranslated(rules: Rulebook, key: str, answer: Answer) -> Answer | None:
    """The catalogue's answer that a store's own answer stands for; None where there is none, or more than one."""
    topic = rules.questionnaire.topic(key)
    if topic is None:
        return None
    meant, shape = catalogue().topics[topic], shape_of_topic(topic)
    candidates: list[Answer] = []
    if shape.form is AnswerForm.CHOICE:
        candidates = [choice for choice in meant.choices if translated(rules, key, choice) == answer]
    elif isinstance(answer, Mapping):
        back = _back(rules, key, meant)
        candidates = [back(answer)] if back is not None else []
    elif isinstance(answer, tuple):
        maps = rules.questionnaire.questions[key].maps
        candidates = [tuple(choice for choice in meant.choices if maps.get(choice, choice) in answer)]
    else:
        candidates = [answer]
    fitting = [one for one in candidates if translated(rules, key, one) == answer]
    return fitting[0] if len(fitting) == 1 else None


def _back(rules: Rulebook, key: str, meant: Topic) -> Any:
    """The way back for a grid where each of the store's rows and columns stands for exactly one of ours; else None."""
    question, shape = rules.questionnaire.questions[key], shape_at(rules, key)
    kinds = {
        question.maps.get(kind, kind): kind for kind in meant.kinds if question.maps.get(kind, kind) in shape.kinds
    }
    columns = {
        question.maps_attributes.get(one, one): one
        for one in meant.attributes
        if question.maps_attributes.get(one, one) in shape.attributes
    }
    if len(kinds) < len(meant.kinds) or len(columns) < len(meant.attributes):
        return None
    return lambda answer: {kinds[kind]: tuple(columns[one] for one in row) for kind, row in answer.items()}


def given_at(rules: Rulebook, given: AnswersAt, key: str) -> tuple[Answer | None, Origin]:
    """What a store gets for a question, in its own choices, and where that comes from.

    Of an answer that was given for this store alone, what the store no longer takes is left out.
    """
    own = given.own.get(key)
    fitting = fitted(shape_at(rules, key), own) if own is not None else None
    if fitting is not None:
        return fitting, Origin.OWN
    common = given.common.get(rules.questionnaire.topic(key) or "")
    return (translated(rules, key, common) if common is not None else None), Origin.COMMON


def asked(rules: Rulebook, given: AnswersAt, case: Case, day: datetime) -> list[Asked]:
    """The questions that a store asks of an app on a day, in its order, with what it gets for each.

    Without packages or an offer a question may depend on what nobody knows yet; then it is not asked ``surely``.
    """
    found = {key: _asked(rules, given, key, surely, day) for key, surely in _open(rules, given, case, day).items()}
    return [found[key] for key in rules.questionnaire.questions if key in found]


def unasked(rules: Rulebook, given: AnswersAt, known: Collection[str], day: datetime) -> list[Asked]:
    """The questions of a store that are not among the ``known`` ones: it does not ask them of this app now."""
    return [_asked(rules, given, key, False, day) for key in rules.questionnaire.questions if key not in known]


def _open(rules: Rulebook, given: AnswersAt, case: Case, day: datetime) -> dict[str, bool]:
    """The questions asked, each after those that its condition looks at; the value says whether it surely is."""
    settled: dict[str, bool] = {}
    answers: dict[str, Answer] = {}
    unanswered: set[str] = set()
    waiting = dict(rules.questionnaire.questions)
    while waiting:
        key = next(one for one, rule in waiting.items()
                   if rule.when is None or not rule.when.answers_named() & waiting.keys())  # fmt: skip
        question = waiting.pop(key)
        here = dataclasses.replace(case, answers=answers, unanswered=frozenset(unanswered))
        said = holds(question.when, here) if question.applies_from is None or question.applies_from <= day else False
        if said is False:
            continue
        settled[key] = said is True
        answer = _standing(rules, given, key)
        if answer is not None and said is True:
            answers[key] = answer
        else:
            unanswered.add(key)
    return settled


def _standing(rules: Rulebook, given: AnswersAt, key: str) -> Answer | None:
    answer, _ = given_at(rules, given, key)
    return given.held.get(key) if answer is None else answer


def _asked(rules: Rulebook, given: AnswersAt, key: str, surely: bool, day: datetime) -> Asked:
    question = rules.questionnaire.questions[key]
    answer, origin = given_at(rules, given, key)
    state = state_of_answer(rules, given, key, answer)
    return Asked(
        key=key,
        topic=rules.questionnaire.topic(key),
        answer=answer,
        stands=_standing(rules, given, key),
        origin=origin,
        surely=surely,
        required=question.required,
        applies_from=question.applies_from,
        state=state,
        new=bool(given.held) and key not in given.held and state is AnswerState.UNTOUCHED,
    )


def state_of_answer(rules: Rulebook, given: AnswersAt, key: str, answer: Answer | None) -> AnswerState:
    """Where the answer that a store gets stands there."""
    held = given.held.get(key)
    if answer is None:
        taken_out = key in given.own or (rules.questionnaire.topic(key) or "") in given.common
        return AnswerState.ACCEPTED if held is not None and not taken_out else AnswerState.UNTOUCHED
    if answer == held:
        return AnswerState.ACCEPTED
    if given.ordered.get(key) == answer:
        return AnswerState.SENT
    if not whole(shape_at(rules, key), answer):
        return AnswerState.BEGUN
    if given.refused.get(key) == answer:
        return AnswerState.REFUSED
    if key in given.kept:
        return AnswerState.WAITS
    return AnswerState.CHANGED if held is not None else AnswerState.COMPLETE


def state_of_all(states: Iterable[AnswerState]) -> AnswerState:
    """Where a questionnaire stands as a whole."""
    found = set(states)
    if not found or found == {AnswerState.UNTOUCHED}:
        return AnswerState.UNTOUCHED
    if not found <= ANSWERED:
        return AnswerState.BEGUN
    worst = (AnswerState.REFUSED, AnswerState.CHANGED, AnswerState.WAITS, AnswerState.SENT, AnswerState.COMPLETE)
    first = next((state for state in worst if state in found), AnswerState.ACCEPTED)
    if first is AnswerState.COMPLETE and AnswerState.ACCEPTED in found:
        return AnswerState.CHANGED
    return first


def differing_answers(rules: Rulebook, given: AnswersAt, questions: Sequence[Asked]) -> dict[str, Answer]:
    """What the store would have to be sent: whole answers that it does not hold so."""
    return {
        one.key: one.answer
        for one in questions
        if one.answer is not None
        and given.held.get(one.key) != one.answer
        and whole(shape_at(rules, one.key), one.answer)
    }


def ungiven(rules: Rulebook, given: AnswersAt) -> dict[str, Answer]:
    """What the store holds and nobody ever answered here; it stays as it is there."""
    asked_there = rules.questionnaire
    return {
        key: answer
        for key, answer in given.held.items()
        if key in asked_there.questions and key not in given.own and asked_there.topic(key) not in given.common
    }


_AREA = "answers"


def place_of_answer(key: str) -> str:
    """How a finding names the place of an answer."""
    return f"{_AREA}.{key}"


def answer_at(place: str) -> str | None:
    """The question that a finding's place names; None where it is about none."""
    area, dot, key = place.partition(".")
    return key if area == _AREA and dot else None


def against_answers(rules: Rulebook, given: AnswersAt, keys: Iterable[str]) -> list[Finding]:
    """What the store would refuse of the answers to these questions as they are given."""
    found = []
    for key in keys:
        answer, _ = given_at(rules, given, key)
        question, shape = rules.questionnaire.questions[key], shape_at(rules, key)
        place = place_of_answer(key)
        if isinstance(answer, int) and not question.lowest <= answer <= question.highest:
            found.append(
                Finding(
                    "answer-out-of-range",
                    Level.BLOCKER,
                    f"{shape.title} {answer} is not between {question.lowest} and {question.highest}, as {rules.store} wants.",
                    place,
                    "Give another number.",
                )
            )
        if isinstance(answer, str) and shape.form is AnswerForm.TEXT:
            length = measured(answer, question.counted_in)
            if length > question.limit_characters:
                found.append(
                    Finding(
                        "answer-too-long",
                        Level.BLOCKER,
                        f"{shape.title} The answer has {length} {question.counted_in}; {rules.store} takes "
                        f"{question.limit_characters}.",
                        place,
                        f"Shorten it by {length - question.limit_characters}.",
                    )
                )
    return found


def check_answers(rules: Rulebook, given: AnswersAt, case: Case, day: datetime) -> list[Finding]:
    """What the store's rules say against the answers as they are given, and what it demands besides."""
    questions = asked(rules, given, case, day)
    return [
        *(
            answer_missing(rules, one.key)
            for one in questions
            if one.surely and one.required and not whole(shape_at(rules, one.key), one.stands)
        ),
        *against_answers(rules, given, [one.key for one in questions]),
        *refused_by(rules, questions),
    ]


def refused_by(rules: Rulebook, questions: Iterable[Asked]) -> list[Finding]:
    """The answers with which the store does not review a release."""
    found = []
    for one in questions:
        refused = rules.questionnaire.questions[one.key].refused_answers
        chosen = one.stands if isinstance(one.stands, tuple) else (one.stands,)
        wrong = [choice for choice in chosen if isinstance(choice, str) and choice in refused]
        if wrong and rules.questionnaire.form(one.key) in CHOSEN:
            words = rules.questionnaire.choices(one.key)
            found.append(
                Finding(
                    "answer-refused",
                    Level.BLOCKER,
                    f"{rules.questionnaire.text(one.key)} {rules.store} takes no app with the answer "
                    f"{', '.join(words[choice] for choice in wrong)}.",
                    place_of_answer(one.key),
                    "Change the app, or answer as it really is.",
                )
            )
    return found


def answer_missing(rules: Rulebook, key: str) -> Finding:
    """The finding that a question which the store asks has no whole answer."""
    return Finding(
        "answer-missing",
        Level.BLOCKER,
        f"{rules.store} asks: {rules.questionnaire.text(key)}",
        place_of_answer(key),
        "Answer it.",
    )


def rated(rules: Rulebook, questions: Sequence[Asked]) -> dict[str, str | None]:
    """The grade in each region by the answers as they are given; None where an answer is still missing.

    The strictest grade of all rules that hold counts.
    """
    ratings = rules.questionnaire.ratings
    if ratings is None:
        return {}
    case = Case(
        answers={one.key: one.stands for one in questions if one.stands is not None and one.surely},
        unanswered=frozenset(one.key for one in questions if one.stands is None or not one.surely),
    )
    order = list(ratings.grades)
    found: dict[str, str | None] = {}
    for region in ratings.regions:
        said = [(rule.grade, holds(rule.when, case)) for rule in ratings.rules_in(region)]
        sure = [order.index(grade) for grade, held in said if held]
        still = [order.index(grade) for grade, held in said if held is None]
        strictest = max(sure, default=-1)
        found[region] = order[strictest] if sure and strictest >= max(still, default=-1) else None
    return found


def against_package(common: Mapping[str, Answer | None], facts: Sequence[Facts], label: str) -> list[Finding]:
    """What the packages of a build say against the answers, by topic, and what they do not speak for."""
    found = []
    for key, topic in catalogue().topics.items():
        answer = common.get(key)
        if answer is None:
            continue
        for sign in topic.signs:
            marks = sorted({mark for package in facts for mark in _marks(sign, package)})
            if marks and not _fits(sign, answer):
                found.append(
                    Finding(
                        "answer-against-package",
                        Level.CAUTION,
                        f"{label} has {', '.join(marks)}, and {topic.title} says: {_said(topic, sign, answer)}.",
                        place_of_answer(key),
                        "Correct the answer, or take that out of the app.",
                    )
                )
            elif not marks and sign.kind and _fits(sign, answer) and _gathers(sign, answer):
                found.append(
                    Finding(
                        "answer-without-sign",
                        Level.NOTE,
                        f"{topic.title} names {topic.kinds[sign.kind]!r}, and {label} asks for none of the accesses for "
                        "that which are known here.",
                        place_of_answer(key),
                    )
                )
    return found


def _marks(sign: Sign, package: Facts) -> list[str]:
    found = [name for name in sign.permissions if name in package.permissions]
    found += [name for name in sign.capabilities if name in package.capabilities]
    found += [name for name in sign.reasons if name in package.reasons or name in package.permissions]
    if sign.encryption_exempt is not None and package.encryption_exempt is sign.encryption_exempt:
        found.append("a declaration of " + ("no encryption to report" if sign.encryption_exempt else "own encryption"))
    return found


def _fits(sign: Sign, answer: Answer) -> bool:
    if isinstance(answer, Mapping):
        return sign.kind not in answer or bool(answer[sign.kind])
    chosen = answer if isinstance(answer, tuple) else (answer,)
    return any(choice in sign.agrees for choice in chosen)


def _gathers(sign: Sign, answer: Answer) -> bool:
    return isinstance(answer, Mapping) and bool(answer.get(sign.kind))


def _said(topic: Topic, sign: Sign, answer: Answer) -> str:
    if isinstance(answer, Mapping):
        return f"{topic.kinds[sign.kind]}: not gathered"
    return worded(Shape(topic.title, topic.form, topic.choices), answer)
