"""tide dossier questions, answer: what stores ask about an app, answered once."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from restless_tide.cli.call import Call, begun, cell, text_argument
from restless_tide.cli.facts import show_sheet
from restless_tide.cli.parsing import Nouns, app_argument, store_argument
from restless_tide.core.answer_shapes import Shape, shape_of_topic, thawed, worded
from restless_tide.core.answers import ANSWERED
from restless_tide.core.catalogue import AnswerForm, catalogue
from restless_tide.core.errors import Invalid
from restless_tide.core.numbers import whole_number
from restless_tide.core.sizes import size
from restless_tide.folders.exchange import store_of
from restless_tide.wire.dossier import QuestionsTold, QuestionTold, StoreQuestionsTold, TopicTold

EVERY_ROW = "*"


def add(nouns: Nouns) -> None:
    parser = nouns.command(
        "dossier questions",
        _questions,
        "what stores ask about an app, what is answered, and the ratings that follow",
        description="What stores ask about an app, what is answered, and the ratings by region that follow. With --store, the\n"
        "questions of that store in its own words, with its choices and what it holds.",
    )
    app_argument(parser)
    store_argument(parser, required=False)
    parser = nouns.command(
        "dossier answer",
        _answer,
        "answer once for all stores that ask the same, or for one alone",
        description="Answer topics once for all stores that ask about them, or with --store the questions of that store alone,\n"
        "by its own choices. Stores get the answers with: tide dossier send\n\n"
        "  advertising=none              one choice\n"
        "  audience=youths,adults        several choices\n"
        "  youngest-age=8                a number\n"
        "  reviewer-hint=@hint.txt       words, here from a file\n"
        "  rights-paper=@permission.pdf  a document\n"
        "  gathered-data.pictures=gathered,optional\n"
        "                                one row of a grid\n"
        "  gathered-data.*=              all rows that have no answer yet: none of it\n"
        "  advertising=                  takes the answer out",
    )
    parser.add_argument(
        "answers", nargs="+", metavar="QUESTION=ANSWER", help="see above; what is asked: tide dossier questions"
    )
    app_argument(parser)
    store_argument(parser, required=False)


def _questions(call: Call) -> None:
    told = call.tide.dossier.questions(call.given.app)
    call.answer(told, lambda: _tell_store(call, told) if call.given.store else _tell(call, told))


def _tell(call: Call, told: QuestionsTold) -> None:
    asked_by: dict[str, list[tuple[str, QuestionTold]]] = {}
    alone: list[tuple[StoreQuestionsTold, QuestionTold]] = []
    for store in told.stores:
        for one in store.questions:
            if one.topic is not None:
                asked_by.setdefault(one.topic, []).append((store.store, one))
            else:
                alone.append((store, one))
    table = call.table("TOPIC", "QUESTION", "ANSWER", "ASKED BY")
    for topic in told.topics:
        stores = ", ".join(f"{store}: {_stands(one)}" for store, one in asked_by.get(topic.key, []))
        table.add_row(
            cell(topic.key), cell(topic.text), cell(begun(_topic_answer(topic))), cell(stores or "no store now")
        )
    for store, one in alone:
        answer = begun(_answer_of(one))
        table.add_row(cell(one.key), cell(one.text), cell(answer), cell(f"{store.store} alone: {_stands(one)}"))
    call.show(table, empty="No store where the app has a place asks anything about it.")
    if told.remarks:
        call.say("")
        show_sheet(call, "Held against the newest builds", told.remarks)
    for store in told.stores:
        call.say("")
        call.say(f"{store.store_title}: {store.state}.{_rating(store)}")
        for line in _open(store, told.app):
            call.say(f"  {line}")
        _tell_coming(call, store)


def _stands(one: QuestionTold) -> str:
    if one.state not in ANSWERED and not one.surely:
        return "may ask"
    return f"{one.state}, new" if one.new else str(one.state)


def _rating(store: StoreQuestionsTold) -> str:
    if not store.ratings:
        return ""
    each = "; ".join(f"{one.title}: {one.grade_title or 'open, an answer is missing'}" for one in store.ratings)
    return f" Rating: {each}."


def _open(store: StoreQuestionsTold, app: str) -> Iterator[str]:
    """The commands that answer what is still open at a store."""
    for one in store.questions:
        if one.state in ANSWERED or not (one.surely and one.required):
            continue
        shape = shape_of_topic(one.topic) if one.topic is not None else shape_told(one)
        at = "" if one.topic is not None else f" --store {store.store}"
        yield f"→ tide dossier answer {_example(one.topic or one.key, shape)} --app {app}{at}"
    if store.differing:
        yield f"→ tide dossier send --app {app} --store {store.store}"


def _example(key: str, shape: Shape) -> str:
    match shape.form:
        case AnswerForm.CHOICE:
            return f"{key}={'|'.join(shape.choices)}"
        case AnswerForm.CHOICES:
            return f"{key}={','.join(shape.choices)}"
        case AnswerForm.NUMBER:
            return f"{key}=NUMBER"
        case AnswerForm.GRID:
            return shlex.quote(f"{key}.{EVERY_ROW}=")
        case AnswerForm.FILE:
            return f"{key}=@FILE"
    return f"{key}=TEXT"


def _tell_coming(call: Call, store: StoreQuestionsTold) -> None:
    for one in store.coming:
        answered = f" Answered: {_answer_of(one)}." if one.answer is not None else " Not answered yet."
        call.say(f"  From {one.applies_from:%d %b %Y} on it asks: {one.text}{answered}")


def _tell_store(call: Call, told: QuestionsTold) -> None:
    store = store_of(told.stores, call.given.store)
    table = call.table("QUESTION", "TEXT", "STATE", "ANSWER", "IT TAKES")
    for one in store.questions:
        own = " (its own)" if one.origin == "own" and one.topic is not None else ""
        about = one.key if one.topic in (None, one.key) else f"{one.key} (topic {one.topic})"
        table.add_row(
            cell(about), cell(one.text), cell(_stands(one)), cell(begun(_answer_of(one)) + own), cell(_takes(one))
        )
    call.show(table, empty=f"{store.store_title} asks nothing about it.")
    call.say(f"{store.store_title}: {store.state}.{_rating(store)}")
    _tell_coming(call, store)
    for line in dict.fromkeys(one.lock for one in store.questions if one.lock):
        call.say(line)
    if store.unwritten:
        count = f"{store.unwritten} {'answer' if store.unwritten == 1 else 'answers'}"
        call.say(f"It holds {count} that nobody gave here. Take them over with: "
                 f"tide dossier take --app {told.app} --store {store.store}")  # fmt: skip
    if store.refused_because:
        call.say(f"{store.store_title} refused the answers it was sent last: {store.refused_because}")
    if store.findings:
        call.say("")
        show_sheet(call, store.store_title, store.findings)


def shape_told(one: QuestionTold) -> Shape:
    """How a store's question is answered."""
    return Shape(one.text, one.form, one.choices, one.kinds, one.attributes, one.lowest, one.highest)


