"""Releases: drafting, review, the go-ahead, and steering."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated

from fastapi import Header, Query, Request, Response

from restless_tide.core.errors import Invalid
from restless_tide.core.numbers import whole_number
from restless_tide.desk import changes, correcting, find, fixing, pacing, releases, steering
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.reviewer_briefs import ForRound
from restless_tide.records.tables import Release
from restless_tide.service import shown, shown_builds, threads
from restless_tide.service.briefs import brief_change
from restless_tide.service.paging import link_next
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import SignedIn, SignedInAtOnce, TheDesk
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

IfMatch = Annotated[str | None, Header(description="the ETag of the release as you read it")]


def _told(act: Act, app: str, version: str) -> ReleaseTold:
    act.session.flush()
    return shown.release(act.session, find.release(act.session, find.app(act.session, app), version), act.now)


def _demand_match(act: Act, app: str, version: str, if_match: str | None) -> Release:
    row = find.release(act.session, find.app(act.session, app), version)
    if if_match is not None:
        revision = whole_number(if_match.strip().strip('"'))
        if revision is None:
            raise Invalid(f"If-Match is {if_match!r}; send the ETag as it was read.", code="etag-unfit")
        releases.demand_revision(row, revision)
    return row


def _wish(wanted: LegWanted) -> releases.LegWish:
    instant = wanted.not_before
    return releases.LegWish(
        build=wanted.build,
        ladder=wanted.ladder,
        conditions=wanted.conditions,
        needs_go_ahead=wanted.needs_go_ahead,
        with_other_legs=wanted.with_other_legs,
        not_before=_aware(instant) if instant else None,
        no_date=bool(wanted.no_date) or ("not_before" in wanted.model_fields_set and instant is None),
    )


def _aware(instant: datetime) -> datetime:
    if instant.tzinfo is None:
        raise Invalid(
            f"{instant.isoformat()} has no zone.", remedy="Write it like 2026-12-01T09:00+01:00.", code="instant-unfit"
        )
    return instant.astimezone(UTC)


@router.get("")
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
def draft(app: str, wanted: ReleaseWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Draft a release with one leg per store."""
    with desk.act(person.id) as act:
        row = releases.draft(act, app, wanted.version, {store: _wish(leg) for store, leg in wanted.legs.items()})
        for locale, text in wanted.notes.items():
            releases.write_notes(act, app, row.version, locale, text)
        version = row.version
    return _fresh(desk, app, version)


def _fresh(desk: Desk, app: str, version: str) -> ReleaseTold:
    with desk.look() as session:
        return shown.release(session, find.release(session, find.app(session, app), version), desk.clock.now())


@router.get("/{version}")
def one(app: str, version: str, desk: TheDesk, _: SignedIn, response: Response) -> ReleaseTold:
    told = _fresh(desk, app, version)
    response.headers["ETag"] = f'"{told.revision}"'
    return told


@router.put("/{version}/notes/{locale}")
def write_notes(
    app: str, version: str, locale: str, wanted: NotesWanted, desk: TheDesk, person: SignedIn, if_match: IfMatch = None
) -> ReleaseTold:
    """Write the notes of one locale; an empty text takes them out."""
    with desk.act(person.id) as act:
        _demand_match(act, app, version, if_match)
        releases.write_notes(act, app, version, locale, wanted.text)
        return _told(act, app, version)


@router.patch("/{version}/legs/{store:path}")
def change_leg(
    app: str, version: str, store: str, wanted: LegWanted, desk: TheDesk, person: SignedIn, if_match: IfMatch = None
) -> ReleaseTold:
    """Change a leg's build, ladder or conditions."""
    with desk.act(person.id) as act:
        _demand_match(act, app, version, if_match)
        releases.change_leg(act, app, version, store, _wish(wanted))
        return _told(act, app, version)


