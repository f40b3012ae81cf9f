"""Cohorts, testers, trials and invitations."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from restless_tide.core.errors import Level
from restless_tide.core.invitation import InvitationEvent, InvitationState
from restless_tide.core.rulebook import CohortKind
from restless_tide.core.testers import RowKind
from restless_tide.core.trial import TrialEvent, TrialState
from restless_tide.wire.base import (
    Instant,
    Names,
    Number,
    OneLine,
    Ordered,
    Password,
    TextByLocale,
    Told,
    Wanted,
    Words,
)
from restless_tide.wire.problems import FindingTold

# testers


class TesterWanted(Wanted):
    """A tester by address. What is left out stays as it is."""

    email: OneLine
    name: OneLine | None = None
    platforms: Names | None = Field(default=None, description="android, ios, desktop; none: any")
    languages: Names | None = Field(default=None, description="BCP 47, the preferred one first")
    devices: Names | None = None
    tags: Names | None = None
    consented_at: Instant | None = None


class TesterChangeWanted(Wanted):
    email: OneLine | None = None
    name: OneLine | None = None
    platforms: Names | None = None
    languages: Names | None = None
    devices: Names | None = None
    tags: Names | None = None
    consented_at: Instant | None = None


class CohortRef(Told):
    app: str
    cohort: str


class TesterTold(Told):
    id: str
    email: str
    name: str
    platforms: list[str]
    languages: list[str]
    devices: list[str]
    tags: list[str]
    consented_at: datetime | None
    consent_how: str
    bounced_at: datetime | None
    bounce_said: str | None
    cohorts: list[CohortRef]
    caution: str = Field(description="what to know about this address")


class ForgetWanted(Wanted):
    reason: Words = ""


class ForgottenTold(Told):
    """The pseudonymous id is all that is left."""

    id: str


# cohorts


class CohortWanted(Wanted):
    name: OneLine
    kind: CohortKind = CohortKind.CREW
    stores: Names | None = Field(default=None, description="none: every store with an open berth that knows the kind")


class CohortChange(Wanted):
    name: OneLine = Field(description="what it is called from now on")


class AttachWanted(Wanted):
    by_itself: bool | None = Field(default=None, description="new builds go to the cohort as soon as they are ready")
    track: OneLine | None = Field(
        default=None, description="the track over which it gets builds there; none: as it is, at first the rulebook's"
    )


class BriefWanted(Wanted):
    brief: TextByLocale = Field(default_factory=dict, description="what to look at, by locale; empty text: take it out")
    contact: OneLine = ""


class JoinWanted(Wanted):
    open: bool
    limit: Number | None = Field(default=None, description="so many people at most")
    until: Instant | None = None
    renew: bool = Field(default=False, description="another link; the old one is void")


class JoinTold(Told):
    """The link by which anybody joins. ``closed_because``: closed, over, full; none: it is open."""

    link: str
    open: bool
    limit: int | None
    until: datetime | None
    closed_because: str | None


class TrackChoiceTold(Told):
    key: str
    title: str


class SeatsTold(Told):
    """A cohort at a store. ``taken`` counts everybody of the kind there, also of other cohorts."""

    store: str
    store_title: str
    track: str = Field(description="the track over which it gets builds there")
    tracks: list[TrackChoiceTold] = Field(description="the tracks there that are for such cohorts")
    seats: int
    taken: int
    left: int
    per_build: bool
    review_first: bool
    by_itself: bool
    trouble: str | None = Field(description="why the newest build did not go on automatically")


class RunningTold(Ordered):
    """A trial of a cohort, in short."""

    id: str
    build: str
    build_label: str
    store: str
    store_title: str
    state: TrialState
    changed_at: datetime
    invited: dict[str, int]
    stuck: int
    reason: str | None


class HeldBuildTold(Told):
    """How many of a cohort have a build on a device."""

    build: str
    label: str
    people: int


class CohortTold(Told):
    app: str
    name: str
    kind: CohortKind
    testers: int
    declined: int
    bounced: int
    at: list[SeatsTold]
    running: list[RunningTold]
    brief: dict[str, str]
    contact: str
    join: JoinTold | None
    reports_open: int
    retired_at: datetime | None = Field(description="out of use since; it gets no builds and no people")


class CohortDetailTold(CohortTold):
    """``stuck`` says in plain lines what does not go on, and where."""

    have: list[HeldBuildTold]
    stuck: list[str]
    reports: dict[str, int]
    removable: bool = Field(description="it was never handed a build")


class MemberTold(Told):
    """Someone in a cohort, with the newest invitation there."""

    tester: TesterTold
    joined_at: datetime
    joined_how: str
    declined_at: datetime | None
    state: InvitationState | None
    since: datetime | None
    build_label: str | None = Field(description="the build that the newest invitation is to")
    device: str
    system: str
    trouble: str | None


class PickWanted(Wanted):
    testers: list[OneLine] = Field(description="ids or addresses that the desk knows", max_length=5000)


class RemovalWanted(Wanted):
    testers: list[OneLine] = Field(min_length=1, max_length=5000)
    reason: Words = ""


class CountTold(Told):
    count: int


# lists


class RowTold(Told):
    line: int
    kind: RowKind
    address: str
    name: str
    said: str
    raw: str


class ImportTold(Told):
    """A list as it was understood. ``rows`` are those a person should look at; ``counts`` are of all."""

    applied: bool
    encoding: str
    delimiter: str
    columns: dict[str, str]
    ignored: list[str]
    said: list[str]
    counts: dict[str, int]
    rows: list[RowTold]
    findings: list[FindingTold]
    entered: int
    joined: int


# trials


class SignInWanted(Wanted):
    """How the store's reviewer signs in; sealed like keys, never shown again."""

    name: OneLine = ""
    password: Password = Field(default="", repr=False)
    how: Words = Field(default="", description="whatever else the reviewer must know, or that no sign-in is needed")


