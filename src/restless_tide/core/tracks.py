"""Tracks: what stands on them, what people get from them, and what a move would mean.

A track of a store offers builds to its audience. A person who may use several tracks gets one build of
all that they are offered, as the store's rulebook says; a device never goes back to a lower number. A
share that is staged reaches a part of the people: ``draw`` says for one person and one offer where in
the line they stand, from 0 to 1, and who stands before the share gets it.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import product
from math import prod

from restless_tide.core.errors import Finding, Invalid, Level
from restless_tide.core.ladder import FULL_SHARE
from restless_tide.core.numbers import BuildNumber, whole_number
from restless_tide.core.packages.facts import Facts
from restless_tide.core.rulebook import PRODUCTION, Audience, Numbering, PeopleGet, Rulebook, TrackRules
from restless_tide.core.versions import Version, parse_version


@dataclass(frozen=True, slots=True)
class Offer:
    """A build that a track offers: to ``share`` of its people (0 to 1), placed at ``since`` (aware UTC)."""

    id: str
    track: str
    version: str
    number: BuildNumber
    since: datetime
    share: float = FULL_SHARE


@dataclass(frozen=True, slots=True)
class Address:
    """A track of a store, as people write it: ``openfield/early``, or ``openfield`` for production."""

    store: str
    track: str = PRODUCTION

    def __str__(self) -> str:
        return self.store if self.track == PRODUCTION else self.whole

    @property
    def whole(self) -> str:
        """Always with the track: among tracks, production is one of several."""
        return f"{self.store}/{self.track}"


def parse_address(text: str) -> Address:
    """Read ``STORE`` or ``STORE/TRACK``. Raises Invalid for anything else."""
    store, slash, track = text.strip().lower().partition("/")
    if not store or (slash and not track) or "/" in track:
        raise Invalid(f"{text!r} names no track.", remedy="Write it like openfield/early.", code="track-address-unfit")
    return Address(store, track or PRODUCTION)


def demand_track(rules: Rulebook, key: str) -> TrackRules:
    """The rules of a track. Raises Invalid for one that the store does not have."""
    if key not in rules.ways:
        raise Invalid(
            f"{rules.store} has no track {key!r}.",
            remedy=f"It has {', '.join(rules.ways)}.",
            code="track-unknown",
        )
    return rules.ways[key]


GETS = {
    PeopleGet.HIGHEST_NUMBER: "the build with the highest number",
    PeopleGet.LATEST_PLACED: "the build that was placed last",
    PeopleGet.OWN_CHOICE: "what they chose",
}
"""What a person gets who may use several tracks, in words."""


def whom(way: TrackRules, cohorts: Sequence[str]) -> str:
    """Whom a track reaches, in words; ``cohorts`` are those that use it."""
    match way.audience:
        case Audience.COHORTS if not cohorts:
            return f"for {' and '.join(way.kinds)} cohorts; none is here"
        case Audience.COHORTS:
            return ", ".join(cohorts)
        case Audience.CHOOSERS:
            return "who chose it at the store"
    return "everybody"


def with_own(rules: Rulebook, titles: Mapping[str, str]) -> Rulebook:
    """A rulebook with the tracks that a team has opened for itself, by key; they have the rules of ``own_tracks.like``."""
    if rules.own_tracks is None or not titles:
        return rules
    like = rules.ways[rules.own_tracks.like]
    own = {key: like.model_copy(update={"title": title, "rank": None}) for key, title in titles.items()}
    found = rules.model_copy(update={"tracks": {**rules.ways, **own}})
    found.__dict__.pop("ways", None)  # made for the rulebook that was copied
    return found


def reaches(rules: Rulebook, key: str, country: str | None) -> bool:
    """Whether people of a country (ISO 3166; None: not known) may get builds over a track."""
    only = rules.ways[key].countries
    return not only or country is None or country in only


def next_track(rules: Rulebook, key: str) -> str | None:
    """The track that comes after this one in the store's order; None after production and beside the order."""
    rank = rules.ways[key].rank
    if rank is None:
        return None
    later = [(way.rank, name) for name, way in rules.ways.items() if way.rank is not None and way.rank > rank]
    return min(later)[1] if later else None


