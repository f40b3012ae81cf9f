"""Acts that wait for a second person, where an app's owner wants that. They are kept as they were asked, sealed, and done by
the agreement: as an act of who asked, with who agreed beside it in the logbook."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Denied, ImpossibleAct, NotFound, SecondPersonNeeded, TooOften
from restless_tide.core.rights import Right, standing_of
from restless_tide.core.second_person import LIFE, MOST_WAITING, AskedAct
from restless_tide.desk import find
from restless_tide.desk.desk import Act, Desk
from restless_tide.records.columns import new_id
from restless_tide.records.tables import App, Person, Proposal

_WAITS = (Proposal.agreed_at.is_(None), Proposal.dropped_at.is_(None))


def set_rule(act: Act, app_name: str, demanded: bool) -> App:
    """Have acts that reach people wait for a second person in this app, or no longer."""
    app = find.app(act.session, app_name)
    if app.second_person != demanded:
        act.log(
            "second person rule changed",
            f"app {app.name}",
            app=app.name,
            before={"demanded": app.second_person},
            after={"demanded": demanded},
        )
        app.second_person = demanded
    return app


@dataclass(frozen=True)
class Asked:
    """What someone asks for: ``said`` in words, ``body`` as it came, ``work`` does it."""

    kind: AskedAct
    said: str
    body: str
    work: Callable[[Act], object]


class _Tried(Exception):
    """It could be done; it is not done."""


def demand(desk: Desk, person: str, app_name: str, version: str, asked: Asked) -> None:
    """Raise SecondPersonNeeded, and keep what was asked, where the app wants a second person; else nothing.

    What cannot be done now is refused now, as it would be without a second person: it is tried, and undone.
    """
    with desk.look() as session:
        if not find.app(session, app_name).second_person:
            return
    with suppress(_Tried), desk.act(person) as act:
        asked.work(act)
        raise _Tried
    with desk.act(person) as act:
        app = find.app(act.session, app_name)
        waiting = (
            select(func.count())
            .select_from(Proposal)
            .where(Proposal.app_id == app.id, *_WAITS, Proposal.until > act.now)
        )
        if (act.session.scalar(waiting) or 0) >= MOST_WAITING:
            raise TooOften(f"{MOST_WAITING} acts of {app.title} wait for a second person.", remedy="Settle some first.")
        row = Proposal(
            id=new_id("pr"),
            app_id=app.id,
            kind=asked.kind,
            version=version,
            said=asked.said,
            sealed_body=b"",
            asked_by=person,
            asked_at=act.now,
            until=act.now + LIFE,
        )
        row.sealed_body = act.seal.close(asked.body.encode(), f"proposal {row.id}")
        act.session.add(row)
        act.log("second person asked", f"release {version}", app=app.name, after={"to": asked.said, "proposal": row.id})
        told = row.id
    raise SecondPersonNeeded(
        f"{asked.said} waits for a second person; nothing is done yet.",
        remedy=f"Someone else agrees on the release's page, or with: tide release agree {told}",
        code="second-person-needed",
    )


def handed_in(desk: Desk, app_name: str, version: str, store: str | None = None) -> bool:
    """Whether a release, or its leg at one store, was ever handed in: before that, no change of it reaches people."""
    with desk.look() as session:
        release = find.release(session, find.app(session, app_name), version)
        return any(leg.rounds for leg in ([find.leg(release, store)] if store else release.legs))


def agree(act: Act, proposal_id: str) -> Proposal:
    """Agree as the second person. Raises Denied for who asked, ImpossibleAct for what is settled or too old."""
    row = _waiting(act, proposal_id)
    if row.asked_by == act.person:
        raise Denied("You asked for it yourself; a second person has to agree.", code="second-person")
    asker = act.session.get(Person, row.asked_by)
    if asker is None or not standing_of(asker.grants).over(Right.STEER, row.app.name):
        raise ImpossibleAct(
            "Who asked for it may no longer do it.",
            possible=[],
            remedy="Drop it, and ask anew.",
            code="asker-not-allowed",
        )
    row.agreed_by, row.agreed_at = act.person, act.now
    act.log(
        "second person agreed", f"release {row.version}", app=row.app.name, after={"to": row.said, "proposal": row.id}
    )
    return row


def drop(act: Act, proposal_id: str, reason: str) -> Proposal:
    """Drop what was asked; it is not done."""
    row = _waiting(act, proposal_id)
    row.dropped_at = act.now
    act.log("proposal dropped", f"release {row.version}", app=row.app.name, reason=reason, before={"to": row.said})
    return row


def body_of(desk: Desk, row: Proposal) -> str:
    """What was asked, as it came."""
    return desk.seal.open(row.sealed_body, f"proposal {row.id}").decode()


def waiting(session: Session, now: datetime) -> list[Proposal]:
    """What waits for a second person, the oldest first."""
    return list(session.scalars(select(Proposal).where(*_WAITS, Proposal.until > now).order_by(Proposal.asked_at)))


def _found(session: Session, proposal_id: str) -> Proposal:
    row = session.get(Proposal, proposal_id)
    if row is None:
        raise NotFound(
            f"Nothing waits under {proposal_id!r}.", remedy="See: tide release waiting", code="proposal-unknown"
        )
    return row


def _waiting(act: Act, proposal_id: str) -> Proposal:
    row = _found(act.session, proposal_id)
    if row.agreed_at is not None or row.dropped_at is not None:
        raise ImpossibleAct("That is settled already.", possible=[], code="proposal-settled")
    if row.until <= act.now:
        raise Conflict("It was asked too long ago.", remedy="Ask anew.", code="proposal-expired")
    return row
