"""Placing a build on tracks, promoting it to the next, and clearing a track.

A placement on a track of cohorts is a trial with each cohort that uses it; on any other track it is a
leg of the release of that version. A build that the store does not hold is sent there first; one that it
holds is never sent again. Every store is looked at before anything is written: all of it, or nothing.

Production is never reached by the way: a placement there is drafted, and handed in only where that is
asked for in so many words.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.consignment import UNDER_WAY as COMING
from restless_tide.core.errors import ImpossibleAct, Invalid, NotFound
from restless_tide.core.leg import OPEN_TO_CHANGE, LegPhase
from restless_tide.core.readiness import demand_ready, of_stores
from restless_tide.core.rollout import RolloutEvent
from restless_tide.core.rulebook import Audience
from restless_tide.core.tracks import Address, demand_track
from restless_tide.core.trial import TRIAL, TrialEvent
from restless_tide.core.versions import parse_version
from restless_tide.desk import (
    builds,
    cohorts,
    correcting,
    find,
    go_aheads,
    legs,
    options,
    releases,
    retiring,
    sign_ins,
    steering,
    tracks,
    trials,
)
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.move_sheets import MoveSheet, Wish, brief_for, meant, row_at, sheet_of, sheets
from restless_tide.desk.planning import Brief
from restless_tide.desk.releases import LegWish
from restless_tide.desk.tracks import BoardRow
from restless_tide.records.tables import App, Build, Leg, Person, Release

_BEFORE_LAUNCH = frozenset({*OPEN_TO_CHANGE, LegPhase.UNDER_REVIEW})


@dataclass(frozen=True)
class Placed:
    """What was ordered for one track: trials, or a leg of the release ``version``."""

    address: Address
    sent: bool
    trials: tuple[str, ...] = ()
    leg: str | None = None
    version: str = ""
    drafted: bool = False


def place(
    desk: Desk, who: Person | str, app_name: str, build_id: str, addresses: Sequence[Address], wish: Wish
) -> list[Placed]:
    """Place a build on tracks, sending it first where a store does not hold it. Raises NotReady with every blocker.

    ``who`` acts: a person, who is the contact of a trial that has none, or the desk itself.
    """
    found = sheets(desk, app_name, build_id, addresses, wish, who)
    demand_ready(of_stores((str(sheet.address), sheet.findings) for sheet in found), "Placing this build")
    with desk.act(who if isinstance(who, str) else who.id) as act:
        return place_in(act, who, app_name, build_id, [(address, wish) for address in addresses])


def place_in(
    act: Act, who: Person | str, app_name: str, build_id: str, wanted: Sequence[tuple[Address, Wish]]
) -> list[Placed]:
    """The same within an act, each track looked at as it stands in that act: what was done meanwhile counts."""
    app = retiring.app_in_use(act.session, app_name)
    build = meant(act.session, app, build_id, [address for address, _ in wanted])
    rows = {row.berth.store.name: row for row in tracks.board(act.session, app_name)}
    found = [
        (sheet_of(act.session, act.now, build, row_at(rows, address), address, wish, who), wish)
        for address, wish in wanted
    ]
    demand_ready(of_stores((str(sheet.address), sheet.findings) for sheet, _ in found), "Placing this build")
    return [_place_one(act, who, app, build, rows[sheet.address.store], sheet, wish) for sheet, wish in found]


def _place_one(
    act: Act, who: Person | str, app: App, build: Build, row: BoardRow, sheet: MoveSheet, wish: Wish
) -> Placed:
    builds.order_to(act, build, sheet.address.store)
    _log(act, app, build, sheet.address, wish)
    at = tracks.cohorts_on(act.session, row.berth, sheet.address.track)
    if row.rules.ways[sheet.address.track].audience is Audience.COHORTS:
        told = brief_for(wish.brief, who)
        made = [
            trial.id
            for cohort in at
            for trial in trials.open_trials(
                act, app.name, build.id, [cohort.name], [sheet.address.store], told(cohort), when_ready=True
            )
        ]
        return Placed(sheet.address, sheet.sends, tuple(made))
    leg = _leg_for(act, app, build, sheet.address, wish)
    if not sheet.drafts:
        _hand_in(act, app, leg)
    return Placed(sheet.address, sheet.sends, (), str(find.place_of(leg)), leg.release.version, sheet.drafts)


def _log(act: Act, app: App, build: Build, address: Address, wish: Wish) -> None:
    after = {"build": build.id, "version": build.version, "number": build.number.text}
    act.log("build placed", f"track {address}", app=app.name, reason=wish.reason, after=after)


def _leg_for(act: Act, app: App, build: Build, address: Address, wish: Wish) -> Leg:
    """The leg by which a build comes to a track: the one that is drafted there already, or a new one."""
    version = str(parse_version(build.version))
    release = act.session.scalar(select(Release).where(Release.app_id == app.id, Release.version == version))
    if release is None:
        release = releases.entered(act, app, version)
        act.session.flush()
        act.log("release drafted", f"release {version}", app=app.name, after={"stores": [str(address)]})
    for locale, text in wish.notes.items():
        releases.write_notes(act, app.name, version, locale, text)
    known = next((leg for leg in release.legs if find.place_of(leg) == address), None)
    ladder = LegWish(build=build.id, ladder=wish.ladder)
    if known is not None:
        if legs.phase(known) not in _BEFORE_LAUNCH:
            raise ImpossibleAct(
                f"{release.version} is {legs.phase(known)} on {address}; another build of it needs another version.",
                possible=[
                    str(option.act) for option in options.possible(known, now=act.now).values() if option.possible
                ],
            )
        releases.change_leg(act, app.name, release.version, str(address), ladder)
        return known
    leg = releases.add_leg(act, release, str(address), ladder)
    releases.touch(act, release)
    return leg


def _hand_in(act: Act, app: App, leg: Leg) -> None:
    """Hand a leg in now, or as soon as its store has the build ready."""
    consignment = builds.consignment_at(act.session, leg.build, leg.berth)
    if consignment is not None and consignment.state in COMING:
        leg.submits_itself = True
    else:
        place = str(find.place_of(leg))
        releases.submit(act, app.name, leg.release.version, place, releases.HandingIn(automatic=True))


@dataclass(frozen=True)
class Step:
    """A build that moves from one track to another."""

    build: str
    label: str
    source: Address
    target: Address


def steps(session: Session, app_name: str, source: Address, target: str | None, build_id: str | None) -> Step:
    """What promoting from a track means: which build goes where. Raises ImpossibleAct, and Invalid where it is not clear."""
    here = tracks.cell(session, app_name, source)
    rules = cohorts.tracks_of(session, tracks.berth_at(session, app_name, source))
    wanted = target or here.following
    if wanted is None:
        raise ImpossibleAct(
            f"Nothing comes after {here.way.title} of {source.store}.",
            possible=[key for key in rules.ways if key != source.track],
        )
    demand_track(rules, wanted)
    if wanted == source.track:
        raise Invalid(f"The build is on {source} already.", code="track-same")
    known = {one.build.id: one for one in here.holds if one.offered}
    stopped = [one for one in here.holds if not one.offered]
    if build_id is not None:
        build = meant(session, find.app(session, app_name), build_id, [source])
        if build.id not in known:
            told = next((f"is {one.phase}" for one in stopped if one.build.id == build.id), "is not offered")
            raise ImpossibleAct(f"{build.label} {told} on {source}; it cannot be promoted from there.", possible=[])
        chosen = known[build.id]
    elif len(known) == 1:
        (chosen,) = known.values()
    elif not known:
        told = f"; {stopped[0].build.label} is {stopped[0].phase}" if stopped else ""
        raise ImpossibleAct(f"{source} offers no build that could be promoted{told}.", possible=[])
    else:
        raise Invalid(
            f"{source} offers {len(known)} builds: {', '.join(one.build.label for one in known.values())}.",
            remedy="Name one: --build BUILD",
            code="build-ambiguous",
        )
    return Step(chosen.build.id, chosen.build.label, source, Address(source.store, wanted))


def steps_of_rank(session: Session, app_name: str, rank: int, target: str | None, build_id: str | None) -> list[Step]:
    """The same for every store's track of one rank, where it offers a build. Raises what ``steps`` raises, and Invalid for no step."""
    app, found = find.app(session, app_name), []
    for address in tracks.addresses_of(session, app_name, rank):
        try:
            wanted = meant(session, app, build_id, [address]).id if build_id is not None else None
        except NotFound:  # the store carries another platform
            continue
        here = tracks.cell(session, app_name, address)
        if any(one.offered and wanted in (None, one.build.id) for one in here.holds):
            found.append(steps(session, app_name, address, target, wanted))
    if not found:
        raise ImpossibleAct(f"No track of rank {rank} offers a build that could be promoted.", possible=[])
    return found


