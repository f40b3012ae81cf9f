"""Testers and the cohorts they are in."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.cohorts import demand_seats
from restless_tide.core.errors import Conflict, NotFound
from restless_tide.core.order import OrderKind
from restless_tide.core.rulebook import CohortKind
from restless_tide.core.trial import TrialState
from restless_tide.desk import find
from restless_tide.desk.addresses import mail_address
from restless_tide.desk.desk import Act
from restless_tide.desk.stores import rules_of, slug
from restless_tide.records.tables import Cohort, Invitation, Membership, Tester

_TAKES_TESTERS = frozenset({TrialState.WITH_STORE, TrialState.OPEN})


def make(act: Act, app_name: str, name: str, kind: CohortKind) -> Cohort:
    app = find.app(act.session, app_name)
    cohort_name = slug(name, "a cohort")
    if act.session.scalar(select(Cohort).where(Cohort.app_id == app.id, Cohort.name == cohort_name)):
        raise Conflict(f"{app.title} has a cohort called {cohort_name} already.", code="cohort-known")
    cohort = Cohort(app_id=app.id, name=cohort_name, kind=kind, created_at=act.now)
    act.session.add(cohort)
    act.session.flush()
    act.log("cohort made", f"cohort {cohort.name}", app=app.name, after={"kind": str(kind)})
    return cohort


def of_app(session: Session, app_name: str) -> list[Cohort]:
    app = find.app(session, app_name)
    return list(session.scalars(select(Cohort).where(Cohort.app_id == app.id).order_by(Cohort.name)))


def add_tester(act: Act, app_name: str, cohort_name: str, email: str, name: str) -> Membership:
    """Put somebody into a cohort; known testers are found by address. Running trials invite them, too.

    Raises Invalid for a bad address, Conflict when they are in it already, NotReady when a store of a
    running trial has no seat left; nothing is changed then.
    """
    app = find.app(act.session, app_name)
    cohort = find.cohort(act.session, app, cohort_name)
    address = mail_address(email)
    tester = act.session.scalar(select(Tester).where(Tester.email == address))
    if tester is None:
        tester = Tester(email=address, name=name.strip(), created_at=act.now)
        act.session.add(tester)
        act.session.flush()
    elif name.strip():
        tester.name = name.strip()
    if any(member.tester_id == tester.id for member in cohort.members):
        raise Conflict(f"{address} is in {cohort.name} already.", code="tester-known")
    running = [trial for trial in cohort.trials if trial.state in _TAKES_TESTERS]
    for trial in running:
        demand_seats(rules_of(trial.consignment.berth.store), cohort.kind, len(cohort.members) + 1)
    membership = Membership(cohort_id=cohort.id, tester_id=tester.id, joined_at=act.now)
    cohort.members.append(membership)
    for trial in running:
        trial.invitations.append(Invitation(tester_id=tester.id, created_at=act.now, changed_at=act.now))
        act.order(
            OrderKind.SEAT,
            lane=trial.id,
            store=trial.consignment.berth.store,
            subject=trial.id,
            payload={"tester": tester.id},
        )
    act.session.flush()
    act.log("tester added", f"cohort {cohort.name}", app=app.name, after={"tester": tester.id})
    return membership


def remove_tester(act: Act, app_name: str, cohort_name: str, email: str) -> None:
    """Take somebody out of a cohort; they stay known to the desk. Raises NotFound."""
    app = find.app(act.session, app_name)
    cohort = find.cohort(act.session, app, cohort_name)
    address = mail_address(email)
    found = next((member for member in cohort.members if member.tester.email == address), None)
    if found is None:
        raise NotFound(f"{address} is not in {cohort.name}.", code="tester-unknown")
    cohort.members.remove(found)
    act.log("tester removed", f"cohort {cohort.name}", app=app.name, before={"tester": found.tester_id})


def testers(session: Session) -> list[Tester]:
    """Everybody who tests, whatever they test."""
    return list(session.scalars(select(Tester).order_by(Tester.email)))
