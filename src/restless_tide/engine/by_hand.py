"""The way to a store by hand: each call becomes a step for a person, and the person's word is the store's answer.

The rest of the house does not know the difference. A call is made; when no person has settled its
step yet, the step is written down and the order waits. When it is settled, the same call is made
again and finds the answer. What a connected store would tell by events (the end of processing, a
verdict) is watched for by further steps, and comes in as the same events.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO, NoReturn

from restless_tide.core.answer_shapes import shape_at, thawed, worded
from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.errors import StoreRefused
from restless_tide.core.goods import good_told
from restless_tide.core.ladder import FULL_SHARE
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.review_items import ALWAYS, item_told, kind_of
from restless_tide.core.rollout import RolloutState
from restless_tide.core.round import RoundState
from restless_tide.core.rulebook import Rulebook
from restless_tide.core.step import DONE, OF_PROCESSING, OF_REVIEW, REFUSED
from restless_tide.core.trial import TrialState
from restless_tide.desk import documents
from restless_tide.gateways import protocol

_REPORT = "Confirm the step here, or say what the store answered instead."


@dataclass(frozen=True)
class Prepared:
    """A step ready to be handed to a person. ``texts`` by what they are for; ``files`` by their digest."""

    title: str
    todo: tuple[str, ...]
    look_for: str
    texts: dict[str, str] = field(default_factory=dict)
    files: tuple[dict[str, Any], ...] = ()
    outcomes: tuple[str, ...] = (DONE, REFUSED)
    urgent: bool = False


class NeedsPerson(Exception):
    """The order waits for a person to do ``prepared``."""

    def __init__(self, prepared: Prepared) -> None:
        super().__init__(prepared.title)
        self.prepared = prepared


@dataclass(frozen=True)
class Settled:
    """What a person said of the step: done or refused, and the store's words or the place it gave."""

    outcome: str
    said: str = ""


