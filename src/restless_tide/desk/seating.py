"""Seats at the stores: who holds one, who would, and the orders that give and take them."""

from __future__ import annotations

import base64
import json
from collections.abc import Collection, Sequence
from typing import Any

from sqlalchemy import Select, insert, select
from sqlalchemy.orm import Session

from restless_tide.core.cohorts import Seating, may_install, seat_findings, seat_rules, seating
from restless_tide.core.errors import Finding
from restless_tide.core.invitation import INVITATION, SITS, InvitationEvent, InvitationState
from restless_tide.core.order import OrderKind
from restless_tide.core.rulebook import CohortKind
from restless_tide.core.trial import SEATED
from restless_tide.desk.desk import Act
from restless_tide.desk.stores import rules_of
from restless_tide.records.seal import Seal
from restless_tide.records.tables import Berth, Build, Cohort, Consignment, Invitation, Membership, Order, Tester, Trial

BATCH = 250
"""So many seats go to a store in one order, so that a store that goes away in between loses little."""
SEALED = "sealed"


def sitting_at() -> Select[str]:
    """The ids of those who sit somewhere; narrow it down with ``where``."""
    return (
        select(Invitation.tester_id)
        .join(Trial, Invitation.trial_id == Trial.id)
        .where(Trial.state.in_(SEATED), Invitation.state.in_(SITS))
    )


def seated(berth: Berth, kind: CohortKind, build: Build | None) -> Select[str]:
    """The ids of those who sit at a berth in this kind, as the store counts them; by build where its rulebook counts seats by build."""
    found = (
        sitting_at()
        .join(Consignment, Trial.consignment_id == Consignment.id)
        .join(Cohort, Trial.cohort_id == Cohort.id)
        .where(Consignment.berth_id == berth.id, Cohort.kind == kind)
    )
    if seat_rules(rules_of(berth.store), kind).seats_per_build:
        found = found.where(Consignment.build_id == (build.id if build else None))
    return found.distinct()


def try_seats(
    session: Session,
    berth: Berth,
    kind: CohortKind,
    build: Build,
    testers: Sequence[Tester],
    besides: Collection[str] = (),
) -> Seating:
    """Whether ``testers`` fit beside those who sit there, and beside ``besides`` who are to sit down in the same act."""
    sitting = {*session.scalars(seated(berth, kind, build)), *besides}
    domains = berth.store.account.get("domains") or ()
    return seating(rules_of(berth.store), kind, sitting, {tester.id: tester.email for tester in testers}, domains)


def try_trial(session: Session, trial: Trial, testers: Sequence[Tester]) -> Seating:
    """Whether ``testers`` fit into a trial."""
    consignment = trial.consignment
    return try_seats(session, consignment.berth, trial.cohort.kind, consignment.build, testers)


def findings(session: Session, trial: Trial, testers: Sequence[Tester]) -> list[Finding]:
    """What blocks seating all of ``testers`` in a trial."""
    return seat_findings(try_trial(session, trial, testers), {tester.id: tester.email for tester in testers})


def people(session: Session, cohort: Cohort) -> list[Tester]:
    """Who of a cohort is invited to builds: whoever has not declined."""
    return list(
        session.scalars(
            select(Tester)
            .join(Membership, Membership.tester_id == Tester.id)
            .where(Membership.cohort_id == cohort.id, Membership.declined_at.is_(None))
            .order_by(Membership.joined_at, Tester.id)
        )
    )


def who_may_install(build: Build, testers: Sequence[Tester]) -> list[Tester]:
    """Those of ``testers`` who have a device for the build, as far as one knows."""
    return [tester for tester in testers if may_install(tester.platforms, build.platform)]


def invite(act: Act, trial: Trial, testers: Sequence[Tester]) -> None:
    """Write the invitations of ``testers`` to a trial."""
    for batch in batches(testers):
        _invite(act, trial, {tester.id: tester for tester in batch})


