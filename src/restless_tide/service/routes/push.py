"""One build to several stores: what they would say, and the push itself."""

from __future__ import annotations

from restless_tide.core.packages import Facts
from restless_tide.core.rights import Right
from restless_tide.core.tracks import parse_address
from restless_tide.desk import find, push
from restless_tide.desk.builds import Source
from restless_tide.desk.move_sheets import Wish
from restless_tide.service import shown, shown_testing, shown_tracks
from restless_tide.service.briefs import brief_of, wish_of
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.routes.tracks import demand_cohorts
from restless_tide.service.signed_in import SignedIn, TheDesk, WhoAsks
from restless_tide.wire.builds import CheckWanted, SheetTold
from restless_tide.wire.problems import findings_told
from restless_tide.wire.push import PushTold, PushWanted

router = router_of("push", "/v1")


@router.post("/apps/{app}/checks")
@needs(Right.HAND_IN)
def check(app: str, wanted: CheckWanted, desk: TheDesk, _: SignedIn) -> list[SheetTold]:
    """What stands against sending packages of these facts, store by store, before any byte travels."""
    facts = [Facts.of(entry) for entry in wanted.facts]
    return [
        SheetTold(
            store=sheet.store, store_title=sheet.title, there=sheet.there, findings=findings_told(list(sheet.findings))
        )
        for sheet in push.check(desk, app, facts, wanted.stores)
    ]


@router.post("/apps/{app}/pushes", status_code=202)
@needs(Right.HAND_IN)
def push_build(app: str, wanted: PushWanted, desk: TheDesk, person: SignedIn, who: WhoAsks) -> PushTold:
    """Send one build to several stores, and draft what follows: all of it, or nothing when it does not fit somewhere."""
    digests = wanted.packages if wanted.build is None else push.digests_of(desk, app, wanted.build)
    source = Source(wanted.revision, wanted.repository)
    hand_on = push.HandOn(wanted.hand_on.cohorts, brief_of(wanted.hand_on)) if wanted.hand_on is not None else None
    place_at = [parse_address(entry) for entry in dict.fromkeys(wanted.tracks)]
    demand_cohorts(desk, who, app, place_at)
    how = wish_of(wanted.how) if wanted.how is not None else Wish()
    done = push.push(desk, person, app, digests, wanted.stores, source, hand_on, place_at, how)
    with desk.look() as session:
        return PushTold(
            build=shown.build(session, find.build(session, done.build), known_before=done.known_before),
            consignments=[shown.consignment(session, find.consignment(session, entry)) for entry in done.consignments],
            trials=shown_testing.some_trials(session, [find.trial(session, entry) for entry in done.trials]),
            placed=[shown_tracks.placed(entry) for entry in done.placed],
        )
