"""Rulebooks as they come in: compared with the last, kept in force or announced, and what they affect."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Finding
from restless_tide.core.leg import LegPhase
from restless_tide.core.notice import NoticeKind
from restless_tide.core.questions import foreseen
from restless_tide.core.readiness import check_packages
from restless_tide.core.revision import RuleChange, compare
from restless_tide.core.rights import Apps
from restless_tide.core.rollout import GONE, ON_ITS_WAY
from restless_tide.core.rulebook import Rulebook
from restless_tide.core.sheet import sheet
from restless_tide.desk import cohorts, known, legs
from restless_tide.desk.desk import Act
from restless_tide.desk.packages import facts_of
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Berth, Cohort, Leg, Membership, RulebookRevision, Store

_UNDECIDED = frozenset({LegPhase.DRAFT, LegPhase.REJECTED, LegPhase.RECALLED, LegPhase.UNDER_REVIEW, LegPhase.APPROVED})


@dataclass(frozen=True)
class Hit:
    """An app, or one of its releases, that a revision touches, and why; ``by`` is when it comes into force."""

    app: str
    version: str | None
    said: tuple[str, ...]
    by: datetime


def take_in(act: Act, store: Store, rules: Rulebook) -> list[RuleChange]:
    """Put a revision into force; returns what changed against the one before."""
    before, document = rules_of(store) if store.rulebook else None, rules.model_dump(mode="json")
    if store.rulebook == document:
        return []
    changes = compare(before, rules) if before is not None else []
    store.rulebook = document
    row = _revision(act, store, rules)
    row.taken_at, row.in_force_since = act.now, rules.in_force_since
    if before is None:
        return []
    row.changes = [_told(change) for change in changes]
    if store.next_rulebook and store.next_rulebook["revision"] == rules.revision:
        store.next_rulebook = None
    if any(change.place.startswith(("listing.pictures.", "goods.picture")) for change in changes):
        act.to_draw.update(act.session.scalars(select(App.name).join(Berth).where(Berth.store_id == store.id)))
    said = _summary(changes)
    act.log(
        "rulebook changed",
        f"store {store.name}",
        before={"revision": before.revision},
        after={"revision": rules.revision, "changes": [change.told() for change in changes]},
    )
    key = f"{store.id}/{rules.revision}/taken"
    act.notice(NoticeKind.RULES_CHANGING, key, f"store {store.name}", f"In force now: {said}", place="/stores")
    return changes


def take_announced(act: Act, store: Store, rules: Rulebook | None) -> None:
    """Keep the announced next revision, and tell whom it will hit; None: nothing is announced any more."""
    document = rules.model_dump(mode="json") if rules is not None else None
    if store.next_rulebook == document:
        return
    store.next_rulebook = document
    if rules is None:
        return
    changes = compare(rules_of(store), rules)
    row = _revision(act, store, rules)
    row.announced_at, row.in_force_since, row.changes = (
        act.now,
        rules.in_force_since,
        [_told(entry) for entry in changes],
    )
    act.session.flush()
    found = hits(act.session, store, rules, act.now)
    named = "; ".join(f"{hit.app} {hit.version or ''}".strip() for hit in found) or "nothing of yours"
    day = f"{rules.in_force_since:%d %b %Y}"
    act.log(
        "rulebook announced",
        f"store {store.name}",
        after={"revision": rules.revision, "from": day, "changes": [change.told() for change in changes]},
    )
    said = f"From {day} on: {_summary(changes)} Affects: {named}."
    key = f"{store.id}/{rules.revision}/announced"
    act.notice(NoticeKind.RULES_CHANGING, key, f"store {store.name}", said, place="/stores")


def announced(store: Store) -> Rulebook | None:
    return Rulebook.model_validate(store.next_rulebook) if store.next_rulebook else None


def revisions(session: Session, store: Store) -> list[RulebookRevision]:
    """Every revision seen, newest first."""
    wanted = select(RulebookRevision).where(RulebookRevision.store_id == store.id)
    return list(session.scalars(wanted.order_by(RulebookRevision.taken_at.desc())))


def hits(session: Session, store: Store, new: Rulebook, now: datetime, reach: Apps = None) -> list[Hit]:
    """Which apps and releases the revision ``new`` touches that the one in force does not; with ``reach`` only of these apps."""
    berths = session.scalars(select(Berth).where(Berth.store_id == store.id)).all()
    within = [berth for berth in berths if reach is None or berth.app.name in reach]
    return [hit for berth in within for hit in hits_at(session, berth, new, now)]


def hits_at(session: Session, berth: Berth, new: Rulebook, now: datetime) -> list[Hit]:
    """The same, of one app."""
    old, by = rules_of(berth.store), new.in_force_since
    changes, found = compare(old, new), list[Hit]()
    said = (*_seats_short(session, berth, new), *_tracks_gone(session, berth, old, new))
    if said:
        found.append(Hit(berth.app.title, None, said, by))
    for leg in session.scalars(select(Leg).where(Leg.berth_id == berth.id)):
        said = tuple(_leg_touched(session, leg, old, new, changes, now))
        if said:
            found.append(Hit(berth.app.title, leg.release.version, said, by))
    return found


def _leg_touched(
    session: Session, leg: Leg, old: Rulebook, new: Rulebook, changes: list[RuleChange], now: datetime
) -> list[str]:
    if leg.state in ON_ITS_WAY:
        return [f"It is on its way: {change.told()}" for change in changes if change.area == "rollout"]
    if legs.phase(leg) not in _UNDECIDED:
        return []
    facts, by = facts_of(leg.build), new.in_force_since

    def found(rules: Rulebook) -> dict[tuple[str, str], Finding]:
        """By the walk over the store's graph, as if the leg were handed in on the day of the new rules."""
        seen = known.on_day(known.of_leg(session, leg, now, rules), by)
        walked = sheet(rules, seen).findings() + check_packages(rules, facts, leg.berth.identifier)
        return {(finding.code, finding.place): finding for finding in walked}

    before = found(old)
    told = [finding.detail for key, finding in found(new).items() if key not in before]
    asked = {question.code for question in foreseen(old, facts, by)}
    told += [f"It will be asked: {entry.text}" for entry in foreseen(new, facts, by) if entry.code not in asked]
    told += [change.told() for change in changes if change.area == "rollout"]
    return told


