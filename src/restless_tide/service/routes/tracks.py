"""Tracks: the board, moves, tracks of the team's own, and rules by which builds move up."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from fastapi import Query

from restless_tide.core.errors import Denied
from restless_tide.core.rights import Right
from restless_tide.core.tracks import Address, MoveRule, parse_address
from restless_tide.desk import find, move_sheets, placing, track_rules, tracks
from restless_tide.desk.desk import Desk
from restless_tide.desk.placing import Step
from restless_tide.desk.stores import rules_of
from restless_tide.service import shown_tracks
from restless_tide.service.briefs import wish_of
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import Asking, SignedIn, TheDesk, WhoAsks
from restless_tide.wire.retiring import ReasonWanted
from restless_tide.wire.tracks import (
    BoardTold,
    ClearedTold,
    GotTold,
    MoveSheetTold,
    OwnTrackTold,
    PlacedTold,
    PlacementWanted,
    PromotionWanted,
    RuleBuildWanted,
    TrackChange,
    TrackOpened,
    TrackRuleTold,
    TrackRuleWanted,
    TrackTold,
)

router = router_of("tracks", "/v1/apps/{app}")


@router.get("/tracks")
@needs(Right.SEE_BUILDS)
def board(app: str, desk: TheDesk, _: SignedIn) -> BoardTold:
    """The tracks of every store where the app has an open berth, with what they hold."""
    with desk.look() as session:
        return shown_tracks.board(find.app(session, app), tracks.board(session, app))


@router.post("/tracks", status_code=202)
@needs(Right.STEER)
def open_track(app: str, wanted: TrackOpened, desk: TheDesk, person: SignedIn) -> OwnTrackTold:
    """Open a track of the team's own, where the store lets teams have some."""
    with desk.act(person.id) as act:
        return shown_tracks.own(tracks.open_own(act, app, wanted.store, wanted.key, wanted.title, wanted.reason))


@router.get("/track-people/{store}")
@needs(Right.SEE_TESTERS)
def people(
    app: str,
    store: str,
    desk: TheDesk,
    _: SignedIn,
    cohort: str | None = None,
    chosen: Annotated[list[str] | None, Query(max_length=20, description="tracks that they have chosen")] = None,
    country: Annotated[str | None, Query(pattern="^[A-Z]{2}$", description="where they are, ISO 3166")] = None,
) -> list[GotTold]:
    """What people of a cohort, or people who have chosen some tracks, have at a store; without either: everybody else."""
    with desk.look() as session:
        found = tracks.what_people_get(session, app, store, cohort_name=cohort, chosen=chosen or (), country=country)
    return shown_tracks.got(found)


@router.get("/tracks/{store}/{track}")
@needs(Right.SEE)
def one(app: str, store: str, track: str, desk: TheDesk, _: SignedIn) -> TrackTold:
    """One track, with what it held."""
    address = Address(store, track)
    with desk.look() as session:
        title = rules_of(tracks.berth_at(session, app, address).store).store
        past = tracks.history(session, app, address)
        return shown_tracks.track(session, tracks.cell(session, app, address), title, past)


@router.patch("/tracks/{store}/{track}", status_code=202)
@needs(Right.STEER)
def rename(app: str, store: str, track: str, wanted: TrackChange, desk: TheDesk, person: SignedIn) -> OwnTrackTold:
    """Order another title for a track of the team's own."""
    with desk.act(person.id) as act:
        return shown_tracks.own(tracks.rename_own(act, app, Address(store, track), wanted.title, wanted.reason))


@router.post("/tracks/{store}/{track}/close", status_code=202)
@needs(Right.STEER)
def close(app: str, store: str, track: str, wanted: ReasonWanted, desk: TheDesk, person: SignedIn) -> OwnTrackTold:
    """Close a track of the team's own; it holds nothing any more."""
    with desk.act(person.id) as act:
        return shown_tracks.own(tracks.close_own(act, app, Address(store, track), wanted.reason))


@router.post("/tracks/{store}/{track}/clear", status_code=202)
@needs(Right.STEER)
def clear(app: str, store: str, track: str, wanted: ReasonWanted, desk: TheDesk, person: SignedIn) -> ClearedTold:
    """Nobody new gets a build over the track: its trials end, its release is withdrawn there."""
    address = Address(store, track)
    with desk.act(person.id) as act:
        done = placing.clear(act, app, address, wanted.reason)
    return ClearedTold(at=f"{store}/{track}", done=done)


# moves


def _addresses(desk: Desk, app: str, wanted: PlacementWanted) -> list[Address]:
    named = [parse_address(entry) for entry in dict.fromkeys(wanted.at)]
    with desk.look() as session:
        return placing.addresses(session, app, wanted.build, named, wanted.rank)


@router.post("/placement-sheets")
@needs(Right.HAND_OUT)
def placement_sheet(app: str, wanted: PlacementWanted, desk: TheDesk, person: SignedIn) -> list[MoveSheetTold]:
    """What placing a build on tracks would mean, before anything is done."""
    found = move_sheets.sheets(desk, app, wanted.build, _addresses(desk, app, wanted), wish_of(wanted), person)
    return [shown_tracks.sheet(entry) for entry in found]


