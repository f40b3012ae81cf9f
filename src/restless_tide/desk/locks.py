"""What is so at a berth, as far as the locks of its store's rulebook depend on it."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.graph import Standing
from restless_tide.core.rollout import ON_ITS_WAY, RolloutState
from restless_tide.core.round import UNDER_REVIEW
from restless_tide.records.tables import Berth, Consignment, Leg, Round


def standing_at(session: Session, berth: Berth) -> Standing:
    """What is so at the berth, as far as the store's locks depend on it."""
    builds = select(Consignment.id).where(Consignment.berth_id == berth.id, Consignment.store_ref.is_not(None))
    rounds = session.scalars(select(Round).join(Leg).where(Leg.berth_id == berth.id)).all()
    on_offer = (*ON_ITS_WAY, RolloutState.COMPLETE, RolloutState.HALTED)
    live = select(Leg.id).where(Leg.berth_id == berth.id, Leg.state.in_(on_offer))
    return Standing(
        first_build_in=session.scalar(builds.limit(1)) is not None,
        first_review_begun=any(entry.store_ref for entry in rounds),
        version_in_review=any(entry.state in UNDER_REVIEW for entry in rounds),
        live=session.scalar(live.limit(1)) is not None,
    )
