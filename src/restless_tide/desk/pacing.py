"""What a rollout waits for before it rises: a freeze, other stores of its release, guards that are not steady yet."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session, object_session

from restless_tide.core.errors import Invalid
from restless_tide.core.ladder import Stage
from restless_tide.core.pace import FREE, Beside, Pace, PaceKind, holds_launch, holds_rise
from restless_tide.core.rollout import ROLLOUT
from restless_tide.core.rulebook import PRODUCTION
from restless_tide.core.steady import Counted, Saying, not_yet, together
from restless_tide.desk import find, gauges, legs
from restless_tide.desk.desk import Act
from restless_tide.records.tables import Guard, GuardWatch, Leg, Release


def pace_of(release: Release) -> Pace:
    return Pace.model_validate(release.pace) if release.pace else FREE


def set_pace(act: Act, app_name: str, version: str, pace: Pace, reason: str) -> Release:
    """Say how the stores of a release rise beside each other. Raises Invalid for a store that is not in it."""
    release = find.release(act.session, find.app(act.session, app_name), version)
    known = {leg.berth.store.name for leg in release.legs if leg.track == PRODUCTION}
    for store in (*([pace.lead] if pace.lead else []), *pace.apart):
        if store not in known:
            raise Invalid(
                f"{version} does not go to {store}; it goes to {', '.join(sorted(known)) or 'no store'}.",
                code="store-not-in-release",
            )
    before = pace_of(release)
    release.pace = None if pace.kind is PaceKind.FREE else pace.model_dump(mode="json")
    release.revision += 1
    act.log(
        "pace set",
        f"release {release.version}",
        app=app_name,
        reason=reason,
        before={"pace": before.told()},
        after={"pace": pace.told()},
    )
    return release


def holds_stage(leg: Leg, stage: int) -> list[str]:
    """Whom a leg waits for before it is raised to a stage of its ladder."""
    release = leg.release
    if not release.pace or leg.track != PRODUCTION:
        return []
    return holds_rise(pace_of(release), leg.berth.store.name, legs.ladder_of(leg), stage, _beside(release))


def why_held(leg: Leg, stage: int) -> str:
    """Why a leg may not be raised to a stage of its ladder now; nothing: it may."""
    waits = holds_stage(leg, stage)
    if not waits:
        return ""
    named = " and for ".join(waits)
    return f"The stores of this release rise in step, and it waits for {named}. See: tide release pace"


def waits_for_thaw(leg: Leg, now: datetime) -> list[str]:
    """The end of the freeze that holds a leg now, if one does."""
    frozen = legs.frozen_until(leg, now)
    return [f"the end of the freeze {frozen[0]} ({frozen[1].isoformat(timespec='minutes')})"] if frozen else []


def waits_for_lead(leg: Leg, now: datetime) -> list[str]:
    """What a leg waits for before it is launched after the store that leads."""
    release = leg.release
    if not release.pace or leg.track != PRODUCTION:
        return []
    pace, session = pace_of(release), object_session(leg)
    if pace.kind is not PaceKind.LEAD or pace.lead == leg.berth.store.name:
        return []
    assert session is not None
    lead = next((one for one in _legs(release) if one.berth.store.name == pace.lead), None)
    unsteady: list[str] = []
    if lead is not None and pace.steady_hours and lead.launched_at is not None:
        reached = Stage(share=pace.share, steady_hours=pace.steady_hours)
        unsteady = _not_steady(session, lead, reached, lead.launched_at, now)
    return holds_launch(pace, leg.berth.store.name, _beside(release), unsteady)


def waits_to_rise(leg: Leg, now: datetime) -> list[str]:
    """What the next stage of a leg waits for, besides its hours; nothing: nothing holds it."""
    session = object_session(leg)
    assert session is not None
    ladder = legs.ladder_of(leg)
    if not 0 <= leg.stage < len(ladder.stages) - 1:
        return []
    waits = [*waits_for_thaw(leg, now), *holds_stage(leg, leg.stage + 1)]
    stage = ladder.stages[leg.stage]
    if stage.steady_hours is not None:
        held = timedelta(seconds=leg.held_before_seconds)
        waits += _not_steady(session, leg, stage, (leg.running_since or now) - held, now)
    return waits


def _legs(release: Release) -> list[Leg]:
    return [leg for leg in release.legs if leg.track == PRODUCTION]


def _beside(release: Release) -> list[Beside]:
    """Where each store stands: as wanted, but no higher than it was seen."""
    found = []
    for leg in _legs(release):
        seen = leg.sighting.share if leg.sighting is not None else 0.0
        share = 0.0 if leg.state is ROLLOUT.initial else min(leg.share, seen)
        found.append(
            Beside(leg.berth.store.name, legs.place_title(leg), legs.phase(leg), share, confirmed=share == leg.share)
        )
    return found


def _not_steady(session: Session, leg: Leg, stage: Stage, began: datetime, now: datetime) -> list[str]:
    """What a stage that rises when steady still waits for at one leg."""
    watching = _watching(session, leg)
    sayings = [
        Saying(guard.name, watch.verdict if watch else None, watch.verdict_since if watch else guard.created_at)
        for guard, watch in watching
    ]
    counted = []
    for source in {guard.source for guard, _ in watching}:
        ahead = gauges.ahead_of(leg.berth, source)
        sessions, end = gauges.counted_since(session, leg.berth_id, source, leg.release.version, began + ahead)
        counted.append(Counted(sessions, end - ahead if end is not None else None))
    return not_yet(stage, began, sayings, together(counted), now)


def _watching(session: Session, leg: Leg) -> list[tuple[Guard, GuardWatch | None]]:
    """The guards that watch a leg, alone or with the other stores of its release, each with what it said last."""
    store = leg.berth.store.name
    asked = (
        select(Guard, GuardWatch)
        .outerjoin(
            GuardWatch,
            (GuardWatch.guard_id == Guard.id)
            & (GuardWatch.release_id == leg.release_id)
            & (GuardWatch.leg_id.is_(None) | (GuardWatch.leg_id == leg.id)),
        )
        .where(Guard.app_id == leg.release.app_id, Guard.ended_at.is_(None))
        .order_by(Guard.created_at)
    )
    return [(guard, watch) for guard, watch in session.execute(asked) if not guard.stores or store in guard.stores]
