"""Launches: an approved leg goes live as soon as all its conditions hold.

A leg is looked at when something has changed that its conditions may read, and when the clock alone changes one of them;
nothing is looked at all the time. What is still missing is told ahead: when a launch comes within a day, and when one has
stood still for a day.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta

import structlog
from sqlalchemy import bindparam, select, update
from sqlalchemy.orm import Session

from restless_tide.core.conditions import next_turn
from restless_tide.core.errors import LostLease
from restless_tide.core.leg import LegPhase
from restless_tide.core.notice import NoticeKind
from restless_tide.core.order import OrderKind
from restless_tide.core.rollout import RolloutState, launched
from restless_tide.core.round import RoundState
from restless_tide.core.words import listed
from restless_tide.desk import launching, legs, pacing
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.go_aheads import conditions_of
from restless_tide.desk.launch_facts import About, Fact
from restless_tide.desk.legs import leg_subject
from restless_tide.engine.due import seconds_until
from restless_tide.records.tables import Consignment, Leg, Notice, Round, Trial

_log = structlog.get_logger("engine")
BATCH = 100
"""Of so many legs it is written down at once when to look again."""
TOLD_AHEAD = STANDS_STILL = timedelta(hours=24)
TRIED_AGAIN = timedelta(minutes=1)
"""After what went wrong with one leg."""
LEAD_LOOKED_AT = timedelta(minutes=1)
"""What a store that leads shows changes with every counted hour; that is asked for so often."""


def look(desk: Desk) -> float | None:
    """Launch what may go now. Returns after how many seconds the clock alone may let something go."""
    background = desk.background
    with background.launching:
        facts, background.launch_facts = background.launch_facts, set()
    try:
        with desk.look() as session:
            chosen = _reading(session, facts, desk.clock.now())
        for begin in range(0, len(chosen), BATCH):
            looks: dict[str, datetime | None] = {}
            for leg_id in chosen[begin : begin + BATCH]:
                _look_at(desk, leg_id, looks)
            _keep(desk, looks)
    except BaseException:
        with background.launching:  # nothing that has changed is forgotten
            background.launch_facts |= facts
        raise
    return seconds_until(desk, Leg.looks_at, Leg.state == RolloutState.WAITING)


def _reading(session: Session, facts: Iterable[Fact], now: datetime) -> list[str]:
    """The approved legs that may read one of these facts, and those that the clock may let go."""
    about: dict[About, set[str]] = defaultdict(set)
    for fact in facts:
        about[fact.about].add(fact.id)
    approved = (
        select(Leg.id)
        .join(Round)
        .where(Leg.state == RolloutState.WAITING, Round.state == RoundState.APPROVED)
        .distinct()
    )
    if about.keys() & {About.EVERYTHING}:
        return list(session.scalars(approved))
    found = dict.fromkeys(session.scalars(approved.where(Leg.looks_at <= now)))
    if about[About.LEG]:
        releases = select(Leg.release_id).where(Leg.id.in_(about[About.LEG]))
        found |= dict.fromkeys(session.scalars(approved.where(Leg.release_id.in_(releases))))
    if about[About.RELEASE]:
        found |= dict.fromkeys(session.scalars(approved.where(Leg.release_id.in_(about[About.RELEASE]))))
    if about[About.TRIAL]:
        tested = select(Consignment.build_id).join(Trial).where(Trial.id.in_(about[About.TRIAL]))
        about[About.BUILD] |= set(session.scalars(tested))
    if about[About.BUILD]:
        found |= dict.fromkeys(session.scalars(approved.where(Leg.build_id.in_(about[About.BUILD]))))
    return list(found)


def _look_at(desk: Desk, leg_id: str, looks: dict[str, datetime | None]) -> None:
    """Launch one leg if it may go, else note when to look again; what goes wrong with it keeps no other from going."""
    try:
        with desk.look() as session:
            leg, now = session.get(Leg, leg_id), desk.clock.now()
            if leg is None or legs.phase(leg) is not LegPhase.APPROVED:
                return
            ready = not launching.waits_for(leg, now)
            if not ready:
                _wait(desk, session, leg, now, looks)
        if ready:
            with desk.act(ENGINE) as act:
                _launch(act, act.session.get(Leg, leg_id))
    except LostLease:
        raise
    except Exception:  # noqa: BLE001  (the others go all the same)
        _log.exception("it could not be found out whether a leg may launch", leg=leg_id)
        looks[leg_id] = desk.clock.now() + TRIED_AGAIN


def _launch(act: Act, leg: Leg | None) -> None:
    """Order the launch, if nothing has come in its way since it was looked at."""
    if leg is None or legs.phase(leg) is not LegPhase.APPROVED or launching.waits_for(leg, act.now):
        return
    after = launched(legs.progress_of(leg), legs.ladder_of(leg), act.now)
    act.order(OrderKind.LAUNCH, lane=leg.id, store=leg.berth.store, subject=leg.id, payload={"share": after.share})
    legs.keep_progress(leg, after, act.now)
    leg.launched_at, leg.looks_at = act.now, None
    act.log(
        "launch",
        leg_subject(leg),
        app=leg.release.app.name,
        reason="all conditions hold",
        before={"state": str(RolloutState.WAITING), "share": 0.0},
        after={"state": str(leg.state), "share": leg.share},
    )


def _wait(desk: Desk, session: Session, leg: Leg, now: datetime, looks: dict[str, datetime | None]) -> None:
    """Note when the clock alone calls for the next look, and tell people what comes or stands still."""
    turns = [next_turn(conditions_of(leg), now)]
    frozen = legs.frozen_until(leg, now)
    turns.append(frozen[1] if frozen else None)
    turns.append(now + LEAD_LOOKED_AT if pacing.waits_for_lead(leg, now) else None)
    comes, last = launching.comes_at(leg, now), legs.last_round(leg)
    since = last.changed_at if last is not None else now
    what = f"{leg.release.app.title} {leg.release.version}"
    if comes is not None:
        if comes - now <= TOLD_AHEAD:
            said = f"{what} launches at {legs.place_title(leg)} on {comes:%Y-%m-%d at %H:%M} UTC, unless a person stops it."
            _tell(desk, session, leg, NoticeKind.LAUNCH_AHEAD, f"{leg.id}/ahead/{comes.isoformat()}", said)
        else:
            turns.append(comes - TOLD_AHEAD)
    elif now - since >= STANDS_STILL:
        waits = listed(launching.waits_for(leg, now))
        said = f"{what} has been approved at {legs.place_title(leg)} for a day, and waits for {waits}."
        _tell(desk, session, leg, NoticeKind.LAUNCH_STANDS_STILL, f"{leg.id}/still/{since.isoformat()}", said)
    else:
        turns.append(since + STANDS_STILL)
    looks_at = min((at for at in turns if at is not None and at > now), default=None)
    if leg.looks_at != looks_at:
        looks[leg.id] = looks_at


def _keep(desk: Desk, looks: Mapping[str, datetime | None]) -> None:
    """Write down when to look again. It changes nothing that a condition reads, so no leg is looked at because of it."""
    if looks:
        written = update(Leg).where(Leg.id == bindparam("leg")).values(looks_at=bindparam("at"))
        with desk.act(ENGINE) as act:
            act.session.connection().execute(written, [{"leg": leg, "at": at} for leg, at in looks.items()])


def _tell(desk: Desk, session: Session, leg: Leg, kind: NoticeKind, key: str, said: str) -> None:
    if session.scalar(select(Notice.id).where(Notice.key == key)) is not None:
        return
    app = leg.release.app.name
    with desk.act(ENGINE) as act:
        act.notice(kind, key, leg_subject(leg), said, place=f"/apps/{app}/releases/{leg.release.version}", app=app)
