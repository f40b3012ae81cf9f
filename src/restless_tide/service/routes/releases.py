"""Releases: drafting, review, the go-ahead, and steering."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from restless_tide.core.rights import Right
from restless_tide.core.rollout import STOPPING
from restless_tide.core.second_person import AskedAct
from restless_tide.desk import changes, correcting, find, fixing, releases
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.second_person import handed_in
from restless_tide.service import second_person, shown, shown_builds, threads
from restless_tide.service.leg_wishes import leg_wish
from restless_tide.service.paging import link_next
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import SignedIn, SignedInAtOnce, TheDesk, WhoAsks
from restless_tide.wire.changes import ChangedTold
from restless_tide.wire.releases import (
    FixWanted,
    GoAheadWanted,
    LegWanted,
    NewLegWanted,
    NotesWanted,
    PaceWanted,
    RecallWanted,
    ReleaseChange,
    ReleaseTold,
    ReleaseWanted,
    SteeringTold,
    SteerWanted,
)
from restless_tide.wire.reviewing import SubmitWanted

router = router_of("releases", "/v1/apps/{app}/releases")


def _told(act: Act, app: str, version: str) -> ReleaseTold:
    act.session.flush()
    return shown.release(act.session, find.release(act.session, find.app(act.session, app), version), act.now)


@router.get("")
@needs(Right.SEE)
def of_app(
    app: str,
    desk: TheDesk,
    _: SignedIn,
    response: Response,
    after: Annotated[str | None, Query(description="the last version of the page before")] = None,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
) -> list[ReleaseTold]:
    """The releases of an app, newest first."""
    with desk.look() as session:
        rows = releases.of_app(session, app, after=after, limit=limit + 1)
        if len(rows) > limit:
            link_next(response, f"/v1/apps/{app}/releases", rows[limit - 1].version, limit=limit)
        return [shown.release(session, row, desk.clock.now()) for row in rows[:limit]]


@router.post("", status_code=201)
@needs(Right.PREPARE)
def draft(app: str, wanted: ReleaseWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Draft a release with one leg per store."""
    with desk.act(person.id) as act:
        row = releases.draft(act, app, wanted.version, {store: leg_wish(leg) for store, leg in wanted.legs.items()})
        for locale, text in wanted.notes.items():
            releases.write_notes(act, app, row.version, locale, text)
        version = row.version
    return _fresh(desk, app, version)


def _fresh(desk: Desk, app: str, version: str) -> ReleaseTold:
    with desk.look() as session:
        return shown.release(session, find.release(session, find.app(session, app), version), desk.clock.now())


@router.get("/{version}")
@needs(Right.SEE)
def one(app: str, version: str, desk: TheDesk, _: SignedIn, response: Response) -> ReleaseTold:
    """One release, with its legs."""
    told = _fresh(desk, app, version)
    response.headers["ETag"] = f'"{told.revision}"'
    return told


@router.put("/{version}/notes/{locale}")
@needs(Right.PREPARE)
def write_notes(
    app: str, version: str, locale: str, wanted: NotesWanted, desk: TheDesk, person: SignedIn
) -> ReleaseTold:
    """Write the notes of one locale; an empty text takes them out."""
    with desk.act(person.id) as act:
        releases.write_notes(act, app, version, locale, wanted.text)
        return _told(act, app, version)


