"""Tracks as the wire shows them."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from restless_tide.core.tracks import GETS, Address, Offer, whom
from restless_tide.desk import legs, track_rules
from restless_tide.desk.move_sheets import MoveSheet
from restless_tide.desk.placing import Placed, Step
from restless_tide.desk.tracks import BoardRow, Cell, Past, Placement
from restless_tide.records.tables import App, Track, TrackRule
from restless_tide.service import shown
from restless_tide.wire.problems import findings_told
from restless_tide.wire.tracks import (
    BoardTold,
    CellTold,
    GotTold,
    MoveSheetTold,
    OwnTrackTold,
    PastTold,
    PlacedTold,
    PlacementTold,
    StoreTracksTold,
    TrackRuleTold,
    TrackTold,
    UnderRuleTold,
)


def board(app: App, rows: Sequence[BoardRow]) -> BoardTold:
    return BoardTold(app=app.name, app_title=app.title, stores=[_store(row) for row in rows])


def _store(row: BoardRow) -> StoreTracksTold:
    own = row.rules.own_tracks
    return StoreTracksTold(
        store=row.berth.store.name,
        store_title=row.rules.store,
        platform=row.berth.platform,
        people_get=row.rules.people_get,
        gets=GETS[row.rules.people_get],
        own_most=own.most if own is not None else 0,
        tracks=[CellTold.model_validate(_cell(entry)) for entry in row.cells],
    )


def _cell(entry: Cell) -> dict[str, object]:
    row = entry.row
    own = row is not None and row.own
    return {
        "at": entry.address.whole,
        "key": entry.address.track,
        "title": entry.way.title,
        "audience": entry.way.audience,
        "whom": whom(entry.way, entry.cohorts),
        "kinds": list(entry.way.kinds),
        "rank": entry.way.rank,
        "own": own,
        "state": row.state if row is not None and own else None,
        "trouble": row.reason if row is not None else None,
        "people": entry.people,
        "people_at": row.people_at if row is not None else None,
        "cohorts": list(entry.cohorts),
        "holds": [placement(placed) for placed in entry.holds],
        "coming": [placement(placed) for placed in entry.coming],
        "next": entry.following,
    }


def placement(placed: Placement) -> PlacementTold:
    leg, trial, build = placed.leg, placed.trial, placed.build
    return PlacementTold(
        build=build.id,
        build_label=build.label,
        version=build.version,
        number=build.number.text,
        release=leg.release.version if leg is not None else None,
        trial=trial.id if trial is not None else None,
        cohort=trial.cohort.name if trial is not None else None,
        phase=placed.phase,
        share=placed.share,
        ladder=list(legs.ladder_of(leg).stages) if leg is not None else [],
        since=placed.since,
        until=placed.until,
        people=placed.people,
        seen=placed.seen,
        confirmed=placed.confirmed,
    )


def track(session: Session, entry: Cell, store_title: str, past: Sequence[Past]) -> TrackTold:
    told = [PastTold(placement=placement(one.placed), lines=shown.lines(session, list(one.lines))) for one in past]
    return TrackTold.model_validate(
        {**_cell(entry), "store": entry.address.store, "store_title": store_title, "history": told}
    )


def sheet(found: MoveSheet, step: Step | None = None) -> MoveSheetTold:
    return MoveSheetTold(
        at=found.address.whole,
        source=step.source.whole if step is not None else None,
        store=found.address.store,
        store_title=found.store_title,
        track=found.address.track,
        track_title=found.track_title,
        build=found.build,
        build_label=found.build_label,
        sends=found.sends,
        drafts=found.drafts,
        review=found.review,
        cohorts=list(found.cohorts),
        people=found.people,
        takes_place_of=list(found.takes_place_of),
        findings=findings_told(found.findings),
    )


def placed(done: Placed) -> PlacedTold:
    return PlacedTold(
        at=done.address.whole, sent=done.sent, trials=list(done.trials), place=done.leg, version=done.version,
        drafted=done.drafted,
    )  # fmt: skip


def got(found: Sequence[tuple[Offer | None, float]]) -> list[GotTold]:
    return [
        GotTold(
            share=share,
            track=offer.track if offer else None,
            version=offer.version if offer else None,
            number=offer.number.text if offer else None,
        )
        for offer, share in found
    ]


def own(row: Track) -> OwnTrackTold:
    at = Address(row.berth.store.name, row.key).whole
    return OwnTrackTold(at=at, title=row.title, state=row.state, trouble=row.reason)


def rule(row: TrackRule, standings: Sequence[track_rules.Standing]) -> TrackRuleTold:
    store = row.berth.store.name
    return TrackRuleTold.of(
        row,
        source=Address(store, row.source).whole,
        target=Address(store, row.target).whole,
        asks=track_rules.rule_of(row).told(),
        builds=[
            UnderRuleTold(
                build=one.build.id, build_label=one.build.label, missing=list(one.missing), go_ahead=one.go_ahead,
                trouble=one.trouble,
            )
            for one in standings
            if one.rule.id == row.id
        ],
    )  # fmt: skip