def gets(
    rules: Rulebook,
    may_use: Collection[str],
    offers: Iterable[Offer],
    draw: Callable[[Offer], float],
    has: Offer | None = None,
) -> Offer | None:
    """What a person has who may use the tracks ``may_use``, and has ``has`` now; None: nothing.

    Production reaches everybody. Where people choose, they choose the first track of ``may_use`` in the
    store's order, and get production's build where that track offers them nothing.
    """
    known = {*may_use, PRODUCTION}
    offered = [offer for offer in offers if offer.track in known and draw(offer) < offer.share]
    match rules.people_get:
        case PeopleGet.HIGHEST_NUMBER:
            found = max(offered, key=lambda offer: (rises(rules, offer), offer.since), default=None)
        case PeopleGet.LATEST_PLACED:
            found = max(offered, key=lambda offer: (offer.since, rises(rules, offer)), default=None)
        case PeopleGet.OWN_CHOICE:
            chosen = next((key for key in rules.ways if key in may_use), PRODUCTION)
            there = [offer for offer in offered if offer.track == chosen]
            open_to_all = [offer for offer in offered if offer.track == PRODUCTION]
            found = max(there or open_to_all, key=lambda offer: (rises(rules, offer), offer.since), default=None)
    if found is None or (has is not None and rises(rules, found) < rises(rules, has)):
        return has
    return found


def spread(
    rules: Rulebook, may_use: Collection[str], offers: Sequence[Offer], has: Offer | None = None
) -> list[tuple[Offer | None, float]]:
    """What people who may use ``may_use`` have: each offer (None: nothing) with its share of them, the largest first.

    Stores draw for each staged share anew, so the draws are taken as independent.
    """
    staged = [offer for offer in offers if offer.share < FULL_SHARE][:MOST_STAGED]
    found: dict[Offer | None, float] = {}
    for drawn in product((True, False), repeat=len(staged)):
        within = {offer.id for offer, reached in zip(staged, drawn, strict=True) if reached}
        chance = prod(
            offer.share if reached else FULL_SHARE - offer.share for offer, reached in zip(staged, drawn, strict=True)
        )
        outside = {offer.id for offer in staged} - within
        got = gets(rules, may_use, [offer for offer in offers if offer.id not in outside], _first_in_line, has)
        found[got] = found.get(got, 0.0) + chance
    return sorted(((offer, share) for offer, share in found.items() if share > 0), key=lambda entry: -entry[1])


def _first_in_line(_: Offer) -> float:
    return 0.0


def rises(rules: Rulebook, offer: Offer) -> tuple[Version | None, BuildNumber]:
    """What a device compares: the number where numbers rise for ever, else the version and then the number."""
    for_ever = rules.numbers.numbering is Numbering.RISES_FOR_EVER
    return (None if for_ever else parse_version(offer.version), offer.number)


@dataclass(frozen=True, slots=True)
class OnTrack:
    """What a track holds and whom it reaches, as the desk knows it.

    ``people`` is None where nobody has told. ``facts`` are those of the build that all its people are offered.
    """

    track: str
    offers: tuple[Offer, ...] = ()
    people: int | None = None
    cohorts: tuple[str, ...] = ()
    facts: tuple[Facts, ...] = ()

    @property
    def whom(self) -> str:
        """The people of the track in words."""
        named = f" in {', '.join(self.cohorts)}" if self.cohorts else ""
        if self.people is None:
            return f"the people{named}"
        return f"{self.people} {'person' if self.people == 1 else 'people'}{named}"


@dataclass(frozen=True, slots=True)
class Move:
    """A build that is to come to a track: from where, with which share, and what the desk knows of it."""

    version: str
    number: BuildNumber
    track: str
    since: datetime
    share: float = FULL_SHARE
    facts: tuple[Facts, ...] = ()
    notes: Mapping[str, str] | None = None
    reviewed_on: tuple[str, ...] = ()
    """The tracks on which this store has approved the version or build before, as the rulebook counts it there."""
    stood: Mapping[str, Stood] | None = None
    """By track: how long, and with how many, it has been there."""


@dataclass(frozen=True, slots=True)
class Stood:
    """How long a build has been on a track without a break, and how many have it from there."""

    hours: float
    people: int


def review_holds(rules: Rulebook, track: str, reviewed_on: Collection[str]) -> bool:
    """Whether a build needs no review for this track, or has passed one that holds there, too."""
    way = rules.ways[track]
    return not way.review_first or not set(way.review_holds_from).isdisjoint(reviewed_on)


def check_move(rules: Rulebook, move: Move, standing: Mapping[str, OnTrack]) -> list[Finding]:
    """What is foreseen of a build that comes to a track; ``standing`` is what each track of the store holds now."""
    way, here = demand_track(rules, move.track), standing.get(move.track, OnTrack(move.track))
    return [
        *_before_its_time(rules, move, way),
        *_room(move, here, way),
        *_numbers_apart(rules, move, standing),
        *_dropped(rules, move, here, way),
        *_reach(move, here, way),
        *_texts_and_review(rules, move, way),
        *_expires(move, way),
    ]


