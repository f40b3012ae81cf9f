"""How a stand-in's reviewers decide: what they are handed, item by item, and by their own reading of it.

Written apart from core's on purpose: if both sides shared this code, a mistake in it would be invisible.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import TYPE_CHECKING, Any, NamedTuple

from restless_tide.core.rulebook import PRODUCTION
from restless_tide.standins import asking, judgement, looking, selling
from restless_tide.standins.judgement import Refusal
from restless_tide.standins.shelf import Thing

if TYPE_CHECKING:
    from restless_tide.standins.store import SimulatedStore

_BASIC = ("build", "notes")
_DOSSIER = ("texts", "pictures", "answers", "goods")
_THINGS = {
    "build": "build",
    "notes": "review",
    "texts": "text",
    "pictures": "picture",
    "answers": "answers",
    "goods": "goods",
}
"""The kind of thing in the graph that an item is of."""
_PASSES = "lets the rest pass"
_LATE_TIMES = 4
"""A reviewer who is late takes so many times as long again."""
QUESTIONS = (
    "Where in the app do we find what the notes speak of?",
    "Which of the screens needs the permissions that are asked for?",
    "Who may see what people enter here?",
)


class Objection(NamedTuple):
    """One reason against what was handed in, the thing of the graph that it is about, and the item."""

    text: str
    thing: str | None = None
    item: str | None = None

    def told(self) -> Thing:
        return self._asdict()


def demand_items(store: SimulatedStore, berth_id: str, items: tuple[str, ...], track: str, dossier: Thing) -> None:
    """Raise Refusal for items that we do not take together, and where one is missing that goes with the version."""
    allowed = {str(kind) for kind in store.rules.review.go_together}
    for item in items:
        kind, _, reference = item.partition("/")
        if kind not in allowed or (track != PRODUCTION and kind not in _BASIC):
            raise Refusal("item-not-taken", f"{item} does not go to review with a version here.")
        if reference and (kind != "goods" or reference not in dossier["goods"]):
            raise Refusal("item-unknown", f"We hold no {item}.")
    if not set(_BASIC) <= set(items):
        raise Refusal("items-missing", "A version goes to review with its build and its notes.")
    if track != PRODUCTION:
        return
    reviewed = _reviewed(store, berth_id)
    for kind in map(str, store.rules.review.must_go):
        changed = dossier.get(kind, {}) != reviewed.get(kind, {})
        if changed and not any(item.partition("/")[0] == kind for item in items):
            raise Refusal("items-missing", f"The {kind} have changed; they go to review with the version.")


def _reviewed(store: SimulatedStore, berth_id: str) -> Thing:
    return store.shelf.get("reviewed", berth_id) or {"id": berth_id}


def mood_for(store: SimulatedStore) -> Thing:
    """What was set for the next review; from here on it is this one's alone."""
    found = {
        "reject": store.setting("reject_next", []),
        "reject_items": store.setting("reject_item_next", {}),
        "asks": store.setting("ask_next", []),
    }
    for name in ("reject_next", "ask_next"):
        store.shelf.keep_setting(name, [])
    store.shelf.keep_setting("reject_item_next", {})
    return found


def decide(store: SimulatedStore, submission: Thing, dossier: Thing, at: datetime) -> None:
    """A reviewer is through with a submission: asks back, is late, or gives the verdict."""
    if _asks_back(store, submission, at):
        return
    if not submission.get("late") and store.whim("late_rate", submission["id"]):
        minutes = store.review_hours(submission) * 51 * _LATE_TIMES
        store.due(submission | {"late": True}, "submission", minutes=minutes, since=at)
        return
    found = list(_objections(store, submission, dossier, at))
    if not found and store.whim("whim_rate", submission["id"]):
        found = [Objection("The reviewer could not make out what the app is for.")]
    refused = {one.item for one in found}
    alone = found and store.rules.review.refused_item == _PASSES and not refused & {None, *_BASIC}
    verdicts = [
        {"item": item, "state": "rejected" if item in refused or (None in refused and item in _BASIC) else "approved"}
        for item in submission["items"]
    ]
    _note_reviewed(store, submission, dossier, [one["item"] for one in verdicts if one["state"] == "approved"])
    store.tell(
        "submission",
        submission
        | {
            "state": "approved" if alone or not found else "rejected",
            "reasons": [one.text for one in found],
            "objections": [one.told() for one in found],
            "verdicts": verdicts,
        },
        at,
    )


