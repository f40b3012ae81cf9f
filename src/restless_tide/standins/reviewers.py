"""How a stand-in's reviewers are written to, and write: messages with files, and appeals."""

from __future__ import annotations

import base64
import binascii
import hashlib
from pathlib import Path

from pydantic import BaseModel, Field

from restless_tide.gateways import protocol
from restless_tide.standins import offering, verdicts
from restless_tide.standins.judgement import Refusal
from restless_tide.standins.shelf import Thing
from restless_tide.standins.store import SimulatedStore, fresh

_WRITTEN_TO = ("queued", "in hand", "rejected")


class ReviewerWrites(BaseModel):
    """What a reviewer shall write: files by name, their content in base64. The same ``id`` twice is the same message."""

    submission: str
    words: str
    asks: bool = False
    files: dict[str, str] = Field(default_factory=dict)
    id: str | None = None


def keep_attached(store: SimulatedStore, files: tuple[protocol.Attached, ...]) -> list[Thing]:
    """Take the files that came with a call. Raises Refusal for one that is not what was named."""
    arrived: dict[str, Path] = {}
    known = {one.sha256 for one in files if store.file(one.sha256).exists()}
    for one in files:
        offering.arrived_file(store, one.sha256, one.upload, known, arrived, protocol.DOCUMENT_UNKNOWN)
    offering.keep_files(store, arrived)
    return [one.model_dump(mode="json", exclude={"upload"}) for one in files]


def take_message(store: SimulatedStore, submission_id: str, wanted: protocol.MessageRequest) -> Thing:
    """The team writes; a review that rests until a question is answered continues."""
    submission = store.needed("submission", submission_id)
    if submission["state"] not in _WRITTEN_TO:
        raise Refusal("not-under-review", f"It is {submission['state']}; we read no more about it.")
    message = {
        "id": fresh("message"),
        "from": "team",
        "words": wanted.words,
        "files": keep_attached(store, wanted.files),
    }
    submission |= {"messages": [*submission.get("messages", []), message]}
    store.shelf.put("submission", submission)
    if submission.get("waits"):
        minutes = store.review_hours(submission) * 12
        store.due(submission | {"waits": False}, "submission", minutes=minutes)
    return {"id": message["id"], "submission": submission_id}


def appeal(store: SimulatedStore, submission_id: str, wanted: protocol.MessageRequest) -> Thing:
    """The team appeals; another reviewer looks at the same submission again."""
    submission = store.needed("submission", submission_id)
    if submission["state"] != "rejected":
        raise Refusal("not-refused", f"It is {submission['state']}; only a refusal is appealed.")
    done = submission.get("appeals", 0)
    if done >= store.rules.review.appeals:
        raise Refusal("no-appeal", "We take no appeal against this." if not done else "Our answer stands.")
    if any(
        other["berth"] == submission["berth"] and other["state"] in ("queued", "in hand")
        for other in store.shelf.all("submission")
    ):
        raise Refusal("already-under-review", "Something of this app is under review already.")
    message = {
        "id": fresh("message"),
        "from": "team",
        "words": wanted.words,
        "files": keep_attached(store, wanted.files),
    }
    again = submission | {
        "state": "queued",
        "appeals": done + 1,
        "messages": [*submission.get("messages", []), message],
        "reasons": [],
        "objections": [],
        "verdicts": [],
        "mood": verdicts.mood_for(store),
    }
    return store.due(again, "submission", minutes=store.review_hours(submission) * 9)


def reviewer_writes(store: SimulatedStore, wish: ReviewerWrites) -> Thing:
    """A reviewer writes to the team, whatever the submission's state is."""
    submission, files = store.needed("submission", wish.submission), []
    for name, content in wish.files.items():
        try:
            data = base64.b64decode(content, validate=True)
        except binascii.Error:
            raise Refusal("file-unfit", f"{name} is not in base64.", 422) from None
        sha256 = hashlib.sha256(data).hexdigest()
        store.file(sha256).parent.mkdir(exist_ok=True)
        store.file(sha256).write_bytes(data)
        files.append(
            {"sha256": sha256, "name": name, "media_type": "application/octet-stream", "size_bytes": len(data)}
        )
    message = {"id": wish.id or fresh("message"), "words": wish.words, "asks": wish.asks, "files": files}
    sent = [*submission.get("sent", []), *(one["sha256"] for one in files)]
    if wish.asks and submission["state"] in ("queued", "in hand"):
        submission |= {"asked": True, "waits": True, "due_at": None}
    store.shelf.put("submission", submission | {"sent": sent})
    store.event("submission.message", submission["id"], message)
    return message


def sent_file(store: SimulatedStore, submission_id: str, sha256: str) -> Path:
    """A file that a reviewer sent about a submission."""
    if sha256 not in store.needed("submission", submission_id).get("sent", []):
        raise Refusal(protocol.DOCUMENT_UNKNOWN, "We sent no such file about this submission.", status=404)
    return store.file(sha256)
