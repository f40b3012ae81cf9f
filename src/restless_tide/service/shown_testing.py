"""Cohorts, trials and field reports as the wire shows them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Level
from restless_tide.core.invitation import InvitationState
from restless_tide.core.report import OPEN
from restless_tide.core.testers import RowKind
from restless_tide.core.trial import TRIAL, UNDER_WAY, TrialState
from restless_tide.desk import cohorts, inbox, invitations, joining, testers, trials
from restless_tide.desk.desk import Desk
from restless_tide.desk.imports import Import
from restless_tide.desk.planning import Plan
from restless_tide.desk.stores import rules_of
from restless_tide.desk.trials import Counts
from restless_tide.records import tables
from restless_tide.wire.cohorts import (
    CohortDetailTold,
    CohortRef,
    CohortTold,
    HeldBuildTold,
    ImportTold,
    InvitationTold,
    JoinTold,
    MemberTold,
    PlanTold,
    RowTold,
    RunningTold,
    SeatsTold,
    TesterTold,
    TrialSheetTold,
    TrialTold,
)
from restless_tide.wire.problems import findings_told

_ROWS_SHOWN = 500


def tester(row: tables.Tester, where: Sequence[tuple[str, str]] = (), caution: str = "") -> TesterTold:
    return TesterTold(
        id=row.id,
        email=row.email,
        name=row.name,
        platforms=row.platforms,
        languages=row.languages,
        devices=row.devices,
        tags=row.tags,
        consented_at=row.consented_at,
        consent_how=row.consent_how,
        bounced_at=row.bounced_at,
        bounce_said=row.bounce_said,
        cohorts=[CohortRef(app=app, cohort=cohort) for app, cohort in where],
        caution=caution,
    )


def found_testers(session: Session, rows: Sequence[tables.Tester]) -> list[TesterTold]:
    where = testers.cohorts_of(session, [row.id for row in rows])
    return [tester(row, where.get(row.id, ())) for row in rows]


# cohorts


def cohort(session: Session, row: tables.Cohort, desk: Desk) -> CohortTold:
    return CohortTold.model_validate(_cohort(session, row, desk))


def _cohort(session: Session, row: tables.Cohort, desk: Desk) -> dict[str, object]:
    size, declined, bounced = session.execute(
        select(func.count(), func.count(tables.Membership.declined_at), func.count(tables.Tester.bounced_at))
        .select_from(tables.Membership)
        .join(tables.Tester, tables.Membership.tester_id == tables.Tester.id)
        .where(tables.Membership.cohort_id == row.id)
    ).one()
    running = [trial for trial in row.trials if trial.state in UNDER_WAY]
    counted = trials.counts(session, running)
    return {
        "app": row.app.name,
        "name": row.name,
        "kind": row.kind,
        "testers": size,
        "declined": declined,
        "bounced": bounced,
        "at": [_seats(entry) for entry in cohorts.standings(session, row)],
        "running": [_running(trial, counted[trial.id]) for trial in running],
        "brief": row.brief,
        "contact": row.contact,
        "join": _join(session, row, desk),
        "reports_open": session.scalar(
            select(func.count())
            .select_from(tables.FieldReport)
            .join(tables.Trial, tables.FieldReport.trial_id == tables.Trial.id)
            .where(tables.Trial.cohort_id == row.id, tables.FieldReport.state.in_(OPEN))
        )
        or 0,
    }


def _seats(entry: cohorts.Standing) -> SeatsTold:
    store = entry.attachment.berth.store
    rules = rules_of(store)
    return SeatsTold(
        store=store.name,
        store_title=rules.store,
        seats=entry.seats,
        taken=entry.taken,
        left=entry.left,
        per_build=entry.per_build,
        review_first=rules.cohorts[entry.attachment.cohort.kind].review_first,
        by_itself=entry.attachment.by_itself,
        trouble=entry.attachment.trouble,
    )


def _running(trial: tables.Trial, counted: Counts) -> RunningTold:
    store = trial.consignment.berth.store
    return RunningTold(
        id=trial.id,
        build=trial.consignment.build_id,
        build_label=trial.consignment.build.label,
        store=store.name,
        store_title=rules_of(store).store,
        state=trial.state,
        changed_at=trial.changed_at,
        invited=counted.by_state,
        stuck=counted.stuck,
        reason=trial.reason,
    )


def _join(session: Session, row: tables.Cohort, desk: Desk) -> JoinTold | None:
    code = joining.code(desk.seal, row)
    if code is None:
        return None
    return JoinTold(
        link=f"{desk.settings.address}/join/{code}",
        open=row.join_open,
        limit=row.join_limit,
        until=row.join_until,
        closed_because=joining.closed_because(session, row, desk.clock.now()),
    )


def cohort_detail(session: Session, row: tables.Cohort, desk: Desk) -> CohortDetailTold:
    told = _cohort(session, row, desk)
    short = CohortTold.model_validate(told)
    return CohortDetailTold.model_validate(
        told
        | {
            "have": _have(session, row),
            "stuck": _stuck(session, row, short, desk),
            "reports": inbox.counted(session, inbox.Wanted(app=row.app.name, cohort=row.name)),
        }
    )


def _have(session: Session, row: tables.Cohort) -> list[HeldBuildTold]:
    """The newest build that each of them has on a device, counted."""
    newest: dict[str, tables.Build] = {}
    found = session.execute(
        select(tables.Invitation.tester_id, tables.Build)
        .join(tables.Trial, tables.Invitation.trial_id == tables.Trial.id)
        .join(tables.Consignment, tables.Trial.consignment_id == tables.Consignment.id)
        .join(tables.Build, tables.Consignment.build_id == tables.Build.id)
        .where(tables.Trial.cohort_id == row.id, tables.Invitation.state == InvitationState.INSTALLED)
        .order_by(tables.Build.created_at)
    )
    for tester_id, build in found:
        newest[tester_id] = build
    counted = Counter(build.id for build in newest.values())
    labels = {build.id: build.label for build in newest.values()}
    return [HeldBuildTold(build=build, label=labels[build], people=people) for build, people in counted.most_common()]


def _stuck(session: Session, row: tables.Cohort, told: CohortTold, desk: Desk) -> list[str]:
    said = []
    if desk.mail_trouble and any(trial.state is TrialState.OPEN for trial in told.running):
        said.append(f"Mail does not go out: {desk.mail_trouble}. Nothing is lost; it is tried again.")
    for trial in told.running:
        where = f"{trial.build_label} at {trial.store_title}"
        if trial.state is TrialState.TURNED_DOWN:
            said.append(f"{where} was turned down: {trial.reason}")
        elif trial.state is TrialState.DRAFTED:
            said.append(
                f"{where} waits until the store has processed the build." + (f" {trial.reason}" if trial.reason else "")
            )
        elif trial.reason:
            said.append(f"{where}: {trial.reason}")
        if trial.stuck:
            people = "1 person is" if trial.stuck == 1 else f"{trial.stuck} people are"
            said.append(f"{where}: {people} not reached; see the invitations.")
    said += [f"At {entry.store_title}: {entry.trouble}" for entry in told.at if entry.trouble]
    said += [f"No seat is left at {entry.store_title}." for entry in told.at if not entry.left and entry.seats]
    if told.join and told.join.closed_because in ("over", "full"):
        said.append(f"The link to join is {told.join.closed_because}.")
    return said


def members(
    session: Session, row: tables.Cohort, *, text: str, state: InvitationState | None, after: str, limit: int
) -> list[MemberTold]:
    """People of a cohort by address, with their newest invitation."""
    wanted = (
        select(tables.Membership, tables.Tester)
        .join(tables.Tester, tables.Membership.tester_id == tables.Tester.id)
        .where(tables.Membership.cohort_id == row.id, tables.Tester.email > after)
        .order_by(tables.Tester.email)
    )
    if text:
        wanted = wanted.where(testers.matching(text))
    if state is not None:
        inside = (
            select(tables.Invitation.tester_id)
            .join(tables.Trial, tables.Invitation.trial_id == tables.Trial.id)
            .where(
                tables.Trial.cohort_id == row.id, tables.Trial.state.in_(UNDER_WAY), tables.Invitation.state == state
            )
        )
        wanted = wanted.where(tables.Tester.id.in_(inside))
    found = session.execute(wanted.limit(limit)).all()
    newest = invitations.newest(session, row.id, [person.id for _, person in found])
    where = testers.cohorts_of(session, [person.id for _, person in found])
    told = []
    for membership, person in found:
        invitation = newest.get(person.id)
        told.append(
            MemberTold(
                tester=tester(person, where.get(person.id, ())),
                joined_at=membership.joined_at,
                joined_how=membership.joined_how,
                declined_at=membership.declined_at,
                state=invitation.state if invitation else None,
                since=invitation.changed_at if invitation else None,
                build_label=invitation.trial.consignment.build.label if invitation else None,
                device=invitation.device if invitation else "",
                system=invitation.system if invitation else "",
                trouble=invitation.trouble if invitation else None,
            )
        )
    return told


def imported(found: Import) -> ImportTold:
    """A list as it was understood: every bad row, and of the others the first few hundred worth a look."""
    sheet = found.sheet
    counts = Counter(str(row.kind) for row in sheet.rows)
    look_at = [row for row in sheet.rows if row.kind is RowKind.BAD]
    look_at += [row for row in sheet.rows if row.kind is not RowKind.BAD and row.said][
        : max(_ROWS_SHOWN - len(look_at), 0)
    ]
    return ImportTold(
        applied=found.applied,
        encoding=sheet.encoding,
        delimiter=sheet.delimiter,
        columns=dict(sheet.columns),
        ignored=list(sheet.ignored),
        said=list(sheet.said),
        counts={str(kind): counts[str(kind)] for kind in RowKind},
        rows=[
            RowTold(line=row.line, kind=row.kind, address=row.address, name=row.name, said=row.said, raw=row.raw)
            for row in sorted(look_at, key=lambda row: row.line)
        ],
        findings=findings_told(found.findings),
        entered=found.entered,
        joined=found.joined,
    )


# trials


def sheet(session: Session, plans: Sequence[Plan]) -> TrialSheetTold:
    told = [_plan(session, entry) for entry in plans]
    worst = min((found.level for entry in plans for found in entry.findings), key=list(Level).index, default=None)
    return TrialSheetTold(plans=told, level=worst)


def _plan(session: Session, entry: Plan) -> PlanTold:
    store, addresses = entry.berth.store, {person.id: person.email for person in entry.people}
    carried = session.scalar(
        select(func.count())
        .select_from(tables.Membership)
        .where(
            tables.Membership.cohort_id == entry.cohort.id,
            tables.Membership.accepted_at.is_not(None),
            tables.Membership.declined_at.is_(None),
        )
    )
    seats = entry.seating
    tight = seats is not None and not seats.all_fit
    return PlanTold(
        cohort=entry.cohort.name,
        store=store.name,
        store_title=rules_of(store).store,
        invited=len(entry.people),
        carried=min(carried or 0, len(entry.people)),
        without_platform=entry.without_platform,
        seats=seats.seats if seats else None,
        seats_left=seats.left if seats else None,
        fit=[addresses[who] for who in seats.fitting] if seats and tight else [],
        left_out=[addresses[who] for who in (*seats.left_out, *seats.outsiders)] if seats else [],
        waits_for_review=bool(entry.foresight and entry.foresight.waits),
        because=entry.foresight.because if entry.foresight else "",
        usual_hours=entry.foresight.usual_hours if entry.foresight else 0.0,
        replaces=entry.replaces.id if entry.replaces else None,
        findings=findings_told(entry.findings),
    )


def trial(row: tables.Trial, counted: Counts) -> TrialTold:
    consignment, store = row.consignment, row.consignment.berth.store
    return TrialTold(
        id=row.id,
        app=row.cohort.app.name,
        app_title=row.cohort.app.title,
        cohort=row.cohort.name,
        kind=row.cohort.kind,
        build=consignment.build_id,
        build_label=consignment.build.label,
        store=store.name,
        store_title=rules_of(store).store,
        state=row.state,
        possible=[str(event) for event in TRIAL.possible(row.state)],
        brief=row.brief,
        contact=row.contact,
        remarks_to=row.remarks_to,
        sign_in_sealed=row.sealed_sign_in is not None,
        by_itself=row.by_itself,
        reason=row.reason,
        created_at=row.created_at,
        changed_at=row.changed_at,
        opened_at=row.opened_at,
        lapses_at=trials.lapses_at(row),
        store_page=row.store_page,
        invited=counted.by_state,
        seated=counted.seated,
        stuck=counted.stuck,
        sessions=counted.sessions,
        crash_free=1 - counted.crashed / counted.sessions if counted.sessions else None,
    )


def one_trial(session: Session, row: tables.Trial) -> TrialTold:
    return trial(row, trials.counts(session, [row])[row.id])


def some_trials(session: Session, rows: Sequence[tables.Trial]) -> list[TrialTold]:
    counted = trials.counts(session, rows)
    return [trial(row, counted[row.id]) for row in rows]


def invitation(row: tables.Invitation, person: tables.Tester) -> InvitationTold:
    return InvitationTold(
        id=row.id,
        tester=tester(person),
        state=row.state,
        changed_at=row.changed_at,
        moments={state: datetime.fromisoformat(at) for state, at in row.moments.items()},
        carried=row.carried,
        seated=row.seated_at is not None,
        mails=row.mails,
        device=row.device,
        system=row.system,
        trouble=row.trouble,
    )
