"""The review desk as the contract tells it: looks, briefs, correspondence."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any

from sqlalchemy.orm import Session

from restless_tide.core.correspondence import FROM_STORE
from restless_tide.core.look import PART_TITLES, Compared, must_go
from restless_tide.core.review_items import item_told
from restless_tide.desk import correspondence, last_look, legs, people
from restless_tide.desk.last_look import LegLook, Look
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import Berth, ReviewerBrief, ReviewMessage, Round
from restless_tide.wire.problems import findings_told
from restless_tide.wire.reviewing import (
    BriefTold,
    FileTold,
    ItemTold,
    LegLookTold,
    LookLineTold,
    LookTold,
    MessageTold,
    ThreadTold,
)


def files(kept: Iterable[Mapping[str, Any]]) -> list[FileTold]:
    return [FileTold.model_validate({name: one[name] for name in FileTold.model_fields if name in one}) for one in kept]


def items(round_: Round) -> list[ItemTold]:
    """What went to review with a round."""
    rules = rules_of(round_.leg.berth.store).review
    return [
        ItemTold(item=one["item"], told=item_told(one["item"]), must_go=must_go(rules, one["item"]), state=one["state"])
        for one in round_.items
    ]


def look(found: Look, now: datetime) -> LookTold:
    release = found.release
    return LookTold(
        app=release.app.name,
        app_title=release.app.title,
        version=release.version,
        revision=found.revision,
        looked_at=now,
        legs=[_leg(one) for one in found.legs],
    )


def _leg(seen: LegLook) -> LegLookTold:
    leg, rules = seen.leg, rules_of(seen.leg.berth.store).review
    return LegLookTold(
        place=seen.place,
        place_title=legs.place_title(leg),
        revision=last_look.revision([seen]),
        open=seen.open,
        live_version=seen.live_version,
        live_known=seen.live is not None,
        items=[
            ItemTold(item=item, told=item_told(item), must_go=must_go(rules, item), state="") for item in seen.items
        ],
        lines=[_line(one) for one in seen.compared],
        findings=findings_told(list(seen.findings)) if seen.open else [],
    )


def _line(one: Compared) -> LookLineTold:
    return LookLineTold(
        part=one.part,
        part_title=PART_TITLES[one.part],
        place=one.place,
        title=one.title,
        new=one.new.value if one.new is not None else None,
        live=one.live.value if one.live is not None else None,
        new_members=list(one.new.each) if one.new is not None else [],
        live_members=list(one.live.each) if one.live is not None else [],
        added=list(one.added),
        removed=list(one.removed),
        changed=one.changed,
    )


def brief(session: Session, berth: Berth, row: ReviewerBrief | None) -> BriefTold:
    names = people.names(session, {row.changed_by}) if row is not None else {}
    return BriefTold(
        store=berth.store.name,
        store_title=rules_of(berth.store).store,
        note=row.note if row is not None else "",
        sign_in=row.sign_in if row is not None else "",
        files=files(row.files) if row is not None else [],
        changed_at=row.changed_at if row is not None else None,
        changed_by=names.get(row.changed_by, row.changed_by) if row is not None else None,
    )


def threads(session: Session, rounds: list[Round]) -> list[ThreadTold]:
    names = people.names(session, {one.person for round_ in rounds for one in round_.messages if one.person})
    return [
        ThreadTold(
            round=round_.number,
            state=round_.state,
            messages=[message(one, names) for one in round_.messages],
            waits=correspondence.waits(round_),
            open_to_words=round_.state in correspondence.OPEN_TO_WORDS and round_ is rounds[0],
            against_appeal=correspondence.against_appeal(round_)
            if round_ is rounds[0]
            else "A later round has followed.",
        )
        for round_ in rounds
    ]


def message(row: ReviewMessage, names: Mapping[str, str]) -> MessageTold:
    store = rules_of(row.round.leg.berth.store).store
    writer = names.get(row.person, row.person)
    from_store = row.kind in FROM_STORE
    who = f"{store}, entered by {writer}" if from_store and writer else store if from_store else writer
    trouble = (row.order.trouble or "") if row.order is not None else ""
    return MessageTold.of(row, who=who, files=files(row.files), arrived=correspondence.arrived(row), trouble=trouble)
