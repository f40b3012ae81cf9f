"""What stands against answers: the rules of a store, what the packages say, and the rating that follows."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime

from restless_tide.core.answer_shapes import Shape, shape_at, whole, worded
from restless_tide.core.answers import AnswersAt, Asked, asked, case_after, given_at
from restless_tide.core.applying import Answer, Case, holds
from restless_tide.core.catalogue import AnswerForm, Sign, Topic, catalogue
from restless_tide.core.changes import measured
from restless_tide.core.documents import FileAnswer
from restless_tide.core.errors import Finding, Level
from restless_tide.core.packages.facts import Facts
from restless_tide.core.questionnaire import CHOSEN
from restless_tide.core.rulebook import Rulebook

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
        if isinstance(answer, FileAnswer):
            found += _against_document(rules, key, answer)
    return found


def _against_document(rules: Rulebook, key: str, answer: FileAnswer) -> list[Finding]:
    question, formats = rules.questionnaire.questions[key], rules.questionnaire.documents(key)
    text, place, findings = rules.questionnaire.text(key), place_of_answer(key), []
    if answer.format not in formats:
        said = f"{text} {answer.name} is {answer.format}; {rules.store} takes {', '.join(formats)}."
        findings.append(Finding("document-wrong-format", Level.BLOCKER, said, place, "Give it in another format."))
    if answer.size_bytes > question.largest_bytes:
        said = f"{text} {answer.name} has {answer.size_bytes:,} bytes; {rules.store} takes {question.largest_bytes:,}."
        findings.append(Finding("document-too-large", Level.BLOCKER, said, place, "Make it smaller."))
    return findings


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
    case = case_after(Case(), questions)
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
