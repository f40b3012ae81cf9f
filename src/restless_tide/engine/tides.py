"""What becomes due: rising rollouts go one stage up."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

import structlog
from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import LostLease, TideError
from restless_tide.core.rollout import RolloutEvent, advanced
from restless_tide.desk import freezes, lanes, legs, pacing, steering
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.engine.due import seconds_until
from restless_tide.records.tables import Leg, Release

_log = structlog.get_logger("engine")
BATCH = 50
"""So many legs rise in one transaction; a halt waits for no more."""


def rise(desk: Desk) -> float | None:
    """Order everything that is due now. Returns after how many seconds something may be due again."""
    order_due(desk)
    return seconds_until(desk, Leg.stage_ends_at)


def order_due(desk: Desk) -> int:
    """Order everything that is due now; returns how many steps were ordered."""
    now = desk.clock.now()
    with desk.look() as session:
        due = _not_held(session, session.scalars(select(Leg.id).where(Leg.stage_ends_at <= now)).all(), now)
    steps = 0
    for begin in range(0, len(due), BATCH):
        steps += _advance_all(desk, due[begin : begin + BATCH])
    return steps


def _not_held(session: Session, due: Sequence[str], now: datetime) -> Sequence[str]:
    """The legs among these that nothing holds: no freeze, no other store, no guard."""
    if not due:
        return due
    asked = select(Leg.id, Leg.ladder, Release.pace).join(Release).where(Leg.id.in_(due))
    frozen = bool(freezes.every(session))
    looked_at = {
        leg_id
        for leg_id, ladder, pace in session.execute(asked)
        if frozen or pace or any(stage.get("steady_hours") for stage in ladder["stages"])
    }
    held = {leg.id for leg in lanes.legs_ahead(session, sorted(looked_at)) if _held(leg, now)}
    return [leg_id for leg_id in due if leg_id not in held]


def _held(leg: Leg, now: datetime) -> bool:
    """Whether something holds a leg; where that cannot be found out, it is not raised."""
    try:
        return bool(pacing.waits_to_rise(leg, now))
    except LostLease:
        raise
    except Exception:  # noqa: BLE001  (the other legs rise)
        _log.exception("it could not be found out what a stage waits for", leg=leg.id)
        return True


def _advance_all(desk: Desk, due: Sequence[str]) -> int:
    """Raise several legs in one transaction, or each in its own when one of them cannot be raised."""
    try:
        with desk.act(ENGINE) as act:
            return sum(_advance(act, leg) for leg in lanes.legs_ahead(act.session, due))
    except LostLease:
        raise
    except Exception:  # noqa: BLE001  (each on its own then)
        if len(due) > 1:
            return sum(_advance_all(desk, [leg_id]) for leg_id in due)
        _log.exception("a stage could not be raised", leg=due[0])
        return 0


def _advance(act: Act, leg: Leg) -> int:
    if leg.stage_ends_at is None or leg.stage_ends_at > act.now or lanes.pending(act.session, leg.id):
        return 0
    if pacing.waits_to_rise(leg, act.now):  # it is due until nothing holds it
        return 0
    progress, ladder = legs.progress_of(leg), legs.ladder_of(leg)
    try:
        after = advanced(progress, ladder, act.now)
    except TideError as wrong:
        _log.error("a stage could not be raised and waits for a person", leg=leg.id, why=wrong.detail)
        leg.stage_ends_at = None
        return 0
    reason = f"as its ladder demands: {ladder.stages[progress.stage].told()}"
    steering.order_step(act, leg, RolloutEvent.ADVANCE, after, reason)
    return 1