class TrialBriefWanted(Wanted):
    """What testers and the store's reviewer are told."""

    brief: TextByLocale = Field(
        default_factory=dict, description="what to look at, by locale; none: as it was said before"
    )
    contact: OneLine = Field(default="", description="the address testers answer to; none: as it was said before")
    remarks_to: OneLine = Field(default="", description="where remarks go besides the tester's page")
    sign_in: SignInWanted | None = None


class TrialWanted(TrialBriefWanted):
    """What is left out of the brief is the cohort's own."""

    cohorts: Names = Field(min_length=1)
    build: OneLine
    stores: Names = Field(default_factory=list, description="none: wherever the cohort is and the build went")
    when_ready: bool = Field(default=False, description="hand it in as soon as the store has processed the build")


class TrialAgainWanted(TrialBriefWanted):
    """What is left out of the brief stays as it was."""

    reason: Words = ""


class PlanTold(Told):
    """What handing a build to one cohort at one store would mean."""

    cohort: str
    store: str
    store_title: str
    track: str
    invited: int
    carried: int = Field(description="of them have accepted before in this cohort")
    without_platform: int
    seats: int | None
    seats_left: int | None = Field(description="when all who fit have sat down")
    fit: list[str] = Field(description="addresses; told only where not all fit")
    left_out: list[str]
    waits_for_review: bool
    because: str
    usual_hours: float
    replaces: str | None = Field(description="the trial that it takes over from")
    findings: list[FindingTold]


class TrialSheetTold(Told):
    plans: list[PlanTold]
    level: Level | None = Field(description="the worst of all findings")


class InvitationTold(Told):
    id: str
    tester: TesterTold
    state: InvitationState
    possible: list[InvitationEvent]
    changed_at: datetime
    moments: dict[str, datetime]
    carried: bool
    seated: bool
    mails: int
    device: str
    system: str
    trouble: str | None


class TrialTold(Ordered):
    id: str
    seen: str | None = Field(description="the state in which the store was last seen to hold it")
    app: str
    app_title: str
    cohort: str
    kind: CohortKind
    build: str
    build_label: str
    store: str
    store_title: str
    track: str
    state: TrialState
    possible: list[TrialEvent]
    reopens: bool = Field(description="the same build may be handed to the same people again, as a new trial")
    brief: dict[str, str]
    contact: str
    remarks_to: str
    sign_in_sealed: bool
    by_itself: bool
    reason: str | None
    created_at: datetime
    changed_at: datetime
    opened_at: datetime | None
    expires_at: datetime | None
    store_page: str | None
    invited: dict[str, int] = Field(description="invitations by state")
    seated: int = Field(description="people the store has given a seat")
    stuck: int
    sessions: int
    crash_free: float | None = Field(description="share of sessions that did not end in a crash")


class AgainWanted(Wanted):
    older_than_days: float = Field(default=0, ge=0, le=365)
    bounced: bool = Field(default=False, description="also those whose mail came back")


class AgainTold(Told):
    queued: int
    held_back: int = Field(description="too soon after the last mail, or too many already")
