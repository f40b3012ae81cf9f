"""What a stand-in asks about an app, and how it judges the answers: its own reading of the questionnaire.

Written apart from core's on purpose: if both sides shared this code, a mistake in it would be invisible.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from restless_tide.core.packages import Facts
from restless_tide.core.rule import When
from restless_tide.core.rulebook import Rulebook
from restless_tide.standins.judgement import Refusal, Thing, length_in

_WORDS, _WHOLE = "text", "number"
_BEGINNINGS = {b"%PDF": "pdf", b"\x89PNG": "png", b"\xff\xd8": "jpeg"}


def demand_answer(rules: Rulebook, key: str, answer: Any) -> None:
    """Raise Refusal for an answer that does not fit its question."""
    asked = rules.questionnaire
    question = asked.questions.get(key)
    if question is None:
        raise Refusal("question-unknown", f"We ask nothing called {key!r}.")
    form = str(asked.form(key))
    if form == "file":
        if not isinstance(answer, dict) or "sha256" not in answer:
            raise Refusal("answer-unfit", f"{key} wants a document.")
        return
    if form == _WHOLE:
        if not isinstance(answer, int) or answer < question.lowest or answer > question.highest:
            raise Refusal("answer-out-of-range", f"{key} is a number from {question.lowest} to {question.highest}.")
        return
    if form == _WORDS:
        if not isinstance(answer, str) or not answer.strip():
            raise Refusal("answer-unfit", f"{key} wants words.")
        if length_in(answer, question.counted_in) > question.limit_characters:
            raise Refusal("answer-too-long", f"{key} takes {question.limit_characters} {question.counted_in}.")
        return
    if form == "grid":
        rows, columns = asked.kinds(key), asked.attributes(key)
        if not isinstance(answer, dict) or set(answer) != set(rows):
            raise Refusal("answer-unfit", f"{key} wants an answer for each of {', '.join(rows)}.")
        if any(column not in columns for row in answer.values() for column in row):
            raise Refusal("answer-unfit", f"{key} knows only {', '.join(columns)}.")
        return
    several = answer if isinstance(answer, list) else [answer]
    if isinstance(answer, list) != (form == "choices") or not several:
        raise Refusal("answer-unfit", f"{key} takes {'one or more choices' if form == 'choices' else 'one choice'}.")
    if any(choice not in asked.choices(key) for choice in several):
        raise Refusal("answer-unfit", f"{key} has the choices {', '.join(asked.choices(key))}.")


def demand_document(rules: Rulebook, key: str, file: Path) -> None:
    """Raise Refusal for a document that we do not take, by our own look at its bytes."""
    question, content = rules.questionnaire.questions[key], file.read_bytes()
    kind = next((name for start, name in _BEGINNINGS.items() if content.startswith(start)), "text")
    taken = [str(one) for one in question.formats] or [*_BEGINNINGS.values(), "text"]
    if kind not in taken:
        raise Refusal("document-format", f"{key} takes {', '.join(taken)}, and this is {kind}.")
    if len(content) > question.largest_bytes:
        raise Refusal("document-too-large", f"{key} takes {question.largest_bytes} bytes.")


def reasons_against_answers(
    rules: Rulebook, answers: dict[str, Any], packages: list[Facts], offer: Thing, at: datetime
) -> list[str]:
    """What the review desk misses among the answers about an app, or cannot accept."""
    open_questions = _asked(rules, answers, packages, offer, at)
    reasons = []
    for key in open_questions:
        question = rules.questionnaire.questions[key]
        if key not in answers:
            reasons += [f"{key} was not answered."] if question.required else []
            continue
        given = answers[key] if isinstance(answers[key], list) else [answers[key]]
        if any(choice in question.refused_answers for choice in given if isinstance(choice, str)):
            reasons.append(f"With this answer to {key} we take no app.")
    return reasons


def _asked(rules: Rulebook, answers: dict[str, Any], packages: list[Facts], offer: Thing, at: datetime) -> list[str]:
    """The questions asked of this app. A question counts as answered only while it is itself asked."""
    app = _App(rules, answers, packages, offer, at)
    return [key for key in rules.questionnaire.questions if app.is_asked(key)]


def is_so(
    rules: Rulebook, when: When, answers: dict[str, Any], packages: list[Facts], offer: Thing, at: datetime
) -> bool:
    """Whether a condition holds of this app."""
    return _App(rules, answers, packages, offer, at).is_so(when)


@dataclass(frozen=True)
class _App:
    """What we know of an app under review."""

    rules: Rulebook
    answers: dict[str, Any]
    packages: list[Facts]
    offer: Thing
    at: datetime

    def is_asked(self, key: str) -> bool:
        question = self.rules.questionnaire.questions[key]
        if question.applies_from is not None and question.applies_from > self.at:
            return False
        return question.when is None or self.is_so(question.when)

    def is_so(self, when: When) -> bool:
        if when.not_ is not None:
            return not self.is_so(when.not_)
        if when.all or when.any:
            return all(map(self.is_so, when.all)) if when.all else any(map(self.is_so, when.any))
        if when.answer is not None:
            known = self.is_asked(when.answer) and when.answer in self.answers
            return known and _says(when, self.answers[when.answer])
        if when.paid is not None:
            return bool(self.offer.get("price")) is when.paid
        if when.offered_in is not None:
            return when.offered_in in (self.offer.get("countries") or [when.offered_in])
        return any(_has(when, package) for package in self.packages)


def _says(when: When, answer: Any) -> bool:
    if when.at_least is not None:
        return isinstance(answer, int) and answer >= when.at_least
    if isinstance(answer, dict):
        rows = [answer.get(when.kind, [])] if when.kind is not None else list(answer.values())
        return any(set(row) & set(when.one_of) for row in rows)
    return bool(set(answer if isinstance(answer, list) else [answer]) & set(when.one_of))


def _has(when: When, package: Facts) -> bool:
    if when.permission is not None:
        return when.permission in package.permissions
    if when.capability is not None:
        return when.capability in package.capabilities
    level = package.target_platform or ""
    return level.isdecimal() and int(level) >= (when.target_at_least or 0)
