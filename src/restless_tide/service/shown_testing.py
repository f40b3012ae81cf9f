"""Cohorts, trials and field reports as the wire shows them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import datetime

from sqlalchemy.orm import Session

from restless_tide.core.errors import Level
from restless_tide.core.invitation import INVITATION
from restless_tide.core.testers import RowKind
from restless_tide.core.trial import REOPENS, TRIAL, TrialState
from restless_tide.desk import cohorts, correcting, inbox, joining, lanes, members, testers, trials
from restless_tide.desk.desk import Desk
from restless_tide.desk.imports import Import
from restless_tide.desk.members import Member
from restless_tide.desk.planning import Plan
from restless_tide.desk.stores import rules_of
from restless_tide.desk.trials import Counts
from restless_tide.records import tables
from restless_tide.service.shown import ordered
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
    TrackChoiceTold,
    TrialSheetTold,
    TrialTold,
)
from restless_tide.wire.problems import findings_told

_ROWS_SHOWN = 500


def tester(row: tables.Tester, where: Sequence[tuple[str, str]] = (), caution: str = "") -> TesterTold:
    return TesterTold.of(row, cohorts=[CohortRef(app=app, cohort=cohort) for app, cohort in where], caution=caution)


def found_testers(session: Session, rows: Sequence[tables.Tester]) -> list[TesterTold]:
    where = testers.cohorts_of(session, [row.id for row in rows])
    return [tester(row, where.get(row.id, ())) for row in rows]


# cohorts


def cohort(session: Session, row: tables.Cohort, desk: Desk) -> CohortTold:
    return CohortTold.model_validate(_cohort(session, row, desk))


def _cohort(session: Session, row: tables.Cohort, desk: Desk) -> dict[str, object]:
    size = members.size(session, row)
    running = cohorts.under_way(row)
    counted = trials.counts(session, running)
    pending = lanes.pending_by_lane(session, [trial.id for trial in running])
    return {
        "app": row.app.name,
        "name": row.name,
        "kind": row.kind,
        "testers": size.testers,
        "declined": size.declined,
        "bounced": size.bounced,
        "at": [_seats(session, entry) for entry in cohorts.standings(session, row)],
        "running": [_running(trial, counted[trial.id], pending.get(trial.id, [])) for trial in running],
        "brief": row.brief,
        "contact": row.contact,
        "join": _join(session, row, desk),
        "reports_open": members.open_reports(session, row),
        "retired_at": row.retired_at,
    }


def _seats(session: Session, entry: cohorts.Standing) -> SeatsTold:
    store, ways = entry.attachment.berth.store, cohorts.tracks_of(session, entry.attachment.berth).ways
    rules = rules_of(store)
    return SeatsTold.of(
        entry,
        store=store.name,
        store_title=rules.store,
        track=cohorts.track_of(entry.attachment.cohort, entry.attachment.berth),
        tracks=[
            TrackChoiceTold(key=key, title=way.title)
            for key, way in ways.items()
            if entry.attachment.cohort.kind in way.kinds
        ],
        review_first=rules.cohorts[entry.attachment.cohort.kind].review_first,
        by_itself=entry.attachment.by_itself,
        trouble=entry.attachment.trouble,
    )


def _running(trial: tables.Trial, counted: Counts, pending: Sequence[tables.Order]) -> RunningTold:
    store = trial.consignment.berth.store
    return RunningTold.of(
        trial,
        **ordered(pending),
        build=trial.consignment.build_id,
        build_label=trial.consignment.build.label,
        store=store.name,
        store_title=rules_of(store).store,
        invited=counted.by_state,
        stuck=counted.stuck,
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
            "have": [
                HeldBuildTold(build=build.id, label=build.label, people=people)
                for build, people in members.have(session, row)
            ],
            "stuck": _stuck(short, desk),
            "removable": correcting.removable(row),
            "reports": inbox.counted(session, inbox.Wanted(app=row.app.name, cohort=row.name)),
        }
    )


def _stuck(told: CohortTold, desk: Desk) -> list[str]:
    said = []
    if desk.background.mail_trouble and any(trial.state is TrialState.OPEN for trial in told.running):
        said.append(f"Mail does not go out: {desk.background.mail_trouble}. Nothing is lost; it is tried again.")
    for trial in told.running:
        where = f"{trial.build_label} at {trial.store_title}"
        if trial.state is TrialState.REJECTED:
            said.append(f"{where} was rejected: {trial.reason}")
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


def some_members(session: Session, rows: Sequence[Member]) -> list[MemberTold]:
    where = testers.cohorts_of(session, [row.tester.id for row in rows])
    return [_member(row, where.get(row.tester.id, ())) for row in rows]


def _member(row: Member, where: Sequence[tuple[str, str]]) -> MemberTold:
    membership, invitation = row.membership, row.invitation
    return MemberTold.of(
        membership,
        tester=tester(row.tester, where),
        state=invitation.state if invitation else None,
        since=invitation.changed_at if invitation else None,
        build_label=invitation.trial.consignment.build.label if invitation else None,
        device=invitation.device if invitation else "",
        system=invitation.system if invitation else "",
        trouble=invitation.trouble if invitation else None,
    )


def imported(found: Import) -> ImportTold:
    """A list as it was understood: every bad row, and of the others the first few hundred worth a look."""
    sheet = found.sheet
    counts = Counter(str(row.kind) for row in sheet.rows)
    look_at = [row for row in sheet.rows if row.kind is RowKind.BAD]
    look_at += [row for row in sheet.rows if row.kind is not RowKind.BAD and row.said][
        : max(_ROWS_SHOWN - len(look_at), 0)
    ]
    return ImportTold.of(
        found,
        encoding=sheet.encoding,
        delimiter=sheet.delimiter,
        columns=dict(sheet.columns),
        ignored=list(sheet.ignored),
        said=list(sheet.said),
        counts={str(kind): counts[str(kind)] for kind in RowKind},
        rows=[RowTold.of(row) for row in sorted(look_at, key=lambda row: row.line)],
        findings=findings_told(found.findings),
    )


# trials


def sheet(plans: Sequence[Plan]) -> TrialSheetTold:
    told = [_plan(entry) for entry in plans]
    worst = min((found.level for entry in plans for found in entry.findings), key=list(Level).index, default=None)
    return TrialSheetTold(plans=told, level=worst)


def _plan(entry: Plan) -> PlanTold:
    store, addresses = entry.berth.store, {person.id: person.email for person in entry.people}
    seats = entry.seating
    tight = seats is not None and not seats.all_fit
    return PlanTold(
        cohort=entry.cohort.name,
        store=store.name,
        store_title=rules_of(store).store,
        track=entry.track,
        invited=len(entry.people),
        carried=entry.carried,
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


def trial(row: tables.Trial, counted: Counts, pending: Sequence[tables.Order]) -> TrialTold:
    consignment, store = row.consignment, row.consignment.berth.store
    return TrialTold.of(
        row,
        **ordered(pending),
        seen=row.sighting.state if row.sighting else None,
        app=row.cohort.app.name,
        app_title=row.cohort.app.title,
        cohort=row.cohort.name,
        kind=row.cohort.kind,
        build=consignment.build_id,
        build_label=consignment.build.label,
        store=store.name,
        store_title=rules_of(store).store,
        possible=TRIAL.possible(row.state),
        reopens=row.state in REOPENS,
        sign_in_sealed=row.sealed_sign_in is not None,
        expires_at=trials.expires_at(row),
        invited=counted.by_state,
        seated=counted.seated,
        stuck=counted.stuck,
        sessions=counted.sessions,
        crash_free=1 - counted.crashed / counted.sessions if counted.sessions else None,
    )


def one_trial(session: Session, row: tables.Trial) -> TrialTold:
    return trial(row, trials.counts(session, [row])[row.id], lanes.pending(session, row.id))


def some_trials(session: Session, rows: Sequence[tables.Trial]) -> list[TrialTold]:
    counted, pending = trials.counts(session, rows), lanes.pending_by_lane(session, [row.id for row in rows])
    return [trial(row, counted[row.id], pending.get(row.id, [])) for row in rows]


def invitation(row: tables.Invitation, person: tables.Tester) -> InvitationTold:
    return InvitationTold.of(
        row,
        tester=tester(person),
        possible=INVITATION.possible(row.state),
        moments={state: datetime.fromisoformat(at) for state, at in row.moments.items()},
        seated=row.seated_at is not None,
    )
