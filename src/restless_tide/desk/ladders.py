"""Ladders that are kept under a name: set, changed for what climbs by them, dropped."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Invalid, NotFound
from restless_tide.core.ladder import HOW_TO_WRITE, MOST_LADDERS, USUAL_LADDER, Ladder, continued, parse_ladder
from restless_tide.core.rollout import MAY_RISE, ROLLOUT
from restless_tide.desk import find, legs
from restless_tide.desk.desk import Act
from restless_tide.records.tables import LadderRow, Leg


def ladder_of(row: LadderRow) -> Ladder:
    return Ladder.model_validate({"name": row.name, "stages": row.stages})


def every(session: Session) -> list[tuple[Ladder, LadderRow | None]]:
    """The named ladders, the usual one first; without a row: as it is built in."""
    rows = {row.name: row for row in session.scalars(select(LadderRow).order_by(LadderRow.name))}
    first = rows.pop(USUAL_LADDER.name, None)
    found: list[tuple[Ladder, LadderRow | None]] = [(ladder_of(first) if first else USUAL_LADDER, first)]
    return found + [(ladder_of(row), row) for row in rows.values()]


def usual(session: Session) -> Ladder:
    """What a release climbs unless another is named."""
    row = session.get(LadderRow, USUAL_LADDER.name)
    return ladder_of(row) if row is not None else USUAL_LADDER


def meant(session: Session, text: str) -> Ladder:
    """The ladder of this name, or the one that is written out here. Raises Invalid."""
    name = text.strip()
    if name == USUAL_LADDER.name:
        return usual(session)
    row = session.get(LadderRow, name)
    if row is not None:
        return ladder_of(row)
    if not name[:1].isalpha():
        return parse_ladder(text)
    raise Invalid(
        f"No ladder is called {name!r}.",
        remedy=f"See: tide ladder list. Or write its stages, {HOW_TO_WRITE}.",
        code="ladder-unknown",
    )


def used_by(session: Session, name: str) -> Sequence[Leg]:
    """The legs that climb by a named ladder and have a part of it before them; not those whose store dictates theirs."""
    wanted = select(Leg).where(func.json_extract(Leg.ladder, "$.name") == name, Leg.state.in_(MAY_RISE), Leg.share < 1)
    return [
        leg
        for leg in session.scalars(wanted.order_by(Leg.created_at))
        if legs.rollout_rules(leg).dictated_ladder is None
    ]


def set_ladder(act: Act, name: str, text: str, reason: str) -> tuple[Ladder, LadderRow]:
    """Keep a ladder under a name; what climbs by it climbs the rest of the way as it is now. Raises Invalid."""
    ladder = parse_ladder(text, name)
    row, before = act.session.get(LadderRow, name), None
    if row is None:
        count = act.session.scalar(select(func.count()).select_from(LadderRow)) or 0
        if count >= MOST_LADDERS:
            raise Invalid(f"There are {MOST_LADDERS} ladders at most.", code="too-many-ladders")
        before = USUAL_LADDER.told() if name == USUAL_LADDER.name else None
        row = LadderRow(name=name)
        act.session.add(row)
    else:
        before = ladder_of(row).told()
    row.stages = ladder.model_dump(mode="json")["stages"]
    row.reason, row.changed_at = reason, act.now
    act.log(
        "ladder set",
        f"ladder {name}",
        reason=reason,
        before={"stages": before} if before else None,
        after={"stages": ladder.told()},
    )
    _climb_by(act, ladder, reason)
    return ladder, row


def _climb_by(act: Act, ladder: Ladder, reason: str) -> None:
    for leg in used_by(act.session, ladder.name):
        old = legs.ladder_of(leg)
        new = ladder if leg.state is ROLLOUT.initial else continued(old, leg.share, ladder)
        if new == old:
            continue
        leg.ladder = new.model_dump(mode="json")
        if leg.state is not ROLLOUT.initial:
            legs.keep_progress(leg, legs.progress_of(leg), act.now)
        leg.release.revision += 1
        act.log(
            "leg changed",
            legs.leg_subject(leg),
            app=leg.release.app.name,
            reason=reason or f"the ladder {ladder.name} was changed",
            before={"ladder": old.told()},
            after={"ladder": new.told()},
        )


def drop(act: Act, name: str, reason: str) -> None:
    """Forget a named ladder; the usual one is then as it is built in. Raises Conflict while something climbs by it."""
    row = act.session.get(LadderRow, name)
    if row is None:
        raise NotFound(f"No ladder is called {name!r}.", remedy="See: tide ladder list", code="ladder-unknown")
    climbing = used_by(act.session, name)
    if climbing and name != USUAL_LADDER.name:
        first = climbing[0]
        raise Conflict(
            f"{len(climbing)} rollout(s) climb by {name}, such as {first.release.version} at {find.place_of(first)}.",
            remedy="Wait until they are through, or give them another ladder: tide release change",
            code="ladder-in-use",
        )
    before = ladder_of(row)
    act.session.delete(row)
    act.log("ladder dropped", f"ladder {name}", reason=reason, before={"stages": before.told()})
    if name == USUAL_LADDER.name:
        act.session.flush()
        _climb_by(act, USUAL_LADDER, reason)
