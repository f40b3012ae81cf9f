"""Matters: what a store has refused, as work; and the standing checks that they teach."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import date

from sqlalchemy import select
from sqlalchemy.orm import Session, object_session

from restless_tide.core.check import MOST_CHECKS, Check, CheckKind, pictures_wanted
from restless_tide.core.errors import Conflict, ImpossibleAct, Invalid, NotFound
from restless_tide.core.matter import (
    BY_PEOPLE,
    IN_THE_WAY,
    MATTER,
    MOST_MATTERS,
    MatterEvent,
    MatterKnown,
    MatterState,
    note_for_reviewer,
    same_words,
    told_shortly,
)
from restless_tide.desk import find, legs, people
from restless_tide.desk.desk import Act
from restless_tide.records.tables import App, CheckTick, Leg, Matter, Release, Round, StandingCheck


@dataclass(frozen=True)
class Reason:
    """A reason of a refusal; ``thing`` is the node of the store's graph that it is about, where the store names one."""

    words: str
    thing: str | None = None
    item: str | None = None


# what stores say


def refused(act: Act, round_: Round, reasons: Sequence[Reason]) -> None:
    """Turn the reasons of a refusal into matters: one that was given before is open again."""
    leg = round_.leg
    for reason in reasons:
        if not reason.words.strip():
            continue
        known = next((one for one in leg.matters if same_words(one.words, reason.words)), None)
        if known is None:
            if len(leg.matters) >= MOST_MATTERS:
                said = f"{MOST_MATTERS} matters are kept; the round has every reason."
                act.log("matters not kept", legs.leg_subject(leg), app=leg.release.app.name, reason=said)
                return
            leg.matters.append(
                Matter(
                    leg_id=leg.id, number=len(leg.matters) + 1, words=reason.words, thing=reason.thing, item=reason.item,
                    first_round=round_.number, last_round=round_.number, created_at=act.now, changed_at=act.now,
                )
            )  # fmt: skip
            continue
        known.last_round, known.thing = round_.number, reason.thing or known.thing
        known.item = reason.item or known.item
        if known.state is not MatterState.OPEN:
            _move(act, known, MatterEvent.REOPEN, "The store gave it again.")


def approved(act: Act, round_: Round, refused_alone: Collection[str] = ()) -> None:
    """What the store has refused before is settled by its approval, but for items that it has refused alone."""
    carried = {str(one["item"]) for one in round_.items}
    for matter in (*round_.leg.matters, *(one for one in _of_items(round_.leg) if one.item in carried)):
        decided = matter.item is None or matter.item in carried - set(refused_alone)
        if decided and MATTER.allows(matter.state, MatterEvent.SETTLE):
            matter.state, matter.changed_at = MATTER.after(matter.state, MatterEvent.SETTLE), act.now


# what people do


def decide(act: Act, app_name: str, matter_id: str, event: MatterEvent, said: str) -> Matter:
    """Say what was done about a matter. Raises ImpossibleAct where that is no way from its state, Invalid without words."""
    matter = needed(act.session, app_name, matter_id)
    if event not in BY_PEOPLE:
        raise ImpossibleAct("The store's approval settles a matter.", possible=possible(matter))
    if event is not MatterEvent.REOPEN and not said.strip():
        raise Invalid(
            f"Say what was done: the reviewer is told with the next round. ({event})", code="matter-words-missing"
        )
    _move(act, matter, event, said)
    return matter


def _move(act: Act, matter: Matter, event: MatterEvent, said: str) -> None:
    before, matter.state = matter.state, MATTER.after(matter.state, event)
    if event is not MatterEvent.REOPEN:
        matter.said = said.strip()
    matter.changed_at = act.now
    act.log(
        f"matter {matter.state}",
        _subject(matter),
        app=matter.leg.release.app.name,
        reason=said.strip(),
        before={"state": str(before)},
        after={"state": str(matter.state), "words": matter.words},
    )


def possible(matter: Matter) -> list[MatterEvent]:
    """What people may do with it now."""
    return [event for event in MATTER.possible(matter.state) if event in BY_PEOPLE]


@dataclass(frozen=True)
class MatterChange:
    """What is wanted of a matter; None leaves a thing as it is, an empty text takes it away."""

    taken_by: str | None = None
    ticket: str | None = None
    due_on: str | None = None


def change(act: Act, app_name: str, matter_id: str, wanted: MatterChange) -> Matter:
    """Who takes a matter, its ticket and its due day. Raises Invalid for a person who is unknown, or no day."""
    matter = needed(act.session, app_name, matter_id)
    if wanted.taken_by is not None:
        matter.taken_by = people.meant(act.session, wanted.taken_by).id if wanted.taken_by.strip() else None
    if wanted.ticket is not None:
        matter.ticket = wanted.ticket.strip()
    if wanted.due_on is not None:
        matter.due_on = _day(wanted.due_on) if wanted.due_on.strip() else None
    matter.changed_at = act.now
    after = {"taken by": matter.taken_by, "ticket": matter.ticket, "due on": matter.due_on}
    act.log("matter arranged", _subject(matter), app=matter.leg.release.app.name, after=after)
    return matter


def _day(text: str) -> str:
    try:
        return date.fromisoformat(text.strip()).isoformat()
    except ValueError:
        raise Invalid(f"{text!r} is no day.", remedy="Write it like 2026-12-01.", code="day-unfit") from None


def _subject(matter: Matter) -> str:
    return f"matter {matter.number} of {legs.leg_subject(matter.leg)}"


