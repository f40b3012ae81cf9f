"""The gateway protocol's requests and answers. docs/gateway-protocol.md is the specification.

These are a store's words about itself. The desk never stores them as its own state without passing
them through a life cycle of core.
"""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from restless_tide.core.numbers import BuildNumber

ASSERTION_TYPE = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
ALGORITHM = "ES256"
CLOCK_HEADER = "Store-Clock"
IDEMPOTENCY_HEADER = "Idempotency-Key"
REQUEST_HEADER = "X-Request-Id"
EVENT_TYPE = "application/cloudevents+json"
FIRST_BUILD_BY_HAND = "first-build-by-hand"
RIGHTS = ("read", "builds", "trials", "releases", "rollouts", "availability")
"""What a key may be allowed; the desk works fully with all of them."""
ACT_IMPOSSIBLE = "act-impossible"
"""The code of a refusal because the rollout is already where the act would lead, or cannot get there."""


MOST_LISTED = 200
Reference = Annotated[str, Field(min_length=1, max_length=200)]
"""The store's own name for something."""
Words = Annotated[str, Field(max_length=10_000)]
ConsignmentHeld = Literal["processing", "held", "ready", "refused", "lapsed"]
TrialHeld = Literal["with the store", "open", "turned down", "closed", "lapsed"]
SubmissionHeld = Literal["queued", "in hand", "approved", "rejected", "recalled"]
RolloutHeld = Literal["rising", "paused", "halted", "complete", "withdrawn", "superseded"]
"""What a store may hold of each; a store says no other state."""