def addresses(
    session: Session, app_name: str, build_id: str, named: Sequence[Address], rank: int | None
) -> list[Address]:
    """The tracks that are meant: those named, and those of a rank at every store that carries the build's platform."""
    found = list(named)
    if rank is not None:
        platform = meant(session, find.app(session, app_name), build_id, found).platform
        found += [one for one in tracks.addresses_of(session, app_name, rank, platform) if one not in found]
    return found


def promote(desk: Desk, who: Person | str, app_name: str, moves: Sequence[Step], wish: Wish) -> list[Placed]:
    """Promote builds from track to track, all of them or none. Raises NotReady with every blocker.

    Each takes along the brief of its trial; what the store holds is not sent again.
    """
    wishes = [carried(desk, app_name, move, wish) for move in moves]
    with desk.act(who if isinstance(who, str) else who.id) as act:
        return [
            placed
            for move, own in zip(moves, wishes, strict=True)
            for placed in place_in(act, who, app_name, move.build, [(move.target, own)])
        ]


def carried(desk: Desk, app_name: str, step: Step, wish: Wish) -> Wish:
    """The wish with what is carried along: the brief of the trial that it comes from, where the wish has none."""
    if wish.brief.texts:
        return wish
    with desk.look() as session:
        here = tracks.cell(session, app_name, step.source)
        trial = next((one.trial for one in here.holds if one.build.id == step.build and one.trial is not None), None)
        if trial is None:
            return wish
        sign_in = wish.brief.sign_in or sign_ins.opened(desk.seal, trial.sealed_sign_in, trial.id)
        brief = Brief(
            dict(trial.brief), wish.brief.contact or trial.contact, wish.brief.remarks_to or trial.remarks_to, sign_in
        )
        return replace(wish, brief=brief)


