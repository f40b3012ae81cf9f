"""Trials: a build in the hands of a cohort, and the invitations to it."""

from __future__ import annotations

import hmac

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.cohorts import demand_seats
from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.errors import Invalid, NotFound, NotReady
from restless_tide.core.invitation import INVITATION, InvitationEvent, InvitationState
from restless_tide.core.order import OrderKind
from restless_tide.core.trial import TRIAL, TrialEvent, TrialState
from restless_tide.desk import builds, find
from restless_tide.desk.addresses import mail_address
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.stores import rules_of
from restless_tide.records.seal import Seal
from restless_tide.records.tables import Cohort, Invitation, Trial


def open_trial(
    act: Act, app_name: str, cohort_name: str, build_id: str, store_name: str, notes: str, contact: str
) -> Trial:
    """Hand a build to a cohort at a store; its earlier trial there is replaced. Mails go out when the store has opened it.

    Raises NotReady when the build is not ready there, nobody is in the cohort, or seats are short.
    """
    app = find.app(act.session, app_name)
    cohort = find.cohort(act.session, app, cohort_name)
    store = find.store(act.session, store_name)
    berth = find.berth(act.session, app, store)
    build = find.build_of(act.session, app, build_id)
    consignment = builds.consignment_at(act.session, build, berth)
    if consignment is None or consignment.state is not ConsignmentState.READY:
        state = consignment.state if consignment else "not sent there"
        raise NotReady(
            f"{app.title} {build.label} is {state} at {store.name}; testers can get it once it is ready.",
            remedy=f"Push it with --wait: tide build push FILE --app {app.name} --store {store.name} --wait",
            code="build-not-ready",
        )
    if not notes.strip():
        raise Invalid("A trial needs notes on what to try.", remedy="Add them with --notes.", code="notes-missing")
    if not cohort.members:
        raise NotReady(
            f"Nobody is in {cohort.name}.",
            remedy=f"Add testers: tide tester add --app {app.name} --cohort {cohort.name} ADDRESS",
            code="cohort-empty",
        )
    address = mail_address(contact)
    demand_seats(rules_of(store), cohort.kind, len(cohort.members))
    for earlier in cohort.trials:
        if earlier.state is TrialState.OPEN and earlier.consignment.berth_id == berth.id:
            earlier.state, earlier.changed_at = TRIAL.after(earlier.state, TrialEvent.REPLACE), act.now
    trial = Trial(
        cohort_id=cohort.id,
        consignment_id=consignment.id,
        notes=notes.strip(),
        contact=address,
        created_at=act.now,
        changed_at=act.now,
        state=TRIAL.after(TRIAL.initial, TrialEvent.HAND_IN),
    )
    trial.invitations = [
        Invitation(tester_id=member.tester_id, created_at=act.now, changed_at=act.now) for member in cohort.members
    ]
    act.session.add(trial)
    act.session.flush()
    act.order(OrderKind.OPEN_TRIAL, lane=trial.id, store=store, subject=trial.id)
    act.log(
        "trial handed in",
        f"trial {trial.id}",
        app=app.name,
        after={"cohort": cohort.name, "build": build.id, "store": store.name, "testers": len(trial.invitations)},
    )
    return trial


def close(act: Act, trial_id: str, reason: str) -> Trial:
    """End a trial: nobody new gets the build from it."""
    trial = find.trial(act.session, trial_id)
    before = trial.state
    trial.state, trial.changed_at = TRIAL.after(trial.state, TrialEvent.CLOSE), act.now
    act.order(OrderKind.CLOSE_TRIAL, lane=trial.id, store=trial.consignment.berth.store, subject=trial.id)
    act.log(
        "trial closed",
        f"trial {trial.id}",
        app=trial.cohort.app.name,
        reason=reason,
        before={"state": str(before)},
        after={"state": str(trial.state)},
    )
    return trial


def of_app(session: Session, app_name: str) -> list[Trial]:
    app = find.app(session, app_name)
    return list(
        session.scalars(select(Trial).join(Cohort).where(Cohort.app_id == app.id).order_by(Trial.created_at.desc()))
    )


def personal_code(seal: Seal, invitation: Invitation) -> str:
    """What stands in the tester's link: the invitation's id and a code that only this desk can derive."""
    return f"{invitation.id}.{seal.personal_code(invitation.id)}"


def invitation_by_code(session: Session, seal: Seal, code: str) -> Invitation:
    """The invitation of a personal link. Raises NotFound, in the same words whatever is wrong."""
    invitation_id, _, proof = code.partition(".")
    if hmac.compare_digest(proof.encode(), seal.personal_code(invitation_id).encode()):
        found = session.get(Invitation, invitation_id)
        if found is not None:
            return found
    raise NotFound(
        "This invitation link is not valid.", remedy="Use the link from the mail, unchanged.", code="invitation-unknown"
    )


def respond(desk: Desk, code: str, event: InvitationEvent) -> Invitation:
    """A tester accepts or declines by the personal link; doing it twice changes nothing."""
    with desk.look() as session:
        tester = invitation_by_code(session, desk.seal, code).tester_id
    with desk.act(f"tester:{tester}") as act:
        invitation = invitation_by_code(act.session, desk.seal, code)
        before = invitation.state
        if (event, before) in _ALREADY:
            return invitation
        invitation.state, invitation.changed_at = INVITATION.after(before, event), act.now
        act.log(
            f"invitation {_PAST[event]}",
            f"invitation {invitation.id}",
            app=invitation.trial.cohort.app.name,
            before={"state": str(before)},
            after={"state": str(invitation.state)},
        )
        return invitation


def send_again(act: Act, invitation_id: str) -> Invitation:
    """Queue the mail of an invitation that was sent or bounced once more."""
    invitation = act.session.get(Invitation, invitation_id)
    if invitation is None:
        raise NotFound(f"No invitation is called {invitation_id!r}.", code="invitation-unknown")
    invitation.state, invitation.changed_at = INVITATION.after(invitation.state, InvitationEvent.SEND_AGAIN), act.now
    act.log("invitation queued again", f"invitation {invitation.id}", app=invitation.trial.cohort.app.name)
    return invitation


_ALREADY = frozenset(
    {
        (InvitationEvent.ACCEPT, InvitationState.ACCEPTED),
        (InvitationEvent.ACCEPT, InvitationState.INSTALLED),
        (InvitationEvent.DECLINE, InvitationState.DECLINED),
    }
)
_PAST = {InvitationEvent.ACCEPT: "accepted", InvitationEvent.DECLINE: "declined"}
