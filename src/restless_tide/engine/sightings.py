"""Taking sightings: what a store tells of itself is read in its order and written beside what was ordered.

Events are pulled in sequence and each is taken in the same transaction as the cursor, so none is
lost and none counts twice. An event about something whose order has been sent but not confirmed yet
is left where it is until the confirmation is written; an event about something nobody here ordered
is passed over.
"""

from __future__ import annotations

from sqlalchemy import func, select

from restless_tide.core.consignment import CONSIGNMENT, ConsignmentEvent, ConsignmentState
from restless_tide.core.errors import TideError
from restless_tide.core.order import PENDING, OrderState
from restless_tide.core.rollout import RolloutState, adopted
from restless_tide.core.round import ROUND, RoundEvent, RoundState
from restless_tide.core.trial import TRIAL, TrialEvent, TrialState
from restless_tide.desk import legs
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.engine.carriers import leg_subject, needed
from restless_tide.gateways.protocol import StoreEvent
from restless_tide.records.tables import Consignment, Leg, Order, Round, Sighting, Store, Trial

_CONSIGNMENT_EVENTS = {
    ConsignmentState.PROCESSING: ConsignmentEvent.ARRIVE,
    ConsignmentState.HELD: ConsignmentEvent.HOLD,
    ConsignmentState.READY: ConsignmentEvent.CLEAR,
    ConsignmentState.REFUSED: ConsignmentEvent.REFUSE,
}
_ROUND_EVENTS = {
    RoundState.IN_HAND: RoundEvent.TAKE_UP,
    RoundState.APPROVED: RoundEvent.APPROVE,
    RoundState.REJECTED: RoundEvent.REJECT,
    RoundState.RECALLED: RoundEvent.RECALL,
}
_TRIAL_EVENTS = {
    TrialState.OPEN: TrialEvent.OPEN,
    TrialState.TURNED_DOWN: TrialEvent.TURN_DOWN,
    TrialState.CLOSED: TrialEvent.CLOSE,
}


def take(desk: Desk, store_id: str) -> None:
    """Pull what a store has told since the last time. A store that does not answer is marked so."""
    with desk.look() as session:
        store = needed(session, Store, store_id)
        name, after, troubled = store.name, store.events_seen, store.trouble is not None
    try:
        events = desk.gateway(store).events(after)
    except TideError as wrong:
        with desk.act(ENGINE) as act:
            row = needed(act.session, Store, store_id)
            if row.trouble != wrong.detail:
                row.trouble = wrong.detail
                act.tell("store away", f"store {name}", said=wrong.detail)
        return
    if not events and not troubled:
        return
    with desk.act(f"store:{name}") as act:
        row = needed(act.session, Store, store_id)
        row.reached_at = act.now
        if troubled:
            row.trouble = None
            for order in act.session.scalars(select(Order).where(Order.store_id == row.id, Order.state.in_(PENDING))):
                order.try_after = None
            act.tell("store back", f"store {name}")
        for event in events:
            if event.sequence <= row.events_seen:
                continue
            if not _apply(act, event) and _awaits_confirmation(act, row):
                break
            row.events_seen = event.sequence


def _awaits_confirmation(act: Act, store: Store) -> bool:
    sent = select(func.count()).select_from(Order).where(Order.store_id == store.id, Order.state == OrderState.SENT)
    return bool(act.session.scalar(sent))


def _apply(act: Act, event: StoreEvent) -> bool:
    """Write one event down; False when it speaks of something unknown here."""
    match event.type:
        case "consignment.changed":
            return _consignment_changed(act, event)
        case "submission.changed":
            return _round_changed(act, event)
        case "trial.changed":
            return _trial_changed(act, event)
        case "rollout.changed":
            return _rollout_changed(act, event)
    return False


def _consignment_changed(act: Act, event: StoreEvent) -> bool:
    consignment = act.session.scalar(select(Consignment).where(Consignment.store_ref == event.subject))
    if consignment is None:
        return False
    state = ConsignmentState(event.data["state"])
    step = _CONSIGNMENT_EVENTS[state]
    if consignment.state is state or (consignment.state, step) not in CONSIGNMENT.table:
        return True
    before = consignment.state
    consignment.state, consignment.changed_at = CONSIGNMENT.after(before, step), act.now
    consignment.questions = list(event.data.get("questions") or [])
    consignment.reason = event.data.get("reason")
    act.log(
        f"build {state}",
        f"consignment {consignment.id}",
        app=consignment.build.app.name,
        reason=consignment.reason or "",
        before={"state": str(before)},
        after={"state": str(state), "build": consignment.build.label},
    )
    return True


def _round_changed(act: Act, event: StoreEvent) -> bool:
    round_ = act.session.scalar(select(Round).where(Round.store_ref == event.subject))
    if round_ is None:
        return False
    state = RoundState(event.data["state"])
    step = _ROUND_EVENTS.get(state)
    if step is None or (round_.state, step) not in ROUND.table:
        return True
    before = round_.state
    round_.state, round_.changed_at = ROUND.after(before, step), act.now
    round_.reasons = list(event.data.get("reasons") or [])
    if (before, state) == (RoundState.RECALLED, RoundState.APPROVED):
        round_.leg.needs_word, round_.leg.word_given_at = True, None  # somebody wanted it back: never launch by itself
    act.log(
        f"review: {state}",
        leg_subject(round_.leg),
        app=round_.leg.release.app.name,
        reason=" ".join(round_.reasons),
        before={"round": str(before)},
        after={"round": str(state)},
    )
    return True


def _trial_changed(act: Act, event: StoreEvent) -> bool:
    trial = act.session.scalar(select(Trial).where(Trial.store_ref == event.subject))
    if trial is None:
        return False
    state = TrialState(event.data["state"])
    step = _TRIAL_EVENTS.get(state)
    if step is None or (trial.state, step) not in TRIAL.table:
        return True
    before = trial.state
    trial.state, trial.changed_at = TRIAL.after(before, step), act.now
    trial.reason = event.data.get("reason")
    act.log(
        f"trial {state}",
        f"trial {trial.id}",
        app=trial.cohort.app.name,
        reason=trial.reason or "",
        before={"state": str(before)},
        after={"state": str(state)},
    )
    return True


def _rollout_changed(act: Act, event: StoreEvent) -> bool:
    round_ = act.session.scalar(select(Round).where(Round.store_ref == event.subject))
    if round_ is None:
        return False
    leg = round_.leg
    state, share = RolloutState(event.data["state"]), float(event.data["share"])
    if leg.sighting is None:
        leg.sighting = Sighting(leg_id=leg.id, state=state, share=share, at=event.time, seen_at=act.now)
    else:
        leg.sighting.state, leg.sighting.share = state, share
        leg.sighting.at, leg.sighting.seen_at = event.time, act.now
    if (leg.state, leg.share) == (state, share) or _in_flight(act, leg):
        act.tell("seen", leg_subject(leg), app=leg.release.app.name, said=f"{state} at {share:.0%}")
        return True
    before = {"state": str(leg.state), "share": leg.share}
    legs.keep_progress(leg, adopted(legs.progress_of(leg), state, share, legs.ladder_of(leg), act.now))
    act.log(
        "changed at the store",
        leg_subject(leg),
        app=leg.release.app.name,
        before=before,
        after={"state": str(state), "share": share},
    )
    return True


def _in_flight(act: Act, leg: Leg) -> bool:
    pending = select(func.count()).select_from(Order).where(Order.lane == leg.id, Order.state.in_(PENDING))
    return bool(act.session.scalar(pending))