def _before_its_time(rules: Rulebook, move: Move, way: TrackRules) -> list[Finding]:
    findings = []
    for wanted in way.after:
        stood = (move.stood or {}).get(wanted.track, Stood(0.0, 0))
        missing = [
            f"{wanted.hours - stood.hours:.0f} more hours" if stood.hours < wanted.hours else "",
            f"{wanted.people - stood.people} more people" if stood.people < wanted.people else "",
        ]
        if told := " and ".join(filter(None, missing)):
            title = rules.ways[wanted.track].title
            detail = f"{rules.store} takes a build on {way.title} after {title}; it needs {told} there."
            remedy = f"Place it on {title} first, or wait."
            findings.append(Finding("track-too-early", Level.BLOCKER, detail, f"track {move.track}", remedy))
    return findings


def _room(move: Move, here: OnTrack, way: TrackRules) -> list[Finding]:
    """Whether the track takes one more build; where shares rise, the new one takes the place of the old."""
    others = {(offer.version, offer.number) for offer in here.offers} - {(move.version, move.number)}
    if way.audience is not Audience.COHORTS or len(others) < way.most_builds:
        return []
    told = ", ".join(f"{version} ({number})" for version, number in sorted(others, key=str))
    detail = f"{way.title} takes {way.most_builds} builds at once and holds {told}."
    return [Finding("track-full", Level.BLOCKER, detail, f"track {move.track}", "End a trial there first.")]


def _numbers_apart(rules: Rulebook, move: Move, standing: Mapping[str, OnTrack]) -> list[Finding]:
    """Who will not receive it, since they have or are offered a higher number on this or another track."""
    mine = Offer("", move.track, move.version, move.number, move.since)
    findings = []
    for key, other in standing.items():
        higher = [offer for offer in other.offers if rises(rules, offer) > rises(rules, mine)]
        meets = key == move.track or _shared(rules, key, move.track)
        if not higher or not meets:
            continue
        top = max(higher, key=lambda offer: rises(rules, offer))
        title, label = rules.ways[key].title, f"{top.version} ({top.number})"
        if key == PRODUCTION != move.track:
            said = f"everybody is offered {label} on {title}: nobody on {rules.ways[move.track].title} receives {move.version} ({move.number})"
        else:
            whom = f"{top.share:.0%} of {other.whom}" if top.share < FULL_SHARE else other.whom
            said = f"{whom} on {title} have {label} and keep it: they do not receive {move.version} ({move.number})"
        detail = f"{rules.store}: {said}, since a device never goes back to a lower number."
        remedy = f"Build it again with a number above {top.number}."
        findings.append(Finding("higher-number-elsewhere", Level.CAUTION, detail, f"track {key}", remedy))
    return findings


def _shared(rules: Rulebook, one: str, other: str) -> bool:
    """Whether the same people may be offered builds of both tracks: production reaches everybody."""
    if rules.people_get is PeopleGet.OWN_CHOICE:
        return PRODUCTION in (one, other) and one != other
    return one != other and (PRODUCTION in (one, other) or set(rules.ways[one].kinds) == set(rules.ways[other].kinds))


def _dropped(rules: Rulebook, move: Move, here: OnTrack, way: TrackRules) -> list[Finding]:
    """Who is on the track and could not install this build."""
    findings = []
    before, after = _lowest(here.facts), _lowest(move.facts)
    if before is not None and after is not None and after > before:
        detail = (
            f"{rules.store}: people on {way.title} with a platform level of {before} to {after - 1} cannot install it."
        )
        remedy = "They keep what they have. Lower the level, or tell them before."
        findings.append(Finding("platform-drops-people", Level.CAUTION, detail, f"track {move.track}", remedy))
    lost = sorted(_processors(here.facts) - _processors(move.facts)) if _processors(move.facts) else []
    if lost and here.facts:
        detail = f"{rules.store}: people on {way.title} with a processor of kind {', '.join(lost)} cannot install it."
        remedy = "Add a package for them."
        findings.append(Finding("processors-drop-people", Level.CAUTION, detail, f"track {move.track}", remedy))
    return findings


def _lowest(facts: Sequence[Facts]) -> int | None:
    levels = [whole_number(entry.lowest_platform) for entry in facts if entry.lowest_platform]
    known = [level for level in levels if level is not None]
    return min(known, default=None)


