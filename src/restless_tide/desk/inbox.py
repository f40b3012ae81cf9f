"""The inbox of field reports: pages of them, equal crashes together, and numbers by build."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import ColumnElement, Select, SQLColumnExpression, String, case, cast, func, select
from sqlalchemy.orm import Session

from restless_tide.core.invitation import InvitationState
from restless_tide.core.invitation import furthest as furthest_of
from restless_tide.core.listing import ReportOrder
from restless_tide.core.report import OPEN, ReportKind, ReportState
from restless_tide.core.rights import Apps
from restless_tide.desk import find, keyset
from restless_tide.desk.matching import holds
from restless_tide.records.tables import App, Build, Cohort, FieldReport, Invitation, Trial, TrialUsage


@dataclass(frozen=True)
class Wanted:
    """Which reports; what is None is not asked for. ``group`` is a fingerprint, or the beginning of one; with ``reach`` only
    those of these apps."""

    app: str | None = None
    build: str | None = None
    cohort: str | None = None
    kind: ReportKind | None = None
    states: Sequence[ReportState] = ()
    group: str | None = None
    text: str = ""
    since: datetime | None = None
    reach: Apps = None


def _narrowed(session: Session, wanted: Wanted) -> Select[FieldReport]:
    query, app = select(FieldReport), None
    if wanted.app is not None:
        app = find.app(session, wanted.app)
        query = query.where(FieldReport.app_id == app.id)
        if wanted.cohort is not None:
            cohort = find.cohort(session, app, wanted.cohort)
            query = query.join(Trial, FieldReport.trial_id == Trial.id).where(Trial.cohort_id == cohort.id)
    if wanted.reach is not None:
        query = query.where(FieldReport.app_id.in_(select(App.id).where(App.name.in_(wanted.reach))))
    if wanted.build is not None:
        build = find.build_of(session, app, wanted.build) if app else find.build(session, wanted.build)
        query = query.where(FieldReport.build_id == build.id)
    if wanted.kind is not None:
        query = query.where(FieldReport.kind == wanted.kind)
    if wanted.states:
        query = query.where(FieldReport.state.in_(wanted.states))
    if wanted.group is not None:
        query = query.where(FieldReport.fingerprint.between(wanted.group, wanted.group + "g"))
    if wanted.since is not None:
        query = query.where(FieldReport.received_at >= wanted.since)
    columns = (FieldReport.text, FieldReport.headline, FieldReport.device, FieldReport.ticket)
    return query.where(holds(wanted.text, *columns))


def page(
    session: Session,
    wanted: Wanted,
    *,
    order: ReportOrder = ReportOrder.NEWEST,
    after: str | None = None,
    limit: int = 50,
) -> list[FieldReport]:
    """Reports by when they came; ``after`` is the id of the last one of the page before."""
    last = find.report(session, after) if after is not None else None
    keys = (FieldReport.received_at, FieldReport.id)
    here = (last.received_at, last.id) if last is not None else None
    falls = order is ReportOrder.NEWEST
    return list(session.scalars(keyset.page(_narrowed(session, wanted), keys, after=here, falls=falls, limit=limit)))


def counted(session: Session, wanted: Wanted) -> dict[str, int]:
    """How many there are in each state."""
    inner = _narrowed(session, wanted).subquery()
    rows = session.execute(select(inner.c.state, func.count()).group_by(inner.c.state))
    return {str(ReportState(state)): count for state, count in rows}


def of_tester(session: Session, tester_id: str, app_id: str, limit: int = 20) -> list[FieldReport]:
    """What someone sent in about an app, the newest first."""
    wanted = select(FieldReport).where(FieldReport.tester_id == tester_id, FieldReport.app_id == app_id)
    return list(session.scalars(wanted.order_by(FieldReport.received_at.desc()).limit(limit)))


@dataclass(frozen=True)
class Group:
    """Crashes that are the same by their fingerprint. ``builds`` and ``devices`` count reports by label."""

    newest: FieldReport
    count: int
    people: int
    open: int
    first_at: datetime
    symbolised: bool
    builds: dict[str, int]
    devices: dict[str, int]


def groups(session: Session, app_name: str, build_id: str | None = None, limit: int = 100) -> list[Group]:
    """The crashes of an app, equal ones together, the most frequent first."""
    app, mark = find.app(session, app_name), FieldReport.fingerprint
    of_these = [FieldReport.app_id == app.id, mark.is_not(None)]
    if build_id is not None:
        of_these.append(FieldReport.build_id == find.build(session, build_id).id)
    times = func.count()
    frequent = select(mark, times).where(*of_these).group_by(mark).order_by(times.desc(), mark).limit(limit)
    often = {name: count for name, count in session.execute(frequent) if name is not None}
    of_these.append(mark.in_(often))
    told = session.execute(
        select(
            mark,
            func.count(FieldReport.tester_id.distinct()),
            func.sum(case((FieldReport.state.in_(OPEN), 1), else_=0)),
            func.min(FieldReport.received_at),
            func.max(FieldReport.symbolised),
        )
        .where(*of_these)
        .group_by(mark)
    ).all()
    place = func.row_number().over(partition_by=mark, order_by=(FieldReport.received_at.desc(), FieldReport.id.desc()))
    ranked = select(FieldReport.id, place.label("place")).where(*of_these).subquery()
    newest = select(FieldReport).join(ranked, ranked.c.id == FieldReport.id).where(ranked.c.place == 1)
    by_mark = {row.fingerprint: row for row in session.scalars(newest)}
    builds = _most_common(session, (Build.version + " (" + cast(Build.number, String) + ")"), of_these)
    devices = _most_common(session, FieldReport.device, [*of_these, FieldReport.device != ""])
    found = {
        name: Group(by_mark[name], often[name], people, open_now, first_at, symbolised, builds[name], devices[name])
        for name, people, open_now, first_at, symbolised in told
        if name is not None
    }
    return [found[name] for name in often]


def _most_common(
    session: Session, label: SQLColumnExpression[str], of_these: Sequence[ColumnElement[bool]], most: int = 10
) -> dict[str | None, dict[str, int]]:
    """By fingerprint: how many reports there are of each label, the most frequent first."""
    count = func.count()
    rows = session.execute(
        select(FieldReport.fingerprint, label, count)
        .outerjoin(Build, FieldReport.build_id == Build.id)
        .where(*of_these, label.is_not(None))
        .group_by(FieldReport.fingerprint, label)
        .order_by(count.desc(), label)
    )
    found: dict[str | None, dict[str, int]] = defaultdict(dict)
    for mark, name, number in rows:
        if len(found[mark]) < most:
            found[mark][name] = number
    return found


@dataclass(frozen=True)
class BuildNumbers:
    """A build in people's hands: invited, with it on a device, use, and what came back. ``crash_free`` is a share of sessions."""

    build: Build
    invited: int
    accepted: int
    installed: int
    sessions: int
    crashed: int
    remarks: int
    crashes: int
    open_reports: int
    days: tuple[tuple[str, int, int], ...]

    @property
    def crash_free(self) -> float | None:
        return 1 - self.crashed / self.sessions if self.sessions else None


