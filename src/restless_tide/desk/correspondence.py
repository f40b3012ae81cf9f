"""The correspondence of a round with its reviewer: messages both ways with files, questions, appeals."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.correspondence import (
    FROM_STORE,
    LONGEST_MESSAGE,
    MOST_MESSAGES,
    MessageKind,
    waits_for_answer,
)
from restless_tide.core.documents import FileAnswer
from restless_tide.core.errors import ImpossibleAct, Invalid, NotFound, TooLarge
from restless_tide.core.notice import NoticeKind
from restless_tide.core.order import OrderKind, OrderState
from restless_tide.core.round import ROUND, UNDER_REVIEW, RoundEvent, RoundState
from restless_tide.desk import documents, find, legs, reviewer_briefs, reviews
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Leg, Release, ReviewMessage, Round

OPEN_TO_WORDS = UNDER_REVIEW | {RoundState.REJECTED}
"""A reviewer is written to while a round is with the store, and about a refusal."""


def write(act: Act, app_name: str, version: str, place: str, words: str, files: Sequence[str]) -> ReviewMessage:
    """Write to the reviewer of a leg's last round. Raises ImpossibleAct where there is none to write to."""
    round_ = _round(act.session, app_name, version, place)
    if round_.state not in OPEN_TO_WORDS:
        raise ImpossibleAct(
            f"Round {round_.number} is {round_.state}; its reviewer takes no more messages.", possible=[]
        )
    return _send(act, round_, MessageKind.OURS, OrderKind.WRITE_REVIEWER, words, files)


def appeal(act: Act, app_name: str, version: str, place: str, words: str, files: Sequence[str]) -> ReviewMessage:
    """Appeal against the refusal of a leg's last round. Raises ImpossibleAct where the store takes no appeal, or no more."""
    round_ = _round(act.session, app_name, version, place)
    why_not = against_appeal(round_)
    if why_not:
        raise ImpossibleAct(why_not, possible=[])
    if round_.leg.build_id != round_.build_id:
        raise ImpossibleAct("The leg has another build now; hand that in instead.", possible=["submit"])
    message = _send(act, round_, MessageKind.APPEAL, OrderKind.APPEAL, words, files)
    round_.state = ROUND.after(round_.state, RoundEvent.APPEAL)
    round_.appeals, round_.changed_at = round_.appeals + 1, act.now
    reviews.appealed(act, round_)
    return message


def against_appeal(round_: Round) -> str:
    """Why the refusal of a round cannot be appealed; empty: it can."""
    rules = rules_of(round_.leg.berth.store)
    if not ROUND.allows(round_.state, RoundEvent.APPEAL):
        return f"Round {round_.number} is {round_.state}; only a refusal is appealed."
    if rules.review.appeals == 0:
        return f"{rules.store} takes no appeals. Hand it in again instead."
    if round_.appeals >= rules.review.appeals:
        return f"{rules.store} takes {rules.review.appeals} appeals of a round at most, and they are used up."
    return ""


def _send(
    act: Act, round_: Round, kind: MessageKind, order: OrderKind, words: str, files: Sequence[str]
) -> ReviewMessage:
    _demand_words(round_, words)
    if round_.store_ref is None:
        raise ImpossibleAct("The store has not confirmed the submission yet.", possible=["wait"])
    leg = round_.leg
    row = _add(act, round_, kind, words, reviewer_briefs.named(act.session, files))
    placed = act.order(order, lane=leg.id, store=leg.berth.store, subject=round_.id, payload={"message": row.id})
    row.order_id = placed.id
    told = "appealed" if kind is MessageKind.APPEAL else "reviewer written to"
    act.log(told, legs.leg_subject(leg), app=leg.release.app.name, after={"round": round_.number, "words": row.words})
    return row


def _demand_words(round_: Round, words: str) -> None:
    if not words.strip():
        raise Invalid("A message needs words.", code="words-missing")
    if len(words) > LONGEST_MESSAGE:
        raise Invalid(f"A message has {LONGEST_MESSAGE} characters at most.", code="words-too-long")
    if len(round_.messages) >= MOST_MESSAGES:
        raise Invalid(f"{MOST_MESSAGES} messages of a round are kept.", code="too-many-messages")


def _add(
    act: Act, round_: Round, kind: MessageKind, words: str, files: list[dict[str, Any]], reference: str | None = None
) -> ReviewMessage:
    from_store = kind in FROM_STORE
    row = ReviewMessage(
        round_id=round_.id, kind=kind, person="" if from_store else act.person, words=words.strip(), files=files,
        files_due=False, at=act.now, reference=reference,
    )  # fmt: skip
    round_.messages.append(row)
    act.session.flush()
    return row


# what the reviewer writes


def received(
    act: Act, round_: Round, reference: str | None, words: str, files: list[dict[str, Any]], *, asks: bool
) -> ReviewMessage | None:
    """Write down what a reviewer wrote, once; None where it is known, or where no more are kept of the round."""
    known = select(ReviewMessage).where(ReviewMessage.round_id == round_.id, ReviewMessage.reference == reference)
    if reference is not None and act.session.scalar(known) is not None:
        return None
    leg = round_.leg
    app, subject = leg.release.app, legs.leg_subject(leg)
    if len(round_.messages) >= MOST_MESSAGES:
        act.log("message not kept", subject, app=app.name, reason=f"{MOST_MESSAGES} of this round are kept")
        return None
    row = _add(
        act, round_, MessageKind.QUESTION if asks else MessageKind.STORE, words[:LONGEST_MESSAGE], files, reference
    )
    row.files_due = any(map(is_due, files))
    store = rules_of(leg.berth.store).store
    told = "asks about" if asks else "wrote about"
    act.log("reviewer asks" if asks else "reviewer wrote", subject, app=app.name, reason=row.words)
    act.notice(
        NoticeKind.REVIEWER_WROTE,
        f"{row.id}/wrote",
        subject,
        f"The reviewer at {store} {told} {app.title} {leg.release.version}: {row.words[:500]}",
        place=f"/apps/{app.name}/releases/{leg.release.version}",
        app=app.name,
    )
    return row


