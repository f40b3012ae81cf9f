"""A rulebook: a store's rules as data.

The store's gateway serves it with a revision; the desk reads the same document. Everything that
differs between stores stands here, so that no other file ever asks which store it is dealing with.
Durations carry their unit in the name; shares are of people, 0 to 1. docs/rulebooks.md explains each
field; docs/rulebook.schema.json is the JSON Schema made from these models.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Sequence
from decimal import Decimal
from enum import StrEnum
from functools import cached_property
from graphlib import CycleError, TopologicalSorter
from typing import Literal

from pydantic import AwareDatetime, Field, ValidationError, field_validator, model_validator

from restless_tide.core.catalogue import Form, catalogue
from restless_tide.core.errors import Invalid
from restless_tide.core.goods_rules import GoodsRules
from restless_tide.core.ladder import Ladder
from restless_tide.core.numbers import MOST_PARTS
from restless_tide.core.picture_rules import PictureClasses
from restless_tide.core.questionnaire import QuestionnaireRules
from restless_tide.core.review_items import ALWAYS, RefusedItem, ReviewItem
from restless_tide.core.rule import CountedIn, Rules, When
from restless_tide.core.way_back import AfterHalt, AfterWithdraw


class Numbering(StrEnum):
    """How build numbers rise: for ever across the app, anew with each version, or as its fourth part."""

    RISES_FOR_EVER = "rises for ever"
    RESTARTS_PER_VERSION = "restarts with each version"
    FOURTH_PART = "fourth part of the version"


class CohortKind(StrEnum):
    CREW = "crew"
    GUEST = "guest"
    WALK_IN = "walk-in"


class LocksAt(StrEnum):
    """When a thing can no longer be changed."""

    NEVER = "never"
    FIRST_BUILD = "first build"
    FIRST_REVIEW = "first review"
    EACH_VERSION = "each version"
    ONLY_DOWNWARDS = "only downwards once live"


class Who(StrEnum):
    """Who may get an app."""

    EVERYONE = "everyone"
    ORGANISATIONS = "named organisations"


class PackageRules(Rules):
    formats: tuple[str, ...] = Field(
        title="Package formats taken", min_length=1, description="formats taken, such as 'apk', 'ipa' or 'msix'"
    )
    most_packages: int = Field(title="Packages in one build", default=1, ge=1, description="packages in one build")
    largest_bytes: int = Field(
        title="Largest package in bytes", default=5_000_000_000, gt=0, description="of one package"
    )
    lowest_target_platform: int | None = Field(
        title="Lowest target level", default=None, description="the target level a package must reach"
    )
    first_build_by_hand: bool = Field(
        title="First build by hand", default=False, description="the very first build goes in on the store's pages"
    )
    one_per_processor: bool = Field(
        title="One package per processor kind",
        default=False,
        description="each package of a build is for another processor kind",
    )
    processors_required: dict[str, tuple[str, ...]] = Field(
        default_factory=dict, description="by format: processor kinds that must be among the packages"
    )
    signature_required: bool = Field(default=False, description="unsigned packages are refused")
    certificate_stays: bool = Field(default=False, description="every build is signed as the first one was")
    profile_kinds: tuple[str, ...] = Field(
        default=(), description="kinds of profile taken: store, named devices …; none: any"
    )
    smallest_icon_pixels: int | None = Field(default=None, gt=0, description="the shorter side of the icon inside")
    icon_opaque: bool = Field(default=False, description="the icon inside has no transparency")
    reasons_required: bool = Field(default=False, description="every access asked for says why")


class NumberRules(Rules):
    numbering: Numbering = Field(title="How numbers rise")
    version_must_exceed_live: bool = Field(default=False, title="A version must exceed the live one")
    largest_number: int = Field(
        title="Largest number", default=1_000_000_000, gt=0, description="of each part of a number"
    )
    most_parts: int = Field(
        title="Parts of a number",
        default=1,
        ge=1,
        le=MOST_PARTS,
        description="parts of a number, with dots between them",
    )


class Question(Rules):
    """A question a store may hold a build for; it is asked when all its conditions hold."""

    code: str
    text: str
    help: str = ""
    choices: tuple[str, ...] = ("yes", "no")
    refused_answers: tuple[str, ...] = Field(default=(), description="answers for which the store refuses the build")
    when_permission: str | None = Field(default=None, description="only packages that ask for it")
    when_target_at_least: int | None = Field(default=None, description="only from this target level on")
    when_target_below: int | None = Field(default=None, description="only below this target level")
    when_answers: dict[str, str] = Field(default_factory=dict, description="only after these earlier answers")
    applies_from: AwareDatetime | None = Field(default=None, description="only from this instant on")


class ProcessingRules(Rules):
    usual_minutes: float = Field(title="Usual minutes of processing", gt=0)
    questions: tuple[Question, ...] = ()


class CohortRules(Rules):
    seats: int = Field(ge=0)
    seats_per_build: bool = Field(default=False, description="every build gets its own seats")
    own_domains_only: bool = Field(default=False, description="only addresses of the account's own domains")
    review_first: bool = Field(default=False, description="the store looks at a build before these people get it")
    reviewed_once_per: Literal["version", "build"] = Field(
        default="build", description="what one review holds for, where there is one"
    )
    review_usual_hours: float | None = Field(
        default=None, ge=0, description="how long that review usually takes; none: as long as a release's"
    )
    sign_in_required: bool = Field(default=False, description="its reviewer is told how to sign in")
    brief_limit_characters: int = Field(default=2000, gt=0, description="of what to look at, in each locale")
    brief_locales_required: tuple[str, ...] = ()
    trial_days: int | None = Field(default=None, gt=0, description="a trial expires after so many days")


class ReviewRules(Rules):
    usual_hours: float = Field(title="Usual hours of review", gt=0)
    notes_limit_characters: int = Field(
        title="Longest release notes", default=600, gt=0, description="counted as notes_counted_in says"
    )
    notes_counted_in: CountedIn = "characters"
    notes_locales_required: tuple[str, ...] = Field(default=(), title="Locales that need release notes")
    needed_for: tuple[str, ...] = Field(
        title="What is reviewed", default=("release",), description="what is reviewed: release, trial, texts …"
    )
    go_together: tuple[ReviewItem, ...] = Field(
        title="What one submission may carry",
        default=ALWAYS,
        max_length=len(ReviewItem),
        description="the kinds of items that one submission may carry",
    )
    must_go: tuple[ReviewItem, ...] = Field(
        title="What goes with the version",
        default=(),
        max_length=len(ReviewItem),
        description="of them, what cannot be kept back once it has changed",
    )
    refused_item: RefusedItem = Field(
        title="A refused item",
        default=RefusedItem.HOLDS,
        description="what becomes of the rest when an item other than the build is refused",
    )
    appeals: int = Field(
        title="Appeals per round", default=0, ge=0, le=10, description="how often a refusal may be appealed; 0: never"
    )

    @model_validator(mode="after")
    def _what_goes(self) -> ReviewRules:
        if not set(ALWAYS) <= set(self.go_together):
            raise ValueError("every submission carries the build and the notes")
        if not set(self.must_go) <= set(self.go_together):
            raise ValueError("what must go is among what may go together")
        return self


class RolloutRules(Rules):
    dictated_ladder: Ladder | None = Field(
        title="Dictated ladder", default=None, description="the ladder the store dictates, by hours only; none: any"
    )
    advance_by_hand: bool = Field(default=True, title="Stages may be raised by hand")
    pauses_allowed: int | None = Field(
        title="Pauses per rollout", default=None, ge=0, description="per rollout; none: without limit"
    )
    finish_early: bool = Field(default=True, title="May be finished early")
    finish_while_paused: bool = Field(default=True, title="May be finished while paused")
    halt_when_complete: bool = Field(default=True, title="A complete release may be halted")
    after_halt: AfterHalt = Field(default=AfterHalt.RESUME, title="After a halt it continues with")
    withdraw: bool = Field(default=True, title="Releases may be withdrawn")
    after_withdraw: AfterWithdraw = Field(
        default=AfterWithdraw.NEW_RELEASE, title="What brings a withdrawn release back"
    )
    withdraw_restores_previous: bool = Field(default=False, title="Withdrawing brings back the release before")

    @field_validator("dictated_ladder")
    @classmethod
    def _goes_by_the_clock(cls, value: Ladder | None) -> Ladder | None:
        if value is not None and value.by_steadiness:
            raise ValueError("a store dictates hours; what guards say is the desk's")
        return value


class Audience(StrEnum):
    """Whom a track reaches: people with a seat, whoever has chosen it at the store, or everybody."""

    COHORTS = "cohorts"
    CHOOSERS = "choosers"
    EVERYBODY = "everybody"


class PeopleGet(StrEnum):
    """Which build a person gets who may use several tracks."""

    HIGHEST_NUMBER = "highest number"
    LATEST_PLACED = "latest placed"
    OWN_CHOICE = "own choice"


class StoodBefore(Rules):
    """A build has to have been on another track, so long and with so many people, before it may come to this one."""

    track: str
    hours: float = Field(default=0, ge=0, description="so long, without a break")
    people: int = Field(default=0, ge=0, description="so many who have it from there")


TRACK_KEY = r"^[a-z0-9][a-z0-9-]{0,39}$"
LONGEST_TRACK_TITLE = 80


class TrackRules(Rules):
    """One way by which builds reach people at a store."""

    title: str = Field(min_length=1, max_length=LONGEST_TRACK_TITLE)
    audience: Audience
    kinds: tuple[CohortKind, ...] = Field(
        default=(), description="with audience cohorts: the kinds of cohort that get builds over it"
    )
    rank: int | None = Field(
        default=None, ge=1, description="its place in the order, production last; none: it stands beside the order"
    )
    countries: tuple[str, ...] = Field(default=(), description="ISO 3166 codes reached; none: all")
    review_first: bool = Field(
        default=False, description="a review comes first; for cohorts their kind says it, so it is not set here"
    )
    review_usual_hours: float | None = Field(
        default=None, ge=0, description="how long that review usually takes; none: as long as a release's"
    )
    reviewed_once_per: Literal["version", "build"] = Field(default="build", description="what one review holds for")
    review_holds_from: tuple[str, ...] = Field(
        default=(), description="tracks whose review holds here, too: what passed there is not reviewed again"
    )
    notes_taken: bool = Field(default=True, description="release notes are taken and shown there")
    rollout: RolloutRules | None = Field(
        default=None, description="how a share rises there; none: as the store's rollouts do"
    )
    most_builds: int = Field(
        default=10,
        ge=1,
        le=100,
        description="builds that cohorts may have over it at once; a share rises beside what everybody has, and never two",
    )
    after: tuple[StoodBefore, ...] = Field(default=(), description="what must have happened before")


class OwnTracks(Rules):
    """Whether teams may open tracks of their own, and how many of one app at once."""

    most: int = Field(ge=1, le=50, description="of one app at once")
    like: str = Field(description="the track whose rules they have")


PRODUCTION = "production"
"""The key of the last track of every store: what everybody gets."""


class NameRules(Rules):
    longest: int = Field(title="Longest name in characters", default=64, gt=0, description="characters")
    claimed_first: bool = Field(default=False, description="the name is claimed before anything else")
    expires_unused_days: int | None = Field(
        title="Days until an unused name expires", default=None, gt=0, description="a claim expires without a build"
    )


class FieldRules(Rules):
    """A text that the store shows, by the store's own key for it."""

    means: str | None = Field(default=None, description="what it is in the desk's catalogue; none: as it is called")
    title: str = Field(default="", max_length=80, description="the store's own name for it")
    help: str = Field(default="", max_length=400, description="the store's own words on it")
    form: Form | None = Field(
        default=None, description="line, text, words or address; of a field that is not in the catalogue"
    )
    limit_characters: int = Field(gt=0, description="the longest it may be, counted as counted_in says")
    counted_in: CountedIn = "characters"
    required: bool = Field(default=False, description="in the app's first language, and wherever a locale is begun")
    locales_required: tuple[str, ...] = Field(default=(), description="locales in which it must be there in any case")
    locks_at: LocksAt | None = Field(default=None, description="none: as the thing of kind text that it belongs to")


