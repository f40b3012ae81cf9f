"""Tracks: what stands on them, moves between them, and the rules by which builds move up."""

from __future__ import annotations

from datetime import datetime
from typing import Self

from pydantic import Field, model_validator

from restless_tide.core.ladder import Stage
from restless_tide.core.own_track import OwnTrackState
from restless_tide.core.report import ReportKind
from restless_tide.core.rulebook import Audience, CohortKind, PeopleGet
from restless_tide.wire.base import Names, Number, OneLine, TextByLocale, Told, Wanted, Words
from restless_tide.wire.cohorts import TrialBriefWanted
from restless_tide.wire.problems import FindingTold
from restless_tide.wire.watching import LineTold

_AT = "tracks, such as openfield/early; a store alone means production"


class HowPlaced(TrialBriefWanted):
    """How a build is placed: the brief where a track is for cohorts, notes and ladder where it is a release's."""

    notes: TextByLocale = Field(default_factory=dict, description="release notes by locale")
    ladder: OneLine | None = Field(default=None, description="such as 5@24,100; none: the usual one")
    submit: bool = Field(
        default=False, description="hand it in where it comes to production; otherwise it is drafted there"
    )
    reason: Words = ""


class PlacementWanted(HowPlaced):
    build: OneLine
    at: Names = Field(default_factory=list, description=_AT)
    rank: int | None = Field(default=None, ge=1, le=100, description="or every track of this rank before production")


class PromotionWanted(HowPlaced):
    source: OneLine | None = Field(
        default=None, description="the track where the build is now, such as openfield/early"
    )
    rank: int | None = Field(
        default=None, ge=1, le=100, description="or every track of this rank that offers one build"
    )
    to: OneLine | None = Field(default=None, description="the key of the track; none: the next of that store")
    build: OneLine | None = Field(default=None, description="which one, where the track offers several")

    @model_validator(mode="after")
    def _says_from_where(self) -> Self:
        if (self.source is None) == (self.rank is None):
            raise ValueError("name either the track that the build is on, or a rank")
        return self


class MoveSheetTold(Told):
    """What placing a build on one track would mean."""

    at: str
    source: str | None = Field(description="the track that it comes from, where it is promoted")
    store: str
    store_title: str
    track: str
    track_title: str
    build: str
    build_label: str
    sends: bool = Field(description="the store does not hold it; it is sent first")
    drafts: bool = Field(description="it is drafted there and not handed in")
    review: bool = Field(description="the store reviews it before its people get it")
    cohorts: list[str]
    people: int | None = Field(description="who may get builds over the track; none: not known")
    takes_place_of: list[str]
    findings: list[FindingTold]


class PlacedTold(Told):
    """What was ordered for one track: trials with its cohorts, or a leg of a release."""

    at: str
    sent: bool
    trials: list[str]
    place: str | None = Field(description="the leg's place in the release")
    version: str
    drafted: bool


class PlacementTold(Told):
    """A build on a track, by a trial or by a leg of a release."""

    build: str
    build_label: str
    version: str
    number: str
    release: str | None = Field(description="the version of the release whose leg it is")
    trial: str | None
    cohort: str | None
    phase: str
    share: float
    ladder: list[Stage]
    since: datetime | None = Field(description="when the first people could get it")
    until: datetime | None
    people: int | None = Field(description="who have a seat for it")
    seen: str | None = Field(description="the state in which the store was last seen to hold it")
    confirmed: bool


class CellTold(Told):
    """One track of one store."""

    at: str
    key: str
    title: str
    audience: Audience
    whom: str = Field(description="whom it reaches, in words")
    kinds: list[CohortKind]
    rank: int | None
    own: bool
    state: OwnTrackState | None = Field(description="of a track of the team's own")
    trouble: str | None
    people: int | None
    people_at: datetime | None
    cohorts: list[str]
    holds: list[PlacementTold]
    coming: list[PlacementTold]
    next: str | None = Field(description="the key of the track after it")


class StoreTracksTold(Told):
    store: str
    store_title: str
    platform: str
    people_get: PeopleGet
    gets: str = Field(description="what a person gets there who may use several tracks, in words")
    own_most: int = Field(description="tracks of its own that a team may have there")
    tracks: list[CellTold]


class BoardTold(Told):
    app: str
    app_title: str
    stores: list[StoreTracksTold]


class PastTold(Told):
    placement: PlacementTold
    lines: list[LineTold] = Field(description="what the logbook says of it, newest first")


class TrackTold(CellTold):
    """One track with what it held, newest first."""

    store: str
    store_title: str
    history: list[PastTold]


class GotTold(Told):
    """A build that a share of some people have; no build: they have nothing."""

    share: float
    track: str | None
    version: str | None
    number: str | None


class TrackOpened(Wanted):
    store: OneLine
    key: OneLine
    title: OneLine = ""
    reason: Words = ""


class TrackChange(Wanted):
    title: OneLine
    reason: Words = ""


class OwnTrackTold(Told):
    at: str
    title: str
    state: OwnTrackState
    trouble: str | None


class ClearedTold(Told):
    at: str
    done: list[str] = Field(description="what was ordered, in words")


class TrackRuleWanted(Wanted):
    """When builds move up automatically; what is left out is not asked for."""

    source: OneLine
    to: OneLine | None = Field(default=None, description="the key of the track; none: the next of that store")
    hours: float | None = Field(default=None, gt=0, le=10_000)
    people: Number | None = None
    crash_free: float | None = Field(default=None, ge=0, le=1, description="share of sessions without a crash")
    no_open: list[ReportKind] = Field(default_factory=list, max_length=10, description="kinds of field reports")
    needs_go_ahead: bool = False
    reason: Words = ""


class UnderRuleTold(Told):
    build: str
    build_label: str
    missing: list[str] = Field(description="what it still waits for; nothing: it moves up now")
    go_ahead: bool
    trouble: str | None = Field(description="why it could not move up although nothing was missing")


class TrackRuleTold(Told):
    id: str
    source: str
    target: str
    asks: str
    hours: float | None
    people: int | None
    crash_free: float | None
    no_open: list[ReportKind]
    needs_go_ahead: bool
    builds: list[UnderRuleTold] = Field(description="the builds that stand under it now")


class RuleBuildWanted(Wanted):
    build: OneLine
    reason: Words = ""
