"""What needs a person, and what is live where."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session, contains_eager, joinedload, selectinload

from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.invitation import InvitationState
from restless_tide.core.leg import LAUNCHED, LegPhase
from restless_tide.core.matter import IN_THE_WAY
from restless_tide.core.notice import expiry_mark
from restless_tide.core.order import PENDING, OrderState
from restless_tide.core.report import ReportState
from restless_tide.core.rights import Apps
from restless_tide.core.rollout import GONE, PART_WAY, ROLLOUT, RolloutState
from restless_tide.core.rulebook import PRODUCTION
from restless_tide.core.step import StepState
from restless_tide.core.trial import TrialState
from restless_tide.desk import (
    correspondence,
    go_aheads,
    guards,
    launching,
    legs,
    options,
    pacing,
    rulebooks,
    second_person,
    standing,
    track_rules,
)
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import (
    App,
    Berth,
    Build,
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
_LONGEST_ASKED = 300
_BEFORE_LAUNCH = frozenset(LegPhase) - LAUNCHED
_PAST = GONE | {RolloutState.COMPLETE}


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
    under_way: Leg | None
    """On its way up the ladder, or halted there."""
    following: Leg | None
    """Drafted, under review or approved: what comes next."""
    current: Leg | None
    """Of these the one that matters now, or else the latest that was taken down."""
    newest_build: Build | None
    confirmed: bool
    """Whether everything ordered of the current one is confirmed by the store."""
    elsewhere: tuple[Leg, ...]
    """On other tracks than production: offered there, or on their way."""
    calls: tuple[Call, ...]


@dataclass
class _Read:
    """What the overview asks of all berths at once, by berth, and orders by leg."""

    legs: dict[str, list[Leg]]
    newest_build: dict[str, Build]
    stuck: dict[str, list[Consignment]]
    newest_sent_at: dict[str, datetime]
    rejected: dict[str, list[Trial]]
    pending: dict[str, list[Order]]
    refused: dict[str, Order]
    questions: dict[str, str]


def look_over(session: Session, now: datetime) -> list[BerthView]:
    """Every app in use at every store, and what is not confirmed of the others, by app and store; everything is read in a few queries, however many berths there are."""
    berths = session.scalars(select(Berth).options(joinedload(Berth.app), joinedload(Berth.store))).all()
    read = _read(session)
    views = [_view(session, berth, read, now) for berth in berths]
    views = [view for view in views if view.berth.app.retired_at is None or not view.confirmed]
    return sorted(views, key=lambda view: (view.berth.app.title, view.berth.store.name))


def _read(session: Session) -> _Read:
    legs_of: dict[str, list[Leg]] = defaultdict(list)
    for leg in session.scalars(
        select(Leg)
        .join(Release)
        .where(Leg.state != RolloutState.SUPERSEDED)
        .options(contains_eager(Leg.release), selectinload(Leg.rounds), selectinload(Leg.sighting))
        .order_by(Release.created_at.desc())
    ):
        legs_of[leg.berth_id].append(leg)
    sent = select(Consignment.berth_id, func.max(Consignment.created_at)).group_by(Consignment.berth_id)
    stuck: dict[str, list[Consignment]] = defaultdict(list)
    for consignment in session.scalars(
        select(Consignment)
        .where(Consignment.state.in_((ConsignmentState.HELD, ConsignmentState.REFUSED)))
        .options(joinedload(Consignment.build))
    ):
        stuck[consignment.berth_id].append(consignment)
    rejected: dict[str, list[Trial]] = defaultdict(list)
    for trial in session.scalars(
        select(Trial)
        .where(Trial.state == TrialState.REJECTED)
        .options(joinedload(Trial.cohort), joinedload(Trial.consignment))
    ):
        rejected[trial.consignment.berth_id].append(trial)
    return _Read(
        legs_of, _newest_builds(session), stuck, dict(session.execute(sent).all()), rejected,
        *_orders(session), correspondence.open_questions(session),
    )  # fmt: skip


def _newest_builds(session: Session) -> dict[str, Build]:
    """The build handed over last to each berth, by the instant at which it came to the desk."""
    rank = func.row_number().over(
        partition_by=Consignment.berth_id, order_by=(Build.created_at.desc(), Build.id.desc())
    )
    ranked = select(Consignment.berth_id, Consignment.build_id, rank.label("rank")).join(Build).subquery()
    newest = select(ranked.c.berth_id, Build).join(Build, Build.id == ranked.c.build_id).where(ranked.c.rank == 1)
    return dict(session.execute(newest).all())


def _orders(session: Session) -> tuple[dict[str, list[Order]], dict[str, Order]]:
    """Of all legs: the orders that are not settled, and the last order where the store refused that."""
    pending: dict[str, list[Order]] = defaultdict(list)
    for order in session.scalars(select(Order).where(Order.state.in_(PENDING)).order_by(Order.position.desc())):
        pending[order.lane].append(order)
    last = select(func.max(Order.position)).join(Leg, Leg.id == Order.lane).group_by(Order.lane)
    refused = select(Order).where(Order.state == OrderState.REFUSED, Order.position.in_(last))
    return pending, {order.lane: order for order in session.scalars(refused)}


def look_over_stores(session: Session, now: datetime, reach: Apps = None) -> list[tuple[Store, Call]]:
    """What needs a person at the stores themselves: steps to carry, what expires, rules that change, a store away. With
    ``reach`` nothing of other apps."""
    calls = []
    for store in session.scalars(select(Store).order_by(Store.name)):
        calls += [(store, call) for call in _store_calls(session, store, now, reach)]
    return calls


def look_over_rules(session: Session, now: datetime) -> list[Call]:
    """The builds that would move up by a rule: those that wait for a go-ahead alone, and those that something keeps back."""
    calls = []
    for app in track_rules.apps_with_rules(session):
        for one in track_rules.standings(session, app, now):
            ways = rules_of(one.rule.berth.store).ways
            source, target = (ways[key].title if key in ways else key for key in (one.rule.source, one.rule.target))
            said = f"{app.title}: {one.build.label} from {source} to {target} of {one.rule.berth.store.name}"
            place = f"/apps/{app.name}/tracks"
            if one.trouble is not None:
                calls.append(Call(f"{said} could not move up: {one.trouble}", place, "caution"))
            elif one.rule.needs_go_ahead and not one.go_ahead and len(one.missing) == 1:
                calls.append(Call(f"{said} waits for your go-ahead.", place, "blocker"))
    return calls


def look_over_proposals(session: Session, now: datetime) -> list[Call]:
    """What waits for a second person to agree."""
    return [
        Call(f"{row.said} waits for a second person.", f"/apps/{row.app.name}/releases/{row.version}", "blocker")
        for row in second_person.waiting(session, now)
    ]


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


def _store_calls(session: Session, store: Store, now: datetime, reach: Apps) -> list[Call]:
    calls = [
        Call(f"A step waits for a person: {step.title}.", "/steps", "blocker" if step.urgent else "caution")
        for step in session.scalars(select(Step).where(Step.store_id == store.id, Step.state == StepState.WAITING))
        if reach is None or step.app in reach
    ]
    if not store.in_use:
        return calls
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
    for expiry in standing.expiring(store):
        days = (expiry.until - now).total_seconds() / 86_400
        if expiry_mark(days) is not None:
            told = "has expired" if days <= 0 else f"expires in {days:.0f} days"
            calls.append(Call(f"{expiry.what} {told}. {expiry.blocks}".strip(), "/stores", "caution"))
    following = rulebooks.announced(store)
    if following is not None and (found := rulebooks.hits(session, store, following, now, reach)):
        named = ", ".join(f"{hit.app} {hit.version or ''}".strip() for hit in found)
        calls.append(
            Call(f"Other rules from {following.in_force_since:%d %b} on; they affect {named}.", "/stores", "note")
        )
    return calls


def _view(session: Session, berth: Berth, read: _Read, now: datetime) -> BerthView:
    everywhere = read.legs[berth.id]
    of_berth = [leg for leg in everywhere if leg.track == PRODUCTION]
    live = next((leg for leg in of_berth if leg.state is RolloutState.COMPLETE), None)
    under_way = next((leg for leg in of_berth if leg.state in PART_WAY), None)
    following = next((leg for leg in of_berth if leg.state is ROLLOUT.initial), None)
    current = under_way or following or (of_berth[0] if of_berth else None)
    calls = [*_berth_calls(berth), *_build_calls(berth, read), *_trial_calls(read.rejected[berth.id])]
    for leg in of_berth:
        if leg is current or leg.state not in _PAST:
            calls.extend(_leg_calls(session, leg, read, now, current=leg is current))
    for leg in everywhere:
        if leg.track != PRODUCTION and leg.state not in _PAST:
            calls.extend(_leg_calls(session, leg, read, now, current=leg.state in PART_WAY))
    elsewhere = tuple(leg for leg in everywhere if leg.track != PRODUCTION and leg.state not in GONE)
    confirmed = current is None or not (read.pending.get(current.id) or legs.offered_again(current))
    return BerthView(
        berth,
        live,
        under_way,
        following,
        current,
        read.newest_build.get(berth.id),
        confirmed,
        elsewhere,
        tuple(calls),
    )


def _berth_calls(berth: Berth) -> list[Call]:
    calls = []
    if berth.refused_because is not None:
        said = f"{berth.store.name} refused the name {berth.listed_name!r}: {berth.refused_because}"
        calls.append(Call(said, "/stores", "blocker"))
    if berth.gauges_trouble and berth.store.in_use:
        said = f"Counts could not be taken, and guards look at the others: {berth.gauges_trouble}"
        calls.append(Call(said, f"/apps/{berth.app.name}/guards", "caution"))
    return calls


def _build_calls(berth: Berth, read: _Read) -> list[Call]:
    place = f"/apps/{berth.app.name}/builds"
    calls = []
    for consignment in read.stuck[berth.id]:
        label = f"Build {consignment.build.label}"
        if consignment.state is ConsignmentState.HELD and not consignment.answers:
            calls.append(Call(f"{label} is held: the store asks a question.", place, "blocker"))
        elif consignment.state is ConsignmentState.REFUSED and read.newest_sent_at[berth.id] <= consignment.created_at:
            calls.append(Call(f"{label} was refused: {consignment.reason}", place, "caution"))
    return calls


def _trial_calls(rejected: list[Trial]) -> list[Call]:
    return [
        Call(f"The trial for {trial.cohort.name} was rejected: {trial.reason}", f"/trials/{trial.id}", "blocker")
        for trial in rejected
    ]


def _waits_long(leg: Leg) -> bool:
    last = legs.last_round(leg)
    return last is not None and last.long_after is None


def _rejected(leg: Leg, version: str, reasons: Sequence[str]) -> str:
    """What was refused, and whether there is still something to do before it is handed in again."""
    undone = sum(one.state in IN_THE_WAY for one in leg.matters)
    if leg.matters and not undone:
        return f"{version} was rejected; something was done about every reason: hand it in again."
    return f"{version} was rejected: {' '.join(reasons)}"


def _leg_calls(session: Session, leg: Leg, read: _Read, now: datetime, *, current: bool) -> list[Call]:
    place = f"/apps/{leg.release.app.name}/releases/{leg.release.version}"
    on = "" if leg.track == PRODUCTION else f" on {legs.track_title(leg)}"
    version, phase = f"{leg.release.version}{on}", legs.phase(leg)
    calls = []
    if phase is LegPhase.REJECTED:
        last = legs.last_round(leg)
        calls.append(Call(_rejected(leg, version, last.reasons if last else []), place, "blocker"))
    elif phase is LegPhase.APPROVED and go_aheads.waits_for_people(leg):
        calls.append(Call(f"{version} is approved and waits for {launching.asked_told(leg)}.", place, "blocker"))
    elif phase is LegPhase.UNDER_REVIEW and _waits_long(leg):
        calls.append(Call(f"{version} has been under review longer than usual.", place, "note"))
    elif phase is LegPhase.DRAFT:
        calls.append(Call(f"{version} is drafted, not handed in yet.", place, "note"))
    elif phase is LegPhase.HALTED and current:
        possible = [str(option.act) for option in options.steering(session, leg, now).values() if option.possible]
        by_guard = guards.breach_of(session, leg.release_id)
        why = f" by its guard ({by_guard})" if by_guard else ""
        calls.append(
            Call(f"{version} is halted{why}: {' or '.join(['fix it with a new build', *possible])}.", place, "caution")
        )
    elif phase is LegPhase.RISING and leg.stage_ends_at is not None and leg.stage_ends_at <= now:
        waits = pacing.waits_to_rise(leg, now)
        calls += [Call(f"{version} waits to rise for {', and for '.join(waits)}.", place, "note")] if waits else []
    if leg.id in read.questions:
        calls.append(
            Call(f"The reviewer of {version} asks: {read.questions[leg.id][:_LONGEST_ASKED]}", place, "blocker")
        )
    if legs.offered_again(leg):
        said = f"{leg.berth.store.name} offers {version} again, which was {leg.state}: stop it again, or resume it."
        calls.append(Call(said, place, "blocker"))
    for order in read.pending.get(leg.id, ()):
        if order.state is OrderState.SENT and order.attempts >= _TROUBLED_AFTER_ATTEMPTS:
            calls.append(
                Call(f"{order.kind} for {version} is ordered, not confirmed: {order.trouble}", place, "blocker")
            )
    refused = read.refused.get(leg.id)
    if refused is not None and phase not in _BEFORE_LAUNCH and current:
        calls.append(Call(f"The store refused {refused.kind} for {version}: {refused.trouble}", place, "caution"))
    return calls
