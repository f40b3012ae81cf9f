"""Trials and invitations."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Response

from restless_tide.core.invitation import InvitationState
from restless_tide.core.rights import Right
from restless_tide.desk import find, invitations, planning, trials
from restless_tide.service import shown_testing
from restless_tide.service.briefs import brief_of
from restless_tide.service.paging import link_next
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.cohorts import (
    AgainTold,
    AgainWanted,
    InvitationTold,
    TrialAgainWanted,
    TrialSheetTold,
    TrialTold,
    TrialWanted,
)
from restless_tide.wire.retiring import ReasonWanted

router = router_of("trials", "/v1")


@router.post("/apps/{app}/trial-sheets")
@needs(Right.HAND_OUT)
def sheet(app: str, wanted: TrialWanted, desk: TheDesk, _: SignedIn) -> TrialSheetTold:
    """What handing a build to cohorts would mean at each store, before anything is done."""
    with desk.look() as session:
        plans = planning.plan(
            session, app, wanted.build, wanted.cohorts, wanted.stores, brief_of(wanted), when_ready=wanted.when_ready
        )
        return shown_testing.sheet(plans)


@router.get("/apps/{app}/trials")
@needs(Right.SEE)
def of_app(
    app: str,
    desk: TheDesk,
    _: SignedIn,
    response: Response,
    cohort: str | None = None,
    after: Annotated[str | None, Query(description="the last trial of the page before")] = None,
    limit: Annotated[int, Query(ge=1, le=500)] = 200,
) -> list[TrialTold]:
    """The trials of an app, newest first."""
    with desk.look() as session:
        rows = trials.of_app(session, app, cohort, after=after, limit=limit + 1)
        if len(rows) > limit:
            link_next(response, f"/v1/apps/{app}/trials", rows[limit - 1].id, cohort=cohort, limit=limit)
        return shown_testing.some_trials(session, rows[:limit])


@router.post("/apps/{app}/trials", status_code=202)
@needs(Right.HAND_OUT)
def open_trials(app: str, wanted: TrialWanted, desk: TheDesk, person: SignedIn) -> list[TrialTold]:
    """Hand a build to cohorts, all or none; each tester is mailed once their store has opened the trial."""
    with desk.act(person.id) as act:
        rows = trials.open_trials(
            act, app, wanted.build, wanted.cohorts, wanted.stores, brief_of(wanted), when_ready=wanted.when_ready
        )
        ids = [row.id for row in rows]
    with desk.look() as session:
        return shown_testing.some_trials(session, [find.trial(session, trial_id) for trial_id in ids])


@router.get("/trials/{trial}")
@needs(Right.SEE_BUILDS)
def one(trial: str, desk: TheDesk, _: SignedIn) -> TrialTold:
    """One trial: a build in the hands of a cohort."""
    with desk.look() as session:
        return shown_testing.one_trial(session, find.trial(session, trial))


@router.post("/trials/{trial}/close", status_code=202)
@needs(Right.HAND_OUT)
def close(trial: str, wanted: ReasonWanted, desk: TheDesk, person: SignedIn) -> TrialTold:
    """Close a trial; its testers have the build no longer."""
    with desk.act(person.id) as act:
        return shown_testing.one_trial(act.session, trials.close(act, trial, wanted.reason))


@router.post("/trials/{trial}/reopenings", status_code=202)
@needs(Right.HAND_OUT)
def reopen(trial: str, wanted: ReasonWanted, desk: TheDesk, person: SignedIn) -> TrialTold:
    """Hand the same build to the same people again after the trial was closed; answers the new trial."""
    with desk.act(person.id) as act:
        return shown_testing.one_trial(act.session, trials.reopen(act, trial, wanted.reason))


@router.post("/trials/{trial}/hand-ins", status_code=202)
@needs(Right.HAND_OUT)
def again(trial: str, wanted: TrialAgainWanted, desk: TheDesk, person: SignedIn) -> TrialTold:
    """Hand in once more what the store rejected, with a corrected brief."""
    with desk.act(person.id) as act:
        return shown_testing.one_trial(act.session, trials.again(act, trial, brief_of(wanted), wanted.reason))


@router.get("/trials/{trial}/invitations")
@needs(Right.SEE_TESTERS)
def of_trial(
    trial: str,
    desk: TheDesk,
    _: SignedIn,
    response: Response,
    text: str = "",
    state: InvitationState | None = None,
    after: str = "",
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
) -> list[InvitationTold]:
    """A trial's invitations by address."""
    with desk.look() as session:
        row = find.trial(session, trial)
        states = [state] if state else []
        found = invitations.of_trial(session, row, text=text, states=states, after=after, limit=limit + 1)
        if len(found) > limit:
            path = f"/v1/trials/{trial}/invitations"
            link_next(response, path, found[limit - 1][1].email, text=text, state=state, limit=limit)
        return [shown_testing.invitation(invitation, person) for invitation, person in found[:limit]]


@router.post("/trials/{trial}/mails", status_code=202)
@needs(Right.HAND_OUT)
def send_again_all(trial: str, wanted: AgainWanted, desk: TheDesk, person: SignedIn) -> AgainTold:
    """Queue the mails of all who have not answered once more; nobody is mailed too soon or too often."""
    with desk.act(person.id) as act:
        found = invitations.send_again_all(act, trial, wanted.older_than_days, bounced=wanted.bounced)
    return AgainTold(queued=found.queued, held_back=found.held_back)


@router.post("/invitations/{invitation}/mails", status_code=202)
@needs(Right.HAND_OUT)
def send_again(invitation: str, desk: TheDesk, person: SignedIn) -> InvitationTold:
    """Queue an invitation's mail once more."""
    with desk.act(person.id) as act:
        row = invitations.send_again(act, invitation)
        return shown_testing.invitation(row, row.tester)
