"""Judging rollouts: what each guard says of the counts as they are now, and what it does about it.

What is said and what is done are one transaction: a breach that is written down is acted on, once. A person who resumes
what a guard has stopped takes the risk from then on; the guard counts anew from there.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import structlog
from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import LostLease, TideError
from restless_tide.core.gauges import hour_number
from restless_tide.core.guard import ACTS, Against, GuardRule, Verdict, part_of_way
from restless_tide.core.guarding import Judgement, Source, Table, judge
from restless_tide.core.notice import NoticeKind
from restless_tide.core.rollout import OFFERED, RolloutState
from restless_tide.core.rulebook import PRODUCTION
from restless_tide.core.words import listed
from restless_tide.desk import find, gauges, go_aheads, guards, legs, steering
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.logbook import GUARD
from restless_tide.records.tables import App, Guard, GuardWatch, Leg, Release, Showing

WATCHED_WHEN_COMPLETE = timedelta(days=21)
"""So long after its launch a rollout is watched that has reached everybody."""
REFERENCE_DAYS_BEFORE = 28
"""How long before a launch the reference is looked at to see how its counts vary."""
BLIND_AFTER = timedelta(hours=12)
"""After so long without anything to compare with, people are told that the guard is blind."""
MOST_LINE = 400
"""Points of the line of evidence that are kept or told; of more, the last of each stretch."""
_WATCHED = OFFERED | {RolloutState.HALTED}
_log = structlog.get_logger("engine")


@dataclass(frozen=True)
class Seen:
    """What a guard makes of one rollout now, with where its counts begin and what they are compared with."""

    judgement: Judgement
    reference: str
    corrected: int
    begins: int
    sources: tuple[Source, ...] = ()


def launched_legs(release: Release, stores: Collection[str]) -> list[Leg]:
    """The legs that were ever launched to everybody's track, at these stores or, without any, at all."""
    return [
        leg
        for leg in release.legs
        if leg.launched_at is not None and leg.track == PRODUCTION and (not stores or leg.berth.store.name in stores)
    ]


def watched_legs(release: Release, guard: Guard, now: datetime) -> list[Leg]:
    """The legs of a release that a guard watches now: those with the build on offer, or stopped, and not long complete."""
    return [
        leg
        for leg in launched_legs(release, guard.stores)
        if leg.state in _WATCHED
        and leg.launched_at is not None
        and (leg.state is not RolloutState.COMPLETE or now - leg.launched_at < WATCHED_WHEN_COMPLETE)
    ]


def judge_app(desk: Desk, app_name: str) -> None:
    """Let every guard of an app look at every rollout; one that fails keeps no other from looking."""
    tables = gauges.Tables()
    for guard_id, release_id, leg_id in _places(desk, app_name):
        try:
            _judge(desk, guard_id, release_id, leg_id, tables)
        except LostLease:
            raise
        except Exception:  # noqa: BLE001  (the other guards look all the same)
            _log.exception("a guard could not look", guard=guard_id, release=release_id)


def _places(desk: Desk, app_name: str) -> list[tuple[str, str, str | None]]:
    with desk.look() as session:
        app = session.scalar(select(App).where(App.name == app_name))
        rows = guards.of_app(session, app) if app is not None else []
        if not rows or app is None:
            return []
        watched = select(Release).join(Leg).where(Release.app_id == app.id, Leg.state.in_(_WATCHED)).distinct()
        releases = session.scalars(watched).all()
        found: list[tuple[str, str, str | None]] = []
        for guard in rows:
            for release in releases:
                chosen = watched_legs(release, guard, desk.clock.now())
                if chosen and guard.together:
                    found.append((guard.id, release.id, None))
                elif not guard.together:
                    found += [(guard.id, release.id, leg.id) for leg in chosen]
        return found