def _seats_short(session: Session, berth: Berth, new: Rulebook) -> list[str]:
    counted = (
        select(Cohort, func.count(Membership.tester_id))
        .join(Membership, Membership.cohort_id == Cohort.id)
        .where(Cohort.app_id == berth.app_id)
        .group_by(Cohort.id)
    )
    told = []
    for cohort, members in session.execute(counted).all():
        rules = new.cohorts.get(cohort.kind)
        if rules is not None and members > rules.seats:
            told.append(f"Cohort {cohort.name} has {members} testers; {rules.seats} {cohort.kind} seats will be left.")
    return told


def _tracks_gone(session: Session, berth: Berth, old: Rulebook, new: Rulebook) -> list[str]:
    """Who is on a track that the new revision no longer has."""
    told = []
    for key, way in old.ways.items():
        if key in new.ways:
            continue
        legs_there = select(Leg).where(Leg.berth_id == berth.id, Leg.track == key, Leg.state.not_in(GONE))
        held = [leg.release.version for leg in session.scalars(legs_there)]
        there = [
            cohort.name for cohort in cohorts.of_app(session, berth.app.name) if cohorts.uses(cohort, berth) == key
        ]
        who = [
            *(f"{version} stands there" for version in held),
            *(f"cohort {name} gets builds over it" for name in there),
        ]
        told.append(
            f"The track {way.title} goes: {', '.join(who)}."
            if who
            else f"The track {way.title} goes; nothing is on it."
        )
    return told


def _revision(act: Act, store: Store, rules: Rulebook) -> RulebookRevision:
    row = act.session.scalar(
        select(RulebookRevision).where(
            RulebookRevision.store_id == store.id, RulebookRevision.revision == rules.revision
        )
    )
    if row is None:
        row = RulebookRevision(store_id=store.id, revision=rules.revision, in_force_since=rules.in_force_since)
        act.session.add(row)
    return row


def _told(change: RuleChange) -> dict[str, str]:
    return {"place": change.place, "name": change.name, "before": change.before, "after": change.after}


def _summary(changes: list[RuleChange]) -> str:
    return "; ".join(change.told() for change in changes) + "." if changes else "no rule differs."
