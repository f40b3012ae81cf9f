"""Taking sightings: what a store tells of itself is read in its order and written beside what was ordered.

Events are pulled, and pushed where the store does that; each is taken in the store's sequence and in
the same transaction as the cursor, so none is lost and none counts twice. An event about something whose order has been sent but not confirmed yet
is left where it is until the confirmation is written; an event about something nobody here ordered
is passed over.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from sqlalchemy import func, select

from restless_tide.core.consignment import CONSIGNMENT, ConsignmentEvent, ConsignmentState
from restless_tide.core.notice import NoticeKind
from restless_tide.core.order import ORDER, PENDING, OrderEvent, OrderKind, OrderState
from restless_tide.core.rollout import RolloutState, adopted
from restless_tide.core.round import ROUND, RoundEvent, RoundState
from restless_tide.core.step import STEP, StepEvent, StepState
from restless_tide.core.trial import TRIAL, TrialEvent, TrialState
from restless_tide.desk import answers as standing_answers
from restless_tide.desk import builds, invitations, legs, trials
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.stores import rules_of
from restless_tide.engine import field_reports
from restless_tide.engine.carriers import leg_subject, needed
from restless_tide.gateways.protocol import StoreEvent
from restless_tide.records.tables import Berth, Build, Consignment, Leg, Order, Round, Sighting, Step, Store, Trial

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
    TrialState.LAPSED: TrialEvent.LAPSE,
}


def take(desk: Desk, store_id: str, events: Sequence[StoreEvent], *, pushed: bool = False) -> int:
    """Write down events in the store's sequence, as far as there is no gap; returns how many were new."""
    taken = 0
    with desk.look() as session:
        name = needed(session, Store, store_id).name
    with desk.act(f"store:{name}") as act:
        store = needed(act.session, Store, store_id)
        store.reached_at = act.now
        if pushed:
            store.pushed_at = act.now
        for event in sorted(events, key=lambda event: event.sequence):
            if event.sequence <= store.events_seen:
                continue
            if event.sequence > store.events_seen + 1:
                break
            known = (
                field_reports.take_in(desk, act, store, event) if event.type == "report.filed" else apply(act, event)
            )
            if not known and _awaits_confirmation(act, store):
                break
            store.events_seen, store.last_event_at = event.sequence, event.time
            taken += 1
            if event.type.startswith(("rulebook.", "account.")):
                desk.news.add(store_id)
    return taken


def hear(desk: Desk, store_id: str, event: StoreEvent) -> bool:
    """Take a pushed event, already verified; False when it comes too early: then the store is asked for what is missing."""
    with desk.look() as session:
        store = needed(session, Store, store_id)
        early, known = False, event.sequence <= store.events_seen
    if not known:
        early = not take(desk, store_id, [event], pushed=True)
    if early or store_id in desk.news:
        desk.gaps.add(store_id)
    return not early


def _awaits_confirmation(act: Act, store: Store) -> bool:
    sent = select(func.count()).select_from(Order).where(Order.store_id == store.id, Order.state == OrderState.SENT)
    by_hand = select(Step.order_id).where(Step.order_id.is_not(None), Step.state == StepState.WAITING)
    return bool(act.session.scalar(sent.where(Order.id.not_in(by_hand))))


def apply(act: Act, event: StoreEvent) -> bool:
    """Write one event down; False when it speaks of something unknown here."""
    match event.type:
        case "consignment.changed":
            return _consignment_changed(act, event)
        case "submission.changed":
            return _round_changed(act, event)
        case "trial.changed":
            return _trial_changed(act, event)
        case "tester.changed":
            return _tester_changed(act, event)
        case "rollout.changed":
            return _rollout_changed(act, event)
        case "berth.changed":
            return _berth_changed(act, event)
    return False


def _berth_changed(act: Act, event: StoreEvent) -> bool:
    """Somebody set availability on the store's own pages, or the name lapsed unused."""
    berth = act.session.scalar(select(Berth).where(Berth.store_ref == event.subject))
    if berth is None:
        return False
    subject, app = f"berth {berth.app.name} at {berth.store.name}", berth.app.name
    if event.data.get("state") == "lapsed":
        berth.store_ref, berth.refused_because = None, "the name lapsed, because no build came in time"
        act.log("name lapsed", subject, app=app, reason=berth.refused_because)
        act.notice(
            NoticeKind.LAPSING, f"{berth.id}/{event.id}", subject, "The name lapsed unused.", place="/stores", app=app
        )
        return True
    seen = event.data.get("availability")
    if seen and seen != berth.availability_seen and event.sequence > berth.told_until:
        before, berth.availability_seen = berth.availability_seen, seen
        if seen != berth.availability and not _in_flight(act, berth.id):
            berth.availability = seen
            act.log("changed at the store", subject, app=app, before=before, after=seen)
            said = "Where and for how much it is offered was changed on the store's own pages."
            act.notice(NoticeKind.CHANGED_AT_STORE, event.id, subject, said, place="/stores", app=app)
    return True


