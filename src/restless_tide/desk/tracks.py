"""Tracks of an app at its stores: what stands on them, who is on them, and the tracks that the team opens for itself.

A placement is no record of its own: a trial places a build on a track of cohorts, a leg of a release
places it on a track that is open to choosers or to everybody.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session, contains_eager, joinedload, object_session, selectinload

from restless_tide.core.errors import Conflict, ImpossibleAct, Invalid, NotFound
from restless_tide.core.invitation import SITS
from restless_tide.core.leg import LegPhase
from restless_tide.core.notice import NoticeKind
from restless_tide.core.order import PENDING, OrderKind
from restless_tide.core.own_track import COUNTED, IN_USE, OWN_TRACK, OwnTrackEvent, OwnTrackState
from restless_tide.core.rollout import GONE, OFFERED
from restless_tide.core.round import RoundState
from restless_tide.core.rulebook import LONGEST_TRACK_TITLE, Audience, Rulebook, TrackRules
from restless_tide.core.tracks import (
    Address,
    Offer,
    OnTrack,
    Stood,
    demand_track,
    next_track,
    reaches,
    spread,
    with_own,
)
from restless_tide.core.trial import TRIAL, UNDER_WAY, TrialState
from restless_tide.core.versions import parse_version
from restless_tide.desk import cohorts, find, legs, logbook, packages, retiring
from restless_tide.desk.desk import Act
from restless_tide.desk.stores import rules_of, slug
from restless_tide.gateways import protocol
from restless_tide.records.tables import (
    App,
    Attachment,
    Berth,
    Build,
    Cohort,
    Consignment,
    Invitation,
    Leg,
    LogbookLine,
    Membership,
    Order,
    Release,
    Track,
    Trial,
)


@dataclass(frozen=True)
class Placement:
    """A build on a track, as ordered: by a leg or by a trial. ``since``: when the first people could get it, if they can.

    ``seen`` is the state in which the store was last seen to hold it; None: it was not seen yet.
    """

    build: Build
    leg: Leg | None
    trial: Trial | None
    since: datetime | None
    until: datetime | None
    share: float
    phase: str
    offered: bool
    seen: str | None
    confirmed: bool
    people: int | None = None

    @property
    def id(self) -> str:
        return (self.leg or self.trial).id  # type: ignore[union-attr]


@dataclass(frozen=True)
class Cell:
    """One track of one store: ``holds`` is what its people are offered, ``coming`` what is on its way there."""

    address: Address
    way: TrackRules
    row: Track | None
    people: int | None
    cohorts: tuple[str, ...]
    holds: tuple[Placement, ...]
    coming: tuple[Placement, ...]
    following: str | None
    """The key of the next track of the store."""


@dataclass(frozen=True)
class BoardRow:
    berth: Berth
    rules: Rulebook
    cells: tuple[Cell, ...]


@dataclass
class _Read:
    """What the board asks of an app's berths, each in one query, by berth."""

    legs: dict[str, list[Leg]]
    trials: dict[str, list[Trial]]
    rows: dict[str, list[Track]]
    cohorts: list[Cohort]
    members: dict[str, int]
    seated: dict[str, int]
    pending: set[str]


def board(session: Session, app_name: str) -> list[BoardRow]:
    """The tracks of an app, a row for each store; a few queries, however many there are."""
    app = find.app(session, app_name)
    berths = [berth for berth in app.berths if berth.store_ref is not None]
    read = _read(session, app)
    rows = [_row(berth, read) for berth in berths]
    return sorted(rows, key=lambda row: row.rules.store)


def cell(session: Session, app_name: str, address: Address) -> Cell:
    """One track. Raises NotFound, and Invalid for a track that the store does not have."""
    berth = berth_at(session, app_name, address)
    demand_track(cohorts.tracks_of(session, berth), address.track)
    row = _row(berth, _read(session, berth.app))
    return next(entry for entry in row.cells if entry.address.track == address.track)


