"""What follows when a person has settled a step: the store's events, in the person's words."""

from __future__ import annotations

import uuid
from typing import Any

import structlog
from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.ladder import FULL_SHARE
from restless_tide.core.notice import NoticeKind
from restless_tide.core.order import ROLLOUT_STEPS, OrderKind
from restless_tide.core.rollout import RolloutState
from restless_tide.core.round import UNDER_REVIEW, RoundState
from restless_tide.core.step import OF_PROCESSING, OF_REVIEW, STEP, StepEvent, StepState, reminders_due
from restless_tide.desk import lanes, legs
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.lanes import needed
from restless_tide.desk.stores import rules_of
from restless_tide.engine import sightings
from restless_tide.engine.by_hand import Prepared, Settled, watch_processing, watch_review
from restless_tide.engine.follow import app_of
from restless_tide.gateways.protocol import RolloutAnswer, StoreEvent
from restless_tide.records.tables import Consignment, Leg, Order, Round, Step

_log = structlog.get_logger("engine")
_LOOKED_AT_AFTER = (OrderKind.SUBMIT, OrderKind.APPEAL)
"""After these the store looks at it, and a person looks for what it says."""
_SETTLED = (StepState.CONFIRMED, StepState.REFUSED)


def settled_of(step: Step | None) -> Settled | None:
    return Settled(step.outcome or "", step.said) if step is not None else None


def hand_to_person(act: Act, order: Order, prepared: Prepared) -> Step:
    """Write the step of an order down, unless it waits already."""
    leg = act.session.get(Leg, order.subject)
    if leg is not None:
        leg.stage_ends_at = None  # the stage begins when someone has done it
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


def as_seen(session: Session, order: Order, answer: Any) -> Any:
    """What a person's word says that the store holds now, with a place of our own in its sequence."""
    if not hasattr(answer, "sequence"):
        return answer
    order.store.events_seen += 1
    told: dict[str, Any] = {"sequence": order.store.events_seen}
    if isinstance(answer, RolloutAnswer) and not answer.share:
        leg = needed(session, Leg, order.subject)
        seen = lanes.sighting_of(session, leg.id)
        told["share"] = seen.share if seen else leg.share
        if RolloutState(answer.state) is RolloutState.RISING and told["share"] == FULL_SHARE:
            told["state"] = RolloutState.COMPLETE
    return answer.model_copy(update=told)


def follow_up(act: Act, order: Order, answer: Any) -> None:
    """After a hand-carried order was confirmed: watch for what a gateway would report automatically."""
    rules = rules_of(order.store)
    if order.kind is OrderKind.SEND_BUILD:
        label = needed(act.session, Consignment, order.subject).build.label
        prepared = watch_processing(rules.store, label, rules.processing.usual_minutes)
        _write(act, order, prepared, answer.id, None)
    elif order.kind in _LOOKED_AT_AFTER and RoundState(answer.state) in UNDER_REVIEW:
        version = needed(act.session, Round, order.subject).leg.release.version
        _write(act, order, watch_review(rules.store, version, rules.review.usual_hours), answer.id, None)
    elif order.kind is OrderKind.RECALL:
        for step in act.session.scalars(select(Step).where(Step.subject == answer.id, Step.order_id.is_(None))):
            if step.state is StepState.WAITING:
                step.state = STEP.after(step.state, StepEvent.DROP)
    elif order.kind in ROLLOUT_STEPS:
        leg = needed(act.session, Leg, order.subject)
        if leg.running_since is not None:
            leg.running_since = act.now  # the stage begins when someone has done it
            legs.keep_progress(leg, legs.progress_of(leg), act.now)


def remember_before(act: Act, order: Order) -> None:
    """Keep with the steps of an order what was seen before it, so that a mistaken confirmation can be undone."""
    seen = lanes.sighting_of(act.session, order.subject)
    before = {"state": seen.state, "share": seen.share} if seen is not None else {}
    for step in act.session.scalars(select(Step).where(Step.order_id == order.id)):
        step.before = before


_TOLD_BY = {
    **dict.fromkeys(OF_REVIEW, "submission.changed"),
    **dict.fromkeys(OF_PROCESSING, "consignment.changed"),
}
"""What a store with a gateway would tell, by what a person said of a step that only watches."""


def take_words(desk: Desk) -> int:
    """Read what people said of steps that only watch; returns how many. One that cannot be taken stops no other."""
    with desk.look() as session:
        said = session.scalars(
            select(Step.id).where(Step.order_id.is_(None), Step.state.in_(_SETTLED), Step.applied.is_(False))
        ).all()
    for step_id in said:
        with desk.act(ENGINE) as act:
            step = needed(act.session, Step, step_id)
            step.applied = True
            try:
                with act.attempt():
                    _take_word(desk, act, step)
            except Exception:  # noqa: BLE001  (the other steps are taken all the same)
                _log.exception("what was said of a step could not be taken", step=step_id)
    return len(said)


def _take_word(desk: Desk, act: Act, step: Step) -> None:
    kind = _TOLD_BY.get(step.outcome or "")
    if kind == "submission.changed":
        reasons = [line.strip() for line in step.said.splitlines() if line.strip()]
        _tell(desk, act, step, kind, {"state": step.outcome, "reasons": reasons})
    elif kind is not None:
        _tell(desk, act, step, kind, {"state": step.outcome, "reason": step.said or None})


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


def _tell(desk: Desk, act: Act, step: Step, kind: str, data: dict[str, Any]) -> None:
    step.store.events_seen += 1
    event = StoreEvent(
        id=uuid.uuid4().hex,
        source="by hand",
        type=kind,
        subject=step.subject,
        time=act.now,
        sequence=step.store.events_seen,
        data=data,
    )
    sightings.apply(desk, act, step.store, event)
