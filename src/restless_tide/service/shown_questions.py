"""The questions of a dossier as the service shows them."""

from __future__ import annotations

from dataclasses import asdict
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.answer_checks import check_answers, rated
from restless_tide.core.answer_shapes import plain, shape_at
from restless_tide.core.answers import AnswersAt, Asked, asked, coming, state_of_all, unasked, ungiven
from restless_tide.core.applying import Answer
from restless_tide.core.catalogue import catalogue
from restless_tide.core.documents import FileAnswer
from restless_tide.core.graph import Standing, locked, locks_later
from restless_tide.core.rulebook import Rulebook
from restless_tide.desk import app_answers
from restless_tide.desk.locks import standing_at
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, AppAnswer, Berth, Person
from restless_tide.wire.dossier import (
    DocumentTold,
    QuestionsTold,
    QuestionTold,
    RatingTold,
    StoreQuestionsTold,
    TopicTold,
)
from restless_tide.wire.problems import findings_told


def questions_of(session: Session, app: App, now: datetime) -> QuestionsTold:
    """What stores ask about an app, with the answers as they are given and as each store gets them."""
    rows = app_answers.of_app(session, app)
    people = {person.id: person.name for person in session.scalars(select(Person))}
    berths = [berth for berth in app.berths if berth.store.in_use and rules_of(berth.store).questionnaire.questions]
    stores = [_at_store(session, berth, rows, people, now) for berth in berths]
    topics = {one.topic for store in stores for one in (*store.questions, *store.coming)}
    common = {row.question: row for row in rows if row.berth_id is None}
    return QuestionsTold(
        app=app.name,
        topics=[_topic(key, common.get(key), people) for key in catalogue().topics if key in topics or key in common],
        remarks=findings_told(app_answers.against_packages(session, app)),
        stores=stores,
    )


def document(found: FileAnswer) -> DocumentTold:
    return DocumentTold(sha256=found.sha256, name=found.name, format=found.format, size_bytes=found.size_bytes)


def _topic(key: str, row: AppAnswer | None, people: dict[str, str]) -> TopicTold:
    return TopicTold(
        key=key,
        **catalogue().topics[key].model_dump(exclude={"signs"}),
        answer=row.answer if row is not None else None,
        revision=row.revision if row is not None else 0,
        changed_at=row.changed_at if row is not None else None,
        changed_by=people.get(row.changed_by, row.changed_by) if row is not None else "",
    )


def _at_store(
    session: Session, berth: Berth, rows: list[AppAnswer], people: dict[str, str], now: datetime
) -> StoreQuestionsTold:
    rules, given, standing = rules_of(berth.store), app_answers.at_berth(session, berth), standing_at(session, berth)
    case = app_answers.case_at(session, berth)
    questions = asked(rules, given, case, now)
    later = coming(rules, given, case, now)
    others = unasked(rules, given, {one.key for one in (*questions, *later)}, now)
    own = {
        row.question: (row.revision, people.get(row.changed_by, row.changed_by))
        for row in rows
        if row.berth_id == berth.id
    }
    return StoreQuestionsTold(
        store=berth.store.name,
        store_title=rules.store,
        state=state_of_all(one.state for one in questions if one.required and one.surely),
        questions=[_question(rules, given, one, standing, own) for one in questions],
        coming=[_question(rules, given, one, standing, own) for one in later],
        unasked=[_question(rules, given, one, standing, own) for one in others],
        ratings=_ratings(rules, questions),
        findings=findings_told(check_answers(rules, given, case, now)),
        differing=len(app_answers.to_send(session, berth, now, given)),
        unwritten=len(ungiven(rules, given)),
        refused_because=given.refused_because,
        hand_carried=berth.store.hand_carried,
    )


def _question(
    rules: Rulebook, given: AnswersAt, one: Asked, standing: Standing, own: dict[str, tuple[int, str]]
) -> QuestionTold:
    rule, shape = rules.questionnaire.questions[one.key], asdict(shape_at(rules, one.key))
    revision, changed_by = own.get(one.key, (0, ""))
    title, lock = shape.pop("title"), rules.lock_of_question(one.key)
    return QuestionTold(
        **shape,
        key=one.key,
        topic=one.topic,
        text=title,
        help=rules.questionnaire.help(one.key),
        limit=rule.limit_characters,
        counted_in=rule.counted_in,
        formats=list(rules.questionnaire.documents(one.key)),
        largest_bytes=rule.largest_bytes,
        required=one.required,
        refused_answers=list(rule.refused_answers),
        surely=one.surely,
        new=one.new,
        applies_from=one.applies_from,
        answer=_plain(one.answer),
        origin=one.origin,
        revision=revision,
        changed_by=changed_by,
        state=one.state,
        held=_plain(given.held.get(one.key)),
        lock=locked("The answer", lock, standing) or locks_later("The answer", lock, standing),
    )


def _plain(answer: Answer | None) -> Any:
    return None if answer is None else plain(answer)


def _ratings(rules: Rulebook, questions: list[Asked]) -> list[RatingTold]:
    ratings = rules.questionnaire.ratings
    if ratings is None:
        return []
    return [
        RatingTold(
            region=region,
            title=ratings.regions[region].title,
            countries=list(ratings.regions[region].countries),
            grade=grade,
            grade_title=ratings.grades[grade] if grade is not None else "",
        )
        for region, grade in rated(rules, questions).items()
    ]
