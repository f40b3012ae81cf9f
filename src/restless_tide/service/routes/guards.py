"""What is counted by the hour, and the guards that watch it."""

from __future__ import annotations

from dataclasses import asdict
from datetime import timedelta
from typing import Annotated

from fastapi import Query

from restless_tide.core.rights import Right
from restless_tide.core.second_person import AskedAct
from restless_tide.desk import course, find, gauges, guards, trying
from restless_tide.service import second_person, shown_guards
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.base import Instant
from restless_tide.wire.guards import (
    CountedTold,
    Counts,
    CourseMark,
    CoursePoint,
    CourseTold,
    GaugesTaken,
    GaugesTold,
    GaugesWanted,
    GuardTold,
    GuardTrialTold,
    GuardTrialWanted,
    GuardWanted,
    SilenceWanted,
    WatchTold,
)
from restless_tide.wire.retiring import ReasonWanted

USUAL_SPAN = timedelta(days=14)
LONGEST_SPAN = timedelta(days=800)
router = router_of("guards", "/v1/apps/{app}")


def _setting(wanted: GuardWanted) -> guards.Setting:
    return guards.Setting(
        wanted.name, wanted.rule(), wanted.on_breach, wanted.every_store, wanted.together, tuple(wanted.stores), wanted.source
    )  # fmt: skip


@router.get("/guards")
@needs(Right.SEE)
def of_app(app: str, desk: TheDesk, _: SignedIn) -> list[GuardTold]:
    """The guards of an app."""
    with desk.look() as session:
        return [shown_guards.guard(row) for row in guards.of_app(session, find.app(session, app))]


@router.post("/guards", status_code=201)
@needs(Right.STEER)
def set_up(app: str, wanted: GuardWanted, desk: TheDesk, person: SignedIn) -> GuardTold:
    """Have a guard watch every rollout of the app from now on, those under way included."""
    with desk.act(person.id) as act:
        return shown_guards.guard(guards.set_up(act, app, _setting(wanted)))


@router.put("/guards/{guard}")
@needs(Right.STEER)
def change(app: str, guard: str, wanted: GuardWanted, desk: TheDesk, person: SignedIn) -> GuardTold:
    """Change a guard, whole; rollouts under way are judged by the new rule."""
    with desk.act(person.id) as act:
        return shown_guards.guard(guards.change(act, app, guard, _setting(wanted)))


@router.post("/guards/{guard}/end", status_code=204)
@needs(Right.STEER)
def end(app: str, guard: str, wanted: ReasonWanted, desk: TheDesk, person: SignedIn) -> None:
    """The guard watches no more; what it found stays."""
    with desk.act(person.id) as act:
        guards.end(act, app, guard, wanted.reason)


@router.post("/guard-trials")
@needs(Right.STEER)
def try_out(app: str, wanted: GuardTrialWanted, desk: TheDesk, _: SignedIn) -> GuardTrialTold:
    """Try a guard on a release's past counts, or on made-up ones: would it have stopped, and when? Nothing is stopped."""
    setting = _setting(wanted)
    with desk.look() as session:
        find.app(session, app)
        if wanted.version is not None:
            return shown_guards.trial(setting, trying.on_release(session, app, wanted.version, setting), made_up=False)
    made = trying.MadeUp(wanted.ratio or 1.0, wanted.rate, wanted.people, wanted.share, wanted.hours, wanted.seed)
    return shown_guards.trial(setting, trying.on_made_up(setting, made, desk.clock.now()), made_up=True)


@router.get("/releases/{version}/watches")
@needs(Right.SEE)
def watches(app: str, version: str, desk: TheDesk, _: SignedIn) -> list[WatchTold]:
    """What each guard says of a release."""
    with desk.look() as session:
        return shown_guards.watches(session, find.release(session, find.app(session, app), version), desk.clock.now())


@router.get("/releases/{version}/watches/{guard}")
@needs(Right.SEE)
def watch(app: str, version: str, guard: str, desk: TheDesk, _: SignedIn) -> list[WatchTold]:
    """The same of one guard, with its evidence hour by hour."""
    with desk.look() as session:
        release = find.release(session, find.app(session, app), version)
        guards.needed(session, app, guard)
        rows = [row for row in guards.watches(session, release) if row.guard.name == guard]
        return [shown_guards.watch(session, row, desk.clock.now(), with_line=True) for row in rows]


@router.get("/releases/{version}/course")
@needs(Right.SEE)
def run(app: str, version: str, desk: TheDesk, _: SignedIn) -> list[CourseTold]:
    """The share, the people and what went wrong over time, store by store, with acts and verdicts."""
    with desk.look() as session:
        release = find.release(session, find.app(session, app), version)
        return [
            CourseTold.of(
                one,
                points=[CoursePoint.of(point) for point in one.points],
                marks=[CourseMark.of(mark) for mark in one.marks],
            )
            for one in course.of_release(session, release, desk.clock.now())
        ]


@router.put("/releases/{version}/watches/{guard}/silence")
@needs(Right.STEER)
def silence(
    app: str, version: str, guard: str, wanted: SilenceWanted, desk: TheDesk, person: SignedIn
) -> list[WatchTold]:
    """Have a guard do nothing at this release for a time; it continues to count. Without a time it speaks again. Where
    the app wants a second person for what brings a release to people, silence waits for one, and speaking again does not."""
    silent = second_person.GuardSilence(guard=guard, **wanted.model_dump())
    if wanted.hours is not None or wanted.until is not None:
        second_person.demand(desk, person.id, AskedAct.SILENCE, app, version, silent)
    with desk.act(person.id) as act:
        rows = second_person.silence(act, app, version, silent)
        act.session.flush()
        return [shown_guards.watch(act.session, row, act.now, with_line=False) for row in rows]


@router.post("/gauges")
@needs(Right.ENTER_COUNTS)
def enter(app: str, wanted: GaugesWanted, desk: TheDesk, person: SignedIn) -> GaugesTaken:
    """Hand in counts: of a team's own crash collector, or as they are read at a hand-carried store."""
    with desk.act(person.id) as act:
        return GaugesTaken.of(
            gauges.enter(act, app, wanted.store, wanted.source, [gauges.Hour.of(one) for one in wanted.hours])
        )


@router.get("/gauges")
@needs(Right.SEE)
def read(
    app: str,
    desk: TheDesk,
    _: SignedIn,
    store: str,
    source: Annotated[str, Query(max_length=60, description="empty: what the store counts itself")] = "",
    version: Annotated[list[str] | None, Query(max_length=20, description="of these only")] = None,
    since: Instant | None = None,
    until: Instant | None = None,
) -> GaugesTold:
    """What was counted at a store, by the hour, and by the day where it is older than 60 days."""
    now = desk.clock.now()
    last = until or now
    first = max(since or last - USUAL_SPAN, last - LONGEST_SPAN)
    with desk.look() as session:
        berth = find.berth(session, find.app(session, app), find.store(session, store))
        return GaugesTold(
            store=store,
            source=source,
            sources=gauges.sources(session, berth),
            trouble=berth.gauges_trouble,
            counted=[
                CountedTold.of(one, counts=Counts.model_validate(asdict(one.counts)))
                for one in gauges.series(session, berth, source, version or (), first, last)
            ],
        )
