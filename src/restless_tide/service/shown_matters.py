"""Matters and checks as the contract tells them."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from restless_tide.core.review_items import item_told
from restless_tide.desk import find, legs, matters, people
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import Matter, StandingCheck
from restless_tide.wire.matters import CheckTold, MatterTold


def matters_told(session: Session, rows: Sequence[Matter]) -> list[MatterTold]:
    names = people.names(session, {row.taken_by for row in rows if row.taken_by})
    found = []
    for row in rows:
        thing = rules_of(row.leg.berth.store).graph.get(row.thing or "")
        found.append(
            MatterTold.of(
                row,
                version=row.leg.release.version,
                place=str(find.place_of(row.leg)),
                place_title=legs.place_title(row.leg),
                thing_title=thing.title if thing is not None else "",
                item_told=item_told(row.item) if row.item else "",
                possible=matters.possible(row),
                who=names.get(row.taken_by or "", row.taken_by or ""),
            )
        )
    return found


def check_told(row: StandingCheck, *, ticked: bool | None = None) -> CheckTold:
    return CheckTold.of(row, matter=row.matter_id, ticked=ticked)


def checks_told(session: Session, app_name: str, version: str | None) -> list[CheckTold]:
    app = find.app(session, app_name)
    rows = matters.checks_of(session, app)
    if version is None:
        return [check_told(row) for row in rows]
    done = {check.id: check.ticked for check in matters.checks_for(find.release(session, app, version))}
    return [check_told(row, ticked=done.get(row.id, False)) for row in rows]
