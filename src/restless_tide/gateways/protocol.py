"""The gateway protocol's requests and answers. docs/gateway-protocol.md is the specification.

These are a store's words about itself. The desk never stores them as its own state without passing
them through a life cycle of core.
"""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

ASSERTION_TYPE = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
ALGORITHM = "ES256"
CLOCK_HEADER = "Store-Clock"
IDEMPOTENCY_HEADER = "Idempotency-Key"
TUS_VERSION = "1.0.0"
REQUEST_HEADER = "X-Request-Id"
EVENT_TYPE = "application/cloudevents+json"
FIRST_BUILD_BY_HAND = "first-build-by-hand"
RIGHTS = ("read", "builds", "trials", "releases", "rollouts", "availability")
"""What a key may be allowed; the desk works fully with all of them."""
ACT_IMPOSSIBLE = "act-impossible"
"""The code of a refusal because the rollout is already where the act would lead, or cannot get there."""


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
    number: int
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
    number: int


class QuestionAsked(Message):
    code: str
    text: str
    help: str = ""
    choices: tuple[str, ...] = ()


class ConsignmentAnswer(Message):
    id: str
    state: Literal["processing", "held", "ready", "refused"]
    version: str
    number: int
    questions: tuple[QuestionAsked, ...] = ()
    reason: str | None = None


class AnswersRequest(Message):
    answers: dict[str, str]


MOST_TESTERS = 500
"""In one call."""


class TrialRequest(Message):
    """``brief`` is what to try, by locale; ``sign_in`` is for the store's reviewer alone."""

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

    id: str
    seats: int | None = None
    seats_taken: int | None = None
    state: Literal["with the store", "open", "turned down", "closed", "lapsed"]
    reason: str | None = None
    page: str | None = None


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
    id: str
    state: Literal["queued", "in hand", "approved", "rejected", "recalled"]
    reasons: tuple[str, ...] = ()


class ShareRequest(Message):
    share: float = Field(gt=0, le=1)


class ReasonRequest(Message):
    reason: str = ""


class RolloutAnswer(Message):
    """Where a rollout stands after an act. ``sequence`` is that of the event that told of it: what the store tells
    up to there, the desk has ordered itself; what it tells after it, somebody else may have done."""

    submission: str
    sequence: int | None = None
    state: Literal["rising", "paused", "halted", "complete", "withdrawn", "superseded"]
    share: float


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
    """One event in CloudEvents 1.0 form. ``sequence`` orders the events of one store without gaps."""

    specversion: Literal["1.0"] = "1.0"
    id: str
    source: str
    type: str
    subject: str
    time: datetime
    sequence: int
    data: dict[str, Any] = Field(default_factory=dict)


class Events(Message):
    events: tuple[StoreEvent, ...]
