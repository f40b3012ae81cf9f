"""The gateway protocol's requests and answers. docs/gateway-protocol.md is the specification.

These are a store's words about itself. The desk never stores them as its own state without passing
them through a life cycle of core.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, ValidatorFunctionWrapHandler, WrapValidator
from typing_extensions import TypedDict

from restless_tide.core.correspondence import LONGEST_MESSAGE, MOST_FILES
from restless_tide.core.documents import DocumentFormat
from restless_tide.core.gauges import MOST_CELLS, MOST_COUNTED
from restless_tide.core.good import SoldGood
from restless_tide.core.limits import LARGEST_NUMBER
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.review_items import ALWAYS, MOST_ITEMS
from restless_tide.core.rulebook import LONGEST_TRACK_TITLE, PRODUCTION, TRACK_KEY

ASSERTION_TYPE = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
ALGORITHM = "ES256"
CLOCK_HEADER = "Store-Clock"
IDEMPOTENCY_HEADER = "Idempotency-Key"
REQUEST_HEADER = "X-Request-Id"
EVENT_TYPE = "application/cloudevents+json"
EVENTS_TYPE = "application/cloudevents-batch+json"
"""One event, and several as one array (CloudEvents 1.0, HTTP binding, batched content mode)."""
PICTURE_UNKNOWN, DOCUMENT_UNKNOWN = "picture-unknown", "document-unknown"
"""The code of a refusal because a file was named without an upload, and the store does not hold it."""
FIRST_BUILD_BY_HAND = "first-build-by-hand"
RIGHTS = ("read", "builds", "trials", "releases", "rollouts", "availability")
"""What a key may be allowed; the desk works fully with all of them."""
ACT_IMPOSSIBLE = "act-impossible"
"""The code of a refusal because the rollout is already where the act would lead, or cannot get there."""


MOST_LISTED, MOST_COUNTRIES, MOST_EVENTS, MOST_HOURS, MOST_FRAMES, MOST_BUILDS = 200, 300, 1_000, 48, 10_000, 10_000
Reference = Annotated[str, Field(min_length=1, max_length=200)]
"""The store's own name for something."""
Line = Annotated[str, Field(max_length=400)]
"""A name, an address, a word of the store's own."""
Words = Annotated[str, Field(max_length=10_000)]
Text = Annotated[str, Field(max_length=50_000)]
LongText = Annotated[str, Field(max_length=1_000_000)]
"""What devices send; the desk keeps the beginning of it."""
TextByName = Annotated[dict[Line, Text], Field(max_length=MOST_LISTED)]
TextsByLocale = Annotated[dict[Line, TextByName], Field(max_length=MOST_LISTED)]
Names = Annotated[list[Line], Field(max_length=MOST_LISTED)]
Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
"""The SHA-256 of a file, in hexadecimal digits."""


class DocumentNamed(TypedDict):
    """A document as an answer names it."""

    sha256: Digest
    name: Line
    format: DocumentFormat
    size_bytes: Annotated[int, Field(ge=0, lt=2**53)]


AnswerValue = (
    Text
    | Annotated[int, Field(strict=True, ge=-LARGEST_NUMBER, le=LARGEST_NUMBER)]
    | Names
    | Annotated[dict[Line, Names], Field(max_length=MOST_LISTED)]
    | DocumentNamed
)
"""An answer: a choice or words, a whole number, choices, of a grid the attributes by kind, or a document."""
FilesByLocale = Annotated[
    dict[
        Line,
        Annotated[dict[Line, Annotated[list[Digest], Field(max_length=MOST_LISTED)]], Field(max_length=MOST_LISTED)],
    ],
    Field(max_length=MOST_LISTED),
]
"""Pictures and films by locale and class, in their order, by the digests of their files."""
AnswersByQuestion = Annotated[dict[Line, AnswerValue], Field(max_length=MOST_LISTED)]
Lines = Annotated[tuple[Line, ...], Field(max_length=MOST_LISTED)]
Place = Annotated[int, Field(ge=0, lt=2**60)]
"""In the sequence of a store's events."""
Count = Annotated[int, Field(ge=0, lt=2**53)]
ConsignmentHeld = Literal["processing", "held", "ready", "refused", "expired"]
TrialHeld = Literal["with the store", "open", "rejected", "closed", "expired"]
SubmissionHeld = Literal["queued", "in hand", "approved", "rejected", "recalled"]
RolloutHeld = Literal["rising", "paused", "halted", "complete", "withdrawn", "superseded"]
"""What a store may hold of each; a store says no other state."""


