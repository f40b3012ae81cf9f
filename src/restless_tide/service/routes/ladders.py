"""Ladders that are kept under a name."""

from __future__ import annotations

from sqlalchemy.orm import Session

from restless_tide.core.ladder import USUAL_LADDER, Ladder
from restless_tide.core.rights import Apps, Reach, Right
from restless_tide.desk import find, ladders
from restless_tide.records.tables import LadderRow
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import Reached, SignedIn, TheDesk
from restless_tide.wire.ladders import ClimbingTold, LadderName, LadderTold, LadderWanted
from restless_tide.wire.retiring import ReasonWanted

router = router_of("ladders", "/v1/ladders")


def _told(session: Session, ladder: Ladder, row: LadderRow | None, reach: Apps = None) -> LadderTold:
    return LadderTold(
        name=ladder.name,
        text=ladder.written(),
        told=ladder.told(),
        stages=list(ladder.stages),
        usual=ladder.name == USUAL_LADDER.name,
        built_in=row is None,
        reason=row.reason if row else "",
        changed_at=row.changed_at if row else None,
        used_by=[
            ClimbingTold(
                app=leg.release.app.name, version=leg.release.version, place=str(find.place_of(leg)), share=leg.share
            )
            for leg in ladders.used_by(session, ladder.name)
            if reach is None or leg.release.app.name in reach
        ],
    )


@router.get("")
@needs(Right.SEE, Reach.SOME)
def every(desk: TheDesk, reach: Reached) -> list[LadderTold]:
    """The named ladders, the usual one first."""
    with desk.look() as session:
        return [_told(session, ladder, row, reach) for ladder, row in ladders.every(session)]


@router.put("/{ladder}")
@needs(Right.ARRANGE_DESK, Reach.DESK)
def set_ladder(ladder: LadderName, wanted: LadderWanted, desk: TheDesk, person: SignedIn) -> LadderTold:
    """Keep a ladder under a name. What climbs by it has passed its stages so far and climbs the rest as it is now."""
    with desk.act(person.id) as act:
        kept, row = ladders.set_ladder(act, ladder, wanted.stages, wanted.reason)
        act.session.flush()
        return _told(act.session, kept, row)


@router.post("/{ladder}/drop", status_code=204)
@needs(Right.ARRANGE_DESK, Reach.DESK)
def drop(ladder: str, wanted: ReasonWanted, desk: TheDesk, person: SignedIn) -> None:
    """Forget a named ladder; the usual one is then as it is built in."""
    with desk.act(person.id) as act:
        ladders.drop(act, ladder, wanted.reason)
