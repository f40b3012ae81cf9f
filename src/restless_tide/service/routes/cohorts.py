"""Cohorts, testers, trials and invitations."""

from __future__ import annotations

from fastapi import APIRouter

from restless_tide.desk import cohorts, find, trials
from restless_tide.service import shown
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.cohorts import (
    CloseWanted,
    CohortTold,
    CohortWanted,
    InvitationTold,
    TesterTold,
    TesterWanted,
    TrialTold,
    TrialWanted,
)

router = APIRouter(prefix="/v1", tags=["testing"])


@router.get("/apps/{app}/cohorts")
def of_app(app: str, desk: TheDesk, _: SignedIn) -> list[CohortTold]:
    with desk.look() as session:
        return [shown.cohort(session, row) for row in cohorts.of_app(session, app)]


@router.post("/apps/{app}/cohorts", status_code=201)
def make(app: str, wanted: CohortWanted, desk: TheDesk, person: SignedIn) -> CohortTold:
    with desk.act(person.id) as act:
        return shown.cohort(act.session, cohorts.make(act, app, wanted.name, wanted.kind))


@router.post("/apps/{app}/cohorts/{cohort}/testers", status_code=201)
def add_tester(app: str, cohort: str, wanted: TesterWanted, desk: TheDesk, person: SignedIn) -> TesterTold:
    with desk.act(person.id) as act:
        return shown.tester(cohorts.add_tester(act, app, cohort, wanted.email, wanted.name).tester)


@router.delete("/apps/{app}/cohorts/{cohort}/testers/{email}", status_code=204)
def remove_tester(app: str, cohort: str, email: str, desk: TheDesk, person: SignedIn) -> None:
    with desk.act(person.id) as act:
        cohorts.remove_tester(act, app, cohort, email)


@router.get("/testers")
def testers(desk: TheDesk, _: SignedIn) -> list[TesterTold]:
    """Everybody who tests, whatever they test."""
    with desk.look() as session:
        return [shown.tester(row) for row in cohorts.testers(session)]


@router.get("/apps/{app}/trials")
def trials_of_app(app: str, desk: TheDesk, _: SignedIn) -> list[TrialTold]:
    with desk.look() as session:
        return [shown.trial(row) for row in trials.of_app(session, app)]


@router.post("/apps/{app}/trials", status_code=202)
def open_trial(app: str, wanted: TrialWanted, desk: TheDesk, person: SignedIn) -> TrialTold:
    """Hand a build to a cohort; each tester is mailed once the store has opened the trial."""
    with desk.act(person.id) as act:
        row = trials.open_trial(act, app, wanted.cohort, wanted.build, wanted.store, wanted.notes, wanted.contact)
        trial_id = row.id
    with desk.look() as session:
        return shown.trial(find.trial(session, trial_id))


@router.get("/trials/{trial}")
def one(trial: str, desk: TheDesk, _: SignedIn) -> TrialTold:
    with desk.look() as session:
        return shown.trial(find.trial(session, trial))


@router.post("/trials/{trial}/close", status_code=202)
def close(trial: str, wanted: CloseWanted, desk: TheDesk, person: SignedIn) -> TrialTold:
    with desk.act(person.id) as act:
        return shown.trial(trials.close(act, trial, wanted.reason))


@router.post("/invitations/{invitation}/mails", status_code=202)
def send_again(invitation: str, desk: TheDesk, person: SignedIn) -> InvitationTold:
    """Queue an invitation's mail once more."""
    with desk.act(person.id) as act:
        return shown.invitation(trials.send_again(act, invitation))