class ListingRules(PictureClasses):
    """Texts and pictures that people see before they get the app."""

    fields: dict[str, FieldRules] = Field(default_factory=dict, max_length=60)
    locales: tuple[str, ...] = Field(default=(), description="locales taken (BCP 47); none: any")

    def meaning(self, key: str) -> str | None:
        """What a field means in the catalogue; None: only this store asks for it."""
        meant = self.fields[key].means or key
        return meant if meant in catalogue().fields else None

    def meanings(self) -> dict[str, str]:
        """What each field means that several stores share."""
        return {key: meaning for key in self.fields if (meaning := self.meaning(key)) is not None}

    def form(self, key: str) -> Form:
        """How a field is written."""
        meant = self.meaning(key)
        return self.fields[key].form or (catalogue().fields[meant].form if meant else Form.TEXT)

    def title(self, key: str) -> str:
        """What people call a field: the store's own name, or the catalogue's."""
        meant = self.meaning(key)
        return self.fields[key].title or (catalogue().fields[meant].title if meant else key)

    @model_validator(mode="after")
    def _means_something_known(self) -> ListingRules:
        meant: dict[str, str] = {}
        for key, field in self.fields.items():
            if field.means is not None and field.means not in catalogue().fields:
                known = ", ".join(catalogue().fields)
                raise ValueError(
                    f"fields.{key} means {field.means!r}, which the catalogue does not know; it has {known}"
                )
            meaning = self.meaning(key)
            if meaning is not None and meaning in meant:
                raise ValueError(f"fields.{key} and fields.{meant[meaning]} both mean {meaning}; one may")
            if meaning is not None:
                meant[meaning] = key
        return self