def for_cohorts(session: Session, app_name: str, address: Address) -> bool:
    """Whether a track is for cohorts. Raises Invalid for one that the store does not have."""
    berth = berth_at(session, app_name, address)
    return demand_track(cohorts.tracks_of(session, berth), address.track).audience is Audience.COHORTS


def berth_at(session: Session, app_name: str, address: Address) -> Berth:
    app = find.app(session, app_name)
    return find.berth(session, app, find.store(session, address.store))


def _read(session: Session, app: App) -> _Read:
    found = _Read(defaultdict(list), defaultdict(list), defaultdict(list), [], {}, {}, set())
    here = [berth.id for berth in app.berths]
    for leg in session.scalars(
        select(Leg)
        .join(Release)
        .where(Leg.berth_id.in_(here), Leg.state.not_in(GONE))
        .options(
            contains_eager(Leg.release), joinedload(Leg.build), selectinload(Leg.rounds), selectinload(Leg.sighting)
        )
        .order_by(Leg.created_at)
    ):
        found.legs[leg.berth_id].append(leg)
    for trial in session.scalars(
        select(Trial)
        .join(Consignment)
        .where(Consignment.berth_id.in_(here), Trial.state.in_({*UNDER_WAY, TrialState.REJECTED}))
        .options(
            contains_eager(Trial.consignment).joinedload(Consignment.build),
            joinedload(Trial.cohort),
            selectinload(Trial.sighting),
        )
        .order_by(Trial.created_at)
    ):
        found.trials[trial.consignment.berth_id].append(trial)
    for row in session.scalars(select(Track).where(Track.berth_id.in_(here)).order_by(Track.created_at)):
        found.rows[row.berth_id].append(row)
    found.cohorts = list(
        session.scalars(
            select(Cohort)
            .where(Cohort.app_id == app.id, Cohort.retired_at.is_(None))
            .options(selectinload(Cohort.attachments))
            .order_by(Cohort.name)
        )
    )
    members = (
        select(Membership.cohort_id, func.count())
        .where(Membership.cohort_id.in_([cohort.id for cohort in found.cohorts]), Membership.declined_at.is_(None))
        .group_by(Membership.cohort_id)
    )
    found.members = dict(session.execute(members).all())
    ids = [trial.id for trials in found.trials.values() for trial in trials]
    seated = (
        select(Invitation.trial_id, func.count(Invitation.seated_at))
        .where(Invitation.trial_id.in_(ids), Invitation.state.in_(SITS))
        .group_by(Invitation.trial_id)
    )
    found.seated = dict(session.execute(seated).all())
    lanes = [*ids, *(leg.id for of_berth in found.legs.values() for leg in of_berth)]
    found.pending = set(session.scalars(select(Order.lane).where(Order.lane.in_(lanes), Order.state.in_(PENDING))))
    return found


def _row(berth: Berth, read: _Read) -> BoardRow:
    own = {row.key: row.title for row in read.rows[berth.id] if row.own and row.state in IN_USE}
    rules = with_own(rules_of(berth.store), own)
    return BoardRow(berth, rules, tuple(_cell(berth, rules, key, way, read) for key, way in rules.ways.items()))


def _cell(berth: Berth, rules: Rulebook, key: str, way: TrackRules, read: _Read) -> Cell:
    row = next((entry for entry in read.rows[berth.id] if entry.key == key), None)
    placed = [of_leg(leg, waits=leg.id in read.pending) for leg in read.legs[berth.id] if leg.track == key]
    placed += [
        replace(of_trial(trial, waits=trial.id in read.pending), people=read.seated.get(trial.id, 0))
        for trial in read.trials[berth.id]
        if track_of(rules, trial) == key
    ]
    at = [cohort for cohort in read.cohorts if cohorts.uses(cohort, berth) == key]
    people = sum(read.members.get(cohort.id, 0) for cohort in at) if way.kinds else (row.people if row else None)
    return Cell(
        address=Address(berth.store.name, key),
        way=way,
        row=row,
        people=people,
        cohorts=tuple(cohort.name for cohort in at),
        holds=tuple(entry for entry in placed if entry.offered or entry.phase == LegPhase.HALTED),
        coming=tuple(entry for entry in placed if not entry.offered and entry.phase != LegPhase.HALTED),
        following=next_track(rules, key),
    )


