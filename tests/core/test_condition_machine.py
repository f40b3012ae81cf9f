"""Launch conditions as a machine: facts change and time passes in any sequence, and each leg is looked at only when something
changes that it reads, or when its turn of the clock has come. It launches exactly when looking all the time would launch it.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from itertools import chain

from hypothesis import settings
from hypothesis import strategies as some
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from restless_tide.core.condition_text import parse_condition
from restless_tide.core.conditions import (
    DAYS,
    AnyOf,
    Approved,
    Condition,
    Facts,
    GoAhead,
    LaunchHours,
    LiveAt,
    NoReports,
    NotBefore,
    SeenLive,
    SeenTrial,
    Source,
    TrialSteady,
    foreseen,
    next_turn,
    reads,
    unmet,
)

BEGIN, HALF = datetime(2026, 11, 20, 12, tzinfo=UTC), timedelta(minutes=30)
STORES, PEOPLE = ("north", "open", "slate"), ("ida", "tom", "wren")
SINGLE = (
    "go-ahead", "go-ahead 2", "go-ahead of tom", "go-ahead 2 of ida,tom,wren", "after 2026-11-20T18:00",
    "after 2026-11-21T06:30", "hours mon-fri 08:00-16:00", "hours fri,sat 22:00-02:00", "approved", "approved open",
    "live north 20%", "live open 50%", "trial guests 90% 10", "no-reports", "no-reports crash",
)  # fmt: skip
texts = some.one_of(
    some.sampled_from(SINGLE),
    some.lists(some.sampled_from(SINGLE), min_size=2, max_size=3, unique=True).map(" or ".join),
)


def so(condition: Condition, facts: Facts) -> bool:
    """Whether a condition holds, read off the facts as a person would."""
    match condition:
        case AnyOf(of=alternatives):
            return any(so(one, facts) for one in alternatives)
        case GoAhead(count=count, people=people):
            return len([who for who in facts.go_aheads if not people or who in people]) >= count
        case NotBefore(instant=instant):
            return facts.now >= instant
        case LaunchHours():
            return _on_the_wall(condition, facts.now)
        case Approved(places=places):
            return all(facts.approved.get(place) is not None for place in places or facts.approved)
        case LiveAt(place=place, share=share):
            return place in facts.live and facts.live[place].share >= share
        case TrialSteady(cohort=cohort, crash_free=least, sessions=sessions):
            seen = facts.trials.get(cohort, SeenTrial(0, 0))
            return seen.sessions >= sessions and seen.sessions - seen.crashed >= least * seen.sessions
        case NoReports(of=kind):
            return not any(count for name, count in facts.open_reports.items() if kind in (None, name))
    raise AssertionError(condition)


def _on_the_wall(hours: LaunchHours, now: datetime) -> bool:
    today, yesterday = DAYS[now.weekday()] in hours.days, DAYS[now.weekday() - 1] in hours.days
    if hours.ends > hours.begins:
        return today and hours.begins <= now.time() < hours.ends
    return (today and now.time() >= hours.begins) or (yesterday and now.time() < hours.ends)


class Launches(RuleBasedStateMachine):
    """Three legs of one release. ``launched`` is what sparing looks launched, ``slow`` what looking all the time would have."""

    def __init__(self) -> None:
        super().__init__()
        self.now = BEGIN
        self.approved: dict[str, datetime | None] = dict.fromkeys(STORES)
        self.live: dict[str, SeenLive] = {}
        self.go_aheads: dict[str, dict[str, datetime]] = {store: {} for store in STORES}
        self.trials: dict[str, SeenTrial] = {}
        self.reports = {"crash": 0, "remark": 0}
        self.conditions: dict[str, tuple[Condition, ...]] = {}
        self.launched: dict[str, datetime] = {}
        self.slow: dict[str, datetime] = {}
        self.turns: dict[str, datetime | None] = {}

    @initialize(chosen=some.fixed_dictionaries({store: some.lists(texts, max_size=3, unique=True) for store in STORES}))
    def draft(self, chosen: dict[str, list[str]]) -> None:
        for store, each in chosen.items():
            self.conditions[store] = tuple(parse_condition(text, "UTC") for text in each)
            self.look(store)
        self.look_slowly()

    def facts(self, store: str) -> Facts:
        others = [other for other in STORES if other != store]
        return Facts(
            self.now,
            go_aheads=self.go_aheads[store],
            approved={other: self.approved[other] for other in others},
            live={other: self.live[other] for other in others if other in self.live},
            trials=self.trials,
            open_reports=self.reports,
        )

    def look(self, store: str) -> None:
        if store in self.launched:
            return
        if not unmet(self.conditions[store], self.facts(store)):
            self.launched[store] = self.now
        else:
            self.turns[store] = next_turn(self.conditions[store], self.now)

    def look_slowly(self) -> None:
        for store, conditions in self.conditions.items():
            if store not in self.slow and all(so(one, self.facts(store)) for one in conditions):
                self.slow[store] = self.now

    def changed(self, source: Source, stores: Iterable[str] = STORES) -> None:
        """Something has changed: only legs that read it are looked at."""
        for store in stores:
            if source in reads(self.conditions[store]):
                self.look(store)
        self.look_slowly()

    @rule(store=some.sampled_from(STORES), who=some.sampled_from(PEOPLE))
    def give(self, store: str, who: str) -> None:
        self.go_aheads[store].setdefault(who, self.now)
        self.changed(Source.GO_AHEADS, [store])

    @precondition(lambda self: any(self.go_aheads.values()))
    @rule(data=some.data())
    def withdraw(self, data: some.DataObject) -> None:
        store = data.draw(some.sampled_from([one for one in STORES if self.go_aheads[one]]))
        del self.go_aheads[store][data.draw(some.sampled_from(sorted(self.go_aheads[store])))]
        self.changed(Source.GO_AHEADS, [store])

    @rule(store=some.sampled_from(STORES), approves=some.booleans())
    def decide(self, store: str, approves: bool) -> None:
        self.approved[store] = self.now if approves else None
        self.changed(Source.REVIEWS)

    @rule(store=some.sampled_from(STORES), share=some.sampled_from([0.05, 0.2, 0.5, 1.0]))
    def rise(self, store: str, share: float) -> None:
        self.live[store] = SeenLive(share, self.now)
        self.changed(Source.ROLLOUTS)

    @rule(sessions=some.integers(1, 8), crashed=some.integers(0, 2))
    def use(self, sessions: int, crashed: int) -> None:
        seen = self.trials.get("guests", SeenTrial(0, 0))
        self.trials["guests"] = SeenTrial(seen.sessions + sessions, seen.crashed + min(crashed, sessions))
        self.changed(Source.TRIALS)

    @rule(kind=some.sampled_from(["crash", "remark"]), count=some.integers(0, 2))
    def report(self, kind: str, count: int) -> None:
        self.reports[kind] = count
        self.changed(Source.REPORTS)

    @rule(steps=some.integers(1, 80))
    def wait(self, steps: int) -> None:
        """Time passes; a leg is looked at when its turn comes, and the slow way every half hour."""
        promised = {
            store: foreseen(self.conditions[store], self.facts(store)) for store in STORES if store not in self.launched
        }
        until = self.now + steps * HALF
        ticks = [self.now + step * HALF for step in range(1, steps + 1)]
        for at in sorted({*ticks, *filter(None, chain(self.turns.values()))}):
            if self.now < at <= until:
                self.now = at
                for store in STORES:
                    turn = self.turns.get(store)
                    if store not in self.launched and turn is not None and turn <= at:
                        self.look(store)
                self.look_slowly()
        self.now = until
        for store, at in promised.items():
            if at is not None and at <= until:
                assert self.launched[store] == at, "what was foreseen has come"

    @invariant()
    def nothing_is_launched_too_early_too_late_or_twice(self) -> None:
        assert self.launched.keys() == self.slow.keys()
        for store, at in self.launched.items():
            assert at <= self.slow[store] <= at + HALF


Launches.TestCase.settings = settings(max_examples=30, stateful_step_count=30, deadline=None)
TestLaunches = Launches.TestCase