class ByHand:
    """One order's way to a hand-carried store. ``settled`` is what the person said, once it was said."""

    def __init__(
        self,
        rules: Rulebook,
        app: str,
        version: str,
        settled: Settled | None,
        track: str = "",
        *,
        reviewed: bool = True,
    ) -> None:
        """``track`` is its title where the order is about another track than production; ``reviewed``: the store looks first."""
        self._rules, self._store = rules, rules.store
        self._app, self._version, self._settled = app, version, settled
        self._at_store = f"{self._store}, on {track}" if track else self._store
        self._reviewed = reviewed
        self._files: list[dict[str, Any]] = []

    def _ask(
        self, title: str, *todo: str, look_for: str, texts: dict[str, str] | None = None, urgent: bool = False
    ) -> None:
        """Return when the person has done it; raise NeedsPerson or StoreRefused otherwise."""
        if self._settled is None:
            told = {name: text for name, text in (texts or {}).items() if text}
            steps = (f"Open {self._app} on {self._store}'s own pages.", *todo, _REPORT)
            raise NeedsPerson(Prepared(title, steps, look_for, told, tuple(self._files), urgent=urgent))
        if self._settled.outcome == REFUSED:
            raise StoreRefused(
                self._settled.said or "The store refused it, without saying why.", code="refused-by-hand"
            )

    def open_berth(self, wanted: protocol.BerthRequest, key: str) -> protocol.BerthAnswer:
        self._ask(
            f"Open a place for {wanted.name} at {self._store}",
            f"Register a new app with the name, the identifier and the first language ({wanted.language}) below.",
            look_for="The store lists the app, without a build. Note the reference it gives, if it gives one.",
            texts={"name": wanted.name, "identifier": wanted.identifier},
        )
        return protocol.BerthAnswer(id=f"by hand {key}", identifier=wanted.identifier, name=wanted.name)

    def rename_berth(self, berth: str, name: str, key: str) -> protocol.BerthAnswer:
        self._ask(
            f"Rename {self._app} at {self._store}",
            "Give the app the name below and save it.",
            look_for="The store shows the new name, or says from when on it will.",
            texts={"name": name},
        )
        return protocol.BerthAnswer(id=berth, identifier="", name=name)

    def open_track(self, berth: str, wanted: protocol.TrackRequest, key: str) -> protocol.TrackAnswer:
        self._ask(
            f"Open the track {wanted.title} at {self._store}",
            "Open a track of your own with the name below.",
            look_for="The store lists the track, without a build.",
            texts={"name": wanted.title},
        )
        return protocol.TrackAnswer(key=wanted.key, title=wanted.title, own=True)

    def rename_track(self, berth: str, track: str, title: str, key: str) -> protocol.TrackAnswer:
        self._ask(
            f"Rename a track at {self._store}",
            f"Give the track {track} the name below and save it.",
            look_for="The store shows the new name.",
            texts={"name": title},
        )
        return protocol.TrackAnswer(key=track, title=title, own=True)

    def close_track(self, berth: str, track: str, key: str) -> protocol.TrackAnswer:
        self._ask(
            f"Close the track {track} at {self._store}", "Close it.", look_for="The store no longer lists the track."
        )
        return protocol.TrackAnswer(key=track, title=track, own=True, closed=True)

    def set_availability(
        self, berth: str, wanted: protocol.AvailabilityMessage, key: str
    ) -> protocol.AvailabilityAnswer:
        price = f"{wanted.currency} {wanted.price}" if wanted.price else "free"
        self._ask(
            f"Set where {self._app} is offered at {self._store}",
            "Close the app to new people." if wanted.closed else "Set price, countries and who may get it as below.",
            look_for="The store shows these settings as saved.",
            texts={
                "price": price,
                "countries": ", ".join(wanted.countries) or "everywhere",
                "who may get it": ", ".join(wanted.organisations) or wanted.who,
            },
        )
        return protocol.AvailabilityAnswer.model_validate(wanted.model_dump())

    def write_texts(self, berth: str, wanted: protocol.TextsRequest, key: str) -> protocol.TextsAnswer:
        written = {(locale, field): text for locale, fields in wanted.texts.items() for field, text in fields.items()}
        emptied = [f"{field} in {locale}" for (locale, field), text in written.items() if not text]
        self._ask(
            f"Write the texts of {self._app} at {self._store}",
            *(["Put each text below into its field and save it."] if len(emptied) < len(written) else []),
            *([f"Empty these fields: {', '.join(emptied)}."] if emptied else []),
            look_for="The store shows these texts as saved.",
            texts={f"{field}, {locale}": text for (locale, field), text in written.items()},
        )
        return protocol.TextsAnswer(texts=wanted.texts)

    def write_pictures(self, berth: str, wanted: protocol.PicturesRequest, key: str) -> protocol.PicturesAnswer:
        listing, told = self._rules.listing, dict[str, str]()
        self._files.clear()
        for locale, sets in wanted.pictures.items():
            for key_, files in sets.items():
                title = listing.picture_title(key_) if key_ in listing.pictures else key_
                names = [
                    f"{key_}-{locale}-{at:02}.{one.media_type.partition('/')[2]}" for at, one in enumerate(files, 1)
                ]
                told[f"{title}, {locale}"] = ", ".join(names) or "none: take out what is there"
                self._files += [
                    {"sha256": one.sha256, "size_bytes": one.size_bytes, "name": name, "of": "pictures"}
                    for name, one in zip(names, files, strict=True)
                ]
        self._ask(
            f"Put in the pictures of {self._app} at {self._store}",
            "Put the files into the places named below, in this order, instead of what is there, and save it.",
            look_for="The store shows these pictures as saved, in this order.",
            texts=told,
        )
        return protocol.PicturesAnswer(pictures=wanted.digests())

    def write_answers(
        self, berth: str, wanted: protocol.DossierAnswersRequest, key: str
    ) -> protocol.DossierAnswersAnswer:
        self._name({one["sha256"]: one["name"] for one in documents.among(wanted.answers.values())}, "documents")
        self._ask(
            f"Answer the questions about {self._app} at {self._store}",
            "Give each question below its answer and save it.",
            look_for="The store shows these answers as saved.",
            texts=self._worded(wanted.answers),
        )
        return protocol.DossierAnswersAnswer(answers=wanted.answers)

    def write_goods(self, berth: str, wanted: protocol.GoodsRequest, key: str) -> protocol.GoodsAnswer:
        self._name({good.picture: reference for reference, good in wanted.goods.items() if good.picture}, "pictures")
        texts = {reference: good_told(good) for reference, good in wanted.goods.items()}
        texts |= {
            f"{reference}, description in {locale}": text.description
            for reference, good in wanted.goods.items()
            for locale, text in good.texts.items()
            if text.description
        }
        self._ask(
            f"Enter the goods of {self._app} at {self._store}",
            "Enter each good below under its reference, or change it, and save it.",
            look_for="The store shows these goods as saved.",
            texts=texts,
        )
        return protocol.GoodsAnswer(goods=wanted.goods)

    def _name(self, names: dict[str, str], of: str) -> None:
        """Say how the files that are taken along are called, by their digests, and what they are of."""
        for file in self._files:
            file |= {"name": names.get(file["sha256"], file["sha256"][:12]), "of": of}

    def _worded(self, answers: protocol.AnswersByQuestion) -> dict[str, str]:
        """The answers as the store's own pages show them: its questions, and its words for the choices."""
        asked = self._rules.questionnaire
        return {
            asked.text(question): worded(shape_at(self._rules, question), thawed(value))
            for question, value in answers.items()
            if question in asked.questions
        }

    def send_package(
        self,
        berth: str,
        source: BinaryIO,
        size_bytes: int,
        key: str,
        told: Callable[[int], None] = lambda _: None,
    ) -> str:
        self._files.append({"sha256": Path(source.name).name, "size_bytes": size_bytes})
        return key

    def consign(self, berth: str, wanted: protocol.ConsignmentRequest, key: str) -> protocol.ConsignmentAnswer:
        self._ask(
            f"Hand in build {wanted.version} ({wanted.number}) at {self._store}",
            f"Upload the {'file' if len(self._files) == 1 else 'files'} below, unchanged.",
            look_for=f"The store shows version {wanted.version} with number {wanted.number} as received.",
        )
        return protocol.ConsignmentAnswer(
            id=f"by hand {key}", state=ConsignmentState.PROCESSING, version=wanted.version, number=wanted.number
        )

    def answer(self, consignment: str, answers: dict[str, str], key: str) -> protocol.ConsignmentAnswer:
        self._ask(
            f"Answer {self._store}'s questions", "Give the answers below.", look_for="Nothing is open.", texts=answers
        )
        return protocol.ConsignmentAnswer(
            id=consignment, state=ConsignmentState.PROCESSING, version="", number=BuildNumber(0)
        )

    def open_trial(self, berth: str, wanted: protocol.TrialRequest, key: str) -> protocol.TrialAnswer:
        self._ask(
            f"Open a {wanted.kind} trial at {self._at_store}",
            "Start a test of the newest build for the addresses below.",
            look_for="The store lists the testers.",
            texts={
                **{f"what to look at, {locale}": text for locale, text in wanted.brief.items()},
                "contact": wanted.contact,
                "for the reviewer": "\n".join(f"{name}: {text}" for name, text in (wanted.sign_in or {}).items()),
                "testers": "\n".join(wanted.testers),
            },
        )
        return protocol.TrialAnswer(id=f"by hand {key}", state=TrialState.OPEN)

    def close_trial(self, trial: str, key: str) -> protocol.TrialAnswer:
        self._ask(f"Close the trial at {self._store}", "End the test.", look_for="The store shows it as ended.")
        return protocol.TrialAnswer(id=trial, state=TrialState.CLOSED)

    def seat(self, trial: str, addresses: tuple[str, ...], key: str) -> protocol.TrialAnswer:
        people, it = (
            ("a tester", "the address") if len(addresses) == 1 else (f"{len(addresses)} testers", "the addresses")
        )
        self._ask(
            f"Add {people} at {self._store}",
            f"Add {it} below to the test.",
            look_for="The store lists them as testers.",
            texts={"testers": "\n".join(addresses)},
        )
        return protocol.TrialAnswer(id=trial, state=TrialState.OPEN)

    def unseat(self, trial: str, addresses: tuple[str, ...], key: str) -> protocol.TrialAnswer:
        people = "a tester" if len(addresses) == 1 else f"{len(addresses)} testers"
        self._ask(
            f"Take {people} out at {self._store}",
            "Take the addresses below out of the test.",
            look_for="The store lists them no more.",
            texts={"testers": "\n".join(addresses)},
        )
        return protocol.TrialAnswer(id=trial, state=TrialState.OPEN)

    def submit(self, berth: str, wanted: protocol.SubmissionRequest, key: str) -> protocol.SubmissionAnswer:
        notes = {f"notes {locale}": text for locale, text in wanted.notes.items()}
        if wanted.reviewer_note:
            notes["note for the reviewer"] = wanted.reviewer_note
        if wanted.sign_in:
            notes["sign-in for the reviewer"] = "\n".join(f"{name}: {text}" for name, text in wanted.sign_in.items())
        others = [item_told(item) for item in wanted.items if kind_of(item) not in ALWAYS]
        if others:
            notes["goes to review, too"] = ", ".join(others)
        self._name({one.sha256: one.name for one in wanted.attachments}, "documents")
        if not self._reviewed:
            self._ask(
                f"Choose {wanted.version} at {self._at_store}",
                f"Choose the build of version {wanted.version} for the track; do not release it yet.",
                look_for="The store shows the build as chosen; no review is asked for.",
                texts=notes,
            )
            return protocol.SubmissionAnswer(id=f"by hand {key}", state=RoundState.APPROVED)
        self._ask(
            f"Hand {wanted.version} to review at {self._at_store}",
            f"Choose the build of version {wanted.version}, paste the notes, and hand it in.",
            look_for="The store says that it has taken it and will look at it.",
            texts=notes,
        )
        return protocol.SubmissionAnswer(id=f"by hand {key}", state=RoundState.QUEUED)

    def recall(self, submission: str, key: str) -> protocol.SubmissionAnswer:
        self._ask(f"Take it back from review at {self._store}", "Recall it.", look_for="It is no longer in review.")
        return protocol.SubmissionAnswer(id=submission, state=RoundState.RECALLED)

    def write_reviewer(self, submission: str, wanted: protocol.MessageRequest, key: str) -> protocol.MessageAnswer:
        self._name({one.sha256: one.name for one in wanted.files}, "documents")
        self._ask(
            f"Write to the reviewer of {self._version} at {self._at_store}",
            "Send the message below, with the files, if there are any.",
            look_for="The store shows the message as sent.",
            texts={"message": wanted.words},
        )
        return protocol.MessageAnswer(id=f"by hand {key}", submission=submission)

    def appeal(self, submission: str, wanted: protocol.MessageRequest, key: str) -> protocol.SubmissionAnswer:
        self._name({one.sha256: one.name for one in wanted.files}, "documents")
        self._ask(
            f"Appeal against the refusal of {self._version} at {self._at_store}",
            "Appeal with the words below, and the files, if there are any.",
            look_for="The store shows the appeal as received.",
            texts={"appeal": wanted.words},
        )
        return protocol.SubmissionAnswer(id=submission, state=RoundState.QUEUED)

    def launch(self, submission: str, share: float, key: str) -> protocol.RolloutAnswer:
        self._ask(
            f"Launch {self._version} at {self._at_store} to {share:.0%} of people",
            f"Release the approved {self._version} to {share:.0%}.",
            look_for=f"The store shows it as released to {share:.0%}.",
        )
        return self._at(submission, share)

    def set_share(self, submission: str, share: float, key: str) -> protocol.RolloutAnswer:
        self._ask(
            f"Raise {self._version} at {self._at_store} to {share:.0%}",
            f"Set the share of people who are offered {self._version} to {share:.0%}.",
            look_for=f"The store shows {share:.0%}.",
        )
        return self._at(submission, share)

    def _at(self, submission: str, share: float) -> protocol.RolloutAnswer:
        return protocol.RolloutAnswer(
            submission=submission,
            state=RolloutState.COMPLETE if share == FULL_SHARE else RolloutState.RISING,
            share=share,
        )

    def steer(self, submission: str, act: str, reason: str, key: str) -> protocol.RolloutAnswer:
        todo, look_for, state = _STEERED[act]
        title, urgent = f"{act.capitalize()} {self._version} at {self._at_store}", act in _URGENT
        todo = todo.format(version=self._version)
        self._ask(title, todo, look_for=look_for, texts={"reason": reason}, urgent=urgent)
        return protocol.RolloutAnswer.model_validate({"submission": submission, "state": state, "share": 0.0})

    def drill(self, act: str, key: str) -> NoReturn:
        raise StoreRefused(
            "A person carries the steps of this store; there is nothing to measure.", code="hand-carried"
        )


