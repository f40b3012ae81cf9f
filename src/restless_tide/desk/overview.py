"""What needs a person, and what is live where."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session, contains_eager, joinedload, selectinload

from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.invitation import InvitationState
from restless_tide.core.leg import LegPhase
from restless_tide.core.notice import lapse_mark
from restless_tide.core.order import OrderState
from restless_tide.core.report import ReportState
from restless_tide.core.rollout import RolloutState
from restless_tide.core.step import StepState
from restless_tide.core.trial import TrialState
from restless_tide.desk import legs, rulebooks, standing
from restless_tide.records.tables import (
    App,
    Berth,
    Build,
    Cohort,
    Consignment,
    FieldReport,
    Invitation,
    Leg,
    Order,
    Release,
    Step,
    Store,
    Trial,
    UntakenEvent,
)

_TROUBLED_AFTER_ATTEMPTS = 2
_BEFORE_LAUNCH = frozenset(
    {LegPhase.DRAFT, LegPhase.UNDER_REVIEW, LegPhase.REJECTED, LegPhase.RECALLED, LegPhase.APPROVED}
)

_PAST = frozenset({RolloutState.SUPERSEDED, RolloutState.WITHDRAWN, RolloutState.COMPLETE})


@dataclass(frozen=True)
class Call:
    """Something that needs a person: what it is, and where to fix it."""

    said: str
    place: str
    weight: str


@dataclass(frozen=True)
class BerthView:
    """One app at one store: what is live there, the leg that matters now, and what needs a person."""

    berth: Berth
    live: Leg | None
    current: Leg | None
    newest_build: Build | None
    calls: tuple[Call, ...]


def look_over(session: Session) -> list[BerthView]:
    """Every app at every store, by app and store; the legs of all berths are read at once."""
    berths = session.scalars(select(Berth).options(joinedload(Berth.app), joinedload(Berth.store))).all()
    by_berth: dict[str, list[Leg]] = defaultdict(list)
    for leg in session.scalars(
        select(Leg)
        .join(Release)
        .options(contains_eager(Leg.release), selectinload(Leg.rounds), selectinload(Leg.sighting))
        .order_by(Release.created_at.desc())
    ):
        by_berth[leg.berth_id].append(leg)
    views = [_view(session, berth, by_berth[berth.id]) for berth in berths]
    return sorted(views, key=lambda view: (view.berth.app.title, view.berth.store.name))


def look_over_stores(session: Session, now: datetime) -> list[tuple[Store, Call]]:
    """What needs a person at the stores themselves: steps to carry, what lapses, rules that change, a store away."""
    calls = []
    for store in session.scalars(select(Store).order_by(Store.name)):
        calls += [(store, call) for call in _store_calls(session, store, now)]
    return calls


def look_over_desk(session: Session, mail_trouble: str | None) -> list[Call]:
    """What needs a person at the desk itself: mail that does not go out, reports that nobody has looked at."""
    calls = []
    if mail_trouble is not None:
        waiting = session.scalar(
            select(func.count()).select_from(Invitation).where(Invitation.state == InvitationState.QUEUED)
        )
        told = f"Mail does not go out: {mail_trouble}. {waiting} invitations wait; nothing is lost, it is tried again."
        calls.append(Call(told, "/", "caution"))
    new = session.execute(
        select(App.name, App.title, func.count())
        .join(FieldReport, FieldReport.app_id == App.id)
        .where(FieldReport.state == ReportState.NEW)
        .group_by(App.id)
        .order_by(App.title)
    )
    for name, title, count in new:
        reports = "1 field report is" if count == 1 else f"{count} field reports are"
        calls.append(Call(f"{title}: {reports} new.", f"/apps/{name}/reports", "note"))
    return calls


def _store_calls(session: Session, store: Store, now: datetime) -> list[Call]:
    calls = [
        Call(f"A step waits for a person: {step.title}.", "/steps", "blocker" if step.urgent else "caution")
        for step in session.scalars(select(Step).where(Step.store_id == store.id, Step.state == StepState.WAITING))
    ]
    if store.trouble:
        calls.append(Call(f"{store.name} is not reached: {store.trouble}", "/stores", "caution"))
    count = session.scalar(select(func.count()).select_from(UntakenEvent).where(UntakenEvent.store_id == store.id))
    if count:
        told = "1 event" if count == 1 else f"{count} events"
        calls.append(
            Call(f"{told} of {store.name} could not be taken. Nothing else waits for that.", "/stores", "caution")
        )
    if store.rulebook_trouble:
        calls.append(Call(store.rulebook_trouble, "/stores", "caution"))
    calls += [Call(told, "/stores", "blocker") for told in standing.blocked_now(store)]
    calls += [
        Call(f"The key lacks a right: {consequence}.", "/stores", "caution")
        for consequence in standing.missing_rights(store).values()
    ]
    for lapse in standing.lapsing(store):
        days = (lapse.until - now).total_seconds() / 86_400
        if lapse_mark(days) is not None:
            told = "has lapsed" if days <= 0 else f"lapses in {days:.0f} days"
            calls.append(Call(f"{lapse.what} {told}. {lapse.blocks}".strip(), "/stores", "caution"))
    following = rulebooks.announced(store)
    if following is not None and (found := rulebooks.hits(session, store, following)):
        named = ", ".join(f"{hit.app} {hit.version or ''}".strip() for hit in found)
        calls.append(
            Call(f"Other rules from {following.in_force_since:%d %b} on; they hit {named}.", "/stores", "note")
        )
    return calls


def _view(session: Session, berth: Berth, of_berth: list[Leg]) -> BerthView:
    live = next((leg for leg in of_berth if leg.state is RolloutState.COMPLETE), None)
    current = next((leg for leg in of_berth if leg.state is not RolloutState.SUPERSEDED), None)
    newest = session.scalar(
        select(Build)
        .join(Consignment)
        .where(Consignment.berth_id == berth.id)
        .order_by(Build.created_at.desc())
        .limit(1)
    )
    calls = [*_berth_calls(berth), *_build_calls(session, berth), *_trial_calls(session, berth)]
    for leg in of_berth:
        if leg is current or leg.state not in _PAST:
            calls.extend(_leg_calls(session, leg, newest=leg is current))
    return BerthView(berth, live, current, newest, tuple(calls))


def _berth_calls(berth: Berth) -> list[Call]:
    if berth.refused_because is None:
        return []
    return [
        Call(
            f"{berth.store.name} refused the name {berth.listed_name!r}: {berth.refused_because}", "/stores", "blocker"
        )
    ]


def _build_calls(session: Session, berth: Berth) -> list[Call]:
    place = f"/apps/{berth.app.name}/builds"
    stuck = session.scalars(
        select(Consignment).where(
            Consignment.berth_id == berth.id, Consignment.state.in_((ConsignmentState.HELD, ConsignmentState.REFUSED))
        )
    )
    calls = []
    for consignment in stuck:
        label = f"Build {consignment.build.label}"
        if consignment.state is ConsignmentState.HELD and not consignment.answers:
            calls.append(Call(f"{label} is held: the store asks a question.", place, "blocker"))
        elif consignment.state is ConsignmentState.REFUSED and not _newer_exists(session, consignment):
            calls.append(Call(f"{label} was refused: {consignment.reason}", place, "caution"))
    return calls


def _newer_exists(session: Session, consignment: Consignment) -> bool:
    newer = select(Consignment).where(
        Consignment.berth_id == consignment.berth_id, Consignment.created_at > consignment.created_at
    )
    return session.scalar(newer.limit(1)) is not None


def _trial_calls(session: Session, berth: Berth) -> list[Call]:
    turned_down = session.scalars(
        select(Trial)
        .join(Consignment)
        .join(Cohort, Trial.cohort_id == Cohort.id)
        .where(Consignment.berth_id == berth.id, Trial.state == TrialState.TURNED_DOWN)
    )
    return [
        Call(
            f"The trial for {trial.cohort.name} was turned down: {trial.reason}",
            f"/trials/{trial.id}",
            "blocker",
        )
        for trial in turned_down
    ]


def _leg_calls(session: Session, leg: Leg, *, newest: bool) -> list[Call]:
    place = f"/apps/{leg.release.app.name}/releases/{leg.release.version}"
    version, phase = leg.release.version, legs.phase(leg)
    calls = []
    if phase is LegPhase.REJECTED:
        last = legs.last_round(leg)
        reasons = " ".join(last.reasons) if last else ""
        calls.append(Call(f"{version} was rejected: {reasons}", place, "blocker"))
    elif phase is LegPhase.APPROVED and leg.needs_word and leg.word_given_at is None:
        calls.append(Call(f"{version} is approved and waits for your word.", place, "blocker"))
    elif phase is LegPhase.DRAFT:
        calls.append(Call(f"{version} is drafted, not handed in yet.", place, "note"))
    elif phase is LegPhase.HALTED and newest:
        possible = [str(option.act) for option in legs.steering(session, leg).values() if option.possible]
        calls.append(
            Call(f"{version} is halted: {' or '.join(['fix it with a new build', *possible])}.", place, "caution")
        )
    if legs.offered_again(leg):
        said = f"{leg.berth.store.name} offers {version} again, which was {leg.state}: stop it again, or resume it."
        calls.append(Call(said, place, "blocker"))
    for order in session.scalars(select(Order).where(Order.lane == leg.id).order_by(Order.position.desc()).limit(3)):
        if order.state is OrderState.SENT and order.attempts >= _TROUBLED_AFTER_ATTEMPTS:
            calls.append(
                Call(f"{order.kind} for {version} is ordered, not confirmed: {order.trouble}", place, "blocker")
            )
        elif order.state is OrderState.REFUSED and phase not in _BEFORE_LAUNCH and newest:
            calls.append(Call(f"The store refused {order.kind} for {version}: {order.trouble}", place, "caution"))
            break
    return calls
