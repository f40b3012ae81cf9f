"""Package files kept or cleared by rule; what is live, in review or on its way is never cleared."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import or_, select
from sqlalchemy.orm import Session, selectinload

from restless_tide.core.consignment import UNDER_WAY
from restless_tide.core.errors import Finding, Level
from restless_tide.core.packages import Facts
from restless_tide.core.retention import Judged, Kept, RetentionRule, judge
from restless_tide.core.rollout import GONE, ROLLOUT, RolloutState
from restless_tide.core.trial import TrialState
from restless_tide.desk import find
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Build, BuildPackage, Consignment, Leg, Package, Trial

_TRIED = (TrialState.OPEN, TrialState.WITH_STORE)


@dataclass(frozen=True)
class Clearing:
    """What a rule does to an app's builds. ``bytes_free`` counts each file once, and only what no kept build needs."""

    rule: RetentionRule
    judged: tuple[Judged, ...]
    labels: dict[str, str]
    files: tuple[str, ...]
    bytes_free: int
    bytes_kept: int


def facts_of(build: Build) -> list[Facts]:
    """What was read out of each package of a build."""
    return [Facts.of(entry.package.facts) for entry in build.packages]


_ICONS = (
    select(Build.app_id, Package.sha256)
    .join(BuildPackage, BuildPackage.sha256 == Package.sha256)
    .join(Build, Build.id == BuildPackage.build_id)
    .where(Package.cleared_at.is_(None), Package.facts["icon"]["media_type"].as_string().is_not(None))
)


def icon_of(session: Session, app: App) -> str | None:
    """The digest of the newest package of an app that has an icon a browser can show."""
    found = session.execute(_ICONS.where(Build.app_id == app.id).order_by(Build.created_at.desc()).limit(1)).first()
    return found.sha256 if found else None


def icons(session: Session) -> dict[str, str]:
    """The same of every app, by its id."""
    return dict(session.execute(_ICONS.order_by(Build.created_at)).all())


def rule_of(app: App) -> RetentionRule:
    return RetentionRule.model_validate(app.retention or {})


def set_rule(act: Act, app_name: str, rule: RetentionRule) -> App:
    """Set how many builds, and how young ones, are kept."""
    app = find.app(act.session, app_name)
    before, app.retention = rule_of(app), rule.model_dump(mode="json")
    act.log("retention set", f"app {app.name}", app=app.name, before=before.model_dump(), after=rule.model_dump())
    return app


def plan(desk: Desk, session: Session, app_name: str, rule: RetentionRule | None = None) -> Clearing:
    """What clearing would do now. Nothing is changed."""
    app = find.app(session, app_name)
    chosen = rule or rule_of(app)
    rows = [row for row in _builds(session, app) if any(entry.package.cleared_at is None for entry in row.packages)]
    used = used_builds(session, app)
    kept = [
        Kept(
            build=row.id,
            platform=row.platform,
            entered_at=row.created_at,
            in_use=in_use(session, row) if row.id in used else "",
            packages=tuple(entry.sha256 for entry in row.packages),
        )
        for row in rows
    ]
    judged = judge(chosen, kept, desk.clock.now())
    goes = {entry.build for entry in judged if entry.cleared}
    sizes = {entry.sha256: entry.package.size_bytes for row in rows for entry in row.packages}
    needed = {sha256 for entry in kept if entry.build not in goes for sha256 in entry.packages}
    wanted = {sha256 for entry in kept if entry.build in goes for sha256 in entry.packages} - needed
    elsewhere = _needed_elsewhere(session, app, wanted)
    files = tuple(sorted(wanted - elsewhere))
    free = sum(sizes[sha256] for sha256 in files)
    return Clearing(chosen, tuple(judged), {row.id: row.label for row in rows}, files, free, sum(sizes.values()) - free)


def clear(desk: Desk, person: str, app_name: str, rule: RetentionRule | None = None) -> Clearing:
    """Clear what the rule lets go. The record is written first: a file that stays behind is cleared next time."""
    with desk.act(person) as act:
        found = plan(desk, act.session, app_name, rule)
        for sha256 in found.files:
            package = act.session.get(Package, sha256)
            if package is not None:
                package.cleared_at = act.now
        if found.files:
            told = {"files": len(found.files), "bytes": found.bytes_free}
            act.log("packages cleared", f"app {app_name}", app=app_name, after=told)
    for sha256 in found.files:
        with desk.act(person) as act:
            package = act.session.get(Package, sha256)
            if package is not None and package.cleared_at is not None:  # else it was pushed again meanwhile
                desk.files.clear(sha256)
    return found


PROFILE_ENDS = Package.facts["profile"]["expires_at"].as_string()
"""``Facts.expires_at`` as it is kept, for asking about many packages: what was read out of each is long."""


def used_builds(session: Session, app: App | None) -> set[str]:
    """The builds of an app, or of all, whose files are needed; ``in_use`` says of each of them why."""
    under_way = Consignment.state.in_(UNDER_WAY)
    on_trial = Consignment.id.in_(select(Trial.consignment_id).where(Trial.state.in_(_TRIED)))
    here = [Build.app_id == app.id] if app is not None else []
    sent = select(Consignment.build_id).join(Build, Build.id == Consignment.build_id).where(*here)
    released = select(Leg.build_id).join(Build, Build.id == Leg.build_id).where(*here)
    return {
        *session.scalars(sent.where(or_(under_way, on_trial))),
        *session.scalars(released.where(Leg.state.not_in(GONE))),
    }


def _word(state: RolloutState) -> str:
    if state is ROLLOUT.initial:
        return "in a release"
    return "live" if state is RolloutState.COMPLETE else str(state)


def in_use(session: Session, build: Build) -> str:
    """Why a build's files are needed, in words; empty when they are not."""
    for consignment in build.consignments:
        if consignment.state in UNDER_WAY:
            return f"{consignment.state} at {rules_of(consignment.berth.store).store}"
    for leg in session.scalars(select(Leg).where(Leg.build_id == build.id)):
        if leg.state not in GONE:
            return f"{_word(leg.state)} at {rules_of(leg.berth.store).store} ({leg.release.version})"
    ids = [consignment.id for consignment in build.consignments]
    if not ids:
        return ""
    trial = session.scalar(select(Trial).where(Trial.consignment_id.in_(ids), Trial.state.in_(_TRIED)).limit(1))
    return f"on trial with {trial.cohort.name}" if trial is not None else ""


def _builds(session: Session, app: App) -> Sequence[Build]:
    whole = selectinload(Build.packages).selectinload(BuildPackage.package)
    return session.scalars(select(Build).where(Build.app_id == app.id).options(whole)).all()


def _needed_elsewhere(session: Session, app: App, wanted: set[str]) -> set[str]:
    others = select(BuildPackage.sha256).join(Build, Build.id == BuildPackage.build_id).where(Build.app_id != app.id)
    return set(session.scalars(others.where(BuildPackage.sha256.in_(wanted)))) if wanted else set()


def cleared_findings(build: Build) -> list[Finding]:
    """A build whose files were cleared cannot be sent until they are pushed again."""
    gone = [entry.sha256 for entry in build.packages if entry.package.cleared_at is not None]
    if not gone:
        return []
    detail = f"The package file of {build.label} was cleared from the desk."
    return [Finding("package-cleared", Level.BLOCKER, detail, "package", "Push the file to the desk again.")]