def _invite(act: Act, trial: Trial, testers: dict[str, Tester]) -> None:
    removed = Invitation.state == InvitationState.REMOVED
    before = act.session.scalars(
        select(Invitation).where(Invitation.trial_id == trial.id, Invitation.tester_id.in_(testers), removed)
    ).all()
    for invitation in before:
        invitation.seated_at = invitation.try_after = None
        move(act, invitation, InvitationEvent.INVITE)
    of_cohort = select(Membership.tester_id).where(Membership.cohort_id == trial.cohort_id)
    accepted = set(
        act.session.scalars(of_cohort.where(Membership.tester_id.in_(testers), Membership.accepted_at.is_not(None)))
    )
    rows: list[dict[str, Any]] = []
    for tester_id in testers.keys() - {invitation.tester_id for invitation in before}:
        tester = testers[tester_id]
        dead = tester.bounced_at is not None
        state = InvitationState.BOUNCED if dead else InvitationState.QUEUED
        rows.append(
            {
                "trial_id": trial.id,
                "tester_id": tester_id,
                "state": state,
                "created_at": act.now,
                "changed_at": act.now,
                "carried": tester_id in accepted,
                "moments": {str(state): act.now.isoformat()},
                "trouble": f"mail to this address came back: {tester.bounce_said}" if dead else None,
            }
        )
    if rows:
        act.session.execute(insert(Invitation), rows)


def move(act: Act, invitation: Invitation, event: InvitationEvent) -> None:
    """Take an invitation a step on, with its instant. Raises ImpossibleAct."""
    invitation.state = INVITATION.after(invitation.state, event)
    invitation.changed_at = act.now
    invitation.moments = {**invitation.moments, str(invitation.state): act.now.isoformat()}


def holds_seat(trial: Trial, invitation: Invitation) -> bool:
    return trial.state in SEATED and invitation.state in SITS


def leave(act: Act, trial: Trial, invitations: Sequence[Invitation], event: InvitationEvent) -> None:
    """These people leave a trial; whoever sits at the store gives the seat back."""
    sitting = [invitation.tester for invitation in invitations if holds_seat(trial, invitation)]
    for invitation in invitations:
        if (invitation.state, event) in INVITATION.table:
            move(act, invitation, event)
    order_removal(act, trial, sitting)


def order_seats(act: Act, trial: Trial, testers: Sequence[Tester]) -> None:
    """Order seats at the store for these, in batches."""
    for batch in batches(testers):
        order(act, OrderKind.SEAT, trial, batch)


def order_removal(act: Act, trial: Trial, testers: Sequence[Tester]) -> None:
    """Have the store take these out of the trial."""
    for batch in batches(testers):
        order(act, OrderKind.UNSEAT, trial, batch)


def batches(testers: Sequence[Tester]) -> list[Sequence[Tester]]:
    return [testers[begin : begin + BATCH] for begin in range(0, len(testers), BATCH)]


def order(act: Act, kind: OrderKind, trial: Trial, testers: Sequence[Tester]) -> Order:
    """An order about these people of a trial."""
    payload = {"testers": [tester.id for tester in testers], SEALED: seal_addresses(act.seal, trial, testers)}
    return act.order(kind, lane=trial.id, store=trial.consignment.berth.store, subject=trial.id, payload=payload)


def seal_addresses(seal: Seal, trial: Trial, testers: Sequence[Tester]) -> str:
    """The addresses of an order, sealed: the same words go to the store however often it is asked, and nobody reads them here."""
    content = json.dumps([tester.email for tester in testers]).encode()
    return base64.b64encode(seal.close(content, f"trial {trial.id}")).decode()


def open_addresses(seal: Seal, order: Order) -> tuple[str, ...]:
    kept = order.payload.get(SEALED)
    return tuple(json.loads(seal.open(base64.b64decode(kept), f"trial {order.subject}"))) if kept else ()


def forget_addresses(order: Order) -> None:
    """A settled order needs the addresses no more."""
    order.payload = {name: value for name, value in order.payload.items() if name != SEALED}
