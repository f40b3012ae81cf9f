"""What follows from what happens to a lane, written down.

core/lane.py decides; here its outcomes become rows, lines in the logbook and notices. Each subject has one
writer: what a store tells besides its state is taken in by ``absorb``, and ``moved`` writes the new state.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, String, or_, select, tuple_, type_coerce
from sqlalchemy.orm import Session

from restless_tide.core import lane as core
from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.lane import Ask, Cause, Happening, Held, Keep, Moment, Outcome, Repeat, Settle
from restless_tide.core.notice import NoticeKind
from restless_tide.core.order import FAILING_AFTER_ATTEMPTS, OrderKind, OrderState, Subject
from restless_tide.core.rollout import RolloutState
from restless_tide.core.round import UNDER_REVIEW, RoundState
from restless_tide.core.trial import TrialState
from restless_tide.desk import answers as standing_answers
from restless_tide.desk import builds, go_aheads, lanes, legs, matters, releases, reviews, trials
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.find import berth_subject
from restless_tide.desk.legs import leg_subject
from restless_tide.desk.stores import rules_of
from restless_tide.engine import reviewing
from restless_tide.gateways import protocol
from restless_tide.records.columns import new_id
from restless_tide.records.tables import App, Berth, Consignment, Leg, Order, Round, Sighting, Store, Trial


@dataclass(frozen=True)
class Word:
    """What a store said: when by its own clock, under which name, and the rest of it besides the state."""

    at: datetime
    id: str
    data: Any = None


def happen(
    desk: Desk,
    act: Act,
    subject: Subject,
    row: Any,
    what: Happening,
    *,
    word: Word | None = None,
    lane: str | None = None,
    heard: int = 0,
) -> list[Outcome]:
    """Tell the lane of a row what has happened and write down what follows. Returns what the lane said.

    ``lane`` is an order's own, where the happening is about one; ``heard`` the store's cursor.
    """
    lane_id = lane or lanes.lane_of(subject, row)
    waiting = lanes.pending(act.session, lane_id)
    calls = desk.background.in_flight.get(lane_id, frozenset())
    before = lanes.read(act.session, subject, row, waiting, calls=calls, heard=heard)
    after, outcomes = core.step(before, what, Moment(act.now, new_id("o")))
    lanes.keep(act.session, before.level, after.level, act.now, word.at if word else None)
    lanes.keep_entries(after, waiting)
    writer, by_id = WRITERS[subject], {order.id: order for order in waiting}
    newest = after.level.sequence != before.level.sequence or after.level.seen != before.level.seen
    if word is not None and word.data is not None and newest:
        writer.absorb(act, row, word.data)
    for outcome in outcomes:
        match outcome:
            case Settle(key, state, why):
                lanes.settle(act, by_id[key], state, why)
            case Keep(wanted, cause):
                writer.moved(act, row, wanted, cause, word or Word(act.now, lane_id))
            case Repeat():
                _repeat(act, subject, row, outcome, lane_id)
            case Ask():
                _ask(act, row)
    return outcomes


def store_of(subject: Subject, row: Any) -> Store:
    found: Store = row if subject is Subject.STORE else berth_of(row).store
    return found


def berth_of(row: Any) -> Berth:
    match row:
        case Berth():
            return row
        case Trial():
            return row.consignment.berth
        case Round():
            return row.leg.berth
    found: Berth = row.berth
    return found


def app_of(session: Session, order: Order) -> App | None:
    """The app that an order is about; a drill is about none."""
    row = lanes.subject_of(session, order)
    return None if isinstance(row, Store) else berth_of(row).app


def differing(session: Session) -> list[tuple[Subject, Any]]:
    """Everything whose wanted and seen differ in a way that its lane does something about."""
    found: list[tuple[Subject, Any]] = []
    for subject, policy in core.POLICIES.items():
        table: Any = lanes.TABLES[subject]
        rows = select(table).join(Sighting, Sighting.subject == table.id)
        if subject is Subject.BERTH:
            found += [
                (subject, row)
                for row in session.scalars(rows)
                if lanes.wanted_of(subject, row).state != row.sighting.state
            ]
        elif policy.toward:
            states = tuple_(type_coerce(table.state, String), Sighting.state)
            differs: ColumnElement[bool] = states.in_(
                [(str(wanted), str(seen)) for wanted, seen in policy.toward if wanted != seen]
            )
            if subject is Subject.LEG:
                differs = or_(differs, Leg.share != Sighting.share)
            found += [(subject, row) for row in session.scalars(rows.where(differs))]
    return found


# what a lane does by itself


def _repeat(act: Act, subject: Subject, row: Any, outcome: Repeat, lane_id: str) -> None:
    """Order again what is wanted, since the store holds something else."""
    entry, store = outcome.entry, store_of(subject, row)
    payload: dict[str, Any] = {"reason": "the store was seen to hold something else than is wanted"}
    if entry.kind is OrderKind.SET_SHARE:
        payload["share"] = entry.asks.share
    elif entry.kind is OrderKind.SET_AVAILABILITY:
        payload["availability"] = lanes.availability_of(entry.asks)
    by_itself = act.as_person(ENGINE)
    order = lanes.write_order(
        by_itself,
        entry.kind,
        lane=lane_id,
        store_id=store.id,
        subject=entry.subject,
        payload=payload,
        order_id=entry.key,
        again=True,
        try_after=entry.try_after,
    )
    lanes.add(act.session, order)
    app = berth_of(row).app.name
    by_itself.log(f"{entry.kind} again", _named(row), app=app, reason=payload["reason"])
    if outcome.failing:
        said = f"{entry.kind} at {store.name} was ordered {FAILING_AFTER_ATTEMPTS} times, and the store still holds something else."
        act.notice(
            NoticeKind.ORDER_FAILING, f"{order.id}/repeated", f"{entry.kind} at {store.name}", said, place="/", app=app
        )


def _ask(act: Act, leg: Leg) -> None:
    """Tell people at once: what was stopped is offered again, and no call of ours did it."""
    release = leg.release
    seen = lanes.sighting_of(act.session, leg.id)
    store, sequence = rules_of(leg.berth.store).store, seen.sequence if seen else 0
    said = (
        f"{store} offers {release.app.title} {release.version} again, which was {leg.state}. That was not ordered here."
        " Stop it again, or resume it to take it as wanted."
    )
    act.log("offered again", leg_subject(leg), app=release.app.name, reason=said)
    place = f"/apps/{release.app.name}/releases/{release.version}"
    key = f"{leg.id}/again/{sequence}"
    act.notice(NoticeKind.OFFERED_AGAIN, key, leg_subject(leg), said, place=place, app=release.app.name)


def _named(row: Any) -> str:
    match row:
        case Leg():
            return leg_subject(row)
        case Round():
            return leg_subject(row.leg)
        case Berth():
            return berth_subject(row)
        case Trial():
            return f"trial {row.id}"
    return f"consignment {row.id}"


# builds


def _absorb_build(act: Act, row: Consignment, said: protocol.ConsignmentAnswer | protocol.ConsignmentChanged) -> None:
    asked = [question.model_dump(mode="json") for question in said.questions]
    other_questions = row.state is ConsignmentState.HELD and str(row.state) == said.state and asked != row.questions
    if asked != row.questions or row.state != said.state:
        row.questions, row.answers = asked, {}
    row.reason = said.reason
    if other_questions:
        _build_moved(act, row, Held(said.state), Cause.MOVED, Word(act.now, f"{row.id}/{act.now.isoformat()}"))


def _build_moved(act: Act, row: Consignment, held: Held, cause: Cause, word: Word) -> None:
    before, row.state = row.state, ConsignmentState(held.state)
    row.changed_at = act.now
    act.log(
        f"build {row.state}",
        f"consignment {row.id}",
        app=row.build.app.name,
        reason=row.reason or "",
        before={"state": str(before)},
        after={"state": str(row.state), "build": row.build.label},
    )
    if not _answered_by_itself(act, row):
        _tell_of_build(act, word, row)
    if row.state is ConsignmentState.READY:
        trials.build_ready(act.as_person(ENGINE), row)
        releases.build_ready(act.as_person(ENGINE), row)


def _answered_by_itself(act: Act, consignment: Consignment) -> bool:
    """Whether standing answers fit every question that the store holds the build for; then they are given."""
    if consignment.state is not ConsignmentState.HELD:
        return False
    answers = standing_answers.fitting(act.session, consignment.berth, consignment.questions)
    if answers is None:
        return False
    by_itself = act.as_person(ENGINE)  # the store told of the question; it did not answer it
    builds.answer(by_itself, consignment.id, answers, reason="by the standing answers")
    return True


def _tell_of_build(act: Act, word: Word, consignment: Consignment) -> None:
    app, label = consignment.build.app, f"{consignment.build.app.title} {consignment.build.label}"
    store, place = rules_of(consignment.berth.store).store, f"/apps/{consignment.build.app.name}/builds"
    kinds = {
        ConsignmentState.READY: (NoticeKind.PROCESSED, f"{label} is ready at {store}."),
        ConsignmentState.REFUSED: (NoticeKind.PROCESSED, f"{store} refused {label}: {consignment.reason}"),
        ConsignmentState.HELD: (NoticeKind.HELD, f"{store} holds {label} and asks a question."),
    }
    if consignment.state in kinds:
        kind, said = kinds[consignment.state]
        act.notice(kind, word.id, f"{label} at {store}", said, place=place, app=app.name)


# rounds


def _absorb_round(act: Act, row: Round, said: protocol.SubmissionAnswer | protocol.SubmissionChanged) -> None:
    row.reasons = list(said.reasons)
    reviewing.verdicts(act, row, said)


def _round_moved(act: Act, row: Round, held: Held, cause: Cause, word: Word) -> None:
    before, row.state = row.state, RoundState(held.state)
    row.changed_at = act.now
    reviews.moved(act, row)
    if (before, row.state) == (RoundState.RECALLED, RoundState.APPROVED):
        go_aheads.hold(row.leg, act.now)  # someone wanted it back: never launch without a person
    leg, release = row.leg, row.leg.release
    act.log(
        f"review: {row.state}",
        leg_subject(leg),
        app=release.app.name,
        reason=" ".join(row.reasons),
        before={"round": str(before)},
        after={"round": str(row.state)},
    )
    if row.state is RoundState.APPROVED:
        matters.approved(act, row, reviewing.refused_alone(row))
    if cause is Cause.REFUSED and before in UNDER_REVIEW:
        return  # an appeal was not taken: the refusal stands, and people know of it
    if row.state in (RoundState.APPROVED, RoundState.REJECTED):
        store = rules_of(leg.berth.store).store
        said = f"{release.app.title} {release.version} was {row.state} by {store}. {' '.join(row.reasons)}".strip()
        kind = NoticeKind.APPROVED if row.state is RoundState.APPROVED else NoticeKind.REJECTED
        place = f"/apps/{release.app.name}/releases/{release.version}"
        act.notice(kind, word.id, leg_subject(leg), said, place=place, app=release.app.name)


# trials


def _absorb_trial(act: Act, row: Trial, said: protocol.TrialAnswer | protocol.TrialChanged) -> None:
    row.store_page = said.page or row.store_page
    row.reason = said.reason


def _trial_moved(act: Act, row: Trial, held: Held, cause: Cause, word: Word) -> None:
    before, row.state = row.state, TrialState(held.state)
    row.changed_at = act.now
    app = row.cohort.app
    act.log(
        f"trial {row.state}",
        f"trial {row.id}",
        app=app.name,
        reason=row.reason or "",
        before={"state": str(before)},
        after={"state": str(row.state)},
    )
    if row.state is TrialState.OPEN and cause is Cause.MOVED:
        trials.opened(act.as_person(ENGINE), row)
    if row.state in (TrialState.OPEN, TrialState.REJECTED) and before is TrialState.WITH_STORE:
        if row.state is TrialState.OPEN and not _was_reviewed(row):
            return
        label, store = row.consignment.build.label, rules_of(row.consignment.berth.store).store
        told = "is open" if row.state is TrialState.OPEN else f"was rejected: {row.reason}"
        said = f"The trial of {app.title} {label} with {row.cohort.name} at {store} {told}."
        kind = NoticeKind.APPROVED if row.state is TrialState.OPEN else NoticeKind.REJECTED
        act.notice(kind, word.id, f"trial {row.id}", said, place=f"/trials/{row.id}", app=app.name)


def _was_reviewed(trial: Trial) -> bool:
    rules = rules_of(trial.consignment.berth.store).cohorts.get(trial.cohort.kind)
    return rules is not None and rules.review_first


# rollouts


def _absorb_nothing(act: Act, row: Any, said: Any) -> None:
    """The state and the share are all there is."""


_TOLD = {
    Cause.STRANGER: "changed at the store",
    Cause.HELD: "taken as the store holds it",
    Cause.LATE: "launched after it was stopped",
}


def _leg_moved(act: Act, leg: Leg, wanted: Held, cause: Cause, word: Word) -> None:
    before = {"state": str(leg.state), "share": leg.share}
    legs.adopt(leg, wanted, act.now)
    if cause not in _TOLD:
        return
    release, after = leg.release, {"state": str(leg.state), "share": leg.share}
    act.log(_TOLD[cause], leg_subject(leg), app=release.app.name, before=before, after=after)
    if cause is Cause.STRANGER and leg.state is not RolloutState.SUPERSEDED:
        said = f"{release.app.title} {release.version} is {leg.state} at {leg.share:.0%}; that was not ordered here."
        place, key = f"/apps/{release.app.name}/releases/{release.version}", f"{leg.id}/seen/{word.id}"
        act.notice(NoticeKind.CHANGED_AT_STORE, key, leg_subject(leg), said, place=place, app=release.app.name)


# what is offered


def _berth_moved(act: Act, berth: Berth, wanted: Held, cause: Cause, word: Word) -> None:
    before, berth.availability = berth.availability, lanes.availability_of(wanted)
    if cause is not Cause.STRANGER:
        return
    subject, app = berth_subject(berth), berth.app.name
    act.log("changed at the store", subject, app=app, before=before, after=berth.availability)
    said = "Where and for how much it is offered was changed on the store's own pages."
    act.notice(NoticeKind.CHANGED_AT_STORE, word.id, subject, said, place="/stores", app=app)


def _nothing_moves(act: Act, row: Any, wanted: Held, cause: Cause, word: Word) -> None:
    """Nothing is wanted of a store itself."""


@dataclass(frozen=True)
class Writer:
    """How one subject's row takes in what a store says, and becomes what its lane says."""

    absorb: Callable[[Act, Any, Any], None]
    moved: Callable[[Act, Any, Held, Cause, Word], None]


WRITERS: dict[Subject, Writer] = {
    Subject.CONSIGNMENT: Writer(_absorb_build, _build_moved),
    Subject.ROUND: Writer(_absorb_round, _round_moved),
    Subject.TRIAL: Writer(_absorb_trial, _trial_moved),
    Subject.LEG: Writer(_absorb_nothing, _leg_moved),
    Subject.BERTH: Writer(_absorb_nothing, _berth_moved),
    Subject.STORE: Writer(_absorb_nothing, _nothing_moves),
}


def settled(outcomes: Sequence[Outcome], key: str, state: OrderState) -> bool:
    """Whether the lane settled this order so."""
    return any(isinstance(outcome, Settle) and outcome.key == key and outcome.state is state for outcome in outcomes)
