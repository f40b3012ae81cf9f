"""Freezes, and releases that rise in spite of one since two people agree."""

from __future__ import annotations

from sqlalchemy.orm import Session

from restless_tide.core.rights import Reach, Right
from restless_tide.desk import freezes, people
from restless_tide.records.tables import FreezeOverride, FreezeRow
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import Reached, SignedIn, TheDesk
from restless_tide.wire.freezes import FreezeTold, FreezeWanted, OverrideTold, OverrideWanted
from restless_tide.wire.retiring import ReasonWanted

router = router_of("freezes", "/v1")


def _freeze(row: FreezeRow, desk: TheDesk) -> FreezeTold:
    now = desk.clock.now()
    window = freezes.freeze_of(row).window(now)
    return FreezeTold.of(
        row,
        holds=window is not None and window[0] <= now,
        next_begin=window[0] if window else None,
        next_end=window[1] if window else None,
    )


def _override(session: Session, row: FreezeOverride) -> OverrideTold:
    names = people.names(session, {row.asked_by, row.agreed_by or row.asked_by})
    return OverrideTold.of(
        row,
        app=row.release.app.name,
        version=row.release.version,
        asked_by=names.get(row.asked_by, row.asked_by),
        agreed_by=names.get(row.agreed_by, row.agreed_by) if row.agreed_by else None,
    )


@router.get("/freezes")
@needs(Right.SEE, Reach.SOME)
def every(desk: TheDesk, reach: Reached) -> list[FreezeTold]:
    """The freezes that were set and not ended, and that hold any app that you reach."""
    with desk.look() as session:
        told = [_freeze(row, desk) for row in freezes.every(session)]
    if reach is None:
        return told
    mine = [one.model_copy(update={"apps": [app for app in one.apps if app in reach]}) for one in told]
    return [one for one, whole in zip(mine, told, strict=True) if one.apps or not whole.apps]


@router.post("/freezes", status_code=201)
@needs(Right.ARRANGE_DESK, Reach.DESK)
def set_freeze(wanted: FreezeWanted, desk: TheDesk, person: SignedIn) -> FreezeTold:
    """Set a freeze: in its window nothing launches and no share rises. Halts, pauses and withdrawals always go."""
    with desk.act(person.id) as act:
        return _freeze(freezes.set_freeze(act, wanted.freeze(), wanted.reason), desk)


@router.post("/freezes/{freeze}/end", status_code=204)
@needs(Right.ARRANGE_DESK, Reach.DESK)
def end(freeze: str, wanted: ReasonWanted, desk: TheDesk, person: SignedIn) -> None:
    """End a freeze before its time, or a yearly one for good."""
    with desk.act(person.id) as act:
        freezes.end(act, freeze, wanted.reason)


@router.get("/freeze-overrides")
@needs(Right.SEE, Reach.SOME)
def overrides(desk: TheDesk, reach: Reached) -> list[OverrideTold]:
    """Releases that are to rise in spite of a freeze, those included that still wait for a second person."""
    with desk.look() as session:
        rows = freezes.overrides(session, desk.clock.now())
        return [_override(session, row) for row in rows if reach is None or row.release.app.name in reach]


@router.post("/apps/{app}/releases/{version}/freeze-overrides", status_code=201)
@needs(Right.STEER)
def ask(app: str, version: str, wanted: OverrideWanted, desk: TheDesk, person: SignedIn) -> OverrideTold:
    """Ask that a release rise in spite of a freeze; a second person has to agree."""
    with desk.act(person.id) as act:
        return _override(act.session, freezes.ask_override(act, app, version, wanted.reason))


@router.post("/freeze-overrides/{override}/agreement", status_code=201)
@needs(Right.STEER)
def agree(override: str, desk: TheDesk, person: SignedIn) -> OverrideTold:
    """Agree as the second person: until it ends, the freeze does not hold this release."""
    with desk.act(person.id) as act:
        return _override(act.session, freezes.agree(act, override))