def _judge(desk: Desk, guard_id: str, release_id: str, leg_id: str | None, tables: gauges.Tables) -> None:
    with desk.look() as session:
        guard, release = session.get(Guard, guard_id), session.get(Release, release_id)
        if guard is None or release is None:
            return
        chosen = [leg for leg in watched_legs(release, guard, desk.clock.now()) if leg_id in (None, leg.id)]
        watch = _watch(session, guard_id, release_id, leg_id)
        anew = _counts_anew(watch, chosen)
        counts_since = anew or (watch.counts_since if watch is not None else None)
        setting = guards.setting_of(guard)
        seen = look(session, tables, setting.rule, setting.source, chosen, counts_since)
    with desk.act(ENGINE) as act:
        guard = act.session.get_one(Guard, guard_id)
        row = _watch(act.session, guard_id, release_id, leg_id)
        if row is None:
            row = GuardWatch(guard_id=guard_id, release_id=release_id, leg_id=leg_id, verdict_since=act.now)
            row.guard, row.release = guard, act.session.get_one(Release, release_id)
            row.leg = act.session.get(Leg, leg_id) if leg_id else None
            act.session.add(row)
            act.session.flush()
        if guard.ended_at is None and guards.setting_of(guard) == setting:  # else it is looked at again in a moment
            if anew is not None:
                _begin_anew(act, row, anew)
            _write(act, row, seen)


def _watch(session: Session, guard_id: str, release_id: str, leg_id: str | None) -> GuardWatch | None:
    return session.scalar(
        select(GuardWatch).where(
            GuardWatch.guard_id == guard_id,
            GuardWatch.release_id == release_id,
            GuardWatch.leg_id.is_not_distinct_from(leg_id),
        )
    )


def _counts_anew(watch: GuardWatch | None, chosen: Iterable[Leg]) -> datetime | None:
    """From when on the guard counts anew, since a person has resumed what it stopped; None: it need not."""
    if watch is None or watch.breached_at is None or not watch.acted:
        return None
    resumed = [
        leg.given_out_since
        for leg in chosen
        if leg.given_out_since is not None
        and leg.given_out_since > watch.breached_at
        and _by_a_person(leg, watch.breached_at)
    ]
    return max(resumed, default=None)


def _by_a_person(leg: Leg, breached_at: datetime) -> bool:
    """Whether a person let it rise after a breach: it was launched before, and resumed, or launched with a go-ahead since."""
    if leg.launched_at is not None and leg.launched_at < breached_at:
        return True
    given_at = go_aheads.last_given(leg)
    return given_at is not None and given_at > breached_at


def _begin_anew(act: Act, row: GuardWatch, counts_since: datetime) -> None:
    row.counts_since, row.breached_at, row.acted, row.verdict, row.verdict_since = counts_since, None, "", None, act.now
    said = "It was resumed after the breach; the guard counts anew from there."
    act.log("guard counts anew", _subject(row), app=row.release.app.name, reason=said)


def look(
    session: Session,
    tables: gauges.Tables,
    rule: GuardRule,
    source: str,
    chosen: Sequence[Leg],
    counts_since: datetime | None = None,
) -> Seen:
    """Judge the counts of some legs of one release as they are now, from an hour on at the earliest.

    ``tables`` holds what was read of them for other guards.
    """
    sources, names, corrected, beginnings = [], [], 0, []
    for leg in chosen:
        one, reference, since = source_of(session, tables, rule, source, leg, counts_since)
        sources.append(one)
        names += [reference] if reference else []
        corrected += gauges.corrected(session, leg.berth_id, source, since)
        beginnings.append(since)
    named = " and ".join(dict.fromkeys(names)) or "the version before"
    if rule.against is Against.BOUND:
        named = f"{rule.bound:g} stars" if rule.bound and rule.bound >= 1 else f"{rule.bound:.2%}"
    judged = judge(rule, sources, named)
    return Seen(judged, named, corrected, min(beginnings, default=0), tuple(sources))


