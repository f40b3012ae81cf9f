"""Rules by which builds move up from one track to another automatically, and what each still waits for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

import structlog
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, ImpossibleAct, Invalid, LostLease, NotFound, TideError
from restless_tide.core.notice import NoticeKind
from restless_tide.core.report import ReportKind
from restless_tide.core.rulebook import Audience
from restless_tide.core.tracks import Address, Evidence, MoveRule, Stood, demand_track, missing_for, next_track
from restless_tide.desk import build_reports, cohorts, find, placing, retiring, tracks
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.move_sheets import Wish
from restless_tide.desk.tracks import BoardRow, Placement
from restless_tide.records.tables import App, Build, RuleRun, TrackRule, TrialUsage

_log = structlog.get_logger("engine")


@dataclass(frozen=True)
class Standing:
    """One build under one rule: what is still missing, and why it could not be moved when nothing was."""

    rule: TrackRule
    build: Build
    missing: tuple[str, ...]
    go_ahead: bool
    trouble: str | None


def rule_of(row: TrackRule) -> MoveRule:
    return MoveRule(row.hours, row.people, row.crash_free, tuple(row.no_open), row.needs_go_ahead)


def make(act: Act, app_name: str, source: Address, target: str | None, wanted: MoveRule, reason: str) -> TrackRule:
    """Have builds move up automatically. Without ``target`` to the next track.

    Raises Invalid for a rule that asks for nothing or goes nowhere, and Conflict for a second one between two tracks.
    """
    app = retiring.app_in_use(act.session, app_name)
    berth = tracks.berth_at(act.session, app_name, source)
    rules = cohorts.tracks_of(act.session, berth)
    way = demand_track(rules, source.track)
    goal = target or next_track(rules, source.track)
    if goal is None or goal == source.track:
        raise Invalid(f"Nothing comes after {way.title}.", remedy="Name the track: --to TRACK", code="track-unknown")
    demand_track(rules, goal)
    if not wanted.told():
        raise Invalid(
            "A rule asks for something: hours, people, a share without crashes, no open reports, or a go-ahead.",
            code="rule-empty",
        )
    unknown = sorted(set(wanted.no_open) - {str(kind) for kind in ReportKind})
    if unknown:
        raise Invalid(
            f"No report is of the kind {', '.join(unknown)}.",
            remedy=f"Choose of {', '.join(ReportKind)}.",
            code="kind-unknown",
        )
    if wanted.crash_free is not None and way.audience is not Audience.COHORTS:
        raise Invalid(
            f"How often a build crashes on {way.title} is not known here; sessions are told for trials only.",
            remedy="Ask for hours, people or a go-ahead instead.",
            code="rule-blind",
        )
    same = select(TrackRule).where(
        TrackRule.berth_id == berth.id, TrackRule.source == source.track, TrackRule.target == goal,
        TrackRule.ended_at.is_(None),
    )  # fmt: skip
    if act.session.scalar(same) is not None:
        raise Conflict(
            f"A rule from {source} to {goal} is there already.",
            remedy=f"End it first: tide rule end RULE --app {app_name}",
            code="rule-known",
        )
    row = TrackRule(
        app_id=app.id, berth_id=berth.id, source=source.track, target=goal, hours=wanted.hours, people=wanted.people,
        crash_free=wanted.crash_free, no_open=list(wanted.no_open), needs_go_ahead=wanted.needs_go_ahead,
        created_at=act.now,
    )  # fmt: skip
    row.app, row.berth = app, berth
    act.session.add(row)
    act.session.flush()
    act.log("rule made", _subject(row), app=app.name, reason=reason, after={"to": goal, "asks": wanted.told()})
    return row


def end(act: Act, app_name: str, rule_id: str, reason: str) -> TrackRule:
    """Nothing moves by this rule any more."""
    row = needed(act.session, app_name, rule_id)
    if row.ended_at is not None:
        raise ImpossibleAct("The rule has ended already.", possible=[])
    row.ended_at = act.now
    act.log("rule ended", _subject(row), app=row.app.name, reason=reason, before={"asks": rule_of(row).told()})
    return row


def needed(session: Session, app_name: str, rule_id: str) -> TrackRule:
    found = session.get(TrackRule, rule_id)
    if found is None or found.app_id != find.app(session, app_name).id:
        raise NotFound(
            f"No rule has the id {rule_id!r}.", remedy=f"See: tide rule list --app {app_name}", code="rule-unknown"
        )
    return found


def _subject(row: TrackRule) -> str:
    return f"track {Address(row.berth.store.name, row.source)}"


def of_app(session: Session, app: App) -> list[TrackRule]:
    """The rules of an app that have not ended."""
    wanted = select(TrackRule).where(TrackRule.app_id == app.id, TrackRule.ended_at.is_(None))
    return list(session.scalars(wanted.order_by(TrackRule.created_at, TrackRule.id)))


def give_go_ahead(act: Act, app_name: str, rule_id: str, build_id: str, reason: str) -> RuleRun:
    """Let one build move up by a rule as soon as all else that it asks for is there."""
    row = needed(act.session, app_name, rule_id)
    build = find.build_of(act.session, row.app, build_id, row.berth.platform)
    if not row.needs_go_ahead or row.ended_at is not None:
        raise ImpossibleAct("This rule waits for no go-ahead.", possible=[])
    run = act.session.get(RuleRun, (row.id, build.id))
    if run is None:
        run = RuleRun(rule_id=row.id, build_id=build.id)
        act.session.add(run)
    if run.go_ahead_at is not None:
        raise ImpossibleAct(f"{build.label} has the go-ahead already.", possible=[])
    run.go_ahead_at, run.trouble = act.now, None
    act.log(
        "go-ahead given", _subject(row), app=row.app.name, reason=reason, after={"build": build.id, "to": row.target}
    )
    return run


def standings(session: Session, app: App, now: datetime) -> list[Standing]:
    """Every build that stands under a rule of the app now, with what is still missing."""
    rows = {row.berth.id: row for row in tracks.board(session, app.name)}
    found = []
    for rule in of_app(session, app):
        row = rows.get(rule.berth_id)
        if row is not None:
            found += _under(session, rule, row, now)
    return found


def _under(session: Session, rule: TrackRule, row: BoardRow, now: datetime) -> list[Standing]:
    cells = {entry.address.track: entry for entry in row.cells}
    source, target = cells.get(rule.source), cells.get(rule.target)
    if source is None or target is None:
        return []
    there = {one.build.id for one in (*target.holds, *target.coming)}
    found = []
    for build_id, placed in {one.build.id: one for one in source.holds if one.offered}.items():
        run = session.get(RuleRun, (rule.id, build_id))
        if build_id in there or (run is not None and run.moved_at is not None):
            continue
        sessions, crashed = _use(session, [one for one in source.holds if one.build.id == build_id])
        seen = Evidence(
            stood=tracks.stood(row, placed.build, now).get(rule.source, Stood(0.0, 0)),
            sessions=sessions,
            crashed=crashed,
            open_reports=build_reports.counted(session, placed.build.id)[0],
            go_ahead=run is not None and run.go_ahead_at is not None,
        )
        missing = tuple(missing_for(rule_of(rule), seen))
        found.append(Standing(rule, placed.build, missing, seen.go_ahead, run.trouble if run else None))
    return found


def _use(session: Session, placed: Sequence[Placement]) -> tuple[int, int]:
    ids = [one.trial.id for one in placed if one.trial is not None]
    wanted = select(func.sum(TrialUsage.sessions), func.sum(TrialUsage.crashed)).where(TrialUsage.trial_id.in_(ids))
    sessions, crashed = session.execute(wanted).one()
    return sessions or 0, crashed or 0


def apps_with_rules(session: Session) -> list[App]:
    """The apps in use that have rules."""
    wanted = select(App).join(TrackRule, TrackRule.app_id == App.id)
    return list(session.scalars(wanted.where(TrackRule.ended_at.is_(None), App.retired_at.is_(None)).distinct()))


def move_up(desk: Desk) -> int:
    """Promote every build for which its rule waits for nothing more; returns how many moved.

    What blocks a build is written beside it, and it is tried again when a person says so.
    """
    moved = 0
    with desk.look() as session:
        names = [app.name for app in apps_with_rules(session)]
    for app_name in names:
        try:
            for due in _due(desk, app_name):
                moved += _move(desk, app_name, due)
        except LostLease:
            raise
        except Exception:  # noqa: BLE001  (the other apps move all the same)
            _log.exception("the rules of an app could not be looked at", app=app_name)
    return moved


@dataclass(frozen=True)
class _Due:
    rule: str
    build: str
    label: str
    source: Address
    target: str


def _due(desk: Desk, app_name: str) -> list[_Due]:
    """The builds of an app for which a rule waits for nothing more."""
    with desk.look() as session:
        found = standings(session, find.app(session, app_name), desk.clock.now())
        return [
            _Due(
                one.rule.id, one.build.id, one.build.label, Address(one.rule.berth.store.name, one.rule.source),
                one.rule.target,
            )
            for one in found
            if not one.missing and one.trouble is None
        ]  # fmt: skip


def _move(desk: Desk, app_name: str, due: _Due) -> int:
    """Promote one build, and write down that it was, in one act; what blocks it is kept beside it, for a person."""
    try:
        with desk.look() as session:
            step = placing.steps(session, app_name, due.source, due.target, due.build)
        wish = placing.carried(desk, app_name, step, Wish(reason="all that the rule asks for is there"))
        with desk.act(ENGINE) as act:
            placing.place_in(act, ENGINE, app_name, due.build, [(step.target, wish)])
            _run(act, due).moved_at = act.now
    except LostLease:
        raise
    except TideError as wrong:
        _blocked(desk, app_name, due, f"{wrong.detail} {wrong.remedy}".strip())
        return 0
    except Exception:  # noqa: BLE001  (the other builds move all the same)
        _log.exception("a build could not move up", app=app_name, build=due.build)
        _blocked(desk, app_name, due, "the desk could not do it; its log has the details")
        return 0
    return 1


def _blocked(desk: Desk, app_name: str, due: _Due, why: str) -> None:
    with desk.act(ENGINE) as act:
        _run(act, due).trouble = why
        subject, place = f"track {due.source}", f"/apps/{app_name}/tracks"
        act.log("not moved up automatically", subject, app=app_name, reason=why)
        said, key = (
            f"{due.label} could not move up from {due.source}: {why}",
            f"{due.rule}/{due.build}/{act.now.isoformat()}",
        )
        act.notice(NoticeKind.NOT_MOVED_UP, key, subject, said, place=place, app=app_name)


def _run(act: Act, due: _Due) -> RuleRun:
    run = act.session.get(RuleRun, (due.rule, due.build))
    if run is None:
        run = RuleRun(rule_id=due.rule, build_id=due.build)
        act.session.add(run)
    return run


def try_again(act: Act, app_name: str, rule_id: str, build_id: str) -> RuleRun:
    """What blocked it is fixed: the rule looks at the build again."""
    row = needed(act.session, app_name, rule_id)
    run = act.session.get(RuleRun, (row.id, find.build_of(act.session, row.app, build_id, row.berth.platform).id))
    if run is None or run.trouble is None:
        raise ImpossibleAct("Nothing keeps this build from moving up.", possible=[])
    run.trouble = None
    return run
