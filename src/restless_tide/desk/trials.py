"""Trials: a build in the hands of cohorts, planned first, then handed in."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.cohorts import (
    Foresight,
    Seating,
    SeenTrial,
    brief_findings,
    foresee_review,
    seat_findings,
)
from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.errors import Conflict, Finding, Invalid, Level, NotReady
from restless_tide.core.invitation import SITS
from restless_tide.core.order import ORDER, PENDING, OrderEvent, OrderKind
from restless_tide.core.trial import TRIAL, UNDER_WAY, TrialEvent, TrialState
from restless_tide.desk import builds, cohorts, find, seating
from restless_tide.desk.addresses import mail_address
from restless_tide.desk.desk import Act
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import (
    App,
    Berth,
    Build,
    Cohort,
    Consignment,
    Invitation,
    Order,
    Tester,
    Trial,
    TrialUsage,
)

_COMING = frozenset(
    {ConsignmentState.QUEUED, ConsignmentState.SENDING, ConsignmentState.PROCESSING, ConsignmentState.HELD}
)


@dataclass(frozen=True)
class Brief:
    """What testers and the store's reviewer are told. ``texts`` by locale; what is left out comes from the cohort."""

    texts: Mapping[str, str] = field(default_factory=dict)
    contact: str = ""
    remarks_to: str = ""
    sign_in: Mapping[str, str] | None = None


@dataclass(frozen=True)
class Plan:
    """One cohort at one store: what handing the build to it would mean there."""

    cohort: Cohort
    berth: Berth
    consignment: Consignment | None
    texts: dict[str, str]
    contact: str
    people: tuple[Tester, ...]
    without_platform: int
    seating: Seating | None
    foresight: Foresight | None
    replaces: Trial | None
    findings: tuple[Finding, ...]

    @property
    def blocked(self) -> bool:
        return any(finding.level is Level.BLOCKER for finding in self.findings)

    @property
    def waits_for_build(self) -> bool:
        return self.consignment is not None and self.consignment.state in _COMING


def plan(
    session: Session,
    app_name: str,
    build_id: str,
    cohort_names: Sequence[str],
    store_names: Sequence[str],
    brief: Brief,
    *,
    when_ready: bool = False,
) -> list[Plan]:
    """What handing a build to cohorts would mean at each store: seats, review, what is missing. Changes nothing.

    Without stores: wherever the cohort is and the build went. Raises NotFound, and Invalid where that is nowhere.
    """
    app = find.app(session, app_name)
    build = find.build_of(session, app, build_id)
    chosen = find.cohorts(session, app, cohort_names)
    if not chosen:
        raise Invalid("No cohort was named.", remedy="Name one or more: --cohort NAME", code="cohort-missing")
    plans: list[Plan] = []
    sitting: dict[tuple[str, str], set[str]] = defaultdict(set)
    for cohort in chosen:
        for berth in _berths(session, app, build, cohort, store_names):
            besides = sitting[berth.id, cohort.kind]
            made = _plan_one(session, build, cohort, berth, brief, besides, when_ready=when_ready)
            besides.update(tester.id for tester in made.people)
            plans.append(made)
    return plans


def _berths(session: Session, app: App, build: Build, cohort: Cohort, store_names: Sequence[str]) -> list[Berth]:
    if store_names:
        return [find.berth(session, app, find.store(session, name)) for name in dict.fromkeys(store_names)]
    there = [row.berth for row in cohort.attachments if builds.consignment_at(session, build, row.berth) is not None]
    if not there:
        at = ", ".join(row.berth.store.name for row in cohort.attachments) or "no store"
        raise NotReady(
            f"{app.title} {build.label} went to none of the stores where {cohort.name} is ({at}).",
            remedy=f"Send it: tide build send {build.id} --store STORE",
            code="build-not-ready",
        )
    return there