class AvailabilityRules(Rules):
    who: tuple[Who, ...] = Field(default=(Who.EVERYONE,), min_length=1)
    countries: tuple[str, ...] = Field(default=(), description="ISO 3166 codes reached; none: all")
    paid: bool = Field(default=False, description="apps may cost something")
    free_to_paid: bool = Field(default=True, description="a free app may become a paid one")
    paid_to_free: bool = Field(default=True, description="a paid app may become free")
    currencies: tuple[str, ...] = Field(default=(), description="ISO 4217 codes")
    lowest_price: Decimal | None = None
    highest_price: Decimal | None = None
    may_close: bool = Field(default=True, description="the app can be closed to new people")


class ThingKind(StrEnum):
    """What a thing is about; by it the desk knows where to look whether it is done."""

    PAPERS = "papers"
    BERTH = "berth"
    BUILD = "build"
    TEXT = "text"
    PICTURE = "picture"
    ANSWERS = "answers"
    GOODS = "goods"
    PAGE = "page"
    OFFER = "offer"
    TRIAL = "trial"
    REVIEW = "review"
    LAUNCH = "launch"


class OfferPart(StrEnum):
    """What of an offer a thing of that kind decides."""

    PAYMENT = "free or paid"
    PRICE = "price"
    COUNTRIES = "countries"
    WHO = "who"