def track_of(rules: Rulebook, trial: Trial) -> str:
    """The track of a trial; one that the store no longer has is the one for its kind of cohort."""
    return trial.track if trial.track in rules.ways else rules.track_for(trial.cohort.kind)


def title_of(trial: Trial) -> str:
    """The track of a trial in the store's own words; empty where the store names no tracks."""
    if not rules_of(trial.consignment.berth.store).tracks:
        return ""
    session = object_session(trial)
    assert session is not None
    rules = cohorts.tracks_of(session, trial.consignment.berth)
    return rules.ways[track_of(rules, trial)].title if track_of(rules, trial) in rules.ways else trial.track


def of_leg(leg: Leg, *, waits: bool = False) -> Placement:
    seen = leg.sighting
    offered = leg.state in OFFERED
    confirmed = not waits and (seen is None or (seen.state, seen.share) == (leg.state, leg.share))
    return Placement(
        leg.build, leg, None, leg.launched_at, leg.ended_at, leg.share, str(legs.phase(leg)), offered,
        str(seen.state) if seen else None, confirmed,
    )  # fmt: skip


def of_trial(trial: Trial, *, waits: bool = False) -> Placement:
    seen, offered = trial.sighting, trial.state is TrialState.OPEN
    until = trial.changed_at if trial.state in _ENDED else None
    return Placement(
        trial.consignment.build, None, trial, trial.opened_at, until, 1.0, str(trial.state), offered,
        str(seen.state) if seen else None, not waits,
    )  # fmt: skip


_ENDED = frozenset(TRIAL.table[(TrialState.OPEN, event)] for event in TRIAL.possible(TrialState.OPEN))


def standing(session: Session, row: BoardRow) -> dict[str, OnTrack]:
    """What each track of a store holds now, as core's foresight asks for it."""
    found = {}
    for entry in row.cells:
        whole = max((one for one in entry.holds if one.share == 1.0), key=_since, default=None)
        found[entry.address.track] = OnTrack(
            entry.address.track,
            tuple(offer_of(one, entry.address.track) for one in entry.holds if one.offered),
            entry.people,
            entry.cohorts,
            tuple(packages.facts_of(whole.build)) if whole is not None else (),
        )
    return found


def offer_of(placed: Placement, track: str) -> Offer:
    build = placed.build
    return Offer(placed.id, track, build.version, build.number, _since(placed), placed.share)


def _since(placed: Placement) -> datetime:
    created = (placed.leg or placed.trial).created_at  # type: ignore[union-attr]
    return placed.since or created


def stood(row: BoardRow, build: Build, now: datetime) -> dict[str, Stood]:
    """For each track of a store: how long a build has been offered there by now, and to how many people."""
    found: dict[str, Stood] = {}
    for entry in row.cells:
        for placed in entry.holds:
            if placed.build.id != build.id or not placed.offered or placed.since is None:
                continue
            reached = placed.people if placed.people is not None else round((entry.people or 0) * placed.share)
            before = found.get(entry.address.track, Stood(0.0, 0))
            hours = (now - placed.since).total_seconds() / 3600
            found[entry.address.track] = Stood(max(before.hours, hours), before.people + reached)
    return found