class Message(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore")


class ConnectionFile(BaseModel):
    """How a gateway is reached and who we are there: the one file that connects a store."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    gateway: str = Field(pattern=r"^https?://")
    client_id: str = Field(min_length=1)
    private_key: dict[str, Any] = Field(description="the private key as a JWK (RFC 7517), for ES256", repr=False)


class TokenAnswer(Message):
    access_token: str = Field(repr=False)
    token_type: Literal["Bearer"] = "Bearer"  # noqa: S105
    expires_in: int
    scope: str = ""


class Paper(Message):
    """A contract or declaration the account needs. ``blocks`` says what stands still once it has lapsed."""

    name: str
    state: Literal["valid", "missing", "lapsed"] = "valid"
    until: datetime | None = None
    blocks: tuple[str, ...] = ()


class Account(Message):
    """The account's standing. ``may`` lists what this key may do, ``key_until`` when it lapses."""

    name: str
    may: tuple[str, ...]
    standing: Literal["good", "lapsing", "lapsed"] = "good"
    domains: tuple[str, ...] = Field(default=(), description="the account's own mail domains")
    membership_until: datetime | None = None
    key_until: datetime | None = None
    papers: tuple[Paper, ...] = ()


class BerthRequest(Message):
    identifier: str
    name: str
    platform: str
    language: str
    reference: str


class BerthAnswer(Message):
    id: str
    identifier: str
    name: str


class HeldBuild(Message):
    version: str
    number: BuildNumber
    live: bool = False
    in_release: bool = False
    refused: bool = False


class Holdings(Message):
    builds: tuple[HeldBuild, ...] = ()


class UploadAnswer(Message):
    id: str


class ConsignmentRequest(Message):
    uploads: tuple[str, ...] = Field(min_length=1)
    version: str
    number: BuildNumber


class QuestionAsked(Message):
    code: Annotated[str, Field(max_length=200)]
    text: Words
    help: Words = ""
    choices: tuple[Annotated[str, Field(max_length=400)], ...] = Field(default=(), max_length=MOST_LISTED)


class ConsignmentAnswer(Message):
    """A build at the store. ``sequence`` is that of the event that told of the act, in an answer to one."""

    id: Reference
    state: ConsignmentHeld
    version: str = Field(max_length=100)
    number: BuildNumber
    questions: tuple[QuestionAsked, ...] = Field(default=(), max_length=MOST_LISTED)
    reason: Words | None = None
    sequence: int | None = None


class AnswersRequest(Message):
    answers: dict[str, str]


MOST_TESTERS = 500
"""In one call."""


class TrialRequest(Message):
    """``brief`` is what to look at, by locale; ``sign_in`` is for the store's reviewer alone."""

    consignment: str
    kind: str
    cohort: str
    brief: dict[str, str]
    contact: str = ""
    sign_in: dict[str, str] | None = Field(default=None, repr=False)
    testers: tuple[str, ...] = Field(default=(), max_length=MOST_TESTERS)


class TestersRequest(Message):
    addresses: tuple[str, ...] = Field(max_length=MOST_TESTERS)


class TrialAnswer(Message):
    """``seats`` and ``seats_taken`` as the store counts them; ``page`` is where testers find the build there."""

    id: Reference
    seats: int | None = None
    seats_taken: int | None = None
    state: TrialHeld
    reason: Words | None = None
    page: str | None = Field(default=None, max_length=2000)
    sequence: int | None = None


class UsageDay(Message):
    """One day of a trial by the store's clock: sessions begun, and those that ended in a crash."""

    day: str = Field(pattern=r"^\d{4}-\d{2}-\d{2}$")
    sessions: int = Field(ge=0)
    crashed: int = Field(ge=0)


class Usage(Message):
    days: tuple[UsageDay, ...] = Field(default=(), max_length=400)


class SubmissionRequest(Message):
    """``items`` are what goes to review together, as the rulebook's ``review.go_together`` names them."""

    consignment: str
    version: str
    notes: dict[str, str]
    items: tuple[str, ...] = ("build", "notes")


class SubmissionAnswer(Message):
    id: Reference
    state: SubmissionHeld
    reasons: tuple[Words, ...] = Field(default=(), max_length=MOST_LISTED)
    sequence: int | None = None


class ShareRequest(Message):
    share: float = Field(gt=0, le=1)


class ReasonRequest(Message):
    reason: str = ""


class RolloutAnswer(Message):
    """Where a rollout stands after an act. ``sequence`` is that of the event that told of it: what the store tells
    up to there, the desk has ordered itself; what it tells after it, somebody else may have done."""

    submission: Reference
    sequence: int | None = None
    state: RolloutHeld
    share: float = Field(ge=0, le=1)


class AvailabilityMessage(Message):
    """Where, for how much and to whom. ``price`` is a decimal number as text; none: free."""

    closed: bool = False
    price: str | None = Field(default=None, pattern=r"^\d{1,9}(\.\d{1,4})?$")
    currency: str | None = Field(default=None, pattern=r"^[A-Z]{3}$")
    countries: tuple[str, ...] = ()
    who: str = "everyone"
    organisations: tuple[str, ...] = ()


class AvailabilityAnswer(AvailabilityMessage):
    """As it is now. ``sequence`` is that of the event that told of it."""

    sequence: int | None = None


class Dossier(Message):
    """What the store asks about an app besides builds: texts by locale and field, and answers by question."""

    texts: dict[str, dict[str, str]] = Field(default_factory=dict)
    answers: dict[str, str] = Field(default_factory=dict)


class GaugePoint(Message):
    at: datetime
    value: float


class Gauge(Message):
    """One health series of one build: ``people``, ``sessions``, ``crash-free share`` or ``rating``, by the hour."""

    name: str
    version: str
    unit: str
    points: tuple[GaugePoint, ...] = ()


class Gauges(Message):
    gauges: tuple[Gauge, ...] = ()


class PushRequest(Message):
    address: str = Field(pattern=r"^https?://", max_length=2000)


class PushAnswer(Message):
    """``secret`` is shown in this answer only (Standard Webhooks, ``whsec_``)."""

    id: str
    address: str
    secret: str | None = Field(default=None, repr=False)


class DrillRequest(Message):
    act: Literal["halt"] = "halt"


class DrillAnswer(Message):
    """A drill goes the whole way of an act and changes nothing."""

    id: str
    act: str


class StoreEvent(Message):
    """One event in CloudEvents 1.0 form. ``sequence`` orders the events of one store without gaps.

    ``key`` is the Idempotency-Key of the call that caused it; none: somebody acted on the store's own pages, or the
    store by itself.
    """

    specversion: Literal["1.0"] = "1.0"
    id: Annotated[str, Field(min_length=1, max_length=200)]
    source: Annotated[str, Field(max_length=2000)]
    type: Annotated[str, Field(max_length=200)]
    subject: Annotated[str, Field(max_length=200)]
    time: datetime
    sequence: int = Field(ge=1, lt=2**60)
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


class TrialChanged(Message):
    """The data of ``trial.changed``."""

    state: TrialHeld
    reason: Words | None = None
    page: str | None = Field(default=None, max_length=2000)


class TesterChanged(Message):
    """The data of ``tester.changed``: somebody accepted, installed or left on the store's own side."""

    address: str = Field(max_length=400)
    state: Literal["accepted", "installed", "declined"]
    device: str = Field(default="", max_length=400)
    system: str = Field(default="", max_length=400)


class RolloutChanged(Message):
    """The data of ``rollout.changed``."""

    state: RolloutHeld
    share: float = Field(ge=0, le=1)


class BerthChanged(Message):
    """The data of ``berth.changed``: what is offered, or ``lapsed``: the name was not used in time."""

    state: str = Field(default="open", max_length=40)
    availability: AvailabilityMessage | None = None


class FiledFrame(Message):
    """One call of a crash. ``module`` is a class or an image; ``address`` an offset into the image."""

    module: str = Field(default="", max_length=300)
    function: str = Field(default="", max_length=300)
    file: str = Field(default="", max_length=300)
    line: int | None = None
    address: int | None = None


class FiledReport(Message):
    """What ``report.filed`` tells: a report on a trial, or on a build at a berth; ``pictures`` are fetched by their number."""

    trial: str | None = None
    berth: str | None = None
    version: str | None = None
    number: BuildNumber | None = None
    address: str = ""
    kind: Literal["remark", "crash"] = "remark"
    text: str = ""
    device: str = ""
    system: str = ""
    language: str = ""
    stack: str = ""
    thrown: str = ""
    frames: tuple[FiledFrame, ...] = ()
    pictures: int = Field(default=0, ge=0)


EVENT_DATA: dict[str, type[Message]] = {
    "consignment.changed": ConsignmentChanged,
    "submission.changed": SubmissionChanged,
    "trial.changed": TrialChanged,
    "tester.changed": TesterChanged,
    "rollout.changed": RolloutChanged,
    "berth.changed": BerthChanged,
    "report.filed": FiledReport,
}
"""What each type of event says; an event of another type is passed over."""


class Events(Message):
    events: tuple[StoreEvent, ...]