class Thing(Rules):
    """A node of the prerequisite graph: one thing that the store wants."""

    kind: ThingKind
    part: OfferPart | None = Field(default=None, description="of an offer: what it decides")
    title: str
    help: str = Field(default="", max_length=600, description="the store's own words on it")
    fields: tuple[str, ...] = Field(default=(), description="of kind text: the fields it is about; none: all others")
    questions: tuple[str, ...] = Field(
        default=(), description="of kind answers: the questions it is about; none: all others"
    )
    pictures: tuple[str, ...] = Field(
        default=(), description="of kind picture: the classes it is about; none: all others"
    )
    when: When | None = Field(default=None, description="only for apps of which this holds; none: for all")
    opens_after: tuple[str, ...] = ()
    locks_at: LocksAt = LocksAt.NEVER
    usually_takes_hours: float = Field(default=0, ge=0)
    applies_from: AwareDatetime | None = None

    @model_validator(mode="after")
    def _names_its_part(self) -> Thing:
        if (self.kind is ThingKind.OFFER) != (self.part is not None):
            raise ValueError("a thing of kind offer names its part, and no other does")
        if self.fields and self.kind is not ThingKind.TEXT:
            raise ValueError("only a thing of kind text names fields")
        if self.questions and self.kind is not ThingKind.ANSWERS:
            raise ValueError("only a thing of kind answers names questions")
        if self.pictures and self.kind is not ThingKind.PICTURE:
            raise ValueError("only a thing of kind picture names pictures")
        return self


