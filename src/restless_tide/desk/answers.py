"""Standing answers: given once, carried forward to every build, as long as the question stays the same."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import NotFound
from restless_tide.core.questions import refused_for
from restless_tide.desk import find
from restless_tide.desk.desk import Act
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import Berth, Consignment, StandingAnswer


def keep(act: Act, consignment: Consignment, answers: dict[str, str]) -> None:
    """Have these answers given automatically from now on."""
    asked = {question["code"]: question for question in consignment.questions}
    for code, answer in answers.items():
        found = act.session.scalar(
            select(StandingAnswer).where(StandingAnswer.berth_id == consignment.berth_id, StandingAnswer.code == code)
        )
        if found is None:
            found = StandingAnswer(berth_id=consignment.berth_id, code=code)
            act.session.add(found)
        found.text, found.answer = asked[code]["text"], answer
        found.given_at, found.given_by = act.now, act.person
    app, store = consignment.build.app.name, consignment.berth.store.name
    act.log("answers kept", f"berth {app} at {store}", app=app, after=dict(answers))


def fitting(session: Session, berth: Berth, questions: Sequence[dict[str, Any]]) -> dict[str, str] | None:
    """The standing answers to these questions; None unless each is answered in the same words and still offered.

    None also where the store would refuse the build for one of them: a person decides that.
    """
    known = {row.code: row for row in at(session, berth)}
    answers = {}
    for question in questions:
        row = known.get(question["code"])
        if row is None or row.text != question["text"] or row.answer not in question["choices"]:
            return None
        answers[row.code] = row.answer
    if refused_for(rules_of(berth.store), answers):
        return None
    return answers or None


def at(session: Session, berth: Berth) -> Sequence[StandingAnswer]:
    found = select(StandingAnswer).where(StandingAnswer.berth_id == berth.id).order_by(StandingAnswer.code)
    return session.scalars(found).all()


def forget(act: Act, app_name: str, store_name: str, code: str) -> None:
    """Have a person answer the question again next time."""
    app, store = find.app(act.session, app_name), find.store(act.session, store_name)
    berth = find.berth(act.session, app, store)
    found = next((row for row in at(act.session, berth) if row.code == code), None)
    if found is None:
        raise NotFound(
            f"No standing answer to {code!r} is kept for {app.title} at {store.name}.", code="answer-unknown"
        )
    act.session.delete(found)
    act.log("answer forgotten", f"berth {app.name} at {store.name}", app=app.name, before={code: found.answer})