def demand_cohorts(desk: Desk, who: Asking, app: str, addresses: Sequence[Address]) -> None:
    """Hold who may only give builds to cohorts to the tracks of cohorts: what everybody may get takes more. Raises Denied."""
    if who.may(Right.STEER, app):
        return
    with desk.look() as session:
        beyond = [str(address) for address in addresses if not tracks.for_cohorts(session, app, address)]
    if beyond:
        raise Denied(
            f"What you may do does not reach {', '.join(beyond)}: everybody may get what is there.",
            remedy="Place the build for a cohort, and have a rule or a release manager promote it.",
            code="token-limited",
        )


@router.post("/placements", status_code=202)
@needs(Right.HAND_OUT)
def place(app: str, wanted: PlacementWanted, desk: TheDesk, person: SignedIn, who: WhoAsks) -> list[PlacedTold]:
    """Place a build on tracks, sending it first where a store does not hold it; all of it, or nothing."""
    addresses = _addresses(desk, app, wanted)
    demand_cohorts(desk, who, app, addresses)
    done = placing.place(desk, person, app, wanted.build, addresses, wish_of(wanted))
    return [shown_tracks.placed(entry) for entry in done]


def _steps(desk: Desk, app: str, wanted: PromotionWanted) -> list[Step]:
    with desk.look() as session:
        if wanted.source is not None:
            return [placing.steps(session, app, parse_address(wanted.source), wanted.to, wanted.build)]
        assert wanted.rank is not None
        return placing.steps_of_rank(session, app, wanted.rank, wanted.to, wanted.build)


@router.post("/promotion-sheets")
@needs(Right.STEER)
def promotion_sheet(app: str, wanted: PromotionWanted, desk: TheDesk, person: SignedIn) -> list[MoveSheetTold]:
    """What promoting would mean, before anything is done."""
    told: list[MoveSheetTold] = []
    for step in _steps(desk, app, wanted):
        wish = placing.carried(desk, app, step, wish_of(wanted))
        found = move_sheets.sheets(desk, app, step.build, [step.target], wish, person)
        told += [shown_tracks.sheet(entry, step) for entry in found]
    return told


@router.post("/promotions", status_code=202)
@needs(Right.STEER)
def promote(app: str, wanted: PromotionWanted, desk: TheDesk, person: SignedIn) -> list[PlacedTold]:
    """Promote a build to the next track: nothing is sent again, and its brief and notes are carried along."""
    return [
        shown_tracks.placed(entry)
        for entry in placing.promote(desk, person, app, _steps(desk, app, wanted), wish_of(wanted))
    ]


# rules


def _rules(desk: Desk, app: str) -> list[TrackRuleTold]:
    with desk.look() as session:
        row = find.app(session, app)
        found = track_rules.standings(session, row, desk.clock.now())
        return [shown_tracks.rule(rule, found) for rule in track_rules.of_app(session, row)]


def _one_rule(desk: Desk, app: str, rule: str) -> TrackRuleTold:
    return next(entry for entry in _rules(desk, app) if entry.id == rule)


@router.get("/track-rules")
@needs(Right.SEE)
def rules(app: str, desk: TheDesk, _: SignedIn) -> list[TrackRuleTold]:
    """The rules by which builds move up automatically, each with what is still missing."""
    return _rules(desk, app)


@router.post("/track-rules", status_code=201)
@needs(Right.STEER)
def make_rule(app: str, wanted: TrackRuleWanted, desk: TheDesk, person: SignedIn) -> TrackRuleTold:
    """Have builds move up automatically once all that is asked for is there."""
    asks = MoveRule(
        wanted.hours, wanted.people, wanted.crash_free, tuple(map(str, wanted.no_open)), wanted.needs_go_ahead
    )
    with desk.act(person.id) as act:
        made = track_rules.make(act, app, parse_address(wanted.source), wanted.to, asks, wanted.reason).id
    return _one_rule(desk, app, made)


@router.post("/track-rules/{rule}/end", status_code=204)
@needs(Right.STEER)
def end_rule(app: str, rule: str, wanted: ReasonWanted, desk: TheDesk, person: SignedIn) -> None:
    """Nothing moves by this rule any more."""
    with desk.act(person.id) as act:
        track_rules.end(act, app, rule, wanted.reason)


@router.post("/track-rules/{rule}/go-ahead", status_code=202)
@needs(Right.STEER)
def rule_go_ahead(app: str, rule: str, wanted: RuleBuildWanted, desk: TheDesk, person: SignedIn) -> TrackRuleTold:
    """Give one build the go-ahead that the rule waits for."""
    with desk.act(person.id) as act:
        track_rules.give_go_ahead(act, app, rule, wanted.build, wanted.reason)
    return _one_rule(desk, app, rule)


@router.post("/track-rules/{rule}/retry", status_code=202)
@needs(Right.STEER)
def rule_again(app: str, rule: str, wanted: RuleBuildWanted, desk: TheDesk, person: SignedIn) -> TrackRuleTold:
    """What blocked it is fixed: the rule looks at the build again."""
    with desk.act(person.id) as act:
        track_rules.try_again(act, app, rule, wanted.build)
    return _one_rule(desk, app, rule)
