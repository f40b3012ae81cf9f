"""The answers about an app: given once for all stores, or for one store alone; sent where they differ.

What is locked at a store is kept and sent automatically as soon as the lock opens.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from restless_tide.core.answer_checks import against_answers, against_package, check_answers, place_of_answer
from restless_tide.core.answer_shapes import (
    Shape,
    plain,
    read_answer,
    shape_at,
    shape_of_topic,
    thawed,
    untranslated,
    worded,
)
from restless_tide.core.answers import AnswersAt, asked, differing_answers, ungiven
from restless_tide.core.applying import Answer, Case
from restless_tide.core.availability import Availability
from restless_tide.core.catalogue import catalogue
from restless_tide.core.documents import FileAnswer
from restless_tide.core.errors import Finding, Invalid, Level
from restless_tide.core.order import OrderKind
from restless_tide.core.packages.facts import Facts
from restless_tide.core.rulebook import Rulebook
from restless_tide.desk import documents, find, held, lanes, retiring, revisions
from restless_tide.desk.desk import Act
from restless_tide.desk.packages import facts_of
from restless_tide.desk.parts import Part, Wanting
from restless_tide.desk.stores import offered, rules_of
from restless_tide.records.tables import App, AppAnswer, Berth, Document, HeldAnswer, Store


def of_app(session: Session, app: App) -> list[AppAnswer]:
    """Every answer about an app, those for one store among them; without those that were taken out."""
    found = select(AppAnswer).where(AppAnswer.app_id == app.id, AppAnswer.answer.is_not(None))
    return list(session.scalars(found.order_by(AppAnswer.question)))


def at_berth(session: Session, berth: Berth) -> AnswersAt:
    """The answers about a berth's app as its store concerns them."""
    given = session.scalars(select(AppAnswer).where(AppAnswer.app_id == berth.app_id)).all()
    there = held.rows(session, HeldAnswer, berth)
    way = lanes.on_its_way(session, berth.id, OrderKind.WRITE_ANSWERS)
    ordered: dict[str, Answer] = {}
    for payload in way.payloads:
        ordered |= _thawed(payload["answers"])
    return AnswersAt(
        common={row.question: _value(row) for row in given if row.berth_id is None},
        own={row.question: _value(row) for row in given if row.berth_id == berth.id},
        held={question: thawed(row.answer) for question, row in there.items() if row.answer is not None},
        ordered=ordered,
        kept=frozenset(question for question, row in there.items() if row.kept),
        refused=_thawed(way.refused["answers"]) if way.refused is not None else {},
        refused_because=way.because,
    )


def unplaced(session: Session, app: App) -> AnswersAt:
    """The answers about an app as a store concerns them where it has no place yet."""
    return AnswersAt(common={row.question: _value(row) for row in of_app(session, app) if row.berth_id is None})


def _value(row: AppAnswer) -> Answer | None:
    return None if row.answer is None else thawed(row.answer)


def _thawed(answers: Mapping[str, Any]) -> dict[str, Answer]:
    return {question: thawed(answer) for question, answer in answers.items()}


def case_at(session: Session, berth: Berth) -> Case:
    """What is known of an app where a store's questions depend on it: its newest build for that place, and the offer."""
    return Case(facts=_newest_facts(session, berth.app, [berth.platform]), offer=offered(berth))


def case_of_unplaced(session: Session, app: App, rules: Rulebook) -> Case:
    """The same where the app has no place at a store yet: an offer that is free and everywhere, as a new one is."""
    return Case(facts=_newest_facts(session, app, rules.platforms), offer=Availability())


def _newest_facts(session: Session, app: App, platforms: Collection[str]) -> Sequence[Facts] | None:
    build = find.newest_build(session, app, platforms)
    return facts_of(build) if build is not None else None