class Rulebook(Rules):
    """The rules of one store."""

    store: str = Field(min_length=1)
    revision: str = Field(min_length=1)
    in_force_since: AwareDatetime
    platforms: tuple[str, ...] = Field(min_length=1)
    packages: PackageRules
    numbers: NumberRules
    processing: ProcessingRules
    cohorts: dict[CohortKind, CohortRules]
    review: ReviewRules
    rollout: RolloutRules
    name: NameRules = NameRules()
    listing: ListingRules = ListingRules()
    questionnaire: QuestionnaireRules = QuestionnaireRules()
    goods: GoodsRules | None = Field(default=None, description="none: nothing is sold inside apps")
    availability: AvailabilityRules = AvailabilityRules()
    things: dict[str, Thing] = Field(default_factory=dict, description="the prerequisite graph")
    tracks: dict[str, TrackRules] = Field(
        default_factory=dict,
        max_length=40,
        description="by key; none: production, and one track for each kind of cohort",
    )
    people_get: PeopleGet = Field(
        default=PeopleGet.HIGHEST_NUMBER, title="Who may use several tracks gets", description="one of several builds"
    )
    own_tracks: OwnTracks | None = Field(default=None, description="none: teams open no tracks of their own")

    @cached_property
    def ways(self) -> dict[str, TrackRules]:
        """The tracks by key, those in order first. A rulebook that names none has production and one for each kind."""
        given = self.tracks or {
            **{
                kind.value: TrackRules(
                    title=kind.value.capitalize(), audience=Audience.COHORTS, kinds=(kind,), rank=place
                )
                for place, kind in enumerate(self.cohorts, 1)
            },
            PRODUCTION: TrackRules(
                title="Production", audience=Audience.EVERYBODY, rank=len(self.cohorts) + 1, review_first=True
            ),
        }
        return dict(sorted(given.items(), key=lambda entry: (entry[1].rank is None, entry[1].rank or 0)))

    @cached_property
    def graph(self) -> dict[str, Thing]:
        """The prerequisite graph. A rulebook that names no things has the usual ones: place, build, texts, pictures,
        answers, goods, review, launch."""
        if self.things:
            return self.things
        texts = (
            {"texts": Thing(kind=ThingKind.TEXT, title="The texts", opens_after=("berth",))}
            if self.listing.fields
            else {}
        )
        pictures = (
            {"pictures": Thing(kind=ThingKind.PICTURE, title="The pictures", opens_after=("berth",))}
            if self.listing.pictures
            else {}
        )
        answers = (
            {"answers": Thing(kind=ThingKind.ANSWERS, title="The answers", opens_after=("berth",))}
            if self.questionnaire.questions
            else {}
        )
        goods = (
            {"goods": Thing(kind=ThingKind.GOODS, title="The goods", opens_after=("berth",))}
            if self.goods is not None
            else {}
        )
        return {
            "berth": Thing(kind=ThingKind.BERTH, title="The berth"),
            "build": Thing(kind=ThingKind.BUILD, title="A build", opens_after=("berth",)),
            **texts,
            **pictures,
            **answers,
            **goods,
            "review": Thing(
                kind=ThingKind.REVIEW,
                title="The review",
                opens_after=("build", *texts, *pictures, *answers, *goods),
                usually_takes_hours=self.review.usual_hours,
            ),
            "launch": Thing(kind=ThingKind.LAUNCH, title="The launch", opens_after=("review",)),
        }

    def fields_of(self, key: str) -> list[str]:
        """The listing's fields that a thing of kind text is about: those it names, or all that no other names."""
        thing = self.graph[key]
        if thing.kind is not ThingKind.TEXT:
            return []
        named = {field for other in self.graph.values() for field in other.fields}
        return list(thing.fields) or [field for field in self.listing.fields if field not in named]

    def questions_of(self, key: str) -> list[str]:
        """The questions that a thing of kind answers is about: those it names, or all that no other names."""
        thing = self.graph[key]
        if thing.kind is not ThingKind.ANSWERS:
            return []
        named = {question for other in self.graph.values() for question in other.questions}
        return list(thing.questions) or [one for one in self.questionnaire.questions if one not in named]

    def pictures_of(self, key: str) -> list[str]:
        """The classes of pictures that a thing of kind picture is about: those it names, or all that no other names."""
        thing = self.graph[key]
        if thing.kind is not ThingKind.PICTURE:
            return []
        named = {one for other in self.graph.values() for one in other.pictures}
        return list(thing.pictures) or [one for one in self.listing.pictures if one not in named]

    def lock_of_picture(self, key: str) -> LocksAt:
        """When the pictures of a class can no longer be changed: as the thing that they belong to."""
        holders = (thing.locks_at for name, thing in self.graph.items() if key in self.pictures_of(name))
        return next(holders, LocksAt.NEVER)

    def lock_of_goods(self) -> LocksAt:
        """When the goods can no longer be changed: as the thing of that kind."""
        return next((thing.locks_at for thing in self.graph.values() if thing.kind is ThingKind.GOODS), LocksAt.NEVER)

    def lock_of_question(self, question: str) -> LocksAt:
        """When an answer can no longer be changed: as the thing that it belongs to."""
        holders = (thing.locks_at for key, thing in self.graph.items() if question in self.questions_of(key))
        return next(holders, LocksAt.NEVER)

    def lock_of_field(self, field: str) -> LocksAt:
        """When a text can no longer be changed: by its own rule, or by that of its thing."""
        own = self.listing.fields[field].locks_at
        if own is not None:
            return own
        holders = (thing.locks_at for key, thing in self.graph.items() if field in self.fields_of(key))
        return next(holders, LocksAt.NEVER)

    def rollout_on(self, track: str) -> RolloutRules:
        """How a share rises on a track."""
        return self.ways[track].rollout or self.rollout

    def track_hours(self, track: str) -> float:
        """How long the review of a build for this track usually takes."""
        own = self.ways[track].review_usual_hours if track in self.ways else None
        return self.review.usual_hours if own is None else own

    def track_for(self, kind: CohortKind) -> str:
        """The track over which cohorts of a kind get builds, unless another is named."""
        return next((key for key, way in self.ways.items() if kind in way.kinds), kind.value)

    def trial_review_hours(self, kind: CohortKind) -> float:
        """How long the store usually looks at a build before these testers get it."""
        own = self.cohorts[kind].review_usual_hours
        return self.review.usual_hours if own is None else own

    def keys_of(self, *kinds: ThingKind) -> list[str]:
        """The things of these kinds, by their keys."""
        return [key for key, thing in self.graph.items() if thing.kind in kinds]

    def deciding(self, part: OfferPart) -> Thing | None:
        """The thing that decides a part of the offer, if the store's graph has one."""
        return next((thing for thing in self.graph.values() if thing.part is part), None)

    @model_validator(mode="after")
    def _graph_can_be_walked(self) -> Rulebook:
        parts = [thing.part for thing in self.things.values() if thing.part is not None]
        if sum(thing.kind is ThingKind.GOODS for thing in self.things.values()) > 1:
            raise ValueError("several things are of kind goods; one may")
        twice = sorted({str(part) for part in parts if parts.count(part) > 1})
        if twice:
            raise ValueError(f"several things decide {', '.join(twice)}; one may")
        for key, thing in self.things.items():
            unknown = [before for before in thing.opens_after if before not in self.things]
            strange = [field for field in thing.fields if field not in self.listing.fields]
            if strange:
                raise ValueError(f"things.{key}.fields names {', '.join(strange)}, which no field is called")
            strange = [one for one in thing.questions if one not in self.questionnaire.questions]
            if strange:
                raise ValueError(f"things.{key}.questions names {', '.join(strange)}, which no question is called")
            strange = [one for one in thing.pictures if one not in self.listing.pictures]
            if strange:
                raise ValueError(f"things.{key}.pictures names {', '.join(strange)}, which no class is called")
            if thing.when is not None:
                self.questionnaire.check_condition(f"things.{key}.when", thing.when)
            if thing.kind is ThingKind.GOODS and self.goods is None:
                raise ValueError(f"things.{key} is of kind goods, and the rulebook has no [goods]")
            if unknown:
                raise ValueError(f"things.{key}.opens_after names {', '.join(unknown)}, which no thing is called")
        try:
            TopologicalSorter({key: thing.opens_after for key, thing in self.things.items()}).prepare()
        except CycleError as wrong:
            raise ValueError(f"things wait for each other in a circle: {' after '.join(wrong.args[1])}") from None
        return self

    @model_validator(mode="after")
    def _tracks_are_an_order(self) -> Rulebook:
        if not self.tracks:
            return self
        last = self.tracks.get(PRODUCTION)
        if last is None or last.audience is not Audience.EVERYBODY or last.rank is None:
            raise ValueError(f"tracks.{PRODUCTION} is missing, or has no rank, or does not reach everybody")
        ranks = [way.rank for way in self.tracks.values() if way.rank is not None]
        if len(ranks) != len(set(ranks)) or max(ranks) != last.rank:
            raise ValueError("each rank stands once, and production has the highest")
        for key, way in self.tracks.items():
            if not re.fullmatch(TRACK_KEY, key):
                raise ValueError(f"tracks.{key}: a key is small letters, digits and dashes, at most 40")
            _check_track(self, key, way)
        alone = [str(kind) for kind in self.cohorts if not any(kind in way.kinds for way in self.tracks.values())]
        if alone:
            raise ValueError(f"no track has the kind {', '.join(alone)}, which [cohorts] names")
        if self.own_tracks is not None and self.own_tracks.like not in self.tracks:
            raise ValueError(f"own_tracks.like names {self.own_tracks.like}, which no track is called")
        return self

    @model_validator(mode="after")
    def _questions_follow_one_another(self) -> Rulebook:
        known: dict[str, Question] = {}
        for question in self.processing.questions:
            for earlier, choice in question.when_answers.items():
                if earlier not in known:
                    raise ValueError(f"question {question.code} follows {earlier}, which is not asked before it")
                if choice not in known[earlier].choices:
                    raise ValueError(
                        f"question {question.code} follows the answer {choice!r}, which is no choice there"
                    )
            known[question.code] = question
        return self


