"""What may be done with a leg now, and what it waits for."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, object_session

from restless_tide.core.freeze import held
from restless_tide.core.order import PENDING
from restless_tide.core.rollout import STEERING, Option, RolloutEvent, RolloutState, options
from restless_tide.desk import legs, pacing
from restless_tide.records.tables import Leg, Order


def steering(session: Session, leg: Leg, now: datetime) -> Mapping[RolloutEvent, Option]:
    """Every steering act on this leg: possible or not now, and what it would mean."""
    return possible(leg, legs.previous_version(session, leg), now=now)


def possible(
    leg: Leg, before: str | None = None, acts: Collection[RolloutEvent] = STEERING, *, now: datetime
) -> Mapping[RolloutEvent, Option]:
    """The same, or of some acts; without the version ``before`` it is not told what a withdrawal would bring back."""
    rules = legs.rollout_rules(leg)
    down = leg.state is RolloutState.WITHDRAWN
    here = dict(
        options(
            legs.progress_of(leg),
            legs.ladder_of(leg),
            rules,
            before,
            offered_again=legs.offered_again(leg),
            newer=legs.newer_version(leg) if down else None,
            confirmed=not down or _confirmed(leg),
            acts=acts,
        )
    )
    rising = [act for act, option in here.items() if option.possible and held(act, leg.state)]
    frozen = legs.frozen_until(leg, now) if rising else None
    if frozen is None:
        return here | {act: replace(here[act], possible=False, why_not=why) for act, why in _paced(leg, rising)}
    why_not = f"The freeze {frozen[0]} holds it until {frozen[1]:%Y-%m-%d %H:%M} UTC. Two people can lift it for this release."
    return {
        act: replace(option, possible=False, why_not=why_not) if act in rising else option
        for act, option in here.items()
    }


def _paced(leg: Leg, rising: Collection[RolloutEvent]) -> list[tuple[RolloutEvent, str]]:
    """Those of some acts that would raise a leg too far above the other stores of its release, each with the reason."""
    if not leg.release.pace:
        return []
    top = len(legs.ladder_of(leg).stages) - 1
    to = {RolloutEvent.ADVANCE: min(leg.stage + 1, top), RolloutEvent.FINISH: top}
    return [(act, why) for act in rising if act in to and (why := pacing.why_held(leg, to[act]))]


def _confirmed(leg: Leg) -> bool:
    """Whether the store was last seen to hold what is wanted, and nothing is ordered of it."""
    session = object_session(leg)
    assert session is not None
    waits = select(Order.id).where(Order.lane == leg.id, Order.state.in_(PENDING)).limit(1)
    return leg.sighting is not None and leg.sighting.state == leg.state and session.scalar(waits) is None
