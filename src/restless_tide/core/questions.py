"""Which questions a store will hold a build for, by its rulebook."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime

from restless_tide.core.numbers import whole_number
from restless_tide.core.packages.facts import Facts
from restless_tide.core.rulebook import Question, Rulebook


def foreseen(
    rules: Rulebook, facts: Sequence[Facts], now: datetime, answers: Mapping[str, str] | None = None
) -> list[Question]:
    """The questions that will be asked about a build of these packages, given the answers so far."""
    given = answers or {}
    return [
        question
        for question in rules.processing.questions
        if question.code not in given
        and (question.applies_from is None or question.applies_from <= now)
        and all(given.get(code) == choice for code, choice in question.when_answers.items())
        and any(_concerns(question, package) for package in facts)
    ]


def _concerns(question: Question, package: Facts) -> bool:
    level = whole_number(package.target_platform or "") or 0
    if question.when_permission is not None and question.when_permission not in package.permissions:
        return False
    if question.when_target_at_least is not None and level < question.when_target_at_least:
        return False
    return question.when_target_below is None or level < question.when_target_below


def refused_answers(rules: Rulebook, code: str) -> tuple[str, ...]:
    """The answers to a question for which the store will refuse the build."""
    return next((question.refused_answers for question in rules.processing.questions if question.code == code), ())


def refused_for(rules: Rulebook, answers: Mapping[str, str]) -> list[str]:
    """The questions whose answer here makes the store refuse the build."""
    return [code for code, answer in answers.items() if answer in refused_answers(rules, code)]