def against_packages(session: Session, app: App) -> list[Finding]:
    """What the newest build for each platform says against the answers that all stores share."""
    common = {row.question: _value(row) for row in of_app(session, app) if row.berth_id is None}
    found = []
    for entry in app.identifiers:
        build = find.newest_build(session, app, [entry.platform])
        if build is not None:
            found += against_package(common, facts_of(build), f"Build {build.label} for {entry.platform}")
    return found


def one(session: Session, app: App, question: str, berth: Berth | None) -> AppAnswer | None:
    """An answer as it is given here, also one taken out; None: nobody ever answered."""
    wanted = select(AppAnswer).where(AppAnswer.app_id == app.id, AppAnswer.question == question)
    here = AppAnswer.berth_id.is_(None) if berth is None else AppAnswer.berth_id == berth.id
    return session.scalar(wanted.where(here))


def shape_of(berth: Berth | None, question: str) -> Shape:
    """How a question is answered: a topic of the catalogue, or a question of one store. Raises Invalid with what there is."""
    questions = rules_of(berth.store).questionnaire.questions if berth is not None else catalogue().topics
    if question in questions:
        return shape_at(rules_of(berth.store), question) if berth is not None else shape_of_topic(question)
    where = f"{rules_of(berth.store).store} asks" if berth is not None else "The topics that all stores share are"
    raise Invalid(
        f"There is no question {question!r}.",
        remedy=f"{where}: {', '.join(questions) or 'none'}.",
        code="question-unknown",
    )


def answer(
    act: Act,
    app_name: str,
    answers: Mapping[str, Any],
    store_name: str | None = None,
    revision: revisions.ReadRevision | None = None,
) -> list[AppAnswer]:
    """Answer topics for all stores, or questions for one alone; None takes an answer out.

    ``revision`` is that of the one answer as it was read, 0 for one that did not exist. Raises StaleView with the other
    answer when someone has changed it since, and Invalid for a question or an answer that there is not; then nothing is
    written.
    """
    app = retiring.app_in_use(act.session, app_name)
    berth = find.berth(act.session, app, find.store(act.session, store_name)) if store_name else None
    if revision is not None and len(answers) != 1:
        raise Invalid("A revision is that of one answer; give one at a time with it.", code="etag-unfit")
    shapes = {question: shape_of(berth, question) for question in answers}
    read = {question: _read(act.session, shapes[question], value, question) for question, value in answers.items()}
    rows = []
    for question, value in read.items():
        row = one(act.session, app, question, berth)
        new = None if value is None else plain(value)
        if revision is not None:
            shape, theirs = shapes[question], _value(row) if row is not None else None
            place = place_of_answer(question)
            revisions.demand(act, row, revision, shape.title, place, _worded(shape, theirs), _worded(shape, value))
        if new == (row.answer if row is not None else None):
            rows += [row] if row is not None else []
            continue
        if row is None:
            row = AppAnswer(
                app_id=app.id,
                berth_id=berth.id if berth is not None else None,
                question=question,
                answer=None,
                revision=0,
            )
            act.session.add(row)
        _put(act, app, row, new, berth)
        rows.append(row)
    act.session.flush()
    return rows


def _read(session: Session, shape: Shape, value: Any, question: str) -> Answer | None:
    """An answer as it is given; of a document what the desk has read. Raises Invalid, and NotFound for an unknown document."""
    answer = None if value is None else read_answer(shape, value, question)
    return documents.known(session, answer) if isinstance(answer, FileAnswer) else answer


def _worded(shape: Shape, value: Answer | None) -> str:
    return "" if value is None else worded(shape, value)


def _put(act: Act, app: App, row: AppAnswer, new: Any, berth: Berth | None) -> None:
    before, row.answer, row.revision = row.answer, new, row.revision + 1
    row.changed_at, row.changed_by = act.now, act.person
    at = f" at {berth.store.name}" if berth is not None else ""
    act.log(
        "answered" if new is not None else "answer taken out",
        f"answer {app.name} {row.question}{at}",
        app=app.name,
        before={"answer": before},
        after={"answer": new},
    )


