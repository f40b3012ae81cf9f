"""What becomes due: approved legs whose conditions hold are launched, rising rollouts go one stage up."""

from __future__ import annotations

import structlog
from sqlalchemy import select

from restless_tide.core.errors import TideError
from restless_tide.core.leg import LegPhase
from restless_tide.core.order import OrderKind
from restless_tide.core.rollout import ON_ITS_WAY, RolloutEvent, RolloutState, advanced, launched, steered
from restless_tide.core.round import RoundState
from restless_tide.desk import legs, steering
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.engine.carriers import leg_subject
from restless_tide.records.tables import Leg, Round

_log = structlog.get_logger("engine")


def rise(desk: Desk) -> int:
    """Order everything that is due now; returns how many steps were ordered."""
    now = desk.clock.now()
    with desk.look() as session:
        due = session.scalars(select(Leg.id).where(Leg.stage_ends_at <= now)).all()
        approved = session.scalars(
            select(Leg.id).join(Round).where(Leg.state == RolloutState.WAITING, Round.state == RoundState.APPROVED)
        ).all()
    steps = 0
    for leg_id in due:
        with desk.act(ENGINE) as act:
            steps += _advance(act, leg_id)
    for leg_id in dict.fromkeys(approved):
        steps += _launch_if_ready(desk, leg_id)
    return steps


def _advance(act: Act, leg_id: str) -> int:
    leg = act.session.get(Leg, leg_id)
    if (
        leg is None
        or leg.stage_ends_at is None
        or leg.stage_ends_at > act.now
        or legs.pending_orders(act.session, leg.id)
    ):
        return 0
    progress, ladder = legs.progress_of(leg), legs.ladder_of(leg)
    try:
        after = advanced(progress, ladder, act.now)
    except TideError as wrong:
        _log.error("a stage could not be raised and waits for a person", leg=leg_id, why=wrong.detail)
        leg.stage_ends_at = None
        return 0
    dwell = ladder.stages[progress.stage].dwell_hours
    steering.order_step(act, leg, RolloutEvent.ADVANCE, after, f"held for {dwell:g} h as the ladder says")
    return 1


def _launch_if_ready(desk: Desk, leg_id: str) -> int:
    with desk.look() as session:
        leg = session.get(Leg, leg_id)
        if leg is None or legs.phase(leg) is not LegPhase.APPROVED or legs.waits_for(leg, desk.clock.now()):
            return 0
    with desk.act(ENGINE) as act:
        leg = act.session.get(Leg, leg_id)
        if leg is None or legs.phase(leg) is not LegPhase.APPROVED or legs.waits_for(leg, act.now):
            return 0
        legs.keep_progress(leg, launched(legs.progress_of(leg), legs.ladder_of(leg), act.now))
        leg.launched_at = act.now
        _supersede_others(act, leg)
        act.order(OrderKind.LAUNCH, lane=leg.id, store=leg.berth.store, subject=leg.id, payload={"share": leg.share})
        act.log(
            "launch",
            leg_subject(leg),
            app=leg.release.app.name,
            reason="all conditions hold",
            before={"state": str(RolloutState.WAITING), "share": 0.0},
            after={"state": str(leg.state), "share": leg.share},
        )
        return 1


def _supersede_others(act: Act, leg: Leg) -> None:
    """A new rollout takes the place of one that is still on its way or halted at the same berth."""
    others = act.session.scalars(
        select(Leg).where(
            Leg.berth_id == leg.berth_id, Leg.id != leg.id, Leg.state.in_((*ON_ITS_WAY, RolloutState.HALTED))
        )
    )
    for other in others:
        legs.keep_progress(
            other, steered(legs.progress_of(other), RolloutEvent.SUPERSEDE, legs.ladder_of(other), act.now)
        )
        act.log("superseded", leg_subject(other), app=leg.release.app.name, after={"by": leg.release.version})