def source_of(
    session: Session,
    tables: gauges.Tables,
    rule: GuardRule,
    source: str,
    leg: Leg,
    counts_since: datetime | None = None,
) -> tuple[Source, str, int]:
    """One leg's counts with those of its reference, the reference's name, and the hour from which it counts."""
    launched = leg.launched_at
    assert launched is not None
    launch = _hour_there(leg, source, launched)
    anew = _hour_there(leg, source, counts_since) + 1 if counts_since is not None else 0
    since = max(launch, anew)
    ours = tables.table(session, leg.berth_id, source, leg.release.version, since, gauges.FOREVER)
    nothing = Table(ours.hour[:0], ours.kind[:0], {name: column[:0] for name, column in ours.columns.items()})
    if rule.against is Against.BOUND:
        before = launch - REFERENCE_DAYS_BEFORE * 24
        earlier = legs.previous_version(session, leg)
        varied = nothing
        if earlier is not None:
            varied = tables.table(session, leg.berth_id, source, earlier, before, launch)
        return Source(ours, nothing, varied), "", since
    reference = legs.previous_version(session, leg)
    if reference is None:
        return Source(ours, nothing, nothing, blind="There is no version before it to compare with."), "", since
    before = launch - REFERENCE_DAYS_BEFORE * 24
    varied = tables.table(session, leg.berth_id, source, reference, before, launch)
    if rule.against is Against.BEFORE:
        beside = tables.table(session, leg.berth_id, source, reference, since, gauges.FOREVER)
        return Source(ours, beside, varied), reference, since
    previous = _leg_of(session, leg, reference)
    begun = _hour_there(leg, source, previous.launched_at) if previous is not None and previous.launched_at else since
    beside = tables.table(session, leg.berth_id, source, reference, begun, since)
    last = int(ours.hour.max(initial=since))
    shares = shares_by_hour(session, leg, source, since, last + 1)
    theirs = shares_by_hour(session, previous, source, begun, since) if previous is not None else {}
    return Source(ours, beside, varied, shares, theirs), reference, since


def _hour_there(leg: Leg, source: str, instant: datetime) -> int:
    """The number of the hour that a source's clock showed at an instant of the desk's."""
    return hour_number(instant + gauges.ahead_of(leg.berth, source))


def _leg_of(session: Session, leg: Leg, version: str) -> Leg | None:
    found = (
        select(Leg)
        .join(Release)
        .where(Release.version == version, Leg.berth_id == leg.berth_id, Leg.track == leg.track)
    )
    return session.scalar(found)


def shares_by_hour(session: Session, leg: Leg, source: str, since: int, until: int) -> dict[int, float]:
    """At which share of people a leg stood at the beginning of each hour, as its store was seen to hold it."""
    seen = select(Showing.at, Showing.share).where(Showing.subject == leg.id).order_by(Showing.at, Showing.id)
    steps = [(_hour_there(leg, source, at), share) for at, share in session.execute(seen)]
    found, share, place = {}, 0.0, 0
    for hour in range(since, until):
        while place < len(steps) and steps[place][0] <= hour:
            share = steps[place][1]
            place += 1
        if share:
            found[hour] = share
    return found


def figures(rule: GuardRule, seen: Seen) -> dict[str, Any]:
    """What a guard found, as it is kept and told."""
    found = seen.judgement
    return {
        "reference": seen.reference,
        "ratio": found.evidence.ratio,
        "low": found.evidence.low,
        "high": found.evidence.high,
        "way": part_of_way(rule, found.evidence.log),
        "people": found.people,
        "exposed": found.exposed,
        "events": found.events,
        "reference_exposed": found.reference_exposed,
        "reference_events": found.reference_events,
        "dispersion": found.dispersion,
        "corrected": seen.corrected,
        "begins": seen.begins,
    }