def to_send(session: Session, berth: Berth, now: datetime, given: AnswersAt) -> dict[str, Answer]:
    """The whole answers that a store does not hold so, to every question that some build of the app may lead to."""
    rules = rules_of(berth.store)
    return differing_answers(rules, given, asked(rules, given, Case(offer=offered(berth)), now))


def against_sending(session: Session, berth: Berth, now: datetime) -> list[Finding]:
    """What the store would refuse of the answers that it does not hold as they are given."""
    given = at_berth(session, berth)
    return against_answers(rules_of(berth.store), given, to_send(session, berth, now, given))


def check(
    session: Session,
    app: App,
    store: Store,
    berth: Berth | None,
    now: datetime,
    common: Mapping[str, Any],
    own: Mapping[str, Any],
) -> list[Finding]:
    """What a store would say of answers that are not given here yet; what is no answer at all is among it."""
    rules = rules_of(store)
    shared, wrong = _read_all(catalogue().topics, shape_of_topic, common, "the topics that all stores share")
    questions = rules.questionnaire.questions
    mine, strange = _read_all(questions, lambda key: shape_at(rules, key), own, f"the questions of {rules.store}")
    given = replace(at_berth(session, berth) if berth is not None else AnswersAt(), common=shared, own=mine)
    case = case_at(session, berth) if berth is not None else case_of_unplaced(session, app, rules)
    return [*wrong, *strange, *check_answers(rules, given, case, now)]


def _read_all(
    known: Collection[str], shape: Callable[[str], Shape], values: Mapping[str, Any], what: str
) -> tuple[dict[str, Answer | None], list[Finding]]:
    """The answers that can be read, and a finding for each that cannot."""
    read: dict[str, Answer | None] = {}
    findings = []
    for key, value in values.items():
        place = place_of_answer(key)
        if key not in known:
            told = f"They are: {', '.join(known)}."
            findings.append(Finding("question-unknown", Level.BLOCKER, f"{key!r} is not among {what}.", place, told))
            continue
        try:
            read[key] = read_answer(shape(key), value, key)
        except Invalid as wrong:
            findings.append(Finding(wrong.code, Level.BLOCKER, wrong.detail, place, wrong.remedy))
    return read, findings


def _wanting(session: Session, berth: Berth, now: datetime) -> Wanting[str]:
    given = at_berth(session, berth)
    return Wanting(to_send(session, berth, now, given), given.ordered, given.kept, _payload)


def _payload(values: Mapping[str, Answer]) -> dict[str, Any]:
    return {question: plain(value) for question, value in values.items()}


PART = Part(
    noun="answers",
    kind=OrderKind.WRITE_ANSWERS,
    table=HeldAnswer,
    wanting=_wanting,
    lock=lambda rules, question: rules.lock_of_question(question),
    by_place=lambda answers: answers,
    told=str,
    files=lambda rows: documents.named_in(row.answer for row in rows.values()),
)


def take_over(act: Act, app_name: str, berth: Berth) -> int:
    """Take over here the answers that a store holds and nobody gave here; returns how many.

    An answer that stands for exactly one of a topic becomes that of all stores, another one this store's own. A document
    is taken over where its file is here.
    """
    rules, given = rules_of(berth.store), at_berth(act.session, berth)
    shared: dict[str, Any] = {}
    alone: dict[str, Any] = {}
    for question, value in ungiven(rules, given).items():
        if isinstance(value, FileAnswer) and act.session.get(Document, value.sha256) is None:
            continue
        topic, ours = rules.questionnaire.topic(question), untranslated(rules, question, value)
        if topic is not None and ours is not None:
            shared[topic] = plain(ours)
        else:
            alone[question] = plain(value)
    if shared:
        answer(act, app_name, shared)
    if alone:
        answer(act, app_name, alone, berth.store.name)
    return len(shared) + len(alone)


def remove_of(act: Act, app: App) -> None:
    """Remove the answers about an app that is removed."""
    act.session.execute(delete(AppAnswer).where(AppAnswer.app_id == app.id))