def reviewed_on(session: Session, berth: Berth, build: Build) -> tuple[str, ...]:
    """The tracks of a store that have let this build, or its version where one review holds for a version, through review."""
    rules = rules_of(berth.store)
    passed = session.scalars(
        select(Leg)
        .join(Release)
        .where(Leg.berth_id == berth.id, Release.version == str(parse_version(build.version)))
        .options(contains_eager(Leg.release), selectinload(Leg.rounds))
    )
    found = set()
    for leg in passed:
        way = rules.ways.get(leg.track)
        per_version = way is not None and way.reviewed_once_per == "version"
        if any(
            round_.state is RoundState.APPROVED and (per_version or round_.build_id == build.id)
            for round_ in leg.rounds
        ):
            found.add(leg.track)
    return tuple(sorted(found))


def what_people_get(
    session: Session,
    app_name: str,
    store_name: str,
    *,
    cohort_name: str | None = None,
    chosen: Sequence[str] = (),
    country: str | None = None,
) -> list[tuple[Offer | None, float]]:
    """What people of a cohort, or people who have chosen the tracks ``chosen``, have at a store: each with its share of them.

    ``country`` (ISO 3166): where they are; tracks that do not reach it offer them nothing.
    """
    berth = berth_at(session, app_name, Address(store_name))
    row = _row(berth, _read(session, berth.app))
    cohort = find.cohort(session, berth.app, cohort_name) if cohort_name is not None else None
    for key in chosen:
        if demand_track(row.rules, key).audience is Audience.COHORTS:
            raise Invalid(f"Nobody chooses {key} at {berth.store.name}; its people have a seat.", code="track-unfit")
    uses = cohorts.uses(cohort, berth) if cohort is not None else None
    may_use = {key for key in (*chosen, uses) if key is not None and reaches(row.rules, key, country)}
    offers = [
        offer_of(placed, entry.address.track)
        for entry in row.cells
        if reaches(row.rules, entry.address.track, country)
        for placed in entry.holds
        if placed.offered and (placed.trial is None or (cohort is not None and placed.trial.cohort_id == cohort.id))
    ]
    return spread(row.rules, may_use, offers)


@dataclass(frozen=True)
class Past:
    """One placement of a track's history, with what the logbook says of it, newest first."""

    placed: Placement
    lines: tuple[LogbookLine, ...]


MOST_PAST = 50


def history(session: Session, app_name: str, address: Address) -> list[Past]:
    """What a track held, the newest first: since when, until when, who moved it and why."""
    berth = berth_at(session, app_name, address)
    rules = cohorts.tracks_of(session, berth)
    demand_track(rules, address.track)
    of_legs = select(Leg).where(Leg.berth_id == berth.id, Leg.track == address.track)
    of_trials = select(Trial).join(Consignment).where(Consignment.berth_id == berth.id)
    placed = [of_leg(leg) for leg in session.scalars(of_legs.order_by(Leg.created_at.desc()).limit(MOST_PAST))]
    placed += [
        of_trial(trial)
        for trial in session.scalars(of_trials.order_by(Trial.created_at.desc()).limit(MOST_PAST))
        if track_of(rules, trial) == address.track
    ]
    placed.sort(key=_since, reverse=True)
    subjects = {one.id: legs.leg_subject(one.leg) if one.leg else f"trial {one.id}" for one in placed}
    said: dict[str, list[LogbookLine]] = defaultdict(list)
    place = f"track {Address(berth.store.name, address.track)}"
    for line in logbook.about(session, berth.app.name, {*subjects.values(), place}):
        said[line.subject].append(line)
    return [
        Past(one, tuple(_newest_first([*said[subjects[one.id]], *_placing(said[place], one.build)])))
        for one in placed[:MOST_PAST]
    ]


def _placing(lines: Sequence[LogbookLine], build: Build) -> list[LogbookLine]:
    """Of what the logbook says of a track, what is about one build: who placed it there, and why."""
    return [line for line in lines if (line.after or {}).get("build") == build.id]


def _newest_first(lines: list[LogbookLine]) -> list[LogbookLine]:
    return sorted(lines, key=lambda line: line.id, reverse=True)