def _plan_one(
    session: Session,
    build: Build,
    cohort: Cohort,
    berth: Berth,
    brief: Brief,
    besides: set[str],
    *,
    when_ready: bool,
) -> Plan:
    app, store, rules = cohort.app, berth.store, rules_of(berth.store)
    findings: list[Finding] = []
    consignment = builds.consignment_at(session, build, berth)
    texts = {locale: text.strip() for locale, text in (brief.texts or cohort.brief).items() if text.strip()}
    contact = brief.contact or cohort.contact
    if consignment is None or consignment.state is not ConsignmentState.READY:
        coming = consignment is not None and consignment.state in _COMING
        state = consignment.state if consignment else "not sent there"
        if not (coming and when_ready):
            findings.append(
                Finding(
                    "build-not-ready",
                    Level.BLOCKER,
                    f"{app.title} {build.label} is {state} at {store.name}; testers can get it once it is ready.",
                    "build",
                    "Wait until it is ready, or say --when-ready."
                    if coming
                    else f"Push it with --wait: tide build push FILE --app {app.name} --store {store.name} --wait",
                )
            )
    if cohorts.attachment(cohort, berth) is None:
        findings.append(
            Finding(
                "cohort-elsewhere",
                Level.BLOCKER,
                f"{cohort.name} is not at {store.name}.",
                "cohort",
                f"Put it there: tide cohort attach {cohort.name} --app {app.name} --store {store.name}",
            )
        )
        return Plan(cohort, berth, consignment, texts, contact, (), 0, None, None, None, tuple(findings))
    everybody = seating.people(session, cohort)
    people = seating.people(session, cohort, build.platform)
    if not people:
        findings.append(
            Finding(
                "cohort-empty",
                Level.BLOCKER if not everybody and cohort.kind != "walk-in" else Level.NOTE,
                f"Nobody is in {cohort.name}.",
                "cohort",
                f"Add testers: tide tester add ADDRESS --app {app.name} --cohort {cohort.name}",
            )
        )
    foresight = foresee_review(rules, cohort.kind, build.version, build.number, opened_before(session, berth))
    findings += brief_findings(rules, cohort.kind, texts, sign_in=brief.sign_in is not None, reviewed=foresight.waits)
    if not contact:
        findings.append(
            Finding("contact-missing", Level.BLOCKER, "A trial needs a contact.", "brief", "Say whom testers may ask.")
        )
    seats = seating.try_seats(session, berth, cohort.kind, build, people, besides)
    findings += seat_findings(seats, {tester.id: tester.email for tester in people})
    if foresight.waits:
        findings.append(
            Finding(
                "review-first", Level.NOTE, f"{foresight.because} Usually {foresight.usual_hours:.3g} hours.", "review"
            )
        )
    left = len(everybody) - len(people)
    if left:
        findings.append(
            Finding(
                "platform-missing",
                Level.NOTE,
                f"{left} of {cohort.name} have no {build.platform} device and are not invited.",
                "cohort",
            )
        )
    return Plan(
        cohort, berth, consignment, texts, contact, tuple(people), left, seats, foresight,
        replaced_by(cohort, berth), tuple(findings),
    )  # fmt: skip


def opened_before(session: Session, berth: Berth) -> list[SeenTrial]:
    """The trials that the store of a berth has opened there."""
    rows = session.execute(
        select(Build.version, Build.number, Cohort.kind)
        .select_from(Trial)
        .join(Consignment, Trial.consignment_id == Consignment.id)
        .join(Build, Consignment.build_id == Build.id)
        .join(Cohort, Trial.cohort_id == Cohort.id)
        .where(Consignment.berth_id == berth.id, Trial.opened_at.is_not(None))
        .distinct()
    ).all()
    return [SeenTrial(version, number, kind) for version, number, kind in rows]