def needed(session: Session, app_name: str, matter_id: str) -> Matter:
    found = session.get(Matter, matter_id)
    if found is None or found.leg.release.app_id != find.app(session, app_name).id:
        raise NotFound(
            f"No matter has the id {matter_id!r}.",
            remedy=f"See: tide matter list --app {app_name}",
            code="matter-unknown",
        )
    return found


# looking


def known_of(leg: Leg) -> tuple[MatterKnown, ...]:
    """The matters of a leg, as handing in needs them, and those of items that an earlier release left open there."""
    own = [MatterKnown(one.number, one.words, one.state, one.said, one.item) for one in leg.matters]
    left = [
        MatterKnown(one.number, one.words, one.state, one.said, one.item, one.leg.release.version)
        for one in _of_items(leg)
        if one.state in IN_THE_WAY
    ]
    return (*own, *left)


def _of_items(leg: Leg) -> list[Matter]:
    """The matters of single items that other releases have there, and that are not settled."""
    session = object_session(leg)
    assert session is not None
    wanted = (
        select(Matter)
        .join(Leg)
        .where(Leg.berth_id == leg.berth_id, Leg.id != leg.id, Matter.item.is_not(None))
        .where(Matter.state != MatterState.SETTLED)
        .order_by(Matter.created_at, Matter.number)
        .limit(MOST_MATTERS)
    )
    return list(session.scalars(wanted))


def drafted_note(leg: Leg) -> str:
    """What the next round would say to the reviewer: what was done about each reason, and the build if it is another one."""
    last = legs.last_round(leg)
    other = leg.build.label if last is not None and last.build_id != leg.build_id else ""
    return note_for_reviewer([one for one in known_of(leg) if not one.version], other)


def of_app(session: Session, app_name: str, version: str | None, *, every: bool) -> list[Matter]:
    """The matters of an app or of one release, the newest refusal first; those that are settled only where ``every``."""
    app = find.app(session, app_name)
    wanted = select(Matter).join(Leg).join(Release).where(Release.app_id == app.id)
    if version is not None:
        wanted = wanted.where(Leg.release_id == find.release(session, app, version).id)
    if not every:
        wanted = wanted.where(Matter.state != MatterState.SETTLED)
    return list(session.scalars(wanted.order_by(Matter.created_at.desc(), Matter.number)))


# what they teach


def teach(act: Act, app_name: str, kind: CheckKind, text: str, matter_id: str | None) -> StandingCheck:
    """Make a standing check of an app. Raises Conflict for one that stands already, Invalid for too many or no text."""
    app, words = find.app(act.session, app_name), told_shortly(text)
    if matter_id is not None:
        needed(act.session, app_name, matter_id)
    standing = checks_of(act.session, app)
    if not words:
        raise Invalid(
            "A check needs its words: the question, what no text may contain, or the permission.", code="check-unfit"
        )
    if kind is CheckKind.PICTURES:
        pictures_wanted(words)
    if any((one.kind, one.text) == (kind, words) for one in standing):
        raise Conflict(f"{app.title} has this check already.", code="check-known")
    if len(standing) >= MOST_CHECKS:
        raise Invalid(f"An app has {MOST_CHECKS} checks at most.", code="too-many-checks")
    row = StandingCheck(
        app_id=app.id, kind=kind, text=words, matter_id=matter_id, created_at=act.now, created_by=act.person
    )
    act.session.add(row)
    act.session.flush()
    act.log("check set", f"check {row.id}", app=app.name, after={"kind": str(kind), "text": words})
    return row


def end_check(act: Act, app_name: str, check_id: str, reason: str) -> StandingCheck:
    """End a standing check. Raises Invalid without a reason."""
    if not reason.strip():
        raise Invalid("Say why: ending a check needs a reason.", remedy="Add --reason.", code="reason-missing")
    row = _check(act.session, app_name, check_id)
    row.ended_at = act.now
    act.log("check ended", f"check {row.id}", app=row.app.name, reason=reason, before={"text": row.text})
    return row


def tick(act: Act, app_name: str, version: str, check_id: str) -> StandingCheck:
    """Answer a check with yes for one release. Raises ImpossibleAct for one that is tested automatically."""
    row = _check(act.session, app_name, check_id)
    if row.kind is not CheckKind.QUESTION:
        raise ImpossibleAct("This check is tested automatically; there is nothing to tick.", possible=[])
    release = find.release(act.session, row.app, version)
    if act.session.get(CheckTick, (row.id, release.id)) is None:
        act.session.add(CheckTick(check_id=row.id, release_id=release.id, person=act.person, at=act.now))
        act.session.flush()
        act.log("check ticked", f"release {release.version}", app=app_name, after={"check": row.text})
    return row


def _check(session: Session, app_name: str, check_id: str) -> StandingCheck:
    found = session.get(StandingCheck, check_id)
    if found is None or found.ended_at is not None or found.app_id != find.app(session, app_name).id:
        raise NotFound(
            f"No check has the id {check_id!r}.", remedy=f"See: tide check list --app {app_name}", code="check-unknown"
        )
    return found


def checks_of(session: Session, app: App) -> list[StandingCheck]:
    """The checks of an app that stand."""
    wanted = select(StandingCheck).where(StandingCheck.app_id == app.id, StandingCheck.ended_at.is_(None))
    return list(session.scalars(wanted.order_by(StandingCheck.created_at, StandingCheck.id)))


def checks_for(release: Release) -> tuple[Check, ...]:
    """The checks of a release's app, with what people have ticked for it."""
    session = object_session(release)
    assert session is not None
    rows = checks_of(session, release.app)
    if not rows:
        return ()
    ticked = set(session.scalars(select(CheckTick.check_id).where(CheckTick.release_id == release.id)))
    return tuple(Check(row.id, row.kind, row.text, row.id in ticked) for row in rows)