def clear(act: Act, app_name: str, address: Address, reason: str) -> list[str]:
    """Nobody new gets a build over a track: its trials are closed, its release withdrawn there, a draft taken out.

    Returns what was ordered, in words. Raises Invalid without a reason, ImpossibleAct where there is nothing to clear.
    """
    if not reason.strip():
        raise Invalid("Say why: clearing a track needs a reason.", remedy="Add --reason.", code="reason-missing")
    here = tracks.cell(act.session, app_name, address)
    done = []
    for placed in (*here.holds, *here.coming):
        if placed.trial is not None and TRIAL.allows(placed.trial.state, TrialEvent.CLOSE):
            trials.close(act, placed.trial.id, reason)
            done.append(f"the trial of {placed.build.label} with {placed.trial.cohort.name} ends")
        elif placed.leg is not None:
            done.append(_clear_leg(act, app_name, placed.leg, reason))
    if not done:
        raise ImpossibleAct(f"{address} holds nothing.", possible=[])
    act.log("track cleared", f"track {address}", app=find.app(act.session, app_name).name, reason=reason)
    return done


def _clear_leg(act: Act, app_name: str, leg: Leg, reason: str) -> str:
    version, place_ = leg.release.version, str(find.place_of(leg))
    phase = legs.phase(leg)
    if phase is LegPhase.UNDER_REVIEW:
        releases.recall(act, app_name, version, place_, reason)
        return f"{version} is recalled from review"
    if phase is LegPhase.DRAFT and not leg.rounds:
        if len(leg.release.legs) > 1:
            correcting.drop_leg(act, app_name, version, place_)
        else:
            correcting.discard(act, app_name, version)
        return f"the draft of {version} is taken out"
    if phase in OPEN_TO_CHANGE:
        leg.submits_itself = False
        go_aheads.hold(leg, act.now)
        return f"{version} is not launched without a go-ahead"
    steering.steer(act, app_name, version, place_, RolloutEvent.WITHDRAW, reason)
    return f"{version} is withdrawn"
