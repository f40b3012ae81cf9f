"""The people of a cohort as they stand: a page of them, counts, what they have, a list to take away."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.invitation import InvitationState
from restless_tide.core.listing import TesterOrder
from restless_tide.core.report import OPEN
from restless_tide.core.trial import UNDER_WAY
from restless_tide.desk import invitations, testers
from restless_tide.records.tables import (
    Build,
    Cohort,
    Consignment,
    FieldReport,
    Invitation,
    Membership,
    Tester,
    Trial,
)

_AT_ONCE = 500
HEADER = (*testers.HEADER, "joined", "state", "build", "device", "system")


@dataclass(frozen=True)
class Member:
    """Someone of a cohort, with the newest invitation."""

    membership: Membership
    tester: Tester
    invitation: Invitation | None


@dataclass(frozen=True)
class Size:
    """How many people a cohort has, how many of them want no more, and whose address is dead."""

    testers: int
    declined: int
    bounced: int


def size(session: Session, cohort: Cohort) -> Size:
    people, declined, bounced = session.execute(
        select(func.count(), func.count(Membership.declined_at), func.count(Tester.bounced_at))
        .select_from(Membership)
        .join(Tester, Membership.tester_id == Tester.id)
        .where(Membership.cohort_id == cohort.id)
    ).one()
    return Size(people, declined, bounced)


def page(
    session: Session,
    cohort: Cohort,
    *,
    text: str = "",
    state: InvitationState | None = None,
    order: TesterOrder = TesterOrder.ADDRESS,
    after: str = "",
    limit: int,
) -> list[Member]:
    """People of a cohort, beyond the one with the address ``after``; ``state`` is that of an invitation under way."""
    wanted = (
        select(Membership, Tester)
        .join(Tester, Membership.tester_id == Tester.id)
        .where(Membership.cohort_id == cohort.id)
    )
    if text:
        wanted = wanted.where(testers.matching(text))
    if state is not None:
        inside = (
            select(Invitation.tester_id)
            .join(Trial, Invitation.trial_id == Trial.id)
            .where(Trial.cohort_id == cohort.id, Trial.state.in_(UNDER_WAY), Invitation.state == state)
        )
        wanted = wanted.where(Tester.id.in_(inside))
    found = session.execute(testers.in_order(session, wanted, order, Membership.joined_at, after, limit)).all()
    newest = invitations.newest(session, cohort.id, [tester.id for _, tester in found])
    return [Member(membership, tester, newest.get(tester.id)) for membership, tester in found]


def have(session: Session, cohort: Cohort) -> list[tuple[Build, int]]:
    """The newest build that each of them has on a device, with how many have it."""
    rows = session.execute(
        select(Invitation.tester_id, Build)
        .join(Trial, Invitation.trial_id == Trial.id)
        .join(Consignment, Trial.consignment_id == Consignment.id)
        .join(Build, Consignment.build_id == Build.id)
        .where(Trial.cohort_id == cohort.id, Invitation.state == InvitationState.INSTALLED)
        .order_by(Build.created_at)
    )
    newest = {tester_id: build for tester_id, build in rows}  # noqa: C416  (later ones take the place of earlier ones)
    builds = {build.id: build for build in newest.values()}
    return [(builds[build], people) for build, people in Counter(row.id for row in newest.values()).most_common()]


def open_reports(session: Session, cohort: Cohort) -> int:
    """How many reports from this cohort someone has yet to do something about."""
    found = (
        select(func.count())
        .select_from(FieldReport)
        .join(Trial, FieldReport.trial_id == Trial.id)
        .where(Trial.cohort_id == cohort.id, FieldReport.state.in_(OPEN))
    )
    return session.scalar(found) or 0


def export_rows(session: Session, cohort: Cohort) -> Iterator[list[object]]:
    """Everybody in the cohort, a row each, in the order of ``HEADER``."""
    after = ""
    while rows := page(session, cohort, after=after, limit=_AT_ONCE):
        yield from (_row(member) for member in rows)
        after = rows[-1].tester.email


def _row(member: Member) -> list[object]:
    held, invitation = ["", "", "", ""], member.invitation
    if invitation is not None:
        held = [invitation.state, invitation.trial.consignment.build.label, invitation.device, invitation.system]
    return [*testers.row_of(member.tester), member.membership.joined_at.date().isoformat(), *held]