def addresses_of(session: Session, app_name: str, rank: int, platform: str | None = None) -> list[Address]:
    """The tracks of one rank at every store of an app that carries ``platform`` (None: any), but for production.

    Raises Invalid where there is none.
    """
    rows = [row for row in board(session, app_name) if platform in (None, row.berth.platform)]
    found = [entry.address for row in rows for entry in row.cells if entry.way.rank == rank and entry.following]
    if not found:
        raise Invalid(
            f"No store has a track of rank {rank} before production.",
            remedy=f"See the ranks: tide track list --app {app_name}",
            code="rank-unknown",
        )
    return found


# tracks of the team's own


def open_own(act: Act, app_name: str, store_name: str, key: str, title: str, reason: str) -> Track:
    """Open a track of the team's own. Raises ImpossibleAct where the store has none, and Conflict for one that is known."""
    retiring.app_in_use(act.session, app_name)
    berth = berth_at(act.session, app_name, Address(store_name))
    rules, wanted = cohorts.tracks_of(act.session, berth), slug(key, "a track")
    if rules.own_tracks is None:
        raise ImpossibleAct(f"{rules.store} lets no team open tracks of its own.", possible=[])
    if berth.store_ref is None:
        raise Conflict(f"{berth.app.title} has no open berth at {rules.store}.", code="berth-unknown")
    if wanted in rules.ways:
        raise Conflict(f"{rules.store} has a track called {wanted} already.", code="track-known")
    mine = (
        select(func.count()).select_from(Track).where(Track.berth_id == berth.id, Track.own, Track.state.in_(COUNTED))
    )
    if (act.session.scalar(mine) or 0) >= rules.own_tracks.most:
        raise Conflict(
            f"{rules.store} lets a team have {rules.own_tracks.most} tracks of its own.",
            remedy=f"Close one first: tide track close STORE/TRACK --app {app_name}",
            code="tracks-used-up",
        )
    track = _row_of(act.session, berth, wanted)
    if track is None:
        track = Track(berth_id=berth.id, key=wanted, title="", own=True, created_at=act.now)
        track.berth = berth
        act.session.add(track)
    elif OWN_TRACK.allows(track.state, OwnTrackEvent.ORDER):
        track.state = OWN_TRACK.after(track.state, OwnTrackEvent.ORDER)
    else:
        raise Conflict(f"The track {wanted} is {track.state} already.", code="track-known")
    track.title, track.reason = _title(title or key), None
    act.session.flush()
    _order(act, OrderKind.OPEN_TRACK, track)
    act.log(
        "track ordered", f"track {store_name}/{wanted}", app=berth.app.name, reason=reason, after={"title": track.title}
    )
    return track


def rename_own(act: Act, app_name: str, address: Address, title: str, reason: str) -> Track:
    """Order another title for a track of the team's own."""
    track = _own(act.session, app_name, address)
    OWN_TRACK.after(track.state, OwnTrackEvent.CLOSE)  # only what is open is renamed
    wanted = _title(title)
    _order(act, OrderKind.RENAME_TRACK, track, title=wanted)
    act.log("name ordered", f"track {address}", app=track.berth.app.name, reason=reason, after={"title": wanted})
    return track


def close_own(act: Act, app_name: str, address: Address, reason: str) -> Track:
    """Close a track of the team's own. Raises Conflict while people get a build over it, or cohorts are attached to it."""
    track = _own(act.session, app_name, address)
    after = OWN_TRACK.after(track.state, OwnTrackEvent.CLOSE)
    here = cell(act.session, app_name, address)
    if here.holds or here.coming:
        raise Conflict(
            f"{track.title} still holds {', '.join(one.build.label for one in (*here.holds, *here.coming))}.",
            remedy=f"Clear it first: tide track clear {address} --app {app_name} --reason WHY",
            code="track-in-use",
        )
    for row in act.session.scalars(
        select(Attachment).where(Attachment.berth_id == track.berth_id, Attachment.track == track.key)
    ):
        row.track = None
    track.state = after
    _order(act, OrderKind.CLOSE_TRACK, track)
    act.log("closing ordered", f"track {address}", app=track.berth.app.name, reason=reason)
    return track


