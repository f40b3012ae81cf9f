"""Trials: a build in the hands of cohorts, planned first, then handed in."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.cohorts import brief_findings
from restless_tide.core.errors import Conflict, ImpossibleAct, Invalid, NotReady
from restless_tide.core.invitation import SITS
from restless_tide.core.order import PENDING, OrderKind
from restless_tide.core.readiness import demand_ready
from restless_tide.core.trial import REOPENS, TRIAL, TrialEvent, TrialState
from restless_tide.desk import cohorts, find, keyset, seating, sign_ins
from restless_tide.desk.addresses import mail_address
from restless_tide.desk.desk import Act
from restless_tide.desk.planning import Brief, Plan, plan
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import (
    Cohort,
    Consignment,
    Invitation,
    Order,
    Tester,
    Trial,
    TrialUsage,
)


def open_trials(
    act: Act,
    app_name: str,
    build_id: str,
    cohort_names: Sequence[str],
    store_names: Sequence[str],
    brief: Brief,
    *,
    when_ready: bool = False,
    by_itself: bool = False,
) -> list[Trial]:
    """Hand a build to cohorts; mails go out when a store has opened it. All of it, or NotReady with every finding."""
    plans = plan(act.session, app_name, build_id, cohort_names, store_names, brief, when_ready=when_ready)
    demand_ready([found for entry in plans for found in entry.findings], "Handing this build on")
    return [_open_one(act, entry, brief, by_itself=by_itself) for entry in plans]


def _open_one(act: Act, entry: Plan, brief: Brief, *, by_itself: bool) -> Trial:
    assert entry.consignment is not None
    for earlier in entry.cohort.trials:
        if (
            earlier.consignment.berth_id == entry.berth.id
            and earlier.track == entry.track
            and earlier.state is not TrialState.OPEN
            and (earlier.state, TrialEvent.REPLACE) in TRIAL.table
        ):
            replace(act, earlier)
    trial = Trial(
        cohort_id=entry.cohort.id,
        consignment_id=entry.consignment.id,
        track=entry.track,
        brief=entry.texts,
        contact=mail_address(entry.contact),
        remarks_to=brief.remarks_to.strip()[:500],
        created_at=act.now,
        changed_at=act.now,
        state=TRIAL.initial,
        by_itself=by_itself,
    )
    act.session.add(trial)
    act.session.flush()
    if brief.sign_in is not None:
        keep_sign_in(act, trial, brief.sign_in)
    act.session.flush()
    act.session.refresh(trial)
    seating.invite(act, trial, entry.people)
    app = entry.cohort.app
    after = {
        "cohort": entry.cohort.name,
        "build": entry.consignment.build_id,
        "store": entry.berth.store.name,
        "testers": len(entry.people),
    }
    if entry.waits_for_build:
        act.log("trial drafted", f"trial {trial.id}", app=app.name, after=after)
    else:
        hand_in(act, trial, entry.people)
        act.log("trial handed in", f"trial {trial.id}", app=app.name, after=after)
    return trial


def keep_sign_in(act: Act, trial: Trial, sign_in: Mapping[str, str]) -> None:
    trial.sealed_sign_in = sign_ins.sealed(act.seal, sign_in, trial.id)


def hand_in(act: Act, trial: Trial, people: Sequence[Tester]) -> None:
    """Order the trial at its store: the first batch of seats with it, the others after it."""
    trial.state, trial.changed_at, trial.reason = TRIAL.after(trial.state, TrialEvent.HAND_IN), act.now, None
    seating.order(act, OrderKind.OPEN_TRIAL, trial, people[: seating.BATCH])
    seating.order_seats(act, trial, people[seating.BATCH :])


def again(act: Act, trial_id: str, brief: Brief, reason: str) -> Trial:
    """Hand a trial in once more that the store rejected, with a corrected brief. Raises ImpossibleAct, NotReady."""
    trial = find.trial(act.session, trial_id)
    TRIAL.after(trial.state, TrialEvent.HAND_IN)
    if brief.texts:
        trial.brief = {**trial.brief, **{locale: text.strip() for locale, text in brief.texts.items()}}
    if brief.contact:
        trial.contact = mail_address(brief.contact)
    if brief.remarks_to:
        trial.remarks_to = brief.remarks_to
    if brief.sign_in is not None:
        keep_sign_in(act, trial, brief.sign_in)
    people, kind = still_invited(act.session, trial), trial.cohort.kind
    rules = rules_of(trial.consignment.berth.store)
    has_sign_in = trial.sealed_sign_in is not None
    missing = brief_findings(rules, kind, trial.brief, sign_in=has_sign_in, reviewed=True)
    demand_ready([*missing, *seating.findings(act.session, trial, people)], "Handing it in again")
    hand_in(act, trial, people)
    act.log("trial handed in again", f"trial {trial.id}", app=trial.cohort.app.name, reason=reason)
    return trial


def still_invited(session: Session, trial: Trial) -> list[Tester]:
    return list(
        session.scalars(
            select(Tester)
            .join(Invitation, Invitation.tester_id == Tester.id)
            .where(Invitation.trial_id == trial.id, Invitation.state.in_(SITS))
            .order_by(Invitation.created_at, Tester.id)
        )
    )


def replace(act: Act, trial: Trial) -> None:
    """A newer build takes over from this one."""
    _end(act, trial, TrialEvent.REPLACE)
    act.log("trial replaced", f"trial {trial.id}", app=trial.cohort.app.name)


def close(act: Act, trial_id: str, reason: str) -> Trial:
    """End a trial: nobody new gets the build from it."""
    trial = find.trial(act.session, trial_id)
    before = trial.state
    _end(act, trial, TrialEvent.CLOSE)
    act.log(
        "trial closed",
        f"trial {trial.id}",
        app=trial.cohort.app.name,
        reason=reason,
        before={"state": str(before)},
        after={"state": str(trial.state)},
    )
    return trial


def reopen(act: Act, trial_id: str, reason: str) -> Trial:
    """Hand the same build to the same cohort again, with the same brief: a new trial. Raises ImpossibleAct, NotReady."""
    earlier = find.trial(act.session, trial_id)
    if earlier.state not in REOPENS:
        raise ImpossibleAct(
            f"The trial is {earlier.state}; only one that was closed is opened again.",
            possible=[str(event) for event in TRIAL.possible(earlier.state)],
        )
    sign_in = sign_ins.opened(act.seal, earlier.sealed_sign_in, earlier.id)
    brief = Brief(dict(earlier.brief), earlier.contact, earlier.remarks_to, sign_in)
    app, store = earlier.cohort.app, earlier.consignment.berth.store
    build = earlier.consignment.build_id
    (trial,) = open_trials(act, app.name, build, [earlier.cohort.name], [store.name], brief, when_ready=True)
    after = {"instead of": earlier.id}
    act.log("trial opened again", f"trial {trial.id}", app=app.name, reason=reason, after=after)
    return trial


def _end(act: Act, trial: Trial, event: TrialEvent) -> None:
    """What was ordered and has not gone out is dropped; what may have gone out is closed after it."""
    before, trial.state, trial.changed_at = trial.state, TRIAL.after(trial.state, event), act.now
    if before in (TrialState.DRAFTED, TrialState.REJECTED):
        return
    for order in act.session.scalars(select(Order).where(Order.lane == trial.id, Order.state.in_(PENDING))):
        if order.kind is OrderKind.SEAT:
            act.drop(order, "the trial ended")
            seating.forget_addresses(order)
    act.order(OrderKind.CLOSE_TRIAL, lane=trial.id, store=trial.consignment.berth.store, subject=trial.id)


def build_ready(act: Act, consignment: Consignment) -> None:
    """A build is ready at a store: what was drafted for it is handed in, and the cohorts that get every build get it."""
    drafted = select(Trial).where(Trial.consignment_id == consignment.id, Trial.state == TrialState.DRAFTED)
    for trial in act.session.scalars(drafted).all():
        people = still_invited(act.session, trial)
        in_the_way = seating.findings(act.session, trial, people)
        if in_the_way:
            trial.reason = in_the_way[0].detail
            act.log("drafted trial stays", f"trial {trial.id}", app=trial.cohort.app.name, reason=trial.reason)
        else:
            hand_in(act, trial, people)
            act.log("trial handed in", f"trial {trial.id}", app=trial.cohort.app.name, after={"testers": len(people)})
    app, store = consignment.build.app, consignment.berth.store
    for cohort in cohorts.of_app(act.session, app.name):
        row = cohorts.attachment(cohort, consignment.berth)
        if row is None or not row.by_itself or cohort.retired_at is not None or _tried(cohort, consignment):
            continue
        try:
            open_trials(act, app.name, consignment.build_id, [cohort.name], [store.name], Brief(), by_itself=True)
            row.trouble = None
        except (NotReady, Conflict, Invalid) as wrong:
            row.trouble = f"{consignment.build.label}: {wrong.detail}"
            subject = f"cohort {cohort.name} at {store.name}"
            act.log("not handed on automatically", subject, app=app.name, reason=row.trouble)


def _tried(cohort: Cohort, consignment: Consignment) -> bool:
    return any(trial.consignment_id == consignment.id for trial in cohort.trials)


def opened(act: Act, trial: Trial) -> None:
    """The store has opened it: the trial before it at the same place is replaced now."""
    trial.opened_at = act.now
    for earlier in trial.cohort.trials:
        if (
            earlier.id != trial.id
            and earlier.state is TrialState.OPEN
            and earlier.created_at <= trial.created_at
            and earlier.consignment.berth_id == trial.consignment.berth_id
            and earlier.track == trial.track
        ):
            replace(act, earlier)


def expires_at(trial: Trial) -> datetime | None:
    """When the store ends it automatically; None: never, or it is not open."""
    rules = rules_of(trial.consignment.berth.store).cohorts.get(trial.cohort.kind)
    if trial.state is not TrialState.OPEN or rules is None or rules.trial_days is None:
        return None
    return (trial.opened_at or trial.changed_at) + timedelta(days=rules.trial_days)


def of_app(
    session: Session, app_name: str, cohort_name: str | None = None, *, after: str | None = None, limit: int = 200
) -> list[Trial]:
    """The trials of an app, newest first, beyond the one with the id ``after``."""
    app = find.app(session, app_name)
    wanted = select(Trial).join(Cohort).where(Cohort.app_id == app.id)
    if cohort_name is not None:
        wanted = wanted.where(Cohort.id == find.cohort(session, app, cohort_name).id)
    last = find.trial(session, after) if after is not None else None
    here = (last.created_at, last.id) if last is not None else None
    keys = (Trial.created_at, Trial.id)
    return list(session.scalars(keyset.page(wanted, keys, after=here, falls=True, limit=limit)))


@dataclass(frozen=True)
class Counts:
    """Of one trial: invitations by state, those seated at the store, mails in trouble, and use."""

    by_state: dict[str, int]
    seated: int
    stuck: int
    sessions: int
    crashed: int


def counts(session: Session, trials: Sequence[Trial]) -> dict[str, Counts]:
    """By trial id; three queries however many trials and people there are."""
    ids = [trial.id for trial in trials]
    states: dict[str, dict[str, int]] = defaultdict(dict)
    seats: dict[str, int] = defaultdict(int)
    stuck: dict[str, int] = defaultdict(int)
    rows = session.execute(
        select(
            Invitation.trial_id,
            Invitation.state,
            func.count(),
            func.count(Invitation.seated_at),
            func.count(Invitation.trouble),
        )
        .where(Invitation.trial_id.in_(ids))
        .group_by(Invitation.trial_id, Invitation.state)
    )
    for trial_id, state, number, sitting, troubled in rows:
        states[trial_id][str(state)] = number
        if state in SITS:
            seats[trial_id] += sitting
            stuck[trial_id] += troubled
    use = {
        trial_id: (sessions, crashed)
        for trial_id, sessions, crashed in session.execute(
            select(TrialUsage.trial_id, func.sum(TrialUsage.sessions), func.sum(TrialUsage.crashed))
            .where(TrialUsage.trial_id.in_(ids))
            .group_by(TrialUsage.trial_id)
        )
    }
    return {
        trial_id: Counts(states[trial_id], seats[trial_id], stuck[trial_id], *use.get(trial_id, (0, 0)))
        for trial_id in ids
    }