def note_received(
    act: Act, app_name: str, version: str, place: str, words: str, files: Sequence[str], *, asks: bool
) -> ReviewMessage:
    """Enter what a reviewer wrote outside of the gateway, at a store that is carried by hand or by mail."""
    round_ = _round(act.session, app_name, version, place)
    _demand_words(round_, words)
    entered = [one | {"kept": True} for one in reviewer_briefs.named(act.session, files)]
    row = received(act, round_, None, words, entered, asks=asks)
    assert row is not None  # it has no reference, and there is room
    row.person = act.person
    return row


def is_due(file: Mapping[str, Any]) -> bool:
    """Whether a reviewer's file is still to be fetched."""
    return not file.get("kept") and not file.get("trouble")


def keep_file(desk: Desk, message_id: str, sha256: str, part: Path | None, trouble: str) -> None:
    """Write down that a reviewer's file was fetched, or what is wrong with it; it is kept if it is a document."""
    found: FileAnswer | None = None
    with desk.look() as session:
        row = session.get(ReviewMessage, message_id)
        named = next((one for one in row.files if one["sha256"] == sha256), None) if row is not None else None
    if named is None:
        return
    if part is not None:
        try:
            found = documents.keep_file(desk, ENGINE, part, str(named["name"]))
            if found.sha256 != sha256:
                found, trouble = None, "It is not the file that was named."
        except (Invalid, TooLarge) as wrong:
            trouble = wrong.detail
    with desk.act(ENGINE) as act:
        row = act.session.get(ReviewMessage, message_id)
        if row is None:
            return
        told = {"kept": found is not None, "trouble": trouble} | (
            {"format": str(found.format), "size_bytes": found.size_bytes} if found is not None else {}
        )
        row.files = [one | told if one["sha256"] == sha256 else one for one in row.files]
        row.files_due = any(map(is_due, row.files))
        leg = row.round.leg
        act.tell("reviewer's file", legs.leg_subject(leg), app=leg.release.app.name, said=trouble)


# looking


def of_leg(session: Session, app_name: str, version: str, place: str) -> list[Round]:
    """The rounds of a leg, the newest first, with their messages."""
    leg = find.leg(find.release(session, find.app(session, app_name), version), place)
    return list(reversed(leg.rounds))


def waits(round_: Round) -> bool:
    """Whether the reviewer of a round waits for an answer."""
    return round_.state in UNDER_REVIEW and waits_for_answer(one.kind for one in round_.messages)


def summaries(session: Session, rounds: Sequence[Round]) -> dict[str, tuple[int, bool]]:
    """How many messages each of some rounds has, and whether its reviewer waits for an answer."""
    kinds: dict[str, list[MessageKind]] = {}
    asked = select(ReviewMessage.round_id, ReviewMessage.kind).where(
        ReviewMessage.round_id.in_([one.id for one in rounds])
    )
    for round_id, kind in session.execute(asked.order_by(ReviewMessage.at)):
        kinds.setdefault(round_id, []).append(kind)
    return {
        one.id: (len(found), one.state in UNDER_REVIEW and waits_for_answer(found))
        for one in rounds
        for found in [kinds.get(one.id, [])]
    }


def open_questions(session: Session) -> dict[str, str]:
    """What reviewers ask and wait for, by the leg that is under review."""
    asked = (
        select(Round.id, Round.leg_id, ReviewMessage.kind, ReviewMessage.words)
        .join(ReviewMessage, ReviewMessage.round_id == Round.id)
        .where(Round.state.in_(UNDER_REVIEW))
        .order_by(ReviewMessage.at)
    )
    kinds: dict[str, list[MessageKind]] = {}
    last: dict[str, tuple[str, str]] = {}
    for round_id, leg_id, kind, words in session.execute(asked):
        kinds.setdefault(round_id, []).append(kind)
        if kind is MessageKind.QUESTION:
            last[round_id] = leg_id, words
    return {leg: words for round_id, (leg, words) in last.items() if waits_for_answer(kinds[round_id])}


def arrived(row: ReviewMessage) -> bool | None:
    """Whether the store has one of our messages; None: it refused it, or it was never sent."""
    if row.order is None or row.order.state is OrderState.CONFIRMED:
        return True
    return None if row.order.state in (OrderState.REFUSED, OrderState.DROPPED) else False


def file_of(session: Session, app_name: str, message_id: str, sha256: str) -> dict[str, Any]:
    """A file of a message of an app. Raises NotFound."""
    app = find.app(session, app_name)
    wanted = (
        select(ReviewMessage)
        .join(Round)
        .join(Leg)
        .join(Release)
        .join(App)
        .where(App.id == app.id, ReviewMessage.id == message_id)
    )
    row = session.scalar(wanted)
    found = next((one for one in row.files if one["sha256"] == sha256), None) if row is not None else None
    if found is None or not found.get("kept", True):
        raise NotFound("There is no such file with that message here.", code="document-unknown")
    return found


def _round(session: Session, app_name: str, version: str, place: str) -> Round:
    leg = find.leg(find.release(session, find.app(session, app_name), version), place)
    last = legs.last_round(leg)
    if last is None:
        raise ImpossibleAct("The leg was never handed in.", possible=["submit"])
    return last
