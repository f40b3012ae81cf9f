"""Steering a rollout: for all legs of a release or for one, always with a reason."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import ImpossibleAct, Invalid, NotFound, TideError
from restless_tide.core.ladder import FULL_SHARE
from restless_tide.core.lane import Accepted, Moment, step
from restless_tide.core.order import OrderKind, Subject, kind_for
from restless_tide.core.rights import Apps
from restless_tide.core.rollout import (
    OFFERED,
    ROLLOUT,
    STEERING,
    Progress,
    RolloutEvent,
    RolloutState,
    advanced,
    demand,
    steered,
)
from restless_tide.core.rulebook import PRODUCTION
from restless_tide.desk import find, go_aheads, lanes, legs, options, pacing
from restless_tide.desk.desk import Act
from restless_tide.desk.legs import leg_subject
from restless_tide.records.tables import App, Berth, Leg, Order


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
    if event is RolloutEvent.HALT and store_name is None and any(outcome.ordered for outcome in outcomes):
        outcomes = _hold_back_the_rest(act, outcomes, reason)
    if not any(outcome.ordered for outcome in outcomes):
        told = " ".join(f"{find.place_of(outcome.leg)}: {outcome.why_not}" for outcome in outcomes)
        raise ImpossibleAct(f"{event} is possible at no store. {told}", possible=_possible(chosen, act.now))
    return outcomes


def _hold_back_the_rest(act: Act, outcomes: list[Steered], reason: str) -> list[Steered]:
    """A release that is stopped everywhere is not launched anywhere else without a person."""
    held = hold_back(act, [outcome.leg for outcome in outcomes], reason)
    return [replace(outcome, why_not=NOT_LAUNCHED) if outcome.leg in held else outcome for outcome in outcomes]


LEFT_COMPLETE = "Everybody is offered it already; it was left alone."
NOT_LAUNCHED = "It is not launched yet; it is not launched now without a person's go-ahead."


def hold_back(act: Act, among: Iterable[Leg], reason: str) -> list[Leg]:
    """Have those of some legs that were not launched yet wait for a person's go-ahead; returns those that did not wait for it."""
    held = [
        leg
        for leg in among
        if leg.state is ROLLOUT.initial and leg.track == PRODUCTION and not go_aheads.waits_for_people(leg)
    ]
    for leg in held:
        go_aheads.hold(leg, act.now)
        act.log("launch held back", leg_subject(leg), app=leg.release.app.name, reason=reason)
    return held


def halt_all(
    act: Act, app_name: str | None, platform: str | None, reason: str, *, complete_too: bool, reach: Apps = None
) -> tuple[list[Steered], list[Leg]]:
    """Halt every rollout of an app, of a platform or of both together, in one act; returns the complete legs left alone besides.
    With ``reach`` only those of these apps.

    A store that takes no order is told with its reason and stops no other. Raises Invalid without a reason, NotFound for an
    app or platform that is unknown, ImpossibleAct when nothing can be halted.
    """
    if not reason.strip():
        raise Invalid("Say why: halt needs a reason.", remedy="Add --reason.", code="reason-missing")
    wanted = select(Leg.id).join(Berth, Leg.berth_id == Berth.id).where(Leg.state.in_(OFFERED))
    if app_name is not None:
        wanted = wanted.where(Berth.app_id == find.app(act.session, app_name).id)
    if platform is not None:
        _demand_platform(act.session, platform)
        wanted = wanted.where(Berth.platform == platform)
    if reach is not None:
        wanted = wanted.where(Berth.app_id.in_(select(App.id).where(App.name.in_(reach))))
    offered = lanes.legs_ahead(act.session, act.session.scalars(wanted.order_by(Leg.created_at)).all())
    left = [leg for leg in offered if leg.state is RolloutState.COMPLETE and not complete_too]
    outcomes = [_halt(act, leg, reason) for leg in offered if leg not in left]
    if not any(outcome.ordered for outcome in outcomes):
        told = " ".join(f"{one.leg.release.version} at {find.place_of(one.leg)}: {one.why_not}" for one in outcomes)
        besides = f" {len(left)} are offered to everybody; --complete-too halts these." if left else ""
        raise ImpossibleAct(f"Nothing there can be halted. {told}{besides}".replace("  ", " ").strip(), possible=[])
    return outcomes, left


def _halt(act: Act, leg: Leg, reason: str) -> Steered:
    try:
        return _steer_leg(act, leg, RolloutEvent.HALT, reason, None, alone=False)
    except TideError as wrong:
        return Steered(leg, False, wrong.detail)


def _demand_platform(session: Session, platform: str) -> None:
    known = sorted(session.scalars(select(Berth.platform).distinct()))
    if platform not in known:
        raise NotFound(f"No app is for {platform!r}.", remedy=f"Known: {', '.join(known)}.", code="platform-unknown")


def _possible(chosen: list[Leg], now: datetime) -> list[str]:
    found = [option.act for leg in chosen for option in options.possible(leg, now=now).values() if option.possible]
    return [str(event) for event in dict.fromkeys(found)]


def _steer_leg(act: Act, leg: Leg, event: RolloutEvent, reason: str, share: float | None, *, alone: bool) -> Steered:
    option = options.possible(leg, acts=(event,), now=act.now)[event]
    if not option.possible:
        if alone:
            demand(option, options.possible(leg, now=act.now))
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
        if share is not None and (why_not := pacing.why_held(leg, after.stage)):
            if alone:
                raise ImpossibleAct(why_not, possible=_possible([leg], act.now))
            return Steered(leg, False, why_not)
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
