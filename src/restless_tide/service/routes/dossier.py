"""The dossier of an app, and the readiness sheet of its releases."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from fastapi import Header, Path, Query
from sqlalchemy import select

from restless_tide.core.numbers import whole_number
from restless_tide.core.rights import Right
from restless_tide.desk import app_answers, dossiers, fetching, find, making, readiness, texts
from restless_tide.desk.desk import Desk
from restless_tide.desk.revisions import ReadRevision
from restless_tide.records.tables import Person
from restless_tide.service import shown_dossier, shown_questions
from restless_tide.service.conditional import tags_of
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.base import Instant
from restless_tide.wire.dossier import (
    AnswersWanted,
    CheckTextsWanted,
    LocaleCopyWanted,
    QuestionsTold,
    SendingTold,
    SendTextsWanted,
    StoreCheckTold,
    TakenOverTold,
    TakeOverWanted,
    TextsTold,
    TextsWanted,
    WrittenTextTold,
)
from restless_tide.wire.readiness import ReadinessTold

router = router_of("dossier", "/v1/apps/{app}")
MatchHeader = Annotated[
    str | None,
    Header(description="the revision of the one text as you read it; 0 for one that was not there"),
]
OnDay = Annotated[Instant | None, Query(description="when it is to go out; without it, its own date, or now")]


@router.get("/readiness")
@needs(Right.SEE)
def to_come(app: str, desk: TheDesk, _: SignedIn, store: str | None = None, on: OnDay = None) -> ReadinessTold:
    """What an app needs at every store that carries it, before there is a release or a build."""
    return _sheets(desk, app, None, store, on)


@router.get("/releases/{version}/readiness")
@needs(Right.SEE)
def of_release(
    app: str, version: str, desk: TheDesk, _: SignedIn, store: str | None = None, on: OnDay = None
) -> ReadinessTold:
    """What stops a release, store by store, why, and which act helps; also of a version that is not drafted yet."""
    return _sheets(desk, app, version, store, on)


def _sheets(desk: Desk, app: str, version: str | None, store: str | None, on: datetime | None) -> ReadinessTold:
    with desk.look() as session:
        found = readiness.sheets(session, app, version, desk.clock.now(), place=store, day=on)
        return shown_dossier.readiness(found)


@router.get("/dossier/texts")
@needs(Right.SEE)
def read_texts(app: str, desk: TheDesk, _: SignedIn) -> TextsTold:
    """Every text of an app as it is written here, and what each store gets of it."""
    with desk.look() as session:
        return shown_dossier.texts_of(session, find.app(session, app))


@router.put("/dossier/texts/{locale}")
@needs(Right.PREPARE)
def write_texts(
    app: str,
    locale: Annotated[str, Path(description="BCP 47, such as en or de-AT")],
    wanted: TextsWanted,
    desk: TheDesk,
    person: SignedIn,
    if_match: MatchHeader = None,
) -> list[WrittenTextTold]:
    """Write texts of one locale, for all stores or for one alone; an empty text is taken out."""
    with desk.act(person.id) as act:
        rows = texts.write(act, app, locale, wanted.texts, wanted.store, read_revision(if_match))
        people = {row.id: row.name for row in act.session.scalars(select(Person))}
        stores = {berth.id: berth.store.name for berth in find.app(act.session, app).berths}
        return [shown_dossier.written(row, people, stores) for row in rows]


def read_revision(if_match: str | None) -> ReadRevision | None:
    """The revision that a caller has read, or one of several; a bare number counts as one. Raises Invalid."""
    if if_match is None:
        return None
    bare = whole_number(if_match.strip())
    if bare is not None:
        return bare
    tags = tags_of(if_match)
    if tags is None:
        return "*"
    return {number for tag in tags if (number := whole_number(tag.strip('"'))) is not None}


@router.get("/dossier/questions")
@needs(Right.SEE)
def read_questions(app: str, desk: TheDesk, _: SignedIn) -> QuestionsTold:
    """What stores ask about an app, what is answered, what each gets of it, and the ratings that follow."""
    with desk.look() as session:
        return shown_questions.questions_of(session, find.app(session, app), desk.clock.now())


@router.patch("/dossier/answers")
@needs(Right.PREPARE)
def write_answers(
    app: str, wanted: AnswersWanted, desk: TheDesk, person: SignedIn, if_match: MatchHeader = None
) -> QuestionsTold:
    """Answer topics for all stores, or the questions of one alone; null takes an answer out."""
    with desk.act(person.id) as act:
        app_answers.answer(act, app, wanted.answers, wanted.store, read_revision(if_match))
        return shown_questions.questions_of(act.session, find.app(act.session, app), act.now)


@router.post("/dossier/texts/{locale}/copies", status_code=201)
@needs(Right.PREPARE)
def copy_locale(app: str, locale: str, wanted: LocaleCopyWanted, desk: TheDesk, person: SignedIn) -> TextsTold:
    """Copy the texts of another locale to this one, where it has none: a locale is added for all stores in one act."""
    with desk.act(person.id) as act:
        texts.copy_locale(act, app, wanted.source, locale)
        return shown_dossier.texts_of(act.session, find.app(act.session, app))


@router.delete("/dossier/texts/{locale}")
@needs(Right.PREPARE)
def drop_locale(app: str, locale: str, desk: TheDesk, person: SignedIn) -> TextsTold:
    """Take out every text of a locale. Stores hold theirs until the texts are sent."""
    with desk.act(person.id) as act:
        texts.drop_locale(act, app, locale)
        return shown_dossier.texts_of(act.session, find.app(act.session, app))


@router.post("/dossier/checks")
@needs(Right.PREPARE)
def check(app: str, wanted: CheckTextsWanted, desk: TheDesk, _: SignedIn) -> list[StoreCheckTold]:
    """What each store would say of texts, pictures, answers and goods that are not at the desk yet, such as those of a folder."""
    with desk.look() as session:
        found = dossiers.check(
            session,
            app,
            desk.clock.now(),
            wanted.texts,
            wanted.own,
            wanted.pictures,
            wanted.own_pictures,
            wanted.answers,
            wanted.own_answers,
            wanted.goods,
        )
        return [shown_dossier.checked(one) for one in found]


@router.post("/dossier/take-overs", status_code=201)
@needs(Right.PREPARE)
def take_over(app: str, wanted: TakeOverWanted, desk: TheDesk, person: SignedIn) -> TakenOverTold:
    """Take over here the texts, pictures, answers and goods that a store holds and nobody put in here."""
    fetching.fetch_held(desk, person.id, app, wanted.store)
    with desk.act(person.id) as act:
        return TakenOverTold.of(dossiers.take_over(act, app, wanted.store))


@router.post("/dossier/sendings", status_code=202)
@needs(Right.PREPARE)
def send(app: str, wanted: SendTextsWanted, desk: TheDesk, person: SignedIn) -> list[SendingTold]:
    """Order to a store, or to all, what it does not hold as it is here. What is locked is kept."""
    making.make_for(desk, app)
    with desk.act(person.id) as act:
        return [shown_dossier.sending(found) for found in dossiers.send(act, app, wanted.store)]
