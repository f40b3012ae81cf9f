"""What a store reports about a review besides its verdict: a reviewer's messages and their files, verdicts on single items."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select

from restless_tide.core.errors import StoreRefused, TideError
from restless_tide.core.limits import LARGEST_DOCUMENT_BYTES
from restless_tide.core.look import after_verdict
from restless_tide.core.round import RoundState
from restless_tide.core.sizes import size
from restless_tide.core.waiting import DECIDED
from restless_tide.desk import correspondence, last_look, matters
from restless_tide.desk.desk import Act, Desk
from restless_tide.gateways import protocol
from restless_tide.gateways.client import UNREADABLE, Gateway
from restless_tide.records.tables import Berth, Leg, ReviewMessage, Round

_BATCH = 20


def message_told(act: Act, round_: Round, said: protocol.ReviewerMessage) -> None:
    """A reviewer wrote; the same message again is the same."""
    correspondence.received(act, round_, said.id, said.words, [_named(one) for one in said.files], asks=said.asks)


def _named(one: protocol.Attached) -> dict[str, Any]:
    name = one.name.replace("/", "_").replace("\\", "_").strip().lstrip(".") or "file"
    told: dict[str, Any] = {"sha256": one.sha256, "name": name, "size_bytes": one.size_bytes, "kept": False}
    if one.size_bytes > LARGEST_DOCUMENT_BYTES:
        told["trouble"] = (
            f"It has {size(one.size_bytes)}; files of more than {size(LARGEST_DOCUMENT_BYTES)} are left there."
        )
    return told


def verdicts(act: Act, round_: Round, said: protocol.SubmissionAnswer | protocol.SubmissionChanged) -> None:
    """Write down what a store decided about each item, and what was refused as matters."""
    state = RoundState(said.state)
    told = {one.item: one.state for one in said.items}
    if state in DECIDED:
        by_state = str(RoundState.APPROVED) if state is RoundState.APPROVED else ""
        round_.items = [one | {"state": told.get(str(one["item"]), by_state)} for one in round_.items]
        _note_approved(act, round_)
    if state is not round_.state and (state is RoundState.REJECTED or said.reasons):
        about = {one.text: one for one in said.objections}
        matters.refused(
            act,
            round_,
            [
                matters.Reason(words, one.thing if one else None, one.item if one else None)
                for words in said.reasons
                for one in [about.get(words)]
            ],
        )


def refused_alone(round_: Round) -> list[str]:
    """The items of a round that the store has refused."""
    return [str(one["item"]) for one in round_.items if one["state"] == RoundState.REJECTED]


def _note_approved(act: Act, round_: Round) -> None:
    """What the store has approved now stands as it was handed in."""
    items = {str(one["item"]) for one in round_.items if one["state"] == RoundState.APPROVED}
    handed_in = last_look.read(act.session, round_.look)
    if items and handed_in is not None:
        berth = round_.leg.berth
        before = last_look.read(act.session, berth.approved_look)
        berth.approved_look = last_look.keep(act.session, after_verdict(before, handed_in, items))


def fetch_files(desk: Desk, store_id: str, gateway: Gateway) -> int:
    """Bring the files that reviewers sent; what is no document, or not what was named, is left there. Returns how many came."""
    with desk.look() as session:
        due = [
            (row.id, row.round.store_ref or "", [one["sha256"] for one in row.files if correspondence.is_due(one)])
            for row in session.scalars(
                select(ReviewMessage)
                .join(Round)
                .join(Leg)
                .join(Berth)
                .where(Berth.store_id == store_id, ReviewMessage.files_due.is_(True))
                .limit(_BATCH)
            )
        ]
    came = 0
    for message, reference, digests in due:
        for sha256 in digests:
            part = desk.dossier_files.part()
            try:
                gateway.reviewer_file(reference, sha256, part)
                correspondence.keep_file(desk, message, sha256, part, "")
                came += 1
            except StoreRefused as wrong:
                correspondence.keep_file(desk, message, sha256, None, wrong.detail)
            except TideError as wrong:
                if wrong.code != UNREADABLE:
                    return came
                correspondence.keep_file(desk, message, sha256, None, wrong.detail)
            finally:
                part.unlink(missing_ok=True)
    return came
