"""Invitations: answered by the tester, seen by the store, sent again, come back."""

from __future__ import annotations

import hmac
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Invalid, NotFound
from restless_tide.core.invitation import (
    INVITATION,
    SITS,
    InvitationEvent,
    InvitationState,
    demand_again,
)
from restless_tide.core.trial import SEATED, UNDER_WAY, TrialState
from restless_tide.desk import find, naming, seating
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.testers import matching
from restless_tide.records.seal import Seal
from restless_tide.records.tables import Consignment, Invitation, Membership, Tester, Trial

_AT_STORE = {
    str(INVITATION.leads_to(event)): event
    for event in (InvitationEvent.ACCEPT, InvitationEvent.INSTALL, InvitationEvent.DECLINE)
}


def personal_code(seal: Seal, invitation: Invitation) -> str:
    """What stands in the tester's link: the invitation's id and a code that only this desk can derive."""
    return f"{invitation.id}.{seal.personal_code(invitation.id)}"


def by_code(session: Session, seal: Seal, code: str) -> Invitation:
    """The invitation of a personal link. Raises NotFound, in the same words whatever is wrong."""
    invitation_id, _, proof = code.partition(".")
    if hmac.compare_digest(proof.encode(), seal.personal_code(invitation_id).encode()):
        found = session.get(Invitation, invitation_id)
        if found is not None and found.tester.forgotten_at is None:
            return found
    raise NotFound(
        "This invitation link is not valid.", remedy="Use the link from the mail, unchanged.", code="invitation-unknown"
    )


def respond(desk: Desk, code: str, event: InvitationEvent) -> Invitation:
    """A tester accepts or declines by the personal link; doing it twice changes nothing."""
    with desk.look() as session:
        tester = by_code(session, desk.seal, code).tester_id
    with desk.act(f"tester:{tester}") as act:
        invitation = by_code(act.session, desk.seal, code)
        if event is InvitationEvent.DECLINE:
            declined(act, invitation)
        else:
            accepted(act, invitation)
        return invitation


def accepted(act: Act, invitation: Invitation) -> None:
    """Someone takes part; whoever had declined sits down again where a seat is left. Raises ImpossibleAct, NotReady."""
    before, trial = invitation.state, invitation.trial
    if before in (InvitationState.ACCEPTED, InvitationState.INSTALLED):
        return
    if trial.state not in UNDER_WAY:
        raise Conflict(f"This test is {trial.state}.", remedy="Wait for the next one.", code="trial-over")
    seating.move(act, invitation, InvitationEvent.ACCEPT)
    membership = act.session.get(Membership, (trial.cohort_id, invitation.tester_id))
    if membership is not None:
        membership.accepted_at, membership.declined_at = act.now, None
        if invitation.tester.consented_at is None:
            invitation.tester.consented_at, invitation.tester.consent_how = act.now, "by accepting an invitation"
    if before is InvitationState.DECLINED and trial.state in SEATED:
        if not seating.try_trial(act.session, trial, [invitation.tester]).all_fit:
            raise Conflict(
                "No seat is left in this test.", remedy="Ask the contact in the mail.", code="seats-exhausted"
            )
        seating.order_seats(act, trial, [invitation.tester])
    _log(act, invitation, before)


def declined(act: Act, invitation: Invitation) -> None:
    """Someone takes no part: the seat goes back, and nothing more of this cohort is mailed to them."""
    before, trial = invitation.state, invitation.trial
    if before in (InvitationState.DECLINED, InvitationState.REMOVED):
        return
    seating.leave(act, trial, [invitation], InvitationEvent.DECLINE)
    membership = act.session.get(Membership, (trial.cohort_id, invitation.tester_id))
    if membership is not None:
        membership.declined_at = act.now
    for other, other_trial in _others(act.session, invitation):
        seating.leave(act, other_trial, [other], InvitationEvent.DECLINE)
    _log(act, invitation, before)


def _others(session: Session, invitation: Invitation) -> list[tuple[Invitation, Trial]]:
    """Their other invitations of the same cohort that are not over."""
    rows = session.execute(
        select(Invitation, Trial)
        .join(Trial, Invitation.trial_id == Trial.id)
        .where(
            Invitation.tester_id == invitation.tester_id,
            Invitation.id != invitation.id,
            Trial.cohort_id == invitation.trial.cohort_id,
            Trial.state.in_(UNDER_WAY),
        )
    ).all()
    return [(other, trial) for other, trial in rows]


def _log(act: Act, invitation: Invitation, before: InvitationState) -> None:
    act.log(
        f"invitation {invitation.state}",
        f"invitation {invitation.id}",
        app=invitation.trial.cohort.app.name,
        before={"state": str(before)},
        after={"state": str(invitation.state)},
    )


def seen_at_store(act: Act, trial: Trial, address: str, state: str, device: str, system: str) -> bool:
    """A store tells what someone did there; False when it speaks of nobody who is known here."""
    invitation = act.session.scalar(
        select(Invitation)
        .join(Tester, Invitation.tester_id == Tester.id)
        .where(Invitation.trial_id == trial.id, Tester.email == address.strip().lower())
    )
    if invitation is None:
        return False
    event = _AT_STORE.get(state)
    moves = event is not None and (invitation.state, event) in INVITATION.table
    if state == InvitationState.INSTALLED and (moves or invitation.state is InvitationState.INSTALLED):
        invitation.device, invitation.system = device[:100], system[:100]
        _remember_device(invitation.tester, device)
    if event is None or not moves:
        return True
    if event is InvitationEvent.DECLINE:
        declined(act, invitation)
        return True
    before = invitation.state
    seating.move(act, invitation, event)
    membership = act.session.get(Membership, (trial.cohort_id, invitation.tester_id))
    if membership is not None:
        membership.accepted_at = membership.accepted_at or act.now
    _log(act, invitation, before)
    return True


