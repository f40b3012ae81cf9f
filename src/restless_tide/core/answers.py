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

from restless_tide.core.answer_shapes import fitted, shape_at, translated, whole
from restless_tide.core.applying import Answer, Case, holds
from restless_tide.core.rulebook import Rulebook
from restless_tide.core.texts import Origin


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


def coming(rules: Rulebook, given: AnswersAt, case: Case, day: datetime) -> list[Asked]:
    """The questions that a store asks only later, in order of time; ``applies_from`` is when each begins to be asked."""
    known = {one.key for one in asked(rules, given, case, day)}
    starts = {rule.applies_from for rule in rules.questionnaire.questions.values() if rule.applies_from is not None}
    found: dict[str, Asked] = {}
    for start in sorted(start for start in starts if start > day):
        for one in asked(rules, given, case, start):
            if one.key not in known:
                found.setdefault(one.key, dataclasses.replace(one, applies_from=start))
    return list(found.values())


def case_after(case: Case, questions: Sequence[Asked]) -> Case:
    """The same case, with what stands for the questions that are surely asked, and the others open."""
    answers = {one.key: one.stands for one in questions if one.stands is not None and one.surely}
    open_ = frozenset(one.key for one in questions if one.key not in answers)
    return dataclasses.replace(case, answers=answers, unanswered=open_)


def _open(rules: Rulebook, given: AnswersAt, case: Case, day: datetime) -> dict[str, bool]:
    """The questions asked, each after those that its condition looks at; the value says whether it surely is."""
    settled: dict[str, bool] = {}
    answers: dict[str, Answer] = {}
    unanswered: set[str] = set()
    for key in rules.questionnaire.in_sequence:
        question = rules.questionnaire.questions[key]
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
    question, held = rules.questionnaire.questions[key], given.held.get(key)
    answer, origin = given_at(rules, given, key)
    state = state_of_answer(rules, given, key, answer)
    return Asked(
        key=key,
        topic=rules.questionnaire.topic(key),
        answer=answer,
        stands=held if answer is None else answer,
        origin=origin,
        surely=surely,
        required=question.required,
        applies_from=question.applies_from,
        state=state,
        new=bool(given.held) and held is None and state is AnswerState.UNTOUCHED,
    )


def state_of_answer(rules: Rulebook, given: AnswersAt, key: str, answer: Answer | None) -> AnswerState:
    """Where the answer that a store gets stands there."""
    held = given.held.get(key)
    if answer is None:
        return AnswerState.UNTOUCHED if held is None else AnswerState.ACCEPTED
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