def told(act: Act, berth: Berth, said: protocol.TrackChanged, at: datetime) -> None:
    """What the store says of a track: its people, and whether one of the team's own was opened, renamed or closed."""
    track = _row_of(act.session, berth, said.key)
    if track is None:
        track = Track(berth_id=berth.id, key=said.key, title=said.title, own=said.own, created_at=act.now)
        track.berth, track.state = berth, OWN_TRACK.initial
        act.session.add(track)
        act.session.flush()
    before = (track.title, str(track.state))
    track.title, track.people, track.people_at = said.title, said.people, at
    event = OwnTrackEvent.END if said.closed else OwnTrackEvent.OPEN
    if OWN_TRACK.allows(track.state, event):
        track.state = OWN_TRACK.after(track.state, event)
    after = (track.title, str(track.state))
    subject = f"track {berth.store.name}/{track.key}"
    closed_there = said.closed and before[1] == OwnTrackState.OPEN and track.state is OwnTrackState.CLOSED
    using = [cohort.name for cohort in cohorts_on(act.session, berth, track.key)] if closed_there else []
    if closed_there:
        told = f"The track {track.title} was closed at {rules_of(berth.store).store}."
        if using:
            told += f" Put {', '.join(using)} on another one."
        place, key = f"/apps/{berth.app.name}/tracks", f"{track.id}/closed/{at.isoformat()}"
        act.notice(NoticeKind.CHANGED_AT_STORE, key, subject, told, place=place, app=berth.app.name)
    if track.own and after != before:
        act.log(
            "track changed", subject, app=berth.app.name,
            before=dict(zip(("title", "state"), before, strict=True)), after=dict(zip(("title", "state"), after, strict=True)),
        )  # fmt: skip
    else:
        act.tell("track changed", subject, app=berth.app.name, said=f"{said.people} people" if said.people else "")


def _order(act: Act, kind: OrderKind, track: Track, **payload: str) -> None:
    berth = track.berth
    act.order(kind, lane=berth.id, store=berth.store, subject=berth.id, payload={"track": track.id, **payload})


def _row_of(session: Session, berth: Berth, key: str) -> Track | None:
    return session.scalar(select(Track).where(Track.berth_id == berth.id, Track.key == key))


def _own(session: Session, app_name: str, address: Address) -> Track:
    berth = berth_at(session, app_name, address)
    found = _row_of(session, berth, address.track)
    if found is None or not found.own:
        if address.track in rules_of(berth.store).ways:
            raise ImpossibleAct(f"{address} is the store's own track; only yours are renamed and closed.", possible=[])
        raise NotFound(
            f"No track is called {address}.",
            remedy=f"See: tide track list --app {app_name}",
            code="track-unknown",
        )
    return found


def _title(text: str) -> str:
    title = text.strip()
    if not title or len(title) > LONGEST_TRACK_TITLE:
        raise Invalid(f"A track's title has 1 to {LONGEST_TRACK_TITLE} characters.", code="title-unfit")
    return title


def cohorts_on(session: Session, berth: Berth, key: str) -> list[Cohort]:
    """The cohorts that get builds over a track at a berth, those out of use left out."""
    return [cohort for cohort in cohorts.of_app(session, berth.app.name) if cohorts.uses(cohort, berth) == key]


def where_is(session: Session, app: App, build_ids: Sequence[str]) -> Mapping[str, list[tuple[Address, Placement]]]:
    """On which tracks each of some builds is, or is coming to."""
    found: dict[str, list[tuple[Address, Placement]]] = {build_id: [] for build_id in build_ids}
    for row in board(session, app.name):
        for entry in row.cells:
            for placed in (*entry.holds, *entry.coming):
                if placed.build.id in found:
                    found[placed.build.id].append((entry.address, placed))
    return found
