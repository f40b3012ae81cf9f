"""A leg's row seen through core's eyes: its ladder, progress and phase."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import ColumnElement, and_, select
from sqlalchemy.orm import Session, object_session

from restless_tide.core.ladder import Ladder
from restless_tide.core.lane import Held
from restless_tide.core.leg import LastRound, LegPhase, phase_of
from restless_tide.core.rollout import (
    GIVEN_OUT,
    GONE,
    OFFERED,
    ROLLOUT,
    Progress,
    RolloutState,
    adopted,
    stage_ends,
)
from restless_tide.core.rulebook import PRODUCTION, RolloutRules, Rulebook
from restless_tide.core.tracks import Address
from restless_tide.desk import freezes, go_aheads
from restless_tide.desk.read_once import ReadOnce
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import Leg, Round


def leg_subject(leg: Leg) -> str:
    """How a leg stands in the logbook."""
    return f"release {leg.release.version} at {Address(leg.berth.store.name, leg.track)}"


_ladder = ReadOnce(Ladder.model_validate)


def ladder_of(leg: Leg) -> Ladder:
    return _ladder(leg.ladder)


def progress_of(leg: Leg) -> Progress:
    return Progress(
        state=leg.state,
        stage=leg.stage,
        share=leg.share,
        held_before=timedelta(seconds=leg.held_before_seconds),
        running_since=leg.running_since,
        pauses_used=leg.pauses_used,
    )


def keep_progress(leg: Leg, progress: Progress, now: datetime) -> None:
    if progress.state not in GONE:
        leg.ended_at = None
    elif leg.state not in GONE:
        leg.ended_at = now
    if progress.state not in GIVEN_OUT:
        leg.given_out_since = None
    elif leg.given_out_since is None:
        leg.given_out_since = now
    leg.state, leg.stage, leg.share = progress.state, progress.stage, progress.share
    leg.held_before_seconds = progress.held_before.total_seconds()
    leg.running_since, leg.pauses_used = progress.running_since, progress.pauses_used
    leg.stage_ends_at = stage_ends(progress, ladder_of(leg))


def keep_unlaunched(leg: Leg, now: datetime) -> None:
    """Back before the launch, and waiting for a word: someone stopped it, or the store did not take it."""
    keep_progress(leg, Progress(), now)
    leg.launched_at = None
    go_aheads.hold(leg, now)


def adopt(leg: Leg, wanted: Held, now: datetime) -> None:
    """Have what the store holds be wanted of the leg from now on."""
    state = RolloutState(wanted.state)
    if state is ROLLOUT.initial:
        keep_unlaunched(leg, now)
        return
    if leg.launched_at is None and state in OFFERED:
        leg.launched_at = now
    keep_progress(leg, adopted(progress_of(leg), state, wanted.share, ladder_of(leg), now), now)


def last_round(leg: Leg) -> Round | None:
    return leg.rounds[-1] if leg.rounds else None


def notes_not_sent(leg: Leg) -> list[str]:
    """The locales whose notes are not those that the store was last handed, if it was handed any."""
    last = last_round(leg)
    if last is None or last.notes is None:
        return []
    written = leg.release.notes
    return sorted(
        locale for locale in written.keys() | last.notes.keys() if written.get(locale) != last.notes.get(locale)
    )


def notes_for(leg: Leg, rules: Rulebook) -> dict[str, Any] | None:
    """The release notes by locale, as the leg's track takes them; None: it shows none."""
    way = rules.ways.get(leg.track)
    return leg.release.notes if way is None or way.notes_taken else None


def phase(leg: Leg) -> LegPhase:
    if leg.state is not ROLLOUT.initial:
        return phase_of(leg.state, None, leg.build_id)
    last = last_round(leg)
    return phase_of(leg.state, LastRound(last.state, last.build_id) if last else None, leg.build_id)


def track_title(leg: Leg) -> str:
    """The track in the store's own words."""
    ways = rules_of(leg.berth.store).ways
    return ways[leg.track].title if leg.track in ways else leg.track


def place_title(leg: Leg) -> str:
    """Such as ``Openfield``, or ``Openfield, Early`` where it is not in production."""
    store = rules_of(leg.berth.store).store
    return store if leg.track == PRODUCTION else f"{store}, {track_title(leg)}"


def rollout_rules(leg: Leg) -> RolloutRules:
    """How a share rises on the leg's track; as in production where the store no longer has that track."""
    rules = rules_of(leg.berth.store)
    return rules.rollout_on(leg.track) if leg.track in rules.ways else rules.rollout


def _besides(leg: Leg) -> ColumnElement[bool]:
    """The other legs on the same track of the same berth."""
    return and_(Leg.berth_id == leg.berth_id, Leg.track == leg.track, Leg.id != leg.id)


def previous_version(session: Session, leg: Leg) -> str | None:
    """The version that everybody was offered on this leg's track before it."""
    earlier = session.scalars(
        select(Leg)
        .where(_besides(leg), Leg.share == 1.0, Leg.launched_at.is_not(None))
        .order_by(Leg.launched_at.desc())
    )
    for other in earlier:
        before = leg.launched_at is None or (other.launched_at is not None and other.launched_at < leg.launched_at)
        if before and other.state in (RolloutState.COMPLETE, RolloutState.SUPERSEDED):
            return other.release.version
    return None


def frozen_until(leg: Leg, now: datetime) -> tuple[str, datetime] | None:
    """The freeze that holds a leg now, and until when."""
    session = object_session(leg)
    assert session is not None
    return freezes.holding(session, leg, now)


def newer_version(leg: Leg) -> str | None:
    """The version that was launched on this leg's track after it, if any was."""
    session = object_session(leg)
    assert session is not None
    later = select(Leg).where(_besides(leg), Leg.launched_at > leg.launched_at)
    found = session.scalar(later.order_by(Leg.launched_at.desc()).limit(1))
    return found.release.version if found is not None else None


def offered_again(leg: Leg) -> bool:
    """Whether the store offers again what was stopped, and a person has to say if that is wanted."""
    return leg.sighting is not None and leg.sighting.asked