_URGENT = frozenset({"halt", "withdraw", "pause"})
_STEERED = {
    "pause": (
        "Pause the rollout of {version}.",
        "The store shows it as paused, at the same share.",
        RolloutState.PAUSED,
    ),
    "resume": ("Resume the rollout of {version}.", "The store shows it as rolling out again.", RolloutState.RISING),
    "halt": (
        "Stop the rollout of {version} now: nobody new may get it.",
        "The store offers the version to nobody new.",
        RolloutState.HALTED,
    ),
    "withdraw": ("Take {version} down.", "The store no longer offers the version.", RolloutState.WITHDRAWN),
}


def watch_processing(store: str, label: str, usual_minutes: float) -> Prepared:
    """The step that watches for the end of processing."""
    return Prepared(
        f"See whether {store} has taken build {label}",
        (f"Look at the build on {store}'s own pages; it usually takes {usual_minutes:g} minutes.",),
        "The store says that the build is ready, or why not.",
        outcomes=OF_PROCESSING,
    )


def watch_review(store: str, version: str, usual_hours: float) -> Prepared:
    """The step that watches for the verdict."""
    return Prepared(
        f"See what {store}'s review says of {version}",
        (f"Look at the release on {store}'s own pages, or for its mail; it usually takes {usual_hours:g} hours.",),
        "The store says approved, or rejected with reasons. Paste the reasons as they stand.",
        outcomes=OF_REVIEW,
    )


def first_build(store: str, app: str, version: str, number: BuildNumber, files: tuple[dict[str, Any], ...]) -> Prepared:
    """The step for a store that takes the very first build only on its own pages."""
    return Prepared(
        f"Hand in the first build of {app} at {store} by hand",
        (
            f"Open {app} on {store}'s own pages: it takes the very first build only there.",
            f"Upload {'the file' if len(files) == 1 else 'the files'} below, unchanged.",
            "The desk recognises it automatically; every later build goes by the gateway.",
        ),
        f"The store shows version {version} with number {number} as received.",
        files=files,
        outcomes=(DONE,),
    )