def _takes(one: QuestionTold) -> str:
    match one.form:
        case AnswerForm.NUMBER:
            return f"a number from {one.lowest} to {one.highest}"
        case AnswerForm.TEXT:
            return f"up to {one.limit} {one.counted_in}"
        case AnswerForm.GRID:
            return f"for {', '.join(one.kinds)}: {', '.join(one.attributes)}"
        case AnswerForm.FILE:
            return f"{', '.join(one.formats)} up to {size(one.largest_bytes)}"
    return ", ".join(f"{choice} (refused)" if choice in one.refused_answers else choice for choice in one.choices)


def _answer_of(one: QuestionTold) -> str:
    value = one.answer if one.answer is not None else one.held
    return worded(shape_told(one), thawed(value)) if value is not None else ""


def _topic_answer(topic: TopicTold) -> str:
    return worded(shape_of_topic(topic.key), thawed(topic.answer)) if topic.answer is not None else ""


def _answer(call: Call) -> None:
    given = call.given
    told = call.tide.dossier.questions(given.app)
    shapes, held = _shapes(told, given.store)
    wanted = read_arguments(given.answers, shapes, held)
    wanted = {
        key: dict(call.tide.dossier.keep_document(one)) if isinstance(one, Path) else one for key, one in wanted.items()
    }
    after = call.tide.dossier.answer(given.app, wanted, store=given.store)

    def shown() -> None:
        for key, value in wanted.items():
            word = "is taken out" if value is None else f"is answered: {worded(shapes[key], thawed(value))}"
            call.say(f"{key} {word}.")
        for store in after.stores:
            if store.ratings:
                call.say(f"{store.store_title}:{_rating(store)}")
        at = f" --store {given.store}" if given.store else ""
        call.say(f"Send it with: tide dossier send --app {given.app}{at}")

    call.answer(after, shown)