def _check_track(rules: Rulebook, key: str, way: TrackRules) -> None:
    """Raise ValueError where a track's rules do not fit together, or name what is not there."""
    seats = way.audience is Audience.COHORTS
    if seats != bool(way.kinds):
        raise ValueError(f"tracks.{key}: kinds belong to a track whose audience is cohorts, and to no other")
    if seats and (way.review_first or way.rollout is not None):
        raise ValueError(
            f"tracks.{key}: [cohorts] says what is reviewed for people with a seat, and all get it at once"
        )
    unknown = [str(kind) for kind in way.kinds if kind not in rules.cohorts]
    unknown += [name for name in (*way.review_holds_from, *(before.track for before in way.after))
                if name not in rules.tracks or name == key]  # fmt: skip
    if unknown:
        raise ValueError(f"tracks.{key} names {', '.join(unknown)}, which is not there")


def read_rulebook(text: str, place: str = "rulebook") -> Rulebook:
    """Read a rulebook from TOML. Raises Invalid with every line of the schema that it breaks."""
    try:
        return Rulebook.model_validate(tomllib.loads(text))
    except tomllib.TOMLDecodeError as wrong:
        raise Invalid(f"{place} is not TOML: {wrong}.", code="rulebook-broken") from None
    except ValidationError as wrong:
        told = "; ".join(
            f"{_at_line(text, error['loc'])}{'.'.join(map(str, error['loc'])) or 'rulebook'}: {_plain(error['msg'])}"
            for error in wrong.errors()
        )
        raise Invalid(
            f"{place} breaks the rulebook schema: {told}.",
            remedy="docs/rulebooks.md explains every field; the rulebook before it stays in force.",
            code="rulebook-broken",
        ) from None


