"""Where a review stands: since when, and whether that is usual by this team's own times at the store."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

import structlog
from sqlalchemy import select
from sqlalchemy.orm import Session, object_session

from restless_tide.core.errors import LostLease
from restless_tide.core.notice import NoticeKind
from restless_tide.core.rights import Apps
from restless_tide.core.round import UNDER_REVIEW, RoundState
from restless_tide.core.waiting import DECIDED, MOST_OWN, By, Figures, RoundTimes, Usual, figures, is_long, usual
from restless_tide.desk import find, legs
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Berth, Leg, Release, Round, Store

_log = structlog.get_logger("desk")
MOST_ROUNDS = 100_000
"""The newest; figures are over no more."""


@dataclass(frozen=True)
class Wait:
    """A round under review: how long it is there, what is usual, and whether nine in ten were quicker."""

    hours: float
    usual: Usual
    long: bool


def usual_at(session: Session, leg: Leg) -> Usual:
    """What is usual for a leg of this store on this track, over all apps."""
    asked = (
        select(Round.submitted_at, Round.decided_at)
        .join(Leg)
        .join(Berth)
        .where(
            Berth.store_id == leg.berth.store_id,
            Leg.track == leg.track,
            Round.state.in_(DECIDED),
            Round.decided_at > Round.submitted_at,
        )
        .order_by(Round.decided_at.desc())
        .limit(MOST_OWN)
    )
    own = [(ended - begun).total_seconds() / 3600 for begun, ended in session.execute(asked) if ended is not None]
    return usual(own, rules_of(leg.berth.store).track_hours(leg.track))


def wait_of(round_: Round, now: datetime) -> Wait | None:
    """How a round that is under review stands; None for any other."""
    if round_.state not in UNDER_REVIEW:
        return None
    session = object_session(round_)
    assert session is not None
    hours, known = (now - round_.submitted_at).total_seconds() / 3600, usual_at(session, round_.leg)
    return Wait(hours, known, is_long(hours, known))


def handed_in(act: Act, round_: Round) -> None:
    """From when on the wait for this round will be longer than usual."""
    known = usual_at(act.session, round_.leg)
    round_.long_after = round_.submitted_at + timedelta(hours=known.nine_in_ten_hours)


def appealed(act: Act, round_: Round) -> None:
    """The store looks once more: it has begun nothing and decided nothing, and its time counts from now."""
    round_.taken_up_at = round_.decided_at = None
    round_.long_after = act.now + timedelta(hours=usual_at(act.session, round_.leg).nine_in_ten_hours)


def moved(act: Act, round_: Round) -> None:
    """A store has begun to look, or has decided."""
    if round_.state is RoundState.IN_HAND and round_.taken_up_at is None:
        round_.taken_up_at = act.now
    if round_.state in DECIDED:
        round_.decided_at = act.now
    if round_.state not in UNDER_REVIEW:
        round_.long_after = None


def tell_of_long_waits(desk: Desk) -> int:
    """Tell of each round once that waits longer than nine in ten; returns how many."""
    now = desk.clock.now()
    with desk.look() as session:
        due = session.scalars(select(Round.id).where(Round.long_after <= now, Round.state.in_(UNDER_REVIEW))).all()
    for round_id in due:
        try:
            _tell(desk, round_id)
        except LostLease:
            raise
        except Exception:  # noqa: BLE001  (the others are reported all the same)
            _log.exception("a long wait could not be reported", round=round_id)
    return len(due)


def _tell(desk: Desk, round_id: str) -> None:
    with desk.act(ENGINE) as act:
        row = act.session.get(Round, round_id)
        if row is not None and row.state in UNDER_REVIEW and row.long_after is not None:
            row.long_after = None
            release, known = row.leg.release, usual_at(act.session, row.leg)
            hours = (act.now - row.submitted_at).total_seconds() / 3600
            by = f"by {known.rounds} rounds of yours" if known.rounds else "by its rulebook"
            said = (
                f"{release.app.title} {release.version} has been with {legs.place_title(row.leg)} for {hours:.0f} hours;"
                f" usual are {known.median_hours:.0f} ({by})."
            )
            place = f"/apps/{release.app.name}/releases/{release.version}"
            act.notice(
                NoticeKind.REVIEW_LONG,
                f"{row.id}/long",
                legs.leg_subject(row.leg),
                said,
                place=place,
                app=release.app.name,
            )


def figures_of(
    session: Session, by: By, app_name: str | None, store_name: str | None, reach: Apps = None
) -> list[Figures]:
    """Figures over the rounds of an app, at a store, or all; with ``reach`` only of these apps."""
    asked = (
        select(Store.name, App.title, Round.state, Round.submitted_at, Round.taken_up_at, Round.decided_at)
        .select_from(Round)
        .join(Leg)
        .join(Berth)
        .join(Store)
        .join(Release, Release.id == Leg.release_id)
        .join(App, App.id == Release.app_id)
        .order_by(Round.submitted_at.desc())
        .limit(MOST_ROUNDS)
    )
    if app_name is not None:
        asked = asked.where(App.id == find.app(session, app_name).id)
    if reach is not None:
        asked = asked.where(App.name.in_(reach))
    if store_name is not None:
        asked = asked.where(Store.id == find.store(session, store_name).id)
    return figures((RoundTimes(*row) for row in session.execute(asked)), by)