@router.post("/{version}/legs", status_code=201)
def add_leg(app: str, version: str, wanted: NewLegWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Take one more store into the release."""
    with desk.act(person.id) as act:
        correcting.add_leg(act, app, version, wanted.store, _wish(wanted))
    return _fresh(desk, app, version)


@router.delete("/{version}/legs/{store:path}")
def drop_leg(app: str, version: str, store: str, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Take a store out of the release, before it was ever handed in there."""
    with desk.act(person.id) as act:
        correcting.drop_leg(act, app, version, store)
    return _fresh(desk, app, version)


@router.patch("/{version}")
def rename(app: str, version: str, wanted: ReleaseChange, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Give a draft that was handed in nowhere another version; each leg gets the newest build of it."""
    with desk.act(person.id) as act:
        renamed = correcting.rename_release(act, app, version, wanted.version).version
    return _fresh(desk, app, renamed)


@router.delete("/{version}", status_code=204)
def discard(app: str, version: str, desk: TheDesk, person: SignedIn) -> None:
    """Discard a draft that was handed in nowhere; its builds stay."""
    with desk.act(person.id) as act:
        correcting.discard(act, app, version)


@router.post("/{version}/fixes", status_code=201)
def fix(app: str, version: str, wanted: FixWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Draft the release that takes its place: its stores, ladders, launch conditions and notes, with another build."""
    with desk.act(person.id) as act:
        return _told(act, app, fixing.fix(act, app, version, wanted.builds).version)


@router.post("/{version}/submissions", status_code=202)
def submit(app: str, version: str, wanted: SubmitWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Hand a leg, or every leg that can be, to review."""
    with desk.act(person.id) as act:
        handing_in = releases.HandingIn(
            looked=wanted.looked,
            without=tuple(wanted.without),
            in_spite_of=wanted.in_spite_of,
            reviewer=ForRound(wanted.for_reviewer, brief_change(wanted.brief)),
        )
        releases.submit(act, app, version, wanted.store, handing_in)
        return _told(act, app, version)


@router.post("/{version}/recalls", status_code=202)
def recall(app: str, version: str, wanted: RecallWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Call a leg back from review."""
    with desk.act(person.id) as act:
        releases.recall(act, app, version, wanted.store, wanted.reason)
        return _told(act, app, version)


@router.post("/{version}/go-ahead", status_code=202)
def give_go_ahead(app: str, version: str, wanted: GoAheadWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Give one's go-ahead to launch; the launch follows when all its conditions hold."""
    with desk.act(person.id) as act:
        releases.give_go_ahead(act, app, version, wanted.store, wanted.reason)
        return _told(act, app, version)


@router.post("/{version}/go-ahead-withdrawals", status_code=202)
def take_back_go_ahead(app: str, version: str, wanted: GoAheadWanted, desk: TheDesk, person: SignedIn) -> ReleaseTold:
    """Withdraw one's own go-ahead, as long as it is not launched."""
    with desk.act(person.id) as act:
        releases.take_back_go_ahead(act, app, version, wanted.store, wanted.reason)
        return _told(act, app, version)


@router.post("/{version}/steering", status_code=202)
async def steer(
    app: str, version: str, wanted: SteerWanted, request: Request, desk: TheDesk, person: SignedInAtOnce
) -> SteeringTold:
    """Advance, pause, resume, halt, finish or withdraw: at one store or wherever it is possible."""
    return await threads.steering(request, lambda: _steered(desk, person.id, app, version, wanted))


def _steered(desk: Desk, person: str, app: str, version: str, wanted: SteerWanted) -> SteeringTold:
    with desk.act(person) as act:
        outcomes = steering.steer(act, app, version, wanted.store, wanted.act, wanted.reason, wanted.share)
        return SteeringTold(outcomes=[shown.steered(entry) for entry in outcomes])


@router.put("/{version}/pace")
def set_pace(
    app: str, version: str, wanted: PaceWanted, desk: TheDesk, person: SignedIn, if_match: IfMatch = None
) -> ReleaseTold:
    """Say how its stores rise beside each other: each for itself, in step, or after one that leads."""
    with desk.act(person.id) as act:
        _demand_match(act, app, version, if_match)
        pacing.set_pace(act, app, version, wanted.pace(), wanted.reason)
        return _told(act, app, version)


@router.get("/{version}/changes")
def changed(app: str, version: str, desk: TheDesk, _: SignedIn) -> ChangedTold:
    """What changed since the build that people have at each store, by the source's own history, and notes drafted from it."""
    return shown_builds.changed(changes.of_release(desk, app, version))