def _processors(facts: Sequence[Facts]) -> set[str]:
    return {kind for entry in facts for kind in entry.processors}


def _reach(move: Move, here: OnTrack, way: TrackRules) -> list[Finding]:
    if here.people == 0:
        remedy = "Put people into a cohort that is attached there, or choose another track."
        return [Finding("track-empty", Level.CAUTION, f"Nobody is on {way.title}.", f"track {move.track}", remedy)]
    if here.people is not None and move.share < FULL_SHARE and here.people * move.share < 1:
        detail = f"{move.share:.2%} of {here.whom} on {way.title} is less than one person."
        remedy = f"Begin with {1 / here.people:.2%} or more."
        return [Finding("share-below-one-person", Level.CAUTION, detail, f"track {move.track}", remedy)]
    return []


def _texts_and_review(rules: Rulebook, move: Move, way: TrackRules) -> list[Finding]:
    place, findings = f"track {move.track}", []
    if way.countries:
        detail = f"{way.title} reaches people in {', '.join(way.countries)} only."
        findings.append(Finding("countries-only", Level.NOTE, detail, place))
    if move.notes and not way.notes_taken:
        detail = f"{rules.store} shows no release notes on {way.title}; they are kept for the next track."
        findings.append(Finding("notes-not-shown", Level.NOTE, detail, place))
    if not review_holds(rules, move.track, move.reviewed_on):
        detail = (
            f"{rules.store} reviews it for {way.title}; that usually takes {rules.track_hours(move.track):g} hours."
        )
        findings.append(Finding("track-review", Level.NOTE, detail, place))
    return findings


def _expires(move: Move, way: TrackRules) -> list[Finding]:
    ends = [entry.expires_at for entry in move.facts if entry.expires_at is not None]
    if not ends:
        return []
    left = min(ends) - move.since
    if left > timedelta(days=SOON_DAYS):
        return []
    said = "has expired" if left <= timedelta() else f"expires in {left.days} days"
    detail = f"The build {said}; after that nobody on {way.title} can start it."
    return [
        Finding("expires-on-track", Level.CAUTION, detail, f"track {move.track}", "Sign it anew and push it again.")
    ]


@dataclass(frozen=True, slots=True)
class MoveRule:
    """When a build moves up automatically. What is None is not asked for; ``no_open`` are kinds of field reports.

    ``crash_free`` is a share of sessions, 0 to 1.
    """

    hours: float | None = None
    people: int | None = None
    crash_free: float | None = None
    no_open: tuple[str, ...] = ()
    needs_go_ahead: bool = False

    def told(self) -> str:
        """The rule in words."""
        parts = [
            f"{self.hours:g} hours" if self.hours is not None else "",
            f"{self.people} people" if self.people is not None else "",
            f"{self.crash_free:.2%} of sessions without a crash" if self.crash_free is not None else "",
            f"no open {' or '.join(self.no_open)} report" if self.no_open else "",
            "a go-ahead" if self.needs_go_ahead else "",
        ]
        return ", ".join(filter(None, parts))


@dataclass(frozen=True, slots=True)
class Evidence:
    """What is known of a build on a track: ``stood`` there, sessions, those that crashed, open reports by kind."""

    stood: Stood
    sessions: int = 0
    crashed: int = 0
    open_reports: Mapping[str, int] | None = None
    go_ahead: bool = False


def missing_for(rule: MoveRule, seen: Evidence) -> list[str]:
    """What a rule still waits for, in words; nothing: the build moves up."""
    waits = []
    if rule.hours is not None and seen.stood.hours < rule.hours:
        waits.append(f"{rule.hours - seen.stood.hours:.1f} of {rule.hours:g} hours are left")
    if rule.people is not None and seen.stood.people < rule.people:
        waits.append(f"{seen.stood.people} of {rule.people} people have it")
    if rule.crash_free is not None:
        if not seen.sessions:
            waits.append("nobody has used it so far, as far as the store tells")
        elif (share := 1 - seen.crashed / seen.sessions) < rule.crash_free:
            waits.append(f"{share:.2%} of sessions went without a crash, {rule.crash_free:.2%} are wanted")
    for kind in rule.no_open:
        if count := (seen.open_reports or {}).get(kind, 0):
            waits.append(f"{count} {kind} {'report is' if count == 1 else 'reports are'} open")
    if rule.needs_go_ahead and not seen.go_ahead:
        waits.append("the go-ahead")
    return waits


SOON_DAYS = 30
MOST_STAGED = 8
"""So many staged shares are told apart at once; a store offers one or two."""
