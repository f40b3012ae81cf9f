"""Answers that a store takes, worked out of its questionnaire."""

from __future__ import annotations

from collections.abc import Iterable

from restless_tide.core.answers import Answer, Shape, shape_at
from restless_tide.core.catalogue import AnswerForm
from restless_tide.core.rulebook import Rulebook


def mild(rules: Rulebook, questions: Iterable[str] | None = None) -> dict[str, Answer]:
    """The first answer that the store does not refuse, to these questions or to all."""
    asked = rules.questionnaire.questions
    return {
        key: first(shape_at(rules, key), asked[key].refused_answers)
        for key in (asked if questions is None else questions)
    }


def first(shape: Shape, refused: Iterable[str] = ()) -> Answer:
    """The first answer of a shape that is not among the refused ones."""
    choices = [choice for choice in shape.choices if choice not in set(refused)]
    match shape.form:
        case AnswerForm.CHOICE:
            return choices[0]
        case AnswerForm.CHOICES:
            return (choices[0],)
        case AnswerForm.NUMBER:
            return shape.lowest
        case AnswerForm.GRID:
            return dict.fromkeys(shape.kinds, ())
    return "As it is."
