"""Steering a rollout: for all legs of a release or for one, always with a reason."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from restless_tide.core.errors import ImpossibleAct, Invalid
from restless_tide.core.ladder import FULL_SHARE
from restless_tide.core.order import OrderKind, overtaken_by
from restless_tide.core.rollout import STEERING, Progress, RolloutEvent, advanced, demand, steered
from restless_tide.desk import find, legs
from restless_tide.desk.desk import Act
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import Leg

_ORDER_OF = {
    RolloutEvent.ADVANCE: OrderKind.SET_SHARE,
    RolloutEvent.FINISH: OrderKind.SET_SHARE,
    RolloutEvent.PAUSE: OrderKind.PAUSE,
    RolloutEvent.RESUME: OrderKind.RESUME,
    RolloutEvent.HALT: OrderKind.HALT,
    RolloutEvent.WITHDRAW: OrderKind.WITHDRAW,
}


@dataclass(frozen=True)
class Steered:
    """What became of a steering act at one store: ordered, or why not."""

    leg: Leg
    ordered: bool
    why_not: str = ""


def steer(
    act: Act,
    app_name: str,
    version: str,
    store_name: str | None,
    event: RolloutEvent,
    reason: str,
    share: float | None = None,
) -> list[Steered]:
    """Order a steering act at one store, or at every store where it is possible.

    Raises Invalid without a reason; ImpossibleAct when it is possible nowhere, with each store's why.
    """
    if event not in STEERING:
        raise Invalid(f"{event} is not steered by hand.", code="act-unknown")
    if not reason.strip():
        raise Invalid(f"Say why: {event} needs a reason.", remedy="Add --reason.", code="reason-missing")
    if share is not None and not 0 < share <= FULL_SHARE:
        raise Invalid(f"A share lies above 0% and up to 100%, not {share:.0%}.", code="share-unfit")
    release = find.release(act.session, find.app(act.session, app_name), version)
    chosen = [find.leg(release, store_name)] if store_name else list(release.legs)
    outcomes = [_steer_leg(act, leg, event, reason, share, alone=store_name is not None) for leg in chosen]
    if not any(outcome.ordered for outcome in outcomes):
        told = " ".join(f"{outcome.leg.berth.store.name}: {outcome.why_not}" for outcome in outcomes)
        raise ImpossibleAct(f"{event} is possible at no store. {told}", possible=_possible(act, chosen))
    return outcomes


def _possible(act: Act, chosen: list[Leg]) -> list[str]:
    found = [option.act for leg in chosen for option in legs.steering(act.session, leg).values() if option.possible]
    return [str(event) for event in dict.fromkeys(found)]


def _steer_leg(act: Act, leg: Leg, event: RolloutEvent, reason: str, share: float | None, *, alone: bool) -> Steered:
    here = legs.steering(act.session, leg)
    if not here[event].possible:
        if alone:
            demand(here[event], here)
        return Steered(leg, False, here[event].why_not)
    before, ladder = legs.progress_of(leg), legs.ladder_of(leg)
    if event is RolloutEvent.ADVANCE:
        if share is not None and rules_of(leg.berth.store).rollout.dictated_ladder is not None:
            raise Invalid(f"{leg.berth.store.name} dictates its ladder: {ladder.told()}.", code="ladder-dictated")
        after = advanced(before, ladder, act.now, share)
    else:
        after = steered(before, event, ladder, act.now)
    order_step(act, leg, event, after, reason)
    return Steered(leg, True)


def order_step(act: Act, leg: Leg, event: RolloutEvent, after: Progress, reason: str) -> None:
    """Write down one step of a rollout and order it at the store, by whoever decided it."""
    before = _told(leg)
    kind = _ORDER_OF[event]
    if leg.sighting is not None and _drops_a_raise(act, leg, kind):
        share = leg.sighting.share
        after = replace(after, share=share, stage=legs.ladder_of(leg).stage_of(share))
    legs.keep_progress(leg, after)
    payload: dict[str, Any] = {"share": after.share} if kind is OrderKind.SET_SHARE else {"reason": reason}
    act.order(kind, lane=leg.id, store=leg.berth.store, subject=leg.id, payload=payload)
    act.log(
        str(event),
        f"release {leg.release.version} at {leg.berth.store.name}",
        app=leg.release.app.name,
        reason=reason,
        before=before,
        after=_told(leg),
    )


def _drops_a_raise(act: Act, leg: Leg, kind: OrderKind) -> bool:
    """Whether a raise of the share is overtaken by this step: the share stays where the store was last seen."""
    waiting = legs.pending_orders(act.session, leg.id)
    return OrderKind.SET_SHARE in overtaken_by(kind) and any(order.kind is OrderKind.SET_SHARE for order in waiting)


def _told(leg: Leg) -> dict[str, Any]:
    return {"state": str(leg.state), "share": leg.share}
