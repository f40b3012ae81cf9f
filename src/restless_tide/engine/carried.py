"""What follows when a person has settled a step: the store's events, in the person's words."""

from __future__ import annotations

import uuid
from typing import Any, cast

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.notice import NoticeKind
from restless_tide.core.order import ROLLOUT_STEPS, OrderKind
from restless_tide.core.rollout import adopted
from restless_tide.core.step import STEP, StepEvent, StepState, reminders_due
from restless_tide.desk import legs
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.stores import rules_of
from restless_tide.engine import sightings
from restless_tide.engine.by_hand import Prepared, Settled, watch_processing, watch_review
from restless_tide.engine.carriers import needed
from restless_tide.gateways.protocol import StoreEvent
from restless_tide.records.tables import App, Berth, Consignment, Leg, Order, Round, Step, Trial

_SETTLED = (StepState.CONFIRMED, StepState.REFUSED)


def settled_of(step: Step | None) -> Settled | None:
    return Settled(step.outcome or "", step.said) if step is not None else None


def app_of(session: Session, order: Order) -> App | None:
    """The app that an order is about."""
    for table in (Leg, Round, Consignment, Trial, Berth):
        row: Any = session.get(table, order.subject)
        if row is not None:
            leg = row.leg if table is Round else row
            berth = row.consignment.berth if table is Trial else row if table is Berth else leg.berth
            return cast(App, berth.app)
    return None


def hand_to_person(act: Act, order: Order, prepared: Prepared) -> Step:
    """Write the step of an order down, unless it waits already."""
    leg = act.session.get(Leg, order.subject)
    if leg is not None:
        leg.stage_ends_at = None  # the stage begins when somebody has done it
    waiting = select(Step).where(Step.order_id == order.id, Step.state == StepState.WAITING)
    return act.session.scalar(waiting) or _write(act, order, prepared, order.subject, order.id)


def _write(act: Act, order: Order, prepared: Prepared, subject: str, order_id: str | None) -> Step:
    about = app_of(act.session, order)
    app = about.name if about else None
    step = Step(
        order_id=order_id,
        store_id=order.store_id,
        app=app,
        subject=subject,
        title=prepared.title,
        todo=list(prepared.todo),
        texts=prepared.texts,
        files=list(prepared.files),
        look_for=prepared.look_for,
        outcomes=list(prepared.outcomes),
        urgent=prepared.urgent,
        created_at=act.now,
    )
    act.session.add(step)
    act.session.flush()
    act.tell("step waits", f"step {step.id}", app=app, said=step.title)
    act.notice(NoticeKind.STEP_WAITING, f"{step.id}/0", f"step {step.id}", step.title, place="/steps", app=app)
    return step


def follow_up(act: Act, order: Order, answer: Any) -> None:
    """After a hand-carried order was confirmed: tell what a gateway would have told, or watch for it."""
    rules = rules_of(order.store)
    if order.kind is OrderKind.SEND_BUILD:
        label = needed(act.session, Consignment, order.subject).build.label
        prepared = watch_processing(rules.store, label, rules.processing.usual_minutes)
        _write(act, order, prepared, answer.id, None)
    elif order.kind is OrderKind.SUBMIT:
        version = needed(act.session, Round, order.subject).leg.release.version
        _write(act, order, watch_review(rules.store, version, rules.review.usual_hours), answer.id, None)
    elif order.kind is OrderKind.RECALL:
        for step in act.session.scalars(select(Step).where(Step.subject == answer.id, Step.order_id.is_(None))):
            if step.state is StepState.WAITING:
                step.state = STEP.after(step.state, StepEvent.DROP)
        _tell(act, "submission.changed", answer.id, {"state": "recalled", "reasons": []})
    elif order.kind in (OrderKind.OPEN_TRIAL, OrderKind.CLOSE_TRIAL):
        _tell(act, "trial.changed", answer.id, {"state": answer.state, "reason": None})
    elif order.kind in ROLLOUT_STEPS:
        leg = needed(act.session, Leg, order.subject)
        before = {"state": leg.sighting.state, "share": leg.sighting.share} if leg.sighting else None
        share = answer.share or (leg.sighting.share if leg.sighting else leg.share)
        state = "complete" if answer.state == "rising" and share == 1.0 else answer.state
        for step in act.session.scalars(select(Step).where(Step.order_id == order.id)):
            step.before = before or {}
        if leg.running_since is not None:
            leg.running_since = act.now
        progress = legs.progress_of(leg)
        if leg.share != share and not legs.pending_orders(act.session, leg.id):
            progress = adopted(progress, leg.state, share, legs.ladder_of(leg), act.now)
        legs.keep_progress(leg, progress)
        _tell(act, "rollout.changed", answer.submission, {"state": state, "share": share})


def take_words(desk: Desk) -> int:
    """Take in what people said of steps that only watch; returns how many."""
    with desk.look() as session:
        said = session.scalars(
            select(Step.id).where(Step.order_id.is_(None), Step.state.in_(_SETTLED), Step.applied.is_(False))
        ).all()
    for step_id in said:
        with desk.act(ENGINE) as act:
            step = needed(act.session, Step, step_id)
            step.applied = True
            reasons = [line.strip() for line in step.said.splitlines() if line.strip()]
            if step.outcome in ("approved", "rejected"):
                _tell(act, "submission.changed", step.subject, {"state": step.outcome, "reasons": reasons})
            else:
                _tell(act, "consignment.changed", step.subject, {"state": step.outcome, "reason": step.said or None})
    return len(said)


def remind(desk: Desk) -> int:
    """Call waiting steps to mind when they have waited long; returns how many reminders went out."""
    now = desk.clock.now()
    with desk.look() as session:
        waiting = session.scalars(select(Step).where(Step.state == StepState.WAITING)).all()
        due = [
            (step.id, reminders_due((now - step.created_at).total_seconds() / 3600, urgent=step.urgent))
            for step in waiting
            if reminders_due((now - step.created_at).total_seconds() / 3600, urgent=step.urgent) > step.reminded
        ]
    for step_id, count in due:
        with desk.act(ENGINE) as act:
            step = needed(act.session, Step, step_id)
            step.reminded = count
            hours = (act.now - step.created_at).total_seconds() / 3600
            said = f"Still waiting after {hours:.0f} h: {step.title}"
            act.notice(
                NoticeKind.STEP_WAITING, f"{step.id}/{count}", f"step {step.id}", said, place="/steps", app=step.app
            )
    return len(due)


def _tell(act: Act, kind: str, subject: str, data: dict[str, Any]) -> None:
    event = StoreEvent(
        id=uuid.uuid4().hex, source="by hand", type=kind, subject=subject, time=act.now, sequence=0, data=data
    )
    sightings.apply(act, event)
