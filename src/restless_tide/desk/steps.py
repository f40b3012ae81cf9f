"""Steps that people carry to a store by hand: seen, settled, undone."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import ImpossibleAct, Invalid
from restless_tide.core.order import ORDER, ROLLOUT_STEPS, RULES, OrderEvent, OrderKind, Subject
from restless_tide.core.rights import Apps
from restless_tide.core.rollout import RolloutState
from restless_tide.core.step import REFUSALS, STEP, StepEvent, StepState
from restless_tide.desk import keyset, lanes, naming
from restless_tide.desk.desk import Act
from restless_tide.records.tables import Order, Sighting, Step

UNDOABLE = ROLLOUT_STEPS | {OrderKind.SET_AVAILABILITY}


def waiting(session: Session) -> list[Step]:
    """What waits for a person, the urgent first, then the oldest."""
    wanted = select(Step).where(Step.state == StepState.WAITING)
    return list(session.scalars(wanted.order_by(Step.urgent.desc(), Step.created_at)))


def waiting_for(session: Session, orders: Sequence[Order]) -> str | None:
    """The id of a step that a person has to do for one of the orders; None where nobody has to."""
    if not orders:
        return None
    wanted = select(Step.id).where(Step.order_id.in_([order.id for order in orders]), Step.state == StepState.WAITING)
    return session.scalar(wanted.limit(1))


def settled(session: Session, reach: Apps = None, *, after: str | None = None, limit: int) -> list[Step]:
    """What was settled, newest first, beyond the one with the id ``after``; with ``reach`` only of these apps."""
    wanted = select(Step).where(Step.state != StepState.WAITING)
    if reach is not None:
        wanted = wanted.where(Step.app.in_(reach))
    last = find(session, after) if after is not None else None
    here = (last.settled_at, last.id) if last is not None else None
    keys = (Step.settled_at, Step.id)
    return list(session.scalars(keyset.page(wanted, keys, after=here, falls=True, limit=limit)))


def find(session: Session, step_id: str) -> Step:
    found: Step = naming.by_id(session, Step, "step", step_id, "See: tide step list")
    return found


def settle(act: Act, step_id: str, outcome: str, said: str) -> Step:
    """Say what came of a step: one of its outcomes; a refusal needs the store's words.

    Raises Invalid for another outcome, ImpossibleAct when it is settled already.
    """
    step = find(act.session, step_id)
    if outcome not in step.outcomes:
        told = " or ".join(step.outcomes)
        raise Invalid(f"{outcome!r} is no outcome of this step.", remedy=f"Say {told}.", code="outcome-unknown")
    refused = outcome in REFUSALS
    if refused and not said.strip():
        raise Invalid("Say what the store said.", remedy="Paste its words as they stand.", code="words-missing")
    event = StepEvent.REFUSE if refused and step.order_id is not None else StepEvent.CONFIRM
    step.state = STEP.after(step.state, event)
    step.outcome, step.said, step.settled_at, step.settled_by = outcome, said.strip(), act.now, act.person
    if step.order is not None:
        lanes.person_settled(act, step.order)
    act.log(f"step {outcome}", f"step {step.id}", app=step.app, reason=step.said, after={"step": step.title})
    return step


def can_undo(session: Session, step: Step) -> bool:
    """Whether a mistaken confirmation could still be taken back."""
    order = step.order
    confirmed = step.state is StepState.CONFIRMED and order is not None and order.kind in UNDOABLE
    return confirmed and order is not None and not _followed(session, order)


def _followed(session: Session, order: Order) -> bool:
    later = select(Order.id).where(Order.lane == order.lane, Order.position > order.position)
    return session.scalar(later.limit(1)) is not None


def undo(act: Act, step_id: str, reason: str) -> Step:
    """Take a confirmation back that was a mistake; the step waits again and the order counts as not confirmed.

    Raises ImpossibleAct when something followed from it already, or when it is of a kind that cannot be undone.
    """
    step = find(act.session, step_id)
    after = STEP.after(step.state, StepEvent.UNDO)
    order = step.order
    if order is None or order.kind not in UNDOABLE:
        raise ImpossibleAct("What this step reported has been used already.", possible=["act anew"])
    if _followed(act.session, order):
        raise ImpossibleAct("Something was ordered after it; undo that first, or act anew.", possible=["act anew"])
    lanes.forget_known(act.session)
    order.state, order.settled_at, order.with_person = ORDER.after(order.state, OrderEvent.UNDO), None, True
    seen = act.session.get(Sighting, order.subject)
    if seen is not None and RULES[order.kind].subject is Subject.LEG:
        if step.before:
            seen.state, seen.share = RolloutState(step.before["state"]), float(step.before["share"])
        else:
            act.session.delete(seen)
    step.state, step.outcome, step.settled_at, step.settled_by = after, None, None, None
    act.log("step undone", f"step {step.id}", app=step.app, reason=reason, after={"step": step.title})
    return step
