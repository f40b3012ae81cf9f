"""What the desk knows of an app at a store, gathered from the records as the values that core's evidence asks for."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.berth import state_of
from restless_tide.core.conditions import earliest
from restless_tide.core.known import BuildKnown, Known, LegKnown, Paper
from restless_tide.core.rulebook import Rulebook
from restless_tide.desk import (
    app_answers,
    app_goods,
    app_pictures,
    builds,
    find,
    go_aheads,
    holdings,
    lanes,
    launching,
    legs,
    matters,
    signing,
    texts,
)
from restless_tide.desk.locks import standing_at
from restless_tide.desk.packages import facts_of
from restless_tide.desk.standing import account_of
from restless_tide.desk.stores import offered, rules_of
from restless_tide.records.tables import App, Berth, Build, Consignment, Leg, Store, Trial


def at_berth(session: Session, berth: Berth, now: datetime, *, build: Build | None = None) -> Known:
    """What is known of a berth today, with the build that is to go there, if there is one."""
    return Known(
        now=now,
        day=now,
        identifier=berth.identifier,
        berth=state_of(berth.store_ref, berth.refused_because),
        berth_refused=berth.refused_because or "",
        papers=_papers(berth.store),
        build=_build(session, build, berth) if build is not None else None,
        texts=texts.at_berth(session, berth),
        pictures=app_pictures.at_berth(session, berth),
        answers=app_answers.at_berth(session, berth),
        goods=app_goods.at_berth(session, berth),
        offered=offered(berth),
        offer_settled=_settled(berth),
        standing=standing_at(session, berth),
        trials_opened=_trials_opened(session, berth),
    )


def of_leg(session: Session, leg: Leg, now: datetime, rules: Rulebook | None = None) -> Known:
    """What is known of a release at a store, by its rulebook of today or by another revision of it."""
    known = on_day(at_berth(session, leg.berth, now, build=leg.build), earliest(go_aheads.conditions_of(leg)) or now)
    last = legs.last_round(leg)
    return replace(
        known,
        leg=LegKnown(
            version=leg.release.version,
            phase=legs.phase(leg),
            notes=legs.notes_for(leg, rules or rules_of(leg.berth.store)),
            track=leg.track,
            waits_for=tuple(launching.waits_for(leg, now)),
            reasons=tuple(last.reasons) if last is not None else (),
            matters=matters.known_of(leg),
            checks=matters.checks_for(leg.release),
        ),
    )


def nowhere(session: Session, app: App, store: Store, now: datetime) -> Known:
    """What is known of an app at a store where it has no place yet."""
    rules = rules_of(store)
    platforms = {entry.platform: entry.identifier for entry in app.identifiers}
    platform = next((name for name in rules.platforms if name in platforms), None)
    newest = find.newest_build(session, app, [platform]) if platform is not None else None
    return Known(
        now=now,
        day=now,
        identifier=platforms.get(platform or "", ""),
        papers=_papers(store),
        build=BuildKnown(f"Build {newest.label}", newest.version, tuple(facts_of(newest)))
        if newest is not None
        else None,
        texts=texts.unplaced(session, app),
        pictures=app_pictures.unplaced(session, app),
        answers=app_answers.unplaced(session, app),
        goods=app_goods.unplaced(session, app, store),
    )


def _papers(store: Store) -> tuple[Paper, ...] | None:
    account = account_of(store)
    if account is None:
        return None
    return tuple(Paper(paper.name, paper.state, paper.until, tuple(paper.blocks)) for paper in account.papers)


def _build(session: Session, build: Build, berth: Berth) -> BuildKnown:
    consignment = builds.consignment_at(session, build, berth)
    if consignment is not None:
        return BuildKnown(
            f"Build {build.label}", build.version, tuple(facts_of(build)), consignment.state, consignment.reason or ""
        )
    return BuildKnown(
        f"Build {build.label}",
        build.version,
        tuple(facts_of(build)),
        held=tuple(holdings.held_by_record(session, berth)),
        expected=signing.expected_at(session, berth),
    )


def last_sent(session: Session, berth: Berth) -> Build | None:
    """The build that was sent to a berth last."""
    sent = select(Build).join(Consignment).where(Consignment.berth_id == berth.id)
    return session.scalar(sent.order_by(Consignment.created_at.desc()).limit(1))


def _settled(berth: Berth) -> bool:
    """Whether the store was last seen to offer the app as ordered; what was never ordered or seen differs from nothing."""
    return not berth.availability or berth.sighting is None or lanes.seen_at(berth) == berth.availability


def _trials_opened(session: Session, berth: Berth) -> int:
    opened = select(func.count()).select_from(Trial).join(Consignment)
    return session.scalar(opened.where(Consignment.berth_id == berth.id, Trial.opened_at.is_not(None))) or 0


def on_day(known: Known, day: datetime) -> Known:
    """The same, for another planned day."""
    return replace(known, day=max(known.now, day))