def _handed_in_there(act: Act, event: StoreEvent) -> Consignment | None:
    """The consignment that somebody took to the store's own pages, recognised by berth, version and number."""
    berth = act.session.scalar(select(Berth).where(Berth.store_ref == str(event.data.get("berth"))))
    if berth is None:
        return None
    found = act.session.scalar(
        select(Consignment)
        .join(Build)
        .where(
            Consignment.berth_id == berth.id,
            Consignment.store_ref.is_(None),
            Build.version == str(event.data.get("version")),
            Build.number == event.data.get("number"),
        )
    )
    if found is None:
        return None
    waiting = select(Order).join(Step).where(Order.lane == found.id, Order.state.in_(PENDING))
    order = act.session.scalar(waiting.limit(1))
    if order is None:
        return None
    found.store_ref, found.sent_bytes = event.subject, found.size_bytes
    found.state = CONSIGNMENT.after(CONSIGNMENT.initial, ConsignmentEvent.SEND)
    order.state, order.settled_at, order.trouble = ORDER.after(order.state, OrderEvent.CONFIRM), act.now, None
    for step in act.session.scalars(select(Step).where(Step.order_id == order.id, Step.state == StepState.WAITING)):
        step.state, step.outcome, step.settled_at = STEP.after(step.state, StepEvent.CONFIRM), "done", act.now
        step.said, step.settled_by = "The desk recognised it.", act.person
    act.log("first build recognised", f"consignment {found.id}", app=berth.app.name, after={"build": found.build.label})
    return found


def _consignment_changed(act: Act, event: StoreEvent) -> bool:
    consignment = act.session.scalar(select(Consignment).where(Consignment.store_ref == event.subject))
    consignment = consignment or _handed_in_there(act, event)
    if consignment is None:
        return False
    state = ConsignmentState(event.data["state"])
    step = _CONSIGNMENT_EVENTS[state]
    asked = list(event.data.get("questions") or [])
    same = consignment.state is state and not (state is ConsignmentState.HELD and asked != consignment.questions)
    if same or (consignment.state is not state and (consignment.state, step) not in CONSIGNMENT.table):
        return True
    before = consignment.state
    consignment.state = state if before is state else CONSIGNMENT.after(before, step)
    consignment.changed_at, consignment.questions, consignment.answers = act.now, asked, {}
    consignment.reason = event.data.get("reason")
    act.log(
        f"build {state}",
        f"consignment {consignment.id}",
        app=consignment.build.app.name,
        reason=consignment.reason or "",
        before={"state": str(before)},
        after={"state": str(state), "build": consignment.build.label},
    )
    if not _answered_by_itself(act, consignment):
        _tell_of_build(act, event, consignment)
    if consignment.state is ConsignmentState.READY:
        trials.build_ready(replace(act, person=ENGINE), consignment)
    return True


def _answered_by_itself(act: Act, consignment: Consignment) -> bool:
    """Whether standing answers fit every question that the store holds the build for; then they are given."""
    if consignment.state is not ConsignmentState.HELD:
        return False
    answers = standing_answers.fitting(act.session, consignment.berth, consignment.questions)
    if answers is None:
        return False
    by_itself = replace(act, person=ENGINE)  # the store told of the question; it did not answer it
    builds.answer(by_itself, consignment.id, answers, reason="by the standing answers")
    return True


def _tell_of_build(act: Act, event: StoreEvent, consignment: Consignment) -> None:
    app, label = consignment.build.app, f"{consignment.build.app.title} {consignment.build.label}"
    store, place = rules_of(consignment.berth.store).store, f"/apps/{consignment.build.app.name}/builds"
    kinds = {
        ConsignmentState.READY: (NoticeKind.PROCESSED, f"{label} is ready at {store}."),
        ConsignmentState.REFUSED: (NoticeKind.PROCESSED, f"{store} refused {label}: {consignment.reason}"),
        ConsignmentState.HELD: (NoticeKind.HELD, f"{store} holds {label} and asks a question."),
    }
    if consignment.state in kinds:
        kind, said = kinds[consignment.state]
        act.notice(kind, event.id, f"{label} at {store}", said, place=place, app=app.name)


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
    if state in (RoundState.APPROVED, RoundState.REJECTED):
        release, store = round_.leg.release, rules_of(round_.leg.berth.store).store
        said = f"{release.app.title} {release.version} was {state} by {store}. {' '.join(round_.reasons)}".strip()
        kind = NoticeKind.APPROVED if state is RoundState.APPROVED else NoticeKind.REJECTED
        place = f"/apps/{release.app.name}/releases/{release.version}"
        act.notice(kind, event.id, leg_subject(round_.leg), said, place=place, app=release.app.name)
    return True