def replaced_by(cohort: Cohort, berth: Berth) -> Trial | None:
    """The trial of a cohort at a berth that a newer one would replace."""
    return next(
        (trial for trial in cohort.trials if trial.state in UNDER_WAY and trial.consignment.berth_id == berth.id), None
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
    blockers = [found for entry in plans for found in entry.findings if found.level is Level.BLOCKER]
    if blockers:
        first = blockers[0]
        raise NotReady(first.detail, code=first.code, remedy=first.remedy, findings=blockers)
    return [_open_one(act, entry, brief, by_itself=by_itself) for entry in plans]


def _open_one(act: Act, entry: Plan, brief: Brief, *, by_itself: bool) -> Trial:
    assert entry.consignment is not None
    for earlier in entry.cohort.trials:
        if (
            earlier.consignment.berth_id == entry.berth.id
            and earlier.state is not TrialState.OPEN
            and (earlier.state, TrialEvent.REPLACE) in TRIAL.table
        ):
            replace(act, earlier)
    trial = Trial(
        cohort_id=entry.cohort.id,
        consignment_id=entry.consignment.id,
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
    content = json.dumps({name: str(text)[:500] for name, text in sign_in.items()})
    trial.sealed_sign_in = act.seal.close(content.encode(), f"sign-in {trial.id}")


def hand_in(act: Act, trial: Trial, people: Sequence[Tester]) -> None:
    """Order the trial at its store: the first batch of seats with it, the others after it."""
    trial.state, trial.changed_at, trial.reason = TRIAL.after(trial.state, TrialEvent.HAND_IN), act.now, None
    first = people[: seating.BATCH]
    payload = {
        "testers": [tester.id for tester in first],
        seating.SEALED: seating.seal_addresses(act.seal, trial, first),
    }
    store = trial.consignment.berth.store
    act.order(OrderKind.OPEN_TRIAL, lane=trial.id, store=store, subject=trial.id, payload=payload)
    seating.order_seats(act, trial, people[seating.BATCH :])


def again(act: Act, trial_id: str, brief: Brief, reason: str) -> Trial:
    """Hand a trial in once more that the store turned down, with a mended brief. Raises ImpossibleAct, NotReady."""
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
    berth, cohort = trial.consignment.berth, trial.cohort
    people = still_invited(act.session, trial)
    found = seating.try_seats(act.session, berth, cohort.kind, trial.consignment.build, people)
    blockers = brief_findings(
        rules_of(berth.store), cohort.kind, trial.brief, sign_in=trial.sealed_sign_in is not None, reviewed=True
    ) + seat_findings(found, {tester.id: tester.email for tester in people})
    if blockers:
        raise NotReady(blockers[0].detail, code=blockers[0].code, remedy=blockers[0].remedy, findings=blockers)
    hand_in(act, trial, people)
    act.log("trial handed in again", f"trial {trial.id}", app=cohort.app.name, reason=reason)
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


def _end(act: Act, trial: Trial, event: TrialEvent) -> None:
    """What was ordered and has not gone out is dropped; what may have gone out is closed after it."""
    before, trial.state, trial.changed_at = trial.state, TRIAL.after(trial.state, event), act.now
    if before in (TrialState.DRAFTED, TrialState.TURNED_DOWN):
        return
    for order in act.session.scalars(select(Order).where(Order.lane == trial.id, Order.state.in_(PENDING))):
        if order.kind is OrderKind.SEAT and (order.state, OrderEvent.DROP) in ORDER.table:
            order.state, order.settled_at = ORDER.after(order.state, OrderEvent.DROP), act.now
            order.trouble = "the trial ended"
            seating.forget_addresses(order)
            act.drop_steps(order)
    act.order(OrderKind.CLOSE_TRIAL, lane=trial.id, store=trial.consignment.berth.store, subject=trial.id)


def build_ready(act: Act, consignment: Consignment) -> None:
    """A build is ready at a store: what was drafted for it is handed in, and the cohorts that get every build get it."""
    drafted = select(Trial).where(Trial.consignment_id == consignment.id, Trial.state == TrialState.DRAFTED)
    for trial in act.session.scalars(drafted).all():
        people = still_invited(act.session, trial)
        berth, kind = consignment.berth, trial.cohort.kind
        found = seating.try_seats(act.session, berth, kind, consignment.build, people)
        blockers = seat_findings(found, {tester.id: tester.email for tester in people})
        if blockers:
            trial.reason = blockers[0].detail
            act.log("drafted trial stays", f"trial {trial.id}", app=trial.cohort.app.name, reason=trial.reason)
        else:
            hand_in(act, trial, people)
            act.log("trial handed in", f"trial {trial.id}", app=trial.cohort.app.name, after={"testers": len(people)})
    app, store = consignment.build.app, consignment.berth.store
    for cohort in cohorts.of_app(act.session, app.name):
        row = cohorts.attachment(cohort, consignment.berth)
        if row is None or not row.by_itself or _tried(cohort, consignment):
            continue
        try:
            open_trials(act, app.name, consignment.build_id, [cohort.name], [store.name], Brief(), by_itself=True)
            row.trouble = None
        except (NotReady, Conflict, Invalid) as wrong:
            row.trouble = f"{consignment.build.label}: {wrong.detail}"
            subject = f"cohort {cohort.name} at {store.name}"
            act.log("not handed on by itself", subject, app=app.name, reason=row.trouble)


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
        ):
            replace(act, earlier)


def lapses_at(trial: Trial) -> datetime | None:
    """When the store ends it by itself; None: never, or it is not open."""
    rules = rules_of(trial.consignment.berth.store).cohorts.get(trial.cohort.kind)
    if trial.state is not TrialState.OPEN or rules is None or rules.trial_days is None:
        return None
    return (trial.opened_at or trial.changed_at) + timedelta(days=rules.trial_days)


def of_app(session: Session, app_name: str, cohort_name: str | None = None, limit: int = 200) -> list[Trial]:
    app = find.app(session, app_name)
    wanted = select(Trial).join(Cohort).where(Cohort.app_id == app.id)
    if cohort_name is not None:
        wanted = wanted.where(Cohort.id == find.cohort(session, app, cohort_name).id)
    return list(session.scalars(wanted.order_by(Trial.created_at.desc(), Trial.id).limit(limit)))


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