def line(rule: GuardRule, seen: Seen) -> list[tuple[int, float]]:
    """The evidence hour by hour, as a part of the way to the threshold."""
    evidence = seen.judgement.evidence
    step = max(len(evidence.hours) // MOST_LINE, 1)
    kept = range((len(evidence.hours) - 1) % step, len(evidence.hours), step)
    return [(int(evidence.hours[at]), round(part_of_way(rule, float(evidence.logs[at])), 4)) for at in kept]


def _write(act: Act, row: GuardWatch, seen: Seen) -> None:
    """Keep what the guard says now, and do what follows from it."""
    rule, found = guards.rule_of(row.guard), seen.judgement
    row.judged_at, row.blind, row.said = act.now, found.blind, found.said
    row.found = figures(rule, seen)
    verdict = Verdict.BREACH if row.breached_at is not None else found.verdict
    if verdict is not row.verdict:
        before, row.verdict, row.verdict_since = row.verdict, verdict, act.now
        told = {"before": {"verdict": str(before)} if before else None, "after": {"verdict": str(verdict or "blind")}}
        act.as_person(_office(row)).log(
            f"guard: {verdict or 'blind'}", _subject(row), app=row.release.app.name, reason=found.said, **told
        )
    if verdict is Verdict.BREACH and row.breached_at is None:
        row.breached_at = act.now
        row.breach = row.found | {"said": found.said, "rule": row.guard.rule, "line": line(rule, seen)}
    if verdict is Verdict.BREACH and not row.acted and not silent(row, act.now):
        _act_on_breach(act, row)
    if found.blind:
        _tell_blind(act, row, found.blind)


def silent(row: GuardWatch, now: datetime) -> bool:
    return row.silent_until is not None and row.silent_until > now


def _act_on_breach(act: Act, row: GuardWatch) -> None:
    """Pause, halt or only tell; a person hears of it in any case, with what could not be done."""
    release, guard = row.release, row.guard
    done = "Nothing was stopped; the guard only tells."
    event = ACTS.get(guard.on_breach)
    said = str((row.breach or {}).get("said", row.said))
    if event is not None:
        by_guard = act.as_person(_office(row))
        reason = f"{guard.name}: {said}"
        alone = row.leg is not None and not guard.every_store
        places: list[Leg | None] = [row.leg] if alone else [None]
        if not guard.every_store and guard.stores and not alone:
            places = list(watched_legs(release, guard, act.now))
        ordered: list[str] = []
        told: list[str] = []
        for leg in places:
            place = str(find.place_of(leg)) if leg is not None else None
            try:
                outcomes = steering.steer(by_guard, release.app.name, release.version, place, event, reason)
            except TideError as wrong:
                told.append(wrong.detail)
                continue
            ordered += [legs.place_title(one.leg) for one in outcomes if one.ordered]
            told += [f"Not at {legs.place_title(one.leg)}: {one.why_not}" for one in outcomes if not one.ordered]
        told += _hold_back(by_guard, row, reason)
        first = [f"Ordered a {event} at {listed(sorted(ordered))}."] if ordered else []
        done = " ".join([*first, *told])
    row.acted = done
    place = f"/apps/{release.app.name}/releases/{release.version}"
    text = f"{release.app.title} {release.version}: {said}. {done}"
    act.notice(
        NoticeKind.BREACH,
        f"{row.id}{_OF_BREACH}{row.counts_since}",
        _subject(row),
        text,
        place=place,
        app=release.app.name,
    )


_OF_BREACH = "/breach/"


def watch_of(notice_key: str) -> str:
    """The id of the watch whose breach a notice is about."""
    return notice_key.partition(_OF_BREACH)[0]


def _hold_back(act: Act, row: GuardWatch, reason: str) -> list[str]:
    """Have the legs that were not launched yet wait for a person, where the guard may act at their stores."""
    if row.leg is not None and not row.guard.every_store:
        return []
    everywhere = row.guard.every_store or not row.guard.stores
    among = [leg for leg in row.release.legs if everywhere or leg.berth.store.name in row.guard.stores]
    held = steering.hold_back(act, among, reason)
    return [f"{legs.place_title(leg)} is not launched without a person's go-ahead." for leg in held]


def _tell_blind(act: Act, row: GuardWatch, why: str) -> None:
    """Tell people once, when there should have been counts for long."""
    launched = [leg.launched_at for leg in row.release.legs if leg.launched_at is not None]
    if row.guard.created_at > act.now - BLIND_AFTER or not launched or max(launched) > act.now - BLIND_AFTER:
        return
    text = f"{row.guard.name} is blind at {row.release.app.title} {row.release.version}: {why} Look at it yourself."
    place = f"/apps/{row.release.app.name}/releases/{row.release.version}"
    act.notice(NoticeKind.GUARD_BLIND, f"{row.id}/blind", _subject(row), text, place=place, app=row.release.app.name)


def _office(row: GuardWatch) -> str:
    return f"{GUARD}:{row.guard.name}"


def _subject(row: GuardWatch) -> str:
    return legs.leg_subject(row.leg) if row.leg is not None else f"release {row.release.version}"
