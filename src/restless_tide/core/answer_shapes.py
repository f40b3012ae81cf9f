"""How a question is answered: the shape of its answer, read, worded, and translated between the catalogue and a store."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from restless_tide.core.applying import Answer
from restless_tide.core.catalogue import AnswerForm, Topic, catalogue
from restless_tide.core.documents import DocumentFormat, FileAnswer, document_name, is_document
from restless_tide.core.errors import Invalid
from restless_tide.core.limits import LARGEST_NUMBER
from restless_tide.core.rulebook import Rulebook

_OF_FILE = {field.name for field in dataclasses.fields(FileAnswer)}
_HEX = re.compile(r"[0-9a-f]{64}")
LONGEST_ANSWER = 4_000
"""Characters of an answer in words."""


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


def thawed(value: Any) -> Answer:
    """An answer as JSON has it, with tuples in place of lists."""
    if is_document(value):
        return FileAnswer(value["sha256"], value["name"], DocumentFormat(value["format"]), value["size_bytes"])
    if isinstance(value, Mapping):
        return {str(kind): tuple(str(one) for one in row) for kind, row in value.items()}
    if isinstance(value, list | tuple):
        return tuple(str(one) for one in value)
    return value if isinstance(value, int) and not isinstance(value, bool) else str(value)


def plain(answer: Answer) -> Any:
    """An answer as JSON has it."""
    if isinstance(answer, FileAnswer):
        return dataclasses.asdict(answer) | {"format": str(answer.format)}
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
            if isinstance(value, int) and not isinstance(value, bool) and abs(value) <= LARGEST_NUMBER:
                return value
            raise _unfit(place, "a whole number", value)
        case AnswerForm.TEXT:
            if isinstance(value, str) and value.strip() and len(value) <= LONGEST_ANSWER:
                return value
            raise _unfit(place, f"a text of 1 to {LONGEST_ANSWER} characters", value)
        case AnswerForm.FILE:
            return _file(value, place)
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


def _file(value: Any, place: str) -> FileAnswer:
    if not is_document(value) or set(value) != _OF_FILE or not _HEX.fullmatch(str(value["sha256"])):
        raise _unfit(place, "a document that was sent before, by its digest, name, format and size", value)
    try:
        kind = DocumentFormat(value["format"])
    except ValueError:
        raise _unfit(place, f"a document as {', '.join(DocumentFormat)}", value) from None
    return FileAnswer(value["sha256"], document_name(str(value["name"])), kind, int(value["size_bytes"]))


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
        case AnswerForm.FILE:
            return answer if isinstance(answer, FileAnswer) else None
    if not isinstance(answer, Mapping):
        return None
    rows = {kind: row for kind, row in answer.items() if kind in shape.kinds}
    return {kind: tuple(one for one in row if one in shape.attributes) for kind, row in rows.items()} or None


def worded(shape: Shape, answer: Answer) -> str:
    """An answer in the words of its choices, as a person reads it."""
    if isinstance(answer, FileAnswer):
        return answer.told()
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