def _shapes(told: QuestionsTold, store: str | None) -> tuple[dict[str, Shape], dict[str, Any]]:
    """How each question may be answered, and what is answered already: the topics, or the questions of one store."""
    if store is None:
        shapes = {key: shape_of_topic(key) for key in catalogue().topics}
        return shapes, {topic.key: topic.answer for topic in told.topics if topic.answer is not None}
    there = store_of(told.stores, store)
    asked = [*there.questions, *there.coming, *there.unasked]
    return (
        {one.key: shape_told(one) for one in asked},
        {one.key: one.answer for one in asked if one.answer is not None},
    )


def read_arguments(words: list[str], shapes: Mapping[str, Shape], held: Mapping[str, Any]) -> dict[str, Any]:
    """The answers that words of a command line say; a row of a grid changes what is ``held``, a document is the path of its
    file. Raises Invalid."""
    found: dict[str, Any] = {}
    for word in words:
        name, equals, text = word.partition("=")
        key, dot, row = name.partition(".")
        if not equals:
            raise Invalid(f"An answer needs its question and an equals sign: {word}", code="argument-unfit")
        if key not in shapes:
            raise Invalid(
                f"There is no question {key!r}.", remedy=f"There are: {', '.join(shapes)}.", code="question-unknown"
            )
        shape = shapes[key]
        if shape.form is AnswerForm.GRID and (dot or text):
            before = found.get(key) or held.get(key) or {}
            found[key] = {**before, **_rows(shape, key, row, text, before)}
        else:
            found[key] = _value(shape, text) if text else None
    return found


def _rows(shape: Shape, key: str, row: str, text: str, before: Mapping[str, Any]) -> dict[str, list[str]]:
    value = _listed(text)
    if row == EVERY_ROW:
        return {kind: value for kind in shape.kinds if kind not in before}
    if row not in shape.kinds:
        raise Invalid(
            f"{key} has no row {row!r}.", remedy=f"Write it as {key}.ROW=…, with one of {', '.join(shape.kinds)}.",
            code="answer-unfit",
        )  # fmt: skip
    return {row: value}


def _value(shape: Shape, text: str) -> Any:
    match shape.form:
        case AnswerForm.CHOICES:
            return _listed(text)
        case AnswerForm.NUMBER:
            return text if (number := whole_number(text)) is None else number
        case AnswerForm.TEXT:
            return text_argument(text)
        case AnswerForm.FILE:
            return _document(text)
    return text


def _document(text: str) -> Path:
    file = Path(text.removeprefix("@"))
    if not text.startswith("@") or not file.is_file():
        raise Invalid(
            f"There is no file {text.removeprefix('@')!r}." if text.startswith("@") else f"{text!r} names no document.",
            remedy="Name its file with an @ before it, such as @permission.pdf.",
            code="argument-unfit",
        )
    return file


def _listed(text: str) -> list[str]:
    return [name for part in text.split(",") if (name := part.strip())]