def _trial_changed(act: Act, event: StoreEvent) -> bool:
    trial = act.session.scalar(select(Trial).where(Trial.store_ref == event.subject))
    if trial is None:
        return False
    state = TrialState(event.data["state"])
    trial.store_page = event.data.get("page") or trial.store_page
    step = _TRIAL_EVENTS.get(state)
    if step is None or (trial.state, step) not in TRIAL.table:
        return True
    before = trial.state
    trial.state, trial.changed_at = TRIAL.after(before, step), act.now
    trial.reason = event.data.get("reason")
    app = trial.cohort.app
    act.log(
        f"trial {state}",
        f"trial {trial.id}",
        app=app.name,
        reason=trial.reason or "",
        before={"state": str(before)},
        after={"state": str(state)},
    )
    if state is TrialState.OPEN:
        trials.opened(replace(act, person=ENGINE), trial)
    if state in (TrialState.OPEN, TrialState.TURNED_DOWN):
        label, store = trial.consignment.build.label, rules_of(trial.consignment.berth.store).store
        told = "is open" if state is TrialState.OPEN else f"was turned down: {trial.reason}"
        said = f"The trial of {app.title} {label} with {trial.cohort.name} at {store} {told}."
        kind = NoticeKind.APPROVED if state is TrialState.OPEN else NoticeKind.REJECTED
        if before is TrialState.WITH_STORE and (state is TrialState.TURNED_DOWN or _was_reviewed(trial)):
            act.notice(kind, event.id, f"trial {trial.id}", said, place=f"/trials/{trial.id}", app=app.name)
    return True


def _was_reviewed(trial: Trial) -> bool:
    rules = rules_of(trial.consignment.berth.store).cohorts.get(trial.cohort.kind)
    return rules is not None and rules.review_first


def _tester_changed(act: Act, event: StoreEvent) -> bool:
    """Somebody accepted, installed or left on the store's own side."""
    trial = act.session.scalar(select(Trial).where(Trial.store_ref == event.subject))
    if trial is None:
        return False
    told = {name: str(event.data.get(name) or "") for name in ("address", "state", "device", "system")}
    return invitations.seen_at_store(act, trial, **told)


def _rollout_changed(act: Act, event: StoreEvent) -> bool:
    round_ = act.session.scalar(select(Round).where(Round.store_ref == event.subject))
    if round_ is None:
        return False
    leg = round_.leg
    state, share = RolloutState(event.data["state"]), float(event.data["share"])
    if leg.sighting is None:
        leg.sighting = Sighting(leg_id=leg.id, state=state, share=share, at=event.time, seen_at=act.now)
    seen = leg.sighting
    seen.state, seen.share, seen.sequence, seen.at, seen.seen_at = state, share, event.sequence, event.time, act.now
    act.tell("seen", leg_subject(leg), app=leg.release.app.name, said=f"{state} at {share:.0%}")
    reconcile(act, leg)
    return True


def reconcile(act: Act, leg: Leg) -> None:
    """Where the store was last seen elsewhere than this desk has ordered it, somebody acted there: take it as it is.

    Done when a sighting comes in and when an order is settled, and only while nothing is on its way. What the store
    told up to ``told_until`` was ordered here. A step that a halt overtook in flight is no wish of anybody's: it is
    halted again.
    """
    seen, release = leg.sighting, leg.release
    if seen is None or 0 < seen.sequence <= leg.told_until or _in_flight(act, leg.id):
        return
    state, share = RolloutState(seen.state), seen.share
    if (leg.state, leg.share) == (state, share):
        return
    if state is RolloutState.RISING and halt_again_after_late_step(act, leg):
        return
    before = {"state": str(leg.state), "share": leg.share}
    if leg.launched_at is None and state in (RolloutState.RISING, RolloutState.COMPLETE):
        leg.launched_at = act.now
    legs.keep_progress(leg, adopted(legs.progress_of(leg), state, share, legs.ladder_of(leg), act.now))
    after = {"state": str(state), "share": share}
    act.log("changed at the store", leg_subject(leg), app=release.app.name, before=before, after=after)
    if state is not RolloutState.SUPERSEDED:
        said = f"{release.app.title} {release.version} is {state} at {share:.0%}; that was not ordered here."
        place, key = f"/apps/{release.app.name}/releases/{release.version}", f"{leg.id}/seen/{seen.sequence}"
        act.notice(NoticeKind.CHANGED_AT_STORE, key, leg_subject(leg), said, place=place, app=release.app.name)


def halt_again_after_late_step(act: Act, leg: Leg) -> bool:
    """Halt once more when a step that a halt overtook in flight may have reached the store after it.

    That is so when the leg's newest order is the halt, or was dropped by it, and what it dropped had been sent.
    """
    orders = act.session.scalars(select(Order).where(Order.lane == leg.id).order_by(Order.position.desc()).limit(20))
    halted = False
    for order in orders:
        if order.kind is OrderKind.HALT:
            if order.state in PENDING or order.payload.get("again"):
                return order.state in PENDING
            halted = True
        elif order.state is OrderState.DROPPED and halted and order.attempts:
            payload = {"again": True, "reason": f"{order.kind} was in flight when it was halted"}
            act.order(OrderKind.HALT, lane=leg.id, store=leg.berth.store, subject=leg.id, payload=payload)
            return True
        elif order.state is not OrderState.DROPPED:
            return False
    return False


def _in_flight(act: Act, lane: str) -> bool:
    pending = select(func.count()).select_from(Order).where(Order.lane == lane, Order.state.in_(PENDING))
    return bool(act.session.scalar(pending))
