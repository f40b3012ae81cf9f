"""Answers that a store takes, worked out of its questionnaire."""

from __future__ import annotations

from collections.abc import Iterable

from restless_tide.core.applying import Answer
from restless_tide.core.catalogue import AnswerForm, catalogue
from restless_tide.core.rulebook import Rulebook
from restless_tide.gateways.clauses import answer_for

HARMLESS: dict[str, Answer] = {
    key: {
        AnswerForm.CHOICE: next(iter(topic.choices), ""),
        AnswerForm.CHOICES: tuple(topic.choices)[-1:],
        AnswerForm.NUMBER: 6,
        AnswerForm.TEXT: "As it is.",
        AnswerForm.GRID: dict.fromkeys(topic.kinds, ()),
    }[topic.form]
    for key, topic in catalogue().topics.items()
    if topic.form is not AnswerForm.FILE
}
"""An answer to each topic of the catalogue with which a store takes an app; none of them leads to a question for a document."""


def mild(rules: Rulebook, questions: Iterable[str] | None = None) -> dict[str, Answer]:
    """The first answer that the store does not refuse, to these questions or to all."""
    return {key: answer_for(rules, key) for key in (rules.questionnaire.questions if questions is None else questions)}