def numbers(session: Session, app_name: str, limit: int = 20) -> list[BuildNumbers]:
    """The builds of an app that people test or have tested, the newest first."""
    app = find.app(session, app_name)
    trials = session.scalars(select(Trial).join(Cohort).where(Cohort.app_id == app.id)).all()
    by_build: dict[str, list[Trial]] = defaultdict(list)
    for trial in trials:
        by_build[trial.consignment.build_id].append(trial)
    reported = session.scalars(
        select(FieldReport.build_id).where(FieldReport.app_id == app.id, FieldReport.build_id.is_not(None)).distinct()
    )
    chosen = session.scalars(
        select(Build)
        .where(Build.id.in_({*by_build, *(build for build in reported if build)}))
        .order_by(Build.created_at.desc())
        .limit(limit)
    ).all()
    return [_numbers_of(session, build, [trial.id for trial in by_build[build.id]]) for build in chosen]


def _numbers_of(session: Session, build: Build, trials: list[str]) -> BuildNumbers:
    furthest: dict[str, InvitationState] = {}
    for tester_id, reached_state in session.execute(
        select(Invitation.tester_id, Invitation.state).where(
            Invitation.trial_id.in_(trials), Invitation.state != InvitationState.REMOVED
        )
    ):
        furthest[tester_id] = furthest_of((reached_state, furthest.get(tester_id, reached_state)))
    reached = Counter(furthest.values())
    days = session.execute(
        select(TrialUsage.day, func.sum(TrialUsage.sessions), func.sum(TrialUsage.crashed))
        .where(TrialUsage.trial_id.in_(trials))
        .group_by(TrialUsage.day)
        .order_by(TrialUsage.day)
    ).all()
    kinds: Counter[tuple[ReportKind, bool]] = Counter()
    for kind, state, count in session.execute(
        select(FieldReport.kind, FieldReport.state, func.count())
        .where(FieldReport.build_id == build.id)
        .group_by(FieldReport.kind, FieldReport.state)
    ):
        kinds[kind, state in OPEN] += count
    return BuildNumbers(
        build,
        invited=len(furthest),
        accepted=reached[InvitationState.ACCEPTED] + reached[InvitationState.INSTALLED],
        installed=reached[InvitationState.INSTALLED],
        sessions=sum(day[1] for day in days),
        crashed=sum(day[2] for day in days),
        remarks=kinds[ReportKind.REMARK, True] + kinds[ReportKind.REMARK, False],
        crashes=kinds[ReportKind.CRASH, True] + kinds[ReportKind.CRASH, False],
        open_reports=kinds[ReportKind.REMARK, True] + kinds[ReportKind.CRASH, True],
        days=tuple((day, sessions, crashed) for day, sessions, crashed in days),
    )


