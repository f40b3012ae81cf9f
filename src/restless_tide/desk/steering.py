"""Steering a rollout: for all legs of a release or for one, always with a reason."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from restless_tide.core.errors import ImpossibleAct, Invalid
from restless_tide.core.ladder import FULL_SHARE
from restless_tide.core.lane import Accepted, Moment, step
from restless_tide.core.order import OrderKind, Subject, kind_for
from restless_tide.core.rollout import ROLLOUT, STEERING, Progress, RolloutEvent, advanced, demand, steered
from restless_tide.desk import find, lanes, legs
from restless_tide.desk.desk import Act
from restless_tide.desk.legs import leg_subject
from restless_tide.records.tables import Leg, Order


@dataclass(frozen=True)
class Steered:
    """What became of a steering act at one store: ordered, or why not. ``order`` is None where nothing had to be sent."""

    leg: Leg
    ordered: bool
    why_not: str = ""
    order: str | None = None


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
        raise Invalid(f"A share is above 0% and at most 100%, not {share:.0%}.", code="share-unfit")
    chosen = lanes.legs_of(act.session, app_name, version)
    release = chosen[0].release if chosen else find.release(act.session, find.app(act.session, app_name), version)
    if store_name:
        chosen = [find.leg(release, store_name)]
    outcomes = [_steer_leg(act, leg, event, reason, share, alone=store_name is not None) for leg in chosen]
    if not any(outcome.ordered for outcome in outcomes):
        told = " ".join(f"{find.place_of(outcome.leg)}: {outcome.why_not}" for outcome in outcomes)
        raise ImpossibleAct(f"{event} is possible at no store. {told}", possible=_possible(chosen, act.now))
    return outcomes


def _possible(chosen: list[Leg], now: datetime) -> list[str]:
    found = [option.act for leg in chosen for option in legs.possible(leg, now=now).values() if option.possible]
    return [str(event) for event in dict.fromkeys(found)]


def _steer_leg(act: Act, leg: Leg, event: RolloutEvent, reason: str, share: float | None, *, alone: bool) -> Steered:
    option = legs.possible(leg, acts=(event,), now=act.now)[event]
    if not option.possible:
        if alone:
            demand(option, legs.possible(leg, now=act.now))
        return Steered(leg, False, option.why_not)
    before, ladder = legs.progress_of(leg), legs.ladder_of(leg)
    if legs.offered_again(leg) and event is RolloutEvent.RESUME:
        _accept(act, leg, reason)
        return Steered(leg, True)
    if not ROLLOUT.allows(before.state, event):  # stopped already, offered again, and now stopped again
        after = before
    elif event is RolloutEvent.ADVANCE:
        if share is not None and legs.rollout_rules(leg).dictated_ladder is not None:
            raise Invalid(f"{leg.berth.store.name} dictates its ladder: {ladder.told()}.", code="ladder-dictated")
        after = advanced(before, ladder, act.now, share)
    else:
        after = steered(before, event, ladder, act.now)
    return Steered(leg, True, order=order_step(act, leg, event, after, reason).id)


def _accept(act: Act, leg: Leg, reason: str) -> None:
    """Take as wanted what the store offers against a stop; there is nothing to order."""
    before = _told(leg)
    lane = lanes.read(act.session, Subject.LEG, leg, lanes.pending(act.session, leg.id))
    after, _ = step(lane, Accepted(), Moment(act.now, ""))
    lanes.keep(act.session, lane.level, after.level, act.now)
    legs.adopt(leg, after.level.wanted, act.now)
    act.log(
        "taken as offered", leg_subject(leg), app=leg.release.app.name, reason=reason, before=before, after=_told(leg)
    )


def order_step(act: Act, leg: Leg, event: RolloutEvent, after: Progress, reason: str) -> Order:
    """Write down one step of a rollout and order it at the store, by whoever decided it.

    Where it overtakes a raise that the store was not seen to do, the share stays where the store was last seen.
    """
    before, kind = _told(leg), kind_for(event)
    payload: dict[str, Any] = {"share": after.share} if kind is OrderKind.SET_SHARE else {"reason": reason}
    order, wanted = lanes.place(act, kind, lane=leg.id, store=leg.berth.store, subject=leg.id, payload=payload)
    if wanted.share != after.share:
        after = replace(after, share=wanted.share, stage=legs.ladder_of(leg).stage_of(wanted.share))
    legs.keep_progress(leg, after, act.now)
    act.log(str(event), leg_subject(leg), app=leg.release.app.name, reason=reason, before=before, after=_told(leg))
    return order


def _told(leg: Leg) -> dict[str, Any]:
    return {"state": str(leg.state), "share": leg.share}
