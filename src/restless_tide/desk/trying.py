"""A guard tried on what was counted of a release, or on made-up counts: would it have stopped, and when?"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy.orm import Session

from restless_tide.core.errors import Invalid
from restless_tide.core.gauges import HOUR
from restless_tide.core.guard import UNITS, Against, GuardRule, Watched
from restless_tide.core.guarding import Source, first_breach, judge, made_up
from restless_tide.desk import find, gauges, judging
from restless_tide.desk.guards import Setting
from restless_tide.desk.judging import Seen

REPEATED = 100
"""So many made-up rollouts are played to tell how many would be stopped."""


@dataclass(frozen=True)
class Tried:
    """What came out. ``share``: of made-up rollouts, the part that was stopped."""

    said: str
    seen: Seen
    stopped_at: datetime | None
    after_hours: int | None
    after_exposed: int | None
    share: float | None


@dataclass(frozen=True)
class MadeUp:
    """Made-up counts: see core/guarding.py."""

    ratio: float
    rate: float
    people: int
    share: float
    hours: int
    seed: int

    def source(self, turn: int = 0) -> Source:
        return made_up(
            ratio=self.ratio, rate=self.rate, people=self.people, share=self.share, hours=self.hours, seed=self.seed + turn
        )  # fmt: skip


def on_release(session: Session, app_name: str, version: str, wanted: Setting) -> Tried:
    """Try a guard on what was counted of a release. Raises Invalid where it was never launched."""
    release = find.release(session, find.app(session, app_name), version)
    chosen = judging.launched_legs(release, wanted.stores)
    if not chosen:
        raise Invalid(f"{version} was not launched yet; nothing was counted.", code="not-launched")
    seen = judging.look(session, gauges.Tables(), wanted.rule, wanted.source, chosen)
    launched = min(leg.launched_at for leg in chosen if leg.launched_at is not None)
    return _tried(wanted.rule, seen, launched, None)


def on_made_up(wanted: Setting, counts: MadeUp, now: datetime) -> Tried:
    """Try a guard on made-up counts. Raises Invalid for ratings and uptake, of which none are made up."""
    rule = wanted.rule
    if rule.watched in (Watched.RATING, Watched.UPTAKE) or rule.against is Against.SAME_SHARE:
        raise Invalid(
            f"No counts are made up for {rule.watched}, {rule.against}.",
            remedy="Try it on a release: --on VERSION",
            code="not-made-up",
        )
    stops = [first_breach(rule, [one], judge(rule, [one], "")) for one in map(counts.source, range(REPEATED))]
    source = counts.source()
    begin = (now - timedelta(hours=counts.hours)).replace(minute=0, second=0, microsecond=0)
    seen = Seen(judge(rule, [source], "the one before"), "the one before", 0, 0, (source,))
    part = sum(stop is not None for stop in stops) / REPEATED
    return _tried(rule, seen, begin, part)


def _tried(rule: GuardRule, seen: Seen, launched: datetime, part: float | None) -> Tried:
    stop = first_breach(rule, seen.sources, seen.judgement)
    if stop is None:
        said = "It would not have acted."
        if seen.judgement.blind:
            said = f"It would have been blind: {seen.judgement.blind}"
        return Tried(said, seen, None, None, None, part)
    after = stop.hour - seen.begins + 1
    at = launched + after * HOUR
    return Tried(
        f"It would have acted {after} hours after the launch, after {stop.exposed:,} {UNITS[rule.watched]}.",
        seen, at, after, stop.exposed, part,
    )  # fmt: skip
