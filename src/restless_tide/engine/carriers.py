"""How each kind of order is carried to a store.

A carrier has three parts, because the network must not be waited for inside a transaction:
``prepare`` reads what the call needs and returns the call, the call is made, and then ``confirmed``
or ``refused`` writes down in a new transaction what came of it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Protocol, TypeVar

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from restless_tide.core.consignment import CONSIGNMENT, ConsignmentEvent
from restless_tide.core.errors import StoreUnreachable
from restless_tide.core.lane import Held
from restless_tide.core.order import PENDING, OrderKind
from restless_tide.core.own_track import OWN_TRACK, OwnTrackEvent
from restless_tide.core.review_items import ALWAYS
from restless_tide.core.rollout import PART_WAY, RolloutEvent, steered
from restless_tide.core.round import ROUND, UNDER_REVIEW, RoundEvent
from restless_tide.core.step import StepState
from restless_tide.core.trial import TRIAL, TrialEvent, TrialState
from restless_tide.desk import cohorts, dossiers, go_aheads, lanes, legs, matters, seating, sign_ins
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.find import berth_subject
from restless_tide.desk.lanes import needed
from restless_tide.desk.legs import leg_subject
from restless_tide.desk.stores import rules_of
from restless_tide.engine import dossier_carriers
from restless_tide.engine.by_hand import NeedsPerson, first_build
from restless_tide.gateways import protocol
from restless_tide.gateways.client import NOT_YET
from restless_tide.gateways.way import Way
from restless_tide.records.tables import (
    Berth,
    Consignment,
    Invitation,
    Leg,
    Order,
    ReviewMessage,
    Round,
    Step,
    Track,
    Trial,
)

Call = Callable[[Way], Any]


class Prepare(Protocol):
    def __call__(self, desk: Desk, session: Session, order: Order) -> Call: ...


@dataclass(frozen=True)
class Carrier:
    """One kind of order. ``confirmed`` and ``refused`` write down what the answer says besides what the store holds now."""

    prepare: Prepare
    confirmed: Callable[[Act, Order, Any], None]
    refused: Callable[[Act, Order, str], None]


def held_in(answer: Any) -> Held | None:
    """What a store holds now, by its answer; None where the answer is of another kind."""
    match answer:
        case protocol.RolloutAnswer():
            return Held(answer.state, answer.share)
        case protocol.ConsignmentAnswer() | protocol.TrialAnswer() | protocol.SubmissionAnswer():
            return Held(answer.state)
        case protocol.AvailabilityAnswer():
            return lanes.offered(answer.model_dump(mode="json", exclude={"sequence"}))
    return None


Answer = TypeVar(
    "Answer", protocol.BerthAnswer, protocol.ConsignmentAnswer, protocol.TrialAnswer, protocol.SubmissionAnswer
)


def about(reference: str, answer: Answer) -> Answer:
    """The answer, if it is about what was asked. Raises StoreUnreachable: then nobody knows what the store did."""
    if answer.id != reference:
        raise _mixed_up(reference, answer.id)
    return answer


def about_rollout(reference: str, answer: protocol.RolloutAnswer) -> protocol.RolloutAnswer:
    if answer.submission != reference:
        raise _mixed_up(reference, answer.submission)
    return answer


def _mixed_up(asked: str, answered: str) -> StoreUnreachable:
    return StoreUnreachable(
        f"The store was asked about {asked} and answered about {answered}.",
        remedy="Tell the people who run the gateway; the act is tried again meanwhile.",
        code="store-answer-unreadable",
    )


# berths


def _open_berth(desk: Desk, session: Session, order: Order) -> Call:
    berth = needed(session, Berth, order.subject)
    wanted = protocol.BerthRequest(
        identifier=berth.identifier,
        name=berth.listed_name,
        platform=berth.platform,
        language=berth.language,
        reference=berth.app.name,
    )
    return lambda gateway: gateway.open_berth(wanted, order.id)


def _berth_opened(act: Act, order: Order, answer: protocol.BerthAnswer) -> None:
    berth = needed(act.session, Berth, order.subject)
    berth.store_ref, berth.refused_because = answer.id, None
    for part in dossiers.PARTS:
        setattr(berth, part.seen_at, act.now)
    act.log(
        "berth opened",
        berth_subject(berth),
        app=berth.app.name,
        after={"listed name": berth.listed_name},
    )


def _rename_berth(desk: Desk, session: Session, order: Order) -> Call:
    reference, name = needed(session, Berth, order.subject).store_ref or "", str(order.payload["name"])
    return lambda way: about(reference, way.rename_berth(reference, name, order.id))


def _berth_renamed(act: Act, order: Order, answer: protocol.BerthAnswer) -> None:
    berth = needed(act.session, Berth, order.subject)
    before, berth.listed_name = berth.listed_name, answer.name
    act.log(
        "berth renamed",
        berth_subject(berth),
        app=berth.app.name,
        before={"listed name": before},
        after={"listed name": berth.listed_name},
    )


def _renaming_refused(act: Act, order: Order, reason: str) -> None:
    berth = needed(act.session, Berth, order.subject)
    act.log("name refused", berth_subject(berth), app=berth.app.name, reason=reason)


def _track_of(session: Session, order: Order) -> Track:
    return needed(session, Track, str(order.payload["track"]))


def _track_place(track: Track) -> str:
    """How a track stands in the logbook."""
    return f"track {track.berth.store.name}/{track.key}"


def _open_track(desk: Desk, session: Session, order: Order) -> Call:
    reference, track = needed(session, Berth, order.subject).store_ref or "", _track_of(session, order)
    wanted = protocol.TrackRequest(key=track.key, title=track.title)
    return lambda way: way.open_track(reference, wanted, order.id)


def _track_opened(act: Act, order: Order, answer: protocol.TrackAnswer) -> None:
    track = _track_of(act.session, order)
    if OWN_TRACK.allows(track.state, OwnTrackEvent.OPEN):
        track.state = OWN_TRACK.after(track.state, OwnTrackEvent.OPEN)
    track.title, track.reason = answer.title, None
    act.log("track opened", _track_place(track), app=track.berth.app.name, after={"title": track.title})


def _track_not_opened(act: Act, order: Order, reason: str) -> None:
    track = _track_of(act.session, order)
    if OWN_TRACK.allows(track.state, OwnTrackEvent.REFUSE):
        track.state = OWN_TRACK.after(track.state, OwnTrackEvent.REFUSE)
    track.reason = reason
    act.log("track refused", _track_place(track), app=track.berth.app.name, reason=reason)


def _rename_track(desk: Desk, session: Session, order: Order) -> Call:
    reference, track = needed(session, Berth, order.subject).store_ref or "", _track_of(session, order)
    key, title = track.key, str(order.payload["title"])
    return lambda way: way.rename_track(reference, key, title, order.id)


def _track_renamed(act: Act, order: Order, answer: protocol.TrackAnswer) -> None:
    track = _track_of(act.session, order)
    before, track.title = track.title, answer.title
    act.log(
        "track renamed", _track_place(track), app=track.berth.app.name,
        before={"title": before}, after={"title": track.title},
    )  # fmt: skip


def _track_stays(act: Act, order: Order, reason: str) -> None:
    """The store did not rename or close it: it is as it was."""
    track = _track_of(act.session, order)
    if OWN_TRACK.allows(track.state, OwnTrackEvent.STAY):
        track.state = OWN_TRACK.after(track.state, OwnTrackEvent.STAY)
    track.reason = reason
    act.log(f"{order.kind} refused", _track_place(track), app=track.berth.app.name, reason=reason)


def _close_track(desk: Desk, session: Session, order: Order) -> Call:
    reference, track = needed(session, Berth, order.subject).store_ref or "", _track_of(session, order)
    key = track.key
    return lambda way: way.close_track(reference, key, order.id)


def _track_closed(act: Act, order: Order, answer: protocol.TrackAnswer) -> None:
    track = _track_of(act.session, order)
    if OWN_TRACK.allows(track.state, OwnTrackEvent.END):
        track.state = OWN_TRACK.after(track.state, OwnTrackEvent.END)
    track.people = track.reason = None
    act.log("track closed", _track_place(track), app=track.berth.app.name)


def _set_availability(desk: Desk, session: Session, order: Order) -> Call:
    reference = needed(session, Berth, order.subject).store_ref or ""
    wanted = protocol.AvailabilityMessage.model_validate(order.payload["availability"])
    return lambda way: way.set_availability(reference, wanted, order.id)


def _availability_set(act: Act, order: Order, answer: protocol.AvailabilityAnswer) -> None:
    berth = needed(act.session, Berth, order.subject)
    act.tell("availability set", berth_subject(berth), app=berth.app.name)


def _availability_refused(act: Act, order: Order, reason: str) -> None:
    berth = needed(act.session, Berth, order.subject)
    act.log("availability refused", berth_subject(berth), app=berth.app.name, reason=reason)


def _drill(desk: Desk, session: Session, order: Order) -> Call:
    return lambda way: way.drill("halt", order.id)


def _note_drill(act: Act, order: Order, reason: str) -> None:
    act.tell("drill refused", f"store {order.store.name}", said=reason)


def _berth_refused(act: Act, order: Order, reason: str) -> None:
    berth = needed(act.session, Berth, order.subject)
    berth.refused_because = reason
    act.log("berth refused", berth_subject(berth), app=berth.app.name, reason=reason)


# builds


def _send_build(desk: Desk, session: Session, order: Order) -> Call:
    consignment = needed(session, Consignment, order.subject)
    berth, version, number = consignment.berth.store_ref or "", consignment.build.version, consignment.build.number
    files = [(entry.sha256, entry.package.size_bytes) for entry in consignment.build.packages]
    if _goes_by_hand(session, consignment):
        return _ask_for_first_build(session, order, consignment)

    def call(gateway: Way) -> protocol.ConsignmentAnswer:
        uploads, before = [], 0
        for place, (sha256, size_bytes) in enumerate(files):
            told = _progress(desk, order.subject, before)
            with desk.files.path(sha256).open("rb") as source:
                uploads.append(gateway.send_package(berth, source, size_bytes, f"{order.id}-{place}", told))
            before += size_bytes
        wanted = protocol.ConsignmentRequest(uploads=tuple(uploads), version=version, number=number)
        answer = gateway.consign(berth, wanted, order.id)
        if (answer.version, answer.number) != (version, number):
            raise _mixed_up(f"build {version} ({number})", f"{answer.version} ({answer.number})")
        return answer

    return call


def _goes_by_hand(session: Session, consignment: Consignment) -> bool:
    """Whether this is the very first build at a connected store that takes it only on its own pages."""
    store = consignment.berth.store
    if store.hand_carried or not rules_of(store).packages.first_build_by_hand:
        return False
    earlier = select(Consignment.id).where(
        Consignment.berth_id == consignment.berth_id, Consignment.store_ref.is_not(None)
    )
    return session.scalar(earlier.limit(1)) is None


def _ask_for_first_build(session: Session, order: Order, consignment: Consignment) -> Call:
    build, berth = consignment.build, consignment.berth
    files = tuple({"sha256": entry.sha256, "size_bytes": entry.package.size_bytes} for entry in build.packages)
    title = rules_of(berth.store).store
    prepared = first_build(title, build.app.title, build.version, build.number, files)
    done = select(Step.id).where(Step.order_id == order.id, Step.state == StepState.CONFIRMED)
    said_done = session.scalar(done.limit(1)) is not None

    def call(way: Way) -> protocol.ConsignmentAnswer:
        if not said_done:
            raise NeedsPerson(prepared)
        raise StoreUnreachable(
            f"{title} does not show build {build.label} yet.",
            remedy="The desk recognises it as soon as the store reports it.",
            code=NOT_YET,
        )

    return call


def _progress(desk: Desk, consignment_id: str, before: int) -> Callable[[int], None]:
    def told(offset: int) -> None:
        with desk.act(ENGINE) as act:
            consignment = needed(act.session, Consignment, consignment_id)
            if consignment.state is CONSIGNMENT.initial:
                consignment.state = CONSIGNMENT.after(consignment.state, ConsignmentEvent.SEND)
            consignment.sent_bytes = before + offset
            act.tell("build on its way", f"consignment {consignment.id}", app=consignment.build.app.name)

    return told


def _build_sent(act: Act, order: Order, answer: protocol.ConsignmentAnswer) -> None:
    consignment = needed(act.session, Consignment, order.subject)
    if consignment.state is CONSIGNMENT.initial:
        consignment.state = CONSIGNMENT.after(consignment.state, ConsignmentEvent.SEND)
    consignment.store_ref, consignment.sent_bytes = answer.id, consignment.size_bytes


def _build_refused(act: Act, order: Order, reason: str) -> None:
    consignment = needed(act.session, Consignment, order.subject)
    consignment.state = CONSIGNMENT.after(consignment.state, ConsignmentEvent.REFUSE)
    consignment.reason, consignment.changed_at = reason, act.now
    act.log("build refused", f"consignment {consignment.id}", app=consignment.build.app.name, reason=reason)


def _answer(desk: Desk, session: Session, order: Order) -> Call:
    consignment = needed(session, Consignment, order.subject)
    reference, answers = consignment.store_ref or "", dict(order.payload["answers"])
    return lambda gateway: about(reference, gateway.answer(reference, answers, order.id))


def _answer_refused(act: Act, order: Order, reason: str) -> None:
    consignment = needed(act.session, Consignment, order.subject)
    consignment.answers = {}
    act.log("answers refused", f"consignment {consignment.id}", app=consignment.build.app.name, reason=reason)


# trials


def _open_trial(desk: Desk, session: Session, order: Order) -> Call:
    trial = needed(session, Trial, order.subject)
    wanted = protocol.TrialRequest(
        consignment=trial.consignment.store_ref or "",
        kind=trial.cohort.kind,
        cohort=trial.cohort.name,
        track=trial.track if trial.track in cohorts.tracks_of(session, trial.consignment.berth).tracks else None,
        brief=dict(trial.brief),
        contact=trial.contact,
        sign_in=sign_ins.opened(desk.seal, trial.sealed_sign_in, trial.id),
        testers=seating.open_addresses(desk.seal, order),
    )
    berth = trial.consignment.berth.store_ref or ""
    return lambda gateway: gateway.open_trial(berth, wanted, order.id)


def _trial_taken(act: Act, order: Order, answer: protocol.TrialAnswer) -> None:
    trial = needed(act.session, Trial, order.subject)
    trial.store_ref, trial.store_page = answer.id, answer.page
    _seats_given(act, order, answer)


def _trial_refused(act: Act, order: Order, reason: str) -> None:
    """What was to follow it at the store has lost its meaning."""
    trial = needed(act.session, Trial, order.subject)
    seating.forget_addresses(order)
    if trial.state is TrialState.WITH_STORE:
        trial.state = TRIAL.after(trial.state, TrialEvent.REJECT)
    trial.reason, trial.changed_at = reason, act.now
    for later in act.session.scalars(
        select(Order).where(Order.lane == order.lane, Order.state.in_(PENDING), Order.id != order.id)
    ):
        act.drop(later, "the store took no trial")
        seating.forget_addresses(later)
    act.log("trial rejected", f"trial {trial.id}", app=trial.cohort.app.name, reason=reason)


def _close_trial(desk: Desk, session: Session, order: Order) -> Call:
    reference = needed(session, Trial, order.subject).store_ref or ""
    return lambda gateway: about(reference, gateway.close_trial(reference, order.id))


def _seat(desk: Desk, session: Session, order: Order) -> Call:
    reference = needed(session, Trial, order.subject).store_ref or ""
    addresses = seating.open_addresses(desk.seal, order)
    return lambda gateway: about(reference, gateway.seat(reference, addresses, order.id))


def _unseat(desk: Desk, session: Session, order: Order) -> Call:
    reference = needed(session, Trial, order.subject).store_ref or ""
    addresses = seating.open_addresses(desk.seal, order)
    return lambda gateway: about(reference, gateway.unseat(reference, addresses, order.id))


def _seats_given(act: Act, order: Order, answer: protocol.TrialAnswer) -> None:
    """The store has these people now; mails go to those who sit."""
    _set_seats(act, order, act.now)
    app = needed(act.session, Trial, order.subject).cohort.app.name
    act.tell("seats given", f"trial {order.subject}", app=app, said=f"{len(order.payload['testers'])} testers")


def _seats_taken_back(act: Act, order: Order, answer: protocol.TrialAnswer) -> None:
    _set_seats(act, order, None)
    app = needed(act.session, Trial, order.subject).cohort.app.name
    act.tell("seats taken back", f"trial {order.subject}", app=app)


def _set_seats(act: Act, order: Order, at: datetime | None) -> None:
    seating.forget_addresses(order)
    act.session.execute(
        update(Invitation)
        .where(Invitation.trial_id == order.subject, Invitation.tester_id.in_(order.payload["testers"]))
        .values(seated_at=at)
    )


def _seats_refused(act: Act, order: Order, reason: str) -> None:
    """The store gave none of them a seat: it is said beside each of them, and no mail goes to them."""
    seating.forget_addresses(order)
    if order.kind is OrderKind.SEAT:
        act.session.execute(
            update(Invitation)
            .where(Invitation.trial_id == order.subject, Invitation.tester_id.in_(order.payload["testers"]))
            .values(trouble=f"no seat at the store: {reason}"[:500])
        )
    _note_trial_trouble(act, order, reason)


def _note_trial_trouble(act: Act, order: Order, reason: str) -> None:
    trial = needed(act.session, Trial, order.subject)
    trial.reason = reason
    act.log(f"{order.kind} refused", f"trial {trial.id}", app=trial.cohort.app.name, reason=reason)


# review


def _submit(desk: Desk, session: Session, order: Order) -> Call:
    round_ = needed(session, Round, order.subject)
    release, berth = round_.leg.release, round_.leg.berth
    consignment = next(entry for entry in round_.build.consignments if entry.berth_id == berth.id)
    wanted = protocol.SubmissionRequest(
        consignment=consignment.store_ref or "",
        version=release.version,
        notes=dict(release.notes if round_.notes is None else round_.notes),
        reviewer_note=round_.for_reviewer,
        sign_in=sign_ins.opened(desk.seal, round_.sealed_sign_in, round_.id),
        items=tuple(str(one["item"]) for one in round_.items) or tuple(map(str, ALWAYS)),
        track=round_.leg.track,
    )
    reference, files = berth.store_ref or "", list(round_.files)

    def call(way: Way) -> protocol.SubmissionAnswer:
        attached = dossier_carriers.attached(desk, way, order.id, reference, files)
        return way.submit(reference, wanted.model_copy(update={"attachments": attached}), order.id)

    return call


def _submission_taken(act: Act, order: Order, answer: protocol.SubmissionAnswer) -> None:
    needed(act.session, Round, order.subject).store_ref = answer.id


def _message_of(session: Session, order: Order) -> ReviewMessage:
    return needed(session, ReviewMessage, str(order.payload["message"]))


def _to_reviewer(write: Callable[[Way, str, protocol.MessageRequest, str], Any]) -> Prepare:
    """A message of ours with its files, to the reviewer of its round."""

    def prepare(desk: Desk, session: Session, order: Order) -> Call:
        message = _message_of(session, order)
        round_ = message.round
        reference, berth = round_.store_ref or "", round_.leg.berth.store_ref or ""
        words, files = message.words, list(message.files)

        def call(way: Way) -> Any:
            attached = dossier_carriers.attached(desk, way, order.id, berth, files)
            return write(way, reference, protocol.MessageRequest(words=words, files=attached), order.id)

        return call

    return prepare


def _message_taken(act: Act, order: Order, answer: protocol.MessageAnswer) -> None:
    message = _message_of(act.session, order)
    leg = message.round.leg
    if all(other.reference != answer.id for other in message.round.messages):  # else a store names two messages alike
        message.reference = answer.id
    act.tell("reviewer has it", leg_subject(leg), app=leg.release.app.name)


def _message_refused(act: Act, order: Order, reason: str) -> None:
    leg = _message_of(act.session, order).round.leg
    act.log(f"{order.kind} refused", leg_subject(leg), app=leg.release.app.name, reason=reason)


def _submission_refused(act: Act, order: Order, reason: str) -> None:
    round_ = needed(act.session, Round, order.subject)
    if round_.state in UNDER_REVIEW:
        round_.state = ROUND.after(round_.state, RoundEvent.REJECT)
    round_.reasons, round_.changed_at, round_.long_after = [f"Not taken: {reason}"], act.now, None
    matters.refused(act, round_, [matters.Reason(reason)])
    act.log("not taken for review", leg_subject(round_.leg), app=round_.leg.release.app.name, reason=reason)


def _appeal_refused(act: Act, order: Order, reason: str) -> None:
    """It was none: the round has as many left as before."""
    needed(act.session, Round, order.subject).appeals -= 1
    _message_refused(act, order, reason)


def _recall(desk: Desk, session: Session, order: Order) -> Call:
    reference = needed(session, Round, order.subject).store_ref or ""
    return lambda gateway: about(reference, gateway.recall(reference, order.id))


def _recall_refused(act: Act, order: Order, reason: str) -> None:
    """Someone wanted it back: should the store approve it, it is never launched automatically."""
    leg = needed(act.session, Round, order.subject).leg
    go_aheads.hold(leg, act.now)
    act.log("recall refused", leg_subject(leg), app=leg.release.app.name, reason=reason)


# rollouts


def _launch(desk: Desk, session: Session, order: Order) -> Call:
    reference, share = _approved_reference(session, order), float(order.payload["share"])
    return lambda gateway: about_rollout(reference, gateway.launch(reference, share, order.id))


def _set_share(desk: Desk, session: Session, order: Order) -> Call:
    reference, share = _approved_reference(session, order), float(order.payload["share"])
    return lambda gateway: about_rollout(reference, gateway.set_share(reference, share, order.id))


def _steer(desk: Desk, session: Session, order: Order) -> Call:
    reference, act, reason = _approved_reference(session, order), str(order.kind), str(order.payload.get("reason", ""))
    return lambda gateway: about_rollout(reference, gateway.steer(reference, act, reason, order.id))


def _approved_reference(session: Session, order: Order) -> str:
    leg = needed(session, Leg, order.subject)
    last = legs.last_round(leg)
    return (last.store_ref if last else None) or ""


def _steering_refused(act: Act, order: Order, reason: str) -> None:
    leg = needed(act.session, Leg, order.subject)
    unlaunched = order.kind is OrderKind.HALT and lanes.sighting_of(act.session, leg.id) is None
    told = "halted before it was launched" if unlaunched else f"{order.kind} refused"
    after = {"state": str(leg.state), "share": leg.share}
    act.log(told, leg_subject(leg), app=leg.release.app.name, reason=reason, after=after)


def _launched(act: Act, order: Order, answer: Any) -> None:
    """A new rollout takes the place of one that is still on its way or halted on the same track."""
    leg = needed(act.session, Leg, order.subject)
    others = act.session.scalars(
        select(Leg).where(
            Leg.berth_id == leg.berth_id, Leg.track == leg.track, Leg.id != leg.id, Leg.state.in_(PART_WAY)
        )
    )
    for other in others:
        after = steered(legs.progress_of(other), RolloutEvent.SUPERSEDE, legs.ladder_of(other), act.now)
        legs.keep_progress(other, after, act.now)
        act.log("superseded", leg_subject(other), app=leg.release.app.name, after={"by": leg.release.version})


def _nothing_more(act: Act, order: Order, answer: Any) -> None:
    """What the store holds now is all that the answer tells."""


_ROLLOUT_STEP = Carrier(_steer, _nothing_more, _steering_refused)

_WRITERS = {
    OrderKind.WRITE_TEXTS: dossier_carriers.write_texts,
    OrderKind.WRITE_PICTURES: dossier_carriers.write_pictures,
    OrderKind.WRITE_ANSWERS: dossier_carriers.write_answers,
    OrderKind.WRITE_GOODS: dossier_carriers.write_goods,
}

CARRIERS: dict[OrderKind, Carrier] = {
    OrderKind.SET_AVAILABILITY: Carrier(_set_availability, _availability_set, _availability_refused),
    **{
        part.kind: Carrier(_WRITERS[part.kind], dossier_carriers.written(part), dossier_carriers.refused(part))
        for part in dossiers.PARTS
    },
    OrderKind.DRILL: Carrier(_drill, _nothing_more, _note_drill),
    OrderKind.OPEN_BERTH: Carrier(_open_berth, _berth_opened, _berth_refused),
    OrderKind.RENAME_BERTH: Carrier(_rename_berth, _berth_renamed, _renaming_refused),
    OrderKind.OPEN_TRACK: Carrier(_open_track, _track_opened, _track_not_opened),
    OrderKind.RENAME_TRACK: Carrier(_rename_track, _track_renamed, _track_stays),
    OrderKind.CLOSE_TRACK: Carrier(_close_track, _track_closed, _track_stays),
    OrderKind.SEND_BUILD: Carrier(_send_build, _build_sent, _build_refused),
    OrderKind.ANSWER: Carrier(_answer, _nothing_more, _answer_refused),
    OrderKind.OPEN_TRIAL: Carrier(_open_trial, _trial_taken, _trial_refused),
    OrderKind.CLOSE_TRIAL: Carrier(_close_trial, _nothing_more, _note_trial_trouble),
    OrderKind.SEAT: Carrier(_seat, _seats_given, _seats_refused),
    OrderKind.UNSEAT: Carrier(_unseat, _seats_taken_back, _seats_refused),
    OrderKind.SUBMIT: Carrier(_submit, _submission_taken, _submission_refused),
    OrderKind.RECALL: Carrier(_recall, _nothing_more, _recall_refused),
    OrderKind.WRITE_REVIEWER: Carrier(
        _to_reviewer(lambda way, *said: way.write_reviewer(*said)), _message_taken, _message_refused
    ),
    OrderKind.APPEAL: Carrier(_to_reviewer(lambda way, *said: way.appeal(*said)), _nothing_more, _appeal_refused),
    OrderKind.LAUNCH: Carrier(_launch, _launched, _steering_refused),
    OrderKind.SET_SHARE: Carrier(_set_share, _nothing_more, _steering_refused),
    OrderKind.PAUSE: _ROLLOUT_STEP,
    OrderKind.RESUME: _ROLLOUT_STEP,
    OrderKind.HALT: _ROLLOUT_STEP,
    OrderKind.WITHDRAW: _ROLLOUT_STEP,
}