def read_served_rulebook(content: bytes | str, place: str) -> Rulebook:
    """Read a rulebook as a gateway serves it (JSON). Raises Invalid naming each field that breaks the schema."""
    try:
        return Rulebook.model_validate_json(content)
    except ValidationError as wrong:
        told = "; ".join(
            f"{'.'.join(map(str, error['loc'])) or 'the document'}: {_plain(error['msg'])}" for error in wrong.errors()
        )
        raise Invalid(
            f"The rulebook that {place} serves breaks the schema: {told}.",
            remedy="Tell the people who run the gateway; the rulebook before it stays in force.",
            code="rulebook-broken",
        ) from None


def _plain(message: str) -> str:
    return message.removeprefix("Value error, ")


def _at_line(text: str, place: Sequence[int | str]) -> str:
    """``line 12, `` for the line of the TOML that sets ``place``, or where its table begins; or nothing."""
    names = [str(part) for part in place if isinstance(part, str)]
    table, best = "", 0
    for number, line in enumerate(text.splitlines(), 1):
        header = re.match(r"\s*\[+([^\[\]]+)\]+", line)
        if header:
            table = header.group(1).replace('"', "").strip()
        key = re.match(r"\s*([\w.-]+)\s*=", line)
        here = ".".join(filter(None, (table, key.group(1) if key and not header else "")))
        if here and ".".join(names) == here:
            return f"line {number}, "
        if header and ".".join(names).startswith(table):
            best = number
    return f"line {best}, " if best else ""