HEADER = (
    "id", "app", "build", "kind", "state", "at", "device", "system", "language", "text", "crash", "fingerprint",
    "fixed in", "duplicate of", "ticket", "pictures", "source",
)  # fmt: skip


def export_rows(session: Session, wanted: Wanted) -> list[list[object]]:
    """Every report that matches, a row each, in the order of ``HEADER``; who sent it is left out."""
    found = session.scalars(_narrowed(session, wanted).order_by(FieldReport.received_at)).all()
    return [
        [
            row.id, row.app.name, row.build.label if row.build else "", row.kind, row.state, row.at.isoformat(), row.device,
            row.system, row.language, row.text, row.headline, row.fingerprint or "",
            row.fixed_build.label if row.fixed_build else "", row.duplicate_of or "", row.ticket, len(row.pictures), row.source,
        ]
        for row in found
    ]  # fmt: skip


def alike(session: Session, rows: Sequence[FieldReport]) -> dict[tuple[str, str], int]:
    """How many reports there are of each crash that these reports tell of, by app and fingerprint."""
    prints = {row.fingerprint for row in rows if row.fingerprint}
    counted = (
        select(FieldReport.app_id, FieldReport.fingerprint, func.count())
        .where(FieldReport.fingerprint.in_(prints))
        .group_by(FieldReport.app_id, FieldReport.fingerprint)
    )
    return defaultdict(int, {(app, mark or ""): count for app, mark, count in session.execute(counted)})


def joined_to(session: Session, report: FieldReport) -> Sequence[str]:
    """The reports that were found to say the same as this one."""
    return session.scalars(select(FieldReport.id).where(FieldReport.duplicate_of == report.id)).all()