@router.patch("/{version}/legs/{store:path}")
@needs(Right.STEER)
def change_leg(app: str, version: str, store: str, wanted: LegWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Change a leg's build, ladder or conditions. Once it was handed in, that may bring it to people, and can wait for a
    second person."""
    change = second_person.LegChange(store=store, **wanted.model_dump(exclude_unset=True))
    if handed_in(desk, app, version, store):
        second_person.demand(desk, person.id, AskedAct.CHANGE_LEG, app, version, change)
    with desk.act(person.id) as act:
        second_person.change_leg(act, app, version, change)
        return _told(act, app, version)


@router.post("/{version}/legs", status_code=201)
@needs(Right.PREPARE)
def add_leg(app: str, version: str, wanted: NewLegWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Take one more store into the release."""
    with desk.act(person.id) as act:
        correcting.add_leg(act, app, version, wanted.store, leg_wish(wanted))
    return _fresh(desk, app, version)


@router.delete("/{version}/legs/{store:path}")
@needs(Right.PREPARE)
def drop_leg(app: str, version: str, store: str, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Take a store out of the release, before it was ever handed in there."""
    with desk.act(person.id) as act:
        correcting.drop_leg(act, app, version, store)
    return _fresh(desk, app, version)


@router.patch("/{version}")
@needs(Right.PREPARE)
def rename(app: str, version: str, wanted: ReleaseChange, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Give a draft that was handed in nowhere another version; each leg gets the newest build of it."""
    with desk.act(person.id) as act:
        renamed = correcting.rename_release(act, app, version, wanted.version).version
    return _fresh(desk, app, renamed)


@router.delete("/{version}", status_code=204)
@needs(Right.PREPARE)
def discard(app: str, version: str, desk: TheDesk, person: SignedIn) -> None:
    """Discard a draft that was handed in nowhere; its builds stay."""
    with desk.act(person.id) as act:
        correcting.discard(act, app, version)


@router.post("/{version}/fixes", status_code=201)
@needs(Right.STEER)
def fix(app: str, version: str, wanted: FixWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Draft the release that takes its place: its stores, ladders, launch conditions and notes, with another build."""
    with desk.act(person.id) as act:
        return _told(act, app, fixing.fix(act, app, version, wanted.builds).version)


@router.post("/{version}/submissions", status_code=202)
@needs(Right.STEER)
def submit(app: str, version: str, wanted: SubmitWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Hand a leg, or every leg that can be, to review."""
    second_person.demand(desk, person.id, AskedAct.SUBMIT, app, version, wanted)
    with desk.act(person.id) as act:
        second_person.submit(act, app, version, wanted)
        return _told(act, app, version)


@router.post("/{version}/recalls", status_code=202)
@needs(Right.STEER)
def recall(app: str, version: str, wanted: RecallWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Call a leg back from review."""
    with desk.act(person.id) as act:
        releases.recall(act, app, version, wanted.store, wanted.reason)
        return _told(act, app, version)


@router.post("/{version}/go-ahead", status_code=202)
@needs(Right.STEER)
def give_go_ahead(app: str, version: str, wanted: GoAheadWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Give one's go-ahead to launch; the launch follows when all its conditions hold."""
    second_person.demand(desk, person.id, AskedAct.GO_AHEAD, app, version, wanted)
    with desk.act(person.id) as act:
        second_person.give_go_ahead(act, app, version, wanted)
        return _told(act, app, version)


@router.post("/{version}/go-ahead-withdrawals", status_code=202)
@needs(Right.STOP)
def take_back_go_ahead(app: str, version: str, wanted: GoAheadWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Withdraw one's own go-ahead, as long as it is not launched."""
    with desk.act(person.id) as act:
        releases.take_back_go_ahead(act, app, version, wanted.store, wanted.reason)
        return _told(act, app, version)


@router.post("/{version}/steering", status_code=202)
@needs(Right.STOP)
async def steer(
    app: str, version: str, wanted: SteerWanted, request: Request, desk: TheDesk, person: SignedInAtOnce, who: WhoAsks
) -> SteeringTold:
    """Advance, pause, resume, halt, finish or withdraw: at one store or wherever it is possible. All but pausing and halting
    takes the right to steer."""
    if wanted.act not in STOPPING:
        await threads.steering(request, lambda: who.demand(Right.STEER, app))
        await threads.steering(
            request, lambda: second_person.demand(desk, person.id, AskedAct.STEER, app, version, wanted)
        )
    return await threads.steering(request, lambda: _steered(desk, person.id, app, version, wanted))


def _steered(desk: Desk, person: str, app: str, version: str, wanted: SteerWanted) -> SteeringTold:
    with desk.act(person) as act:
        outcomes = second_person.steer(act, app, version, wanted)
        return SteeringTold(outcomes=[shown.steered(entry) for entry in outcomes])


@router.put("/{version}/pace")
@needs(Right.STEER)
def set_pace(app: str, version: str, wanted: PaceWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Say how its stores rise beside each other: each for itself, in step, or after one that leads. Once it was
    handed in, that may wait for a second person."""
    if handed_in(desk, app, version):
        second_person.demand(desk, person.id, AskedAct.PACE, app, version, wanted)
    with desk.act(person.id) as act:
        second_person.set_pace(act, app, version, wanted)
        return _told(act, app, version)


@router.get("/{version}/changes")
@needs(Right.SEE)
def changed(app: str, version: str, desk: TheDesk, _: SignedIn) -> ChangedTold:
    """What changed since the build that people have at each store, by the source's own history, and notes drafted from it."""
    return shown_builds.changed(changes.of_release(desk, app, version))