def _asks_back(store: SimulatedStore, submission: Thing, at: datetime) -> bool:
    """Whether the reviewer has a question first; the review rests until it is answered."""
    asked = submission.get("mood", {}).get("asks", [])
    if submission.get("asked") or not (asked or store.whim("asking_rate", submission["id"])):
        return False
    words = asked[0] if asked else QUESTIONS[len(submission["id"]) % len(QUESTIONS)]
    store.shelf.put("submission", submission | {"asked": True, "waits": True, "due_at": None})
    message: Thing = {"id": f"{submission['id']}-asks", "words": words, "asks": True, "files": []}
    store.event("submission.message", submission["id"], message, at)
    return True


def _objections(store: SimulatedStore, submission: Thing, dossier: Thing, at: datetime) -> Iterator[Objection]:
    rules, items = store.rules, submission["items"]

    def about(reasons: list[str], item: str) -> Iterator[Objection]:
        thing = judgement.thing_of(rules, _THINGS[item.partition("/")[0]])
        for text in reasons:
            yield Objection(text, thing, item if item in items else None)

    yield from about(judgement.reasons_against(rules, submission), "notes")
    whole = judgement.thing_of(rules, _THINGS["notes"])
    yield from (Objection(text, whole) for text in submission.get("mood", {}).get("reject", []))
    if submission.get("track", PRODUCTION) != PRODUCTION:
        return
    berth = store.needed("berth", submission["berth"])
    language, offer = berth.get("language", ""), berth.get("availability") or {}
    packages = store.read_packages(store.needed("consignment", submission["consignment"]))
    answers, pictures, goods = dossier["answers"], dossier["pictures"], dossier["goods"]
    yield from about(judgement.reasons_against_texts(rules, dossier["texts"], language), "texts")
    yield from about(looking.reasons_against_pictures(rules, pictures, language), "pictures")
    yield from about(asking.reasons_against_answers(rules, answers, packages, offer, at), "answers")
    yield from about(selling.reasons_against_goods(rules, goods, answers, packages, offer, at), "goods")
    yield from _of_items(store, submission, dossier, about)


def _of_items(store: SimulatedStore, submission: Thing, dossier: Thing, about: Any) -> Iterator[Objection]:
    """What is wrong with single items that were handed in, beyond what has to be there."""
    items, told = submission["items"], submission.get("mood", {}).get("reject_items", {})
    for item, reasons in told.items():
        if item in items:
            yield from about(reasons, item)
    if "pictures" in items:
        before = {one for sets in _reviewed(store, submission["berth"]).get("pictures", {}).values() for files in sets.values() for one in files}  # fmt: skip
        for locale, sets in dossier["pictures"].items():
            for key, files in sets.items():
                for at, sha256 in enumerate(files, 1):
                    if sha256 not in before and looking.shows_nothing(store.file(sha256)):
                        yield from about([f"Picture {at} of {key} in {locale} shows nothing."], "pictures")
    for item in items:
        kind, _, reference = item.partition("/")
        if kind == "goods" and reference:
            yield from about(selling.reasons_against_good(dossier["goods"], reference), item)


def _note_reviewed(store: SimulatedStore, submission: Thing, dossier: Thing, approved: list[str]) -> None:
    """What we have approved stands from now on as it was handed in."""
    known = _reviewed(store, submission["berth"])
    for item in approved:
        kind, _, reference = item.partition("/")
        if kind not in _DOSSIER:
            continue
        if reference:
            known["goods"] = known.get("goods", {}) | {reference: dossier["goods"].get(reference)}
        else:
            known[kind] = dossier[kind]
    store.shelf.put("reviewed", known)