class Message(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore")


class ConnectionFile(BaseModel):
    """How a gateway is reached and who we are there: the one file that connects a store."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    gateway: str = Field(pattern=r"^https?://", max_length=2000)
    client_id: Line = Field(min_length=1)
    private_key: dict[str, Any] = Field(description="the private key as a JWK (RFC 7517), for ES256", repr=False)


class TokenAnswer(Message):
    access_token: str = Field(repr=False, max_length=20_000)
    token_type: Literal["Bearer"] = "Bearer"  # noqa: S105
    expires_in: Count
    scope: Line = ""


class Paper(Message):
    """A contract or declaration the account needs. ``blocks`` says what stands still once it has expired."""

    name: Line
    state: Literal["valid", "missing", "expired"] = "valid"
    until: datetime | None = None
    blocks: Lines = ()


class Account(Message):
    """The account's standing. ``may`` lists what this key may do, ``key_until`` when it expires."""

    name: Line
    may: Lines
    standing: Literal["good", "expiring", "expired"] = "good"
    domains: Lines = Field(default=(), description="the account's own mail domains")
    membership_until: datetime | None = None
    key_until: datetime | None = None
    papers: tuple[Paper, ...] = Field(default=(), max_length=MOST_LISTED)


class BerthRequest(Message):
    identifier: Line
    name: Line
    platform: Line
    language: Line
    reference: Line


class NameRequest(Message):
    """The name under which an app stands at a store from now on."""

    name: Line


class BerthAnswer(Message):
    id: Line
    identifier: Line
    name: Line


class HeldBuild(Message):
    version: Line
    number: BuildNumber
    live: bool = False
    in_release: bool = False
    refused: bool = False


class Holdings(Message):
    builds: tuple[HeldBuild, ...] = Field(default=(), max_length=MOST_BUILDS)


class UploadAnswer(Message):
    id: Line


class ConsignmentRequest(Message):
    uploads: Lines = Field(min_length=1)
    version: Line
    number: BuildNumber


class QuestionAsked(Message):
    code: Annotated[str, Field(max_length=200)]
    text: Words
    help: Words = ""
    choices: Lines = ()


class ConsignmentAnswer(Message):
    """A build at the store. ``sequence`` is that of the event that told of the act, in an answer to one."""

    id: Reference
    state: ConsignmentHeld
    version: str = Field(max_length=100)
    number: BuildNumber
    questions: tuple[QuestionAsked, ...] = Field(default=(), max_length=MOST_LISTED)
    reason: Words | None = None
    sequence: Place | None = None


class AnswersRequest(Message):
    answers: TextByName


MOST_TESTERS = 500
"""In one call."""


TrackKey = Annotated[str, Field(pattern=TRACK_KEY)]


class TrialRequest(Message):
    """``brief`` is what to look at, by locale; ``sign_in`` is for the store's reviewer alone.

    Without ``track`` it is the first one of the store that has this kind of cohort.
    """

    consignment: Line
    kind: Line
    cohort: Line
    track: TrackKey | None = None
    brief: TextByName
    contact: Line = ""
    sign_in: TextByName | None = Field(default=None, repr=False)
    testers: tuple[Line, ...] = Field(default=(), max_length=MOST_TESTERS)


class TestersRequest(Message):
    addresses: tuple[Line, ...] = Field(max_length=MOST_TESTERS)


class TrialAnswer(Message):
    """``seats`` and ``seats_taken`` as the store counts them; ``page`` is where testers find the build there."""

    id: Reference
    seats: Count | None = None
    seats_taken: Count | None = None
    state: TrialHeld
    reason: Words | None = None
    page: str | None = Field(default=None, max_length=2000)
    sequence: Place | None = None


class UsageDay(Message):
    """One day of a trial by the store's clock: sessions begun, and those that ended in a crash."""

    day: str = Field(pattern=r"^\d{4}-\d{2}-\d{2}$")
    sessions: Count
    crashed: Count


class Usage(Message):
    days: tuple[UsageDay, ...] = Field(default=(), max_length=400)


class Attached(Message):
    """A file that goes to a reviewer, or comes from one. ``upload`` is that of its bytes; none: it is fetched, or is there."""

    sha256: Digest
    name: Line
    media_type: Line = "application/octet-stream"
    size_bytes: Count
    upload: Reference | None = None


Attachments = Annotated[tuple[Attached, ...], Field(max_length=MOST_FILES)]


class MessageRequest(Message):
    """Words to the reviewer of a submission, or an appeal against a refusal."""

    words: Annotated[str, Field(min_length=1, max_length=LONGEST_MESSAGE)]
    files: Attachments = ()


class MessageAnswer(Message):
    """A message as the store has it."""

    id: Reference
    submission: Reference


class SubmissionRequest(Message):
    """A build that is to come to a track which is open to choosers or to everybody; production, unless another is named.

    ``items`` are what goes to review together, of the kinds that the rulebook's ``review.go_together`` names; one good is
    ``goods/`` and its reference. ``reviewer_note``, ``sign_in`` and ``attachments`` are for the reviewer alone."""

    consignment: Line
    version: Line
    notes: TextByName
    reviewer_note: Words = ""
    sign_in: TextByName | None = Field(default=None, repr=False)
    attachments: Attachments = ()
    items: Annotated[tuple[Line, ...], Field(max_length=MOST_ITEMS)] = tuple(map(str, ALWAYS))
    track: TrackKey = PRODUCTION


class Objection(Message):
    """One reason of a refusal, the thing of the rulebook's graph that it is about, and the item of the submission, where the
    store names them."""

    text: Words
    thing: Line | None = None
    item: Line | None = None


class ItemVerdict(Message):
    """What a store has decided about one item of a submission."""

    item: Line
    state: Literal["approved", "rejected"]


class SubmissionAnswer(Message):
    """``objections`` say the same as ``reasons``, and what each is about; a store may leave them out, and ``items``, too.

    A submission that is approved may have reasons, too: those against an item that was refused alone."""

    id: Reference
    state: SubmissionHeld
    reasons: tuple[Words, ...] = Field(default=(), max_length=MOST_LISTED)
    objections: tuple[Objection, ...] = Field(default=(), max_length=MOST_LISTED)
    items: tuple[ItemVerdict, ...] = Field(default=(), max_length=MOST_ITEMS)
    sequence: Place | None = None


class HeldPlacement(Message):
    """A build on a track: by a submission's rollout, or by a trial. ``since`` is when the first people got it."""

    consignment: Reference
    version: str = Field(max_length=100)
    number: BuildNumber
    state: RolloutHeld | TrialHeld
    share: float = Field(ge=0, le=1)
    since: datetime
    submission: Reference | None = None
    trial: Reference | None = None


class HeldTrack(Message):
    """A track as it stands at a berth. ``people`` are those who may get builds over it; none: the store does not count."""

    key: TrackKey
    title: Line
    own: bool = Field(default=False, description="opened by the team itself")
    people: Count | None = None
    placements: tuple[HeldPlacement, ...] = Field(default=(), max_length=MOST_LISTED)


class Tracks(Message):
    """The tracks of a berth, in the order of the rulebook, the team's own after them."""

    tracks: tuple[HeldTrack, ...] = Field(default=(), max_length=MOST_LISTED)


class TrackRequest(Message):
    """A track of the team's own, with the rules of the track that ``own_tracks.like`` names."""

    key: TrackKey
    title: Line = Field(min_length=1, max_length=LONGEST_TRACK_TITLE)


class TitleRequest(Message):
    title: Line = Field(min_length=1, max_length=LONGEST_TRACK_TITLE)


class TrackAnswer(HeldTrack):
    closed: bool = False
    sequence: Place | None = None


class ShareRequest(Message):
    share: float = Field(gt=0, le=1)


class ReasonRequest(Message):
    reason: Words = ""


class RolloutAnswer(Message):
    """Where a rollout stands after an act. ``sequence`` is that of the event that told of it: what the store tells
    up to there, the desk has ordered itself; what it tells after it, someone else may have done."""

    submission: Reference
    sequence: Place | None = None
    state: RolloutHeld
    share: float = Field(ge=0, le=1)


class AvailabilityMessage(Message):
    """Where, for how much and to whom. ``price`` is a decimal number as text; none: free."""

    closed: bool = False
    price: str | None = Field(default=None, pattern=r"^\d{1,9}(\.\d{1,4})?$")
    currency: str | None = Field(default=None, pattern=r"^[A-Z]{3}$")
    countries: tuple[Line, ...] = Field(default=(), max_length=MOST_COUNTRIES)
    who: Line = "everyone"
    organisations: Lines = ()


class AvailabilityAnswer(AvailabilityMessage):
    """As it is now. ``sequence`` is that of the event that told of it."""

    sequence: Place | None = None


class GoodHeld(SoldGood):
    """A good that is sold inside an app; ``picture`` is the digest of its file."""

    model_config = ConfigDict(frozen=True, extra="ignore")


GoodsByReference = Annotated[dict[Line, GoodHeld], Field(max_length=MOST_LISTED)]


class Dossier(Message):
    """What the store asks about an app besides builds: texts by locale and field, pictures by locale and class, answers by
    question, and goods by reference."""

    texts: TextsByLocale = Field(default_factory=dict)
    pictures: FilesByLocale = Field(default_factory=dict)
    answers: AnswersByQuestion = Field(default_factory=dict)
    goods: GoodsByReference = Field(default_factory=dict)


class TextsRequest(Message):
    """Texts to be held from now on, by locale and by the store's own key of the field; an empty one takes it out.

    What is not named stays as it is.
    """

    texts: TextsByLocale


class TextsAnswer(Message):
    """The texts that were named, as they are held now. ``sequence`` is that of the event that told of it."""

    texts: TextsByLocale
    sequence: Place | None = None


class PictureSent(Message):
    """One file of a set. ``upload`` is that of its bytes; none: the store holds this file for the app already."""

    sha256: Digest
    media_type: Line
    size_bytes: Count
    upload: Reference | None = None


SetOfPictures = Annotated[tuple[PictureSent, ...], Field(max_length=MOST_LISTED)]


class PicturesRequest(Message):
    """Pictures and films to be held from now on, by locale and by the store's own key of the class, each set whole and in
    its order; an empty one takes it out. What is not named stays as it is.
    """

    pictures: Annotated[
        dict[Line, Annotated[dict[Line, SetOfPictures], Field(max_length=MOST_LISTED)]], Field(max_length=MOST_LISTED)
    ]

    def digests(self) -> dict[str, dict[str, list[str]]]:
        """The sets as they are told of: by the digests of their files."""
        return {
            locale: {key: [one.sha256 for one in files] for key, files in sets.items()}
            for locale, sets in self.pictures.items()
        }


class PicturesAnswer(Message):
    """The sets that were named, as they are held now. ``sequence`` is that of the event that told of it."""

    pictures: FilesByLocale
    sequence: Place | None = None


class DossierAnswersRequest(Message):
    """Answers to questions about an app, by the store's own keys and in its own choices. What is not named stays.

    ``uploads`` are those of the documents among them, by their digests; of one that is not there, the store holds the
    file for the app already.
    """

    answers: AnswersByQuestion
    uploads: Annotated[dict[Digest, Reference], Field(max_length=MOST_LISTED)] = Field(default_factory=dict)


class DossierAnswersAnswer(Message):
    """The answers that were named, as they are held now. ``sequence`` is that of the event that told of it."""

    answers: AnswersByQuestion
    sequence: Place | None = None


class GoodsRequest(Message):
    """Goods to be held from now on, by their references, each whole; what is not named stays as it is.

    ``uploads`` are those of the pictures among them, by their digests; of one that is not there, the store holds the file
    for the app already.
    """

    goods: GoodsByReference
    uploads: Annotated[dict[Digest, Reference], Field(max_length=MOST_LISTED)] = Field(default_factory=dict)

    @classmethod
    def of(cls, goods: Mapping[str, SoldGood], uploads: dict[str, str]) -> Self:
        """Made of goods as the desk has them."""
        return cls(goods={name: GoodHeld(**good.model_dump()) for name, good in goods.items()}, uploads=uploads)


class GoodsAnswer(Message):
    """The goods that were named, as they are held now. ``sequence`` is that of the event that told of it."""

    goods: GoodsByReference
    sequence: Place | None = None


Counted = Annotated[int, Field(ge=0, le=MOST_COUNTED)]


class GaugeCell(Message):
    """What was counted of one version on one kind of device in one hour.

    ``level`` is the platform level and ``device`` the class of device, as the store tells them apart; empty where it does
    not. ``people`` were active in the hour; ``crashed_people`` met a crash, each at most once a day, in the hour of the
    first; ``first_starts`` began this version for the first time.
    """

    version: Line
    number: Line = ""
    level: Line = ""
    device: Line = ""
    people: Counted = 0
    sessions: Counted = 0
    crashed_sessions: Counted = 0
    crashed_people: Counted = 0
    hangs: Counted = 0
    first_starts: Counted = 0
    stars_1: Counted = 0
    stars_2: Counted = 0
    stars_3: Counted = 0
    stars_4: Counted = 0
    stars_5: Counted = 0


class GaugeHour(Message):
    """All that was counted in one hour (UTC), whole: a later revision replaces it. ``complete``: nothing more is expected."""

    at: datetime
    revision: int = Field(default=1, ge=1, lt=2**31)
    complete: bool = True
    cells: tuple[GaugeCell, ...] = Field(default=(), max_length=MOST_CELLS)


@dataclass(frozen=True)
class UnfitHour:
    """An hour that is not what the protocol asks for, and why; it keeps no other hour out."""

    why: str


def _each_alone(told: Any, read: ValidatorFunctionWrapHandler) -> GaugeHour | UnfitHour:
    try:
        hour: GaugeHour = read(told)
    except ValidationError as wrong:
        first = wrong.errors()[0]
        place = ".".join(map(str, first["loc"]))
        at = told.get("at") if isinstance(told, dict) else None
        return UnfitHour(f"an hour ({at}) cannot be read: {place}: {first['msg']}")
    return hour


class GaugePage(Message):
    """Hours in the order in which they were told. ``next`` is what to ask after the next time; ``more``: ask at once."""

    hours: tuple[Annotated[GaugeHour, WrapValidator(_each_alone)], ...] = Field(default=(), max_length=MOST_HOURS)
    next: Line
    more: bool = False

    def fit(self) -> list[GaugeHour]:
        """The hours that can be read."""
        return [hour for hour in self.hours if not isinstance(hour, UnfitHour)]

    def unfit(self) -> list[str]:
        """Why each of the others cannot be."""
        return [hour.why for hour in self.hours if isinstance(hour, UnfitHour)]


class GaugesChanged(Message):
    """Hours of a berth were counted, or corrected."""

    until: datetime | None = None


class PushRequest(Message):
    address: str = Field(pattern=r"^https?://", max_length=2000)


class PushAnswer(Message):
    """``secret`` is shown in this answer only (Standard Webhooks, ``whsec_``)."""

    id: Line
    address: Line
    secret: Line | None = Field(default=None, repr=False)


class DrillRequest(Message):
    act: Literal["halt"] = "halt"


class DrillAnswer(Message):
    """A drill goes the whole way of an act and changes nothing."""

    id: Line
    act: Line


class StoreEvent(Message):
    """One event in CloudEvents 1.0 form. ``sequence`` orders the events of one store without gaps.

    ``key`` is the Idempotency-Key of the call that caused it; none: someone acted on the store's own pages, or the
    store by itself.
    """

    specversion: Literal["1.0"] = "1.0"
    id: Annotated[str, Field(min_length=1, max_length=200)]
    source: Annotated[str, Field(max_length=2000)]
    type: Annotated[str, Field(max_length=200)]
    subject: Annotated[str, Field(max_length=200)]
    time: datetime
    sequence: Place = Field(ge=1)
    key: str | None = Field(default=None, max_length=200)
    data: dict[str, Any] = Field(default_factory=dict)


class ConsignmentChanged(Message):
    """The data of ``consignment.changed``: the build as it stands, and which one it is."""

    state: ConsignmentHeld
    berth: str | None = Field(default=None, max_length=200)
    version: str | None = Field(default=None, max_length=100)
    number: BuildNumber | None = None
    questions: tuple[QuestionAsked, ...] = Field(default=(), max_length=MOST_LISTED)
    reason: Words | None = None


class SubmissionChanged(Message):
    """The data of ``submission.changed``."""

    state: SubmissionHeld
    reasons: tuple[Words, ...] = Field(default=(), max_length=MOST_LISTED)
    objections: tuple[Objection, ...] = Field(default=(), max_length=MOST_LISTED)
    items: tuple[ItemVerdict, ...] = Field(default=(), max_length=MOST_ITEMS)


class ReviewerMessage(Message):
    """The data of ``submission.message``: a reviewer wrote. ``asks``: the review waits for the answer."""

    id: Reference
    words: Words
    asks: bool = False
    files: Attachments = ()


class TrialChanged(Message):
    """The data of ``trial.changed``."""

    state: TrialHeld
    reason: Words | None = None
    page: str | None = Field(default=None, max_length=2000)


class TesterChanged(Message):
    """The data of ``tester.changed``: someone accepted, installed or left on the store's own side."""

    address: str = Field(max_length=400)
    state: Literal["accepted", "installed", "declined"]
    device: str = Field(default="", max_length=400)
    system: str = Field(default="", max_length=400)


class RolloutChanged(Message):
    """The data of ``rollout.changed``."""

    state: RolloutHeld
    share: float = Field(ge=0, le=1)


class BerthChanged(Message):
    """The data of ``berth.changed``: what is offered, or the texts (an empty one was taken out), the sets of pictures, the
    answers or the goods that are other ones now, or ``expired``: the name was not used in time."""

    state: str = Field(default="open", max_length=40)
    availability: AvailabilityMessage | None = None
    texts: TextsByLocale = Field(default_factory=dict)
    pictures: FilesByLocale = Field(default_factory=dict)
    answers: AnswersByQuestion = Field(default_factory=dict)
    goods: GoodsByReference = Field(default_factory=dict)


class TrackChanged(Message):
    """The data of ``track.changed``: a track was opened, renamed or closed, or its people have changed."""

    berth: Reference
    key: TrackKey
    title: Line
    own: bool = False
    closed: bool = False
    people: Count | None = None


class FiledFrame(Message):
    """One call of a crash. ``module`` is a class or an image; ``address`` an offset into the image."""

    module: str = Field(default="", max_length=300)
    function: str = Field(default="", max_length=300)
    file: str = Field(default="", max_length=300)
    line: int | None = None
    address: int | None = None


class FiledReport(Message):
    """What ``report.filed`` tells: a report on a trial, or on a build at a berth; ``pictures`` are fetched by their number."""

    trial: Line | None = None
    berth: Line | None = None
    version: Line | None = None
    number: BuildNumber | None = None
    address: Line = ""
    kind: Literal["remark", "crash"] = "remark"
    text: LongText = ""
    device: LongText = ""
    system: LongText = ""
    language: LongText = ""
    stack: LongText = ""
    thrown: LongText = ""
    frames: tuple[FiledFrame, ...] = Field(default=(), max_length=MOST_FRAMES)
    pictures: Count = 0


EVENT_DATA: dict[str, type[Message]] = {
    "consignment.changed": ConsignmentChanged,
    "submission.changed": SubmissionChanged,
    "submission.message": ReviewerMessage,
    "trial.changed": TrialChanged,
    "tester.changed": TesterChanged,
    "rollout.changed": RolloutChanged,
    "berth.changed": BerthChanged,
    "track.changed": TrackChanged,
    "report.filed": FiledReport,
    "gauges.changed": GaugesChanged,
}
"""What each type of event says; an event of another type is passed over."""


class Events(Message):
    events: tuple[StoreEvent, ...] = Field(max_length=MOST_EVENTS)