def _remember_device(tester: Tester, device: str) -> None:
    if device and device not in tester.devices and len(tester.devices) < 50:
        tester.devices = [*tester.devices, device[:100]]


def needed(session: Session, invitation_id: str) -> Invitation:
    found: Invitation = naming.by_id(session, Invitation, "invitation", invitation_id)
    return found


def send_again(act: Act, invitation_id: str) -> Invitation:
    """Queue the mail of an invitation once more. Raises ImpossibleAct, and Conflict while the brake holds."""
    invitation = needed(act.session, invitation_id)
    INVITATION.after(invitation.state, InvitationEvent.SEND_AGAIN)
    demand_again(invitation.mails, invitation.mailed_at, act.now)
    _queue_again(act, invitation)
    act.log("invitation queued again", f"invitation {invitation.id}", app=invitation.trial.cohort.app.name)
    return invitation


def _queue_again(act: Act, invitation: Invitation) -> None:
    if invitation.state is InvitationState.BOUNCED:
        invitation.tester.bounced_at = invitation.tester.bounce_said = None
    seating.move(act, invitation, InvitationEvent.SEND_AGAIN)
    invitation.trouble, invitation.try_after, invitation.attempts = None, None, 0


@dataclass(frozen=True)
class Again:
    """What sending again came to: how many mails are queued, and how many the brake holds back."""

    queued: int
    held_back: int


def send_again_all(act: Act, trial_id: str, older_than_days: float, *, bounced: bool = False) -> Again:
    """Queue the mails of all who have not answered for so many days once more; the brake holds for each of them."""
    trial = find.trial(act.session, trial_id)
    if trial.state is not TrialState.OPEN:
        raise Conflict(f"The trial is {trial.state}.", remedy="Mails go out while it is open.", code="trial-not-open")
    if older_than_days < 0:
        raise Invalid("Days are 0 or more.", code="days-unfit")
    states = [InvitationState.SENT, *([InvitationState.BOUNCED] if bounced else [])]
    waiting = act.session.scalars(
        select(Invitation).where(
            Invitation.trial_id == trial.id,
            Invitation.state.in_(states),
            Invitation.changed_at <= act.now - timedelta(days=older_than_days),
        )
    ).all()
    queued = 0
    for invitation in waiting:
        try:
            demand_again(invitation.mails, invitation.mailed_at, act.now)
        except Conflict:
            continue
        _queue_again(act, invitation)
        queued += 1
    if queued:
        act.log("invitations queued again", f"trial {trial.id}", app=trial.cohort.app.name, after={"mails": queued})
    return Again(queued, len(waiting) - queued)


def bounced(act: Act, invitation: Invitation, said: str, *, for_good: bool) -> None:
    """A mail came back. For good: the address is dead until someone says otherwise; else the trouble is noted."""
    invitation.trouble = said[:500]
    if not for_good:
        act.tell("mail delayed", f"invitation {invitation.id}", app=invitation.trial.cohort.app.name)
        return
    invitation.tester.bounced_at, invitation.tester.bounce_said = act.now, said[:500]
    if (invitation.state, InvitationEvent.BOUNCE) in INVITATION.table:
        seating.move(act, invitation, InvitationEvent.BOUNCE)
    act.log("mail came back", f"invitation {invitation.id}", app=invitation.trial.cohort.app.name)


def of_trial(
    session: Session,
    trial: Trial,
    *,
    text: str = "",
    states: Sequence[InvitationState] = (),
    after: str = "",
    limit: int = 100,
) -> list[tuple[Invitation, Tester]]:
    """A page of a trial's invitations by address, from ``after`` on."""
    wanted = (
        select(Invitation, Tester)
        .join(Tester, Invitation.tester_id == Tester.id)
        .where(Invitation.trial_id == trial.id, Tester.email > after)
        .order_by(Tester.email)
        .limit(limit)
    )
    if text:
        wanted = wanted.where(matching(text))
    if states:
        wanted = wanted.where(Invitation.state.in_(states))
    return [(invitation, tester) for invitation, tester in session.execute(wanted).all()]


def newest(session: Session, cohort_id: str, testers: Sequence[str]) -> dict[str, Invitation]:
    """The newest invitation of each tester in a cohort."""
    found: dict[str, Invitation] = {}
    rows = session.scalars(
        select(Invitation)
        .join(Trial, Invitation.trial_id == Trial.id)
        .where(
            Trial.cohort_id == cohort_id,
            Invitation.tester_id.in_(testers),
            Invitation.state.in_(SITS | {InvitationState.DECLINED}),
        )
        .order_by(Trial.created_at)
    )
    for invitation in rows:
        found[invitation.tester_id] = invitation
    return found


def newer(session: Session, invitation: Invitation) -> Invitation | None:
    """The tester's invitation to a newer build of the same cohort that is open at the same store."""
    trial = invitation.trial
    return session.scalar(
        select(Invitation)
        .join(Trial, Invitation.trial_id == Trial.id)
        .join(Consignment, Trial.consignment_id == Consignment.id)
        .where(
            Invitation.tester_id == invitation.tester_id,
            Trial.cohort_id == trial.cohort_id,
            Trial.state == TrialState.OPEN,
            Trial.created_at > trial.created_at,
            Consignment.berth_id == trial.consignment.berth_id,
        )
        .order_by(Trial.created_at.desc())
        .limit(1)
    )
