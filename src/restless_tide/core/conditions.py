"""When an approved leg may launch: conditions that must all hold, each of them one, or any of several.

Everything here takes values and returns values: what a person gave, what stores hold, what testers met and what time it is
come in as ``Facts``. A condition says what it reads, so that nothing else is asked for, and when it changes by the clock
alone, so that it is not looked at in between.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from enum import StrEnum
from typing import Annotated, Any, Literal, Self, get_args
from zoneinfo import ZoneInfo

from pydantic import AwareDatetime, BaseModel, ConfigDict, Field, TypeAdapter, field_validator, model_validator

from restless_tide.core.gauges import MOST_COUNTED
from restless_tide.core.report import ReportKind
from restless_tide.core.wall_clock import first_at, known_zone, last_at, of_our_time, on_the_wall
from restless_tide.core.words import either, listed, percent

MOST_CONDITIONS, MOST_ALTERNATIVES, MOST_PEOPLE, MOST_PLACES = 10, 5, 20, 50
SOUGHT = timedelta(days=400)
"""So far ahead it is looked for an instant at which times hold together; launch hours repeat every week."""
Day = Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
DAYS: tuple[Day, ...] = get_args(Day)
Named = Annotated[str, Field(min_length=1, max_length=100)]


Span = tuple[datetime, datetime]
"""From an instant on, up to another."""


class Source(StrEnum):
    """What conditions read."""

    GO_AHEADS = "go-aheads"
    REVIEWS = "reviews"
    ROLLOUTS = "rollouts"
    TRIALS = "trials"
    REPORTS = "reports"
    CLOCK = "clock"


@dataclass(frozen=True, slots=True)
class SeenLive:
    """What a store was seen to offer of another leg: the share of people, and since when."""

    share: float
    since: datetime | None


@dataclass(frozen=True, slots=True)
class SeenTrial:
    """What was counted while a cohort tests the build: sessions, and those that crashed."""

    sessions: int
    crashed: int

    @property
    def crash_free(self) -> float:
        return 1 - self.crashed / self.sessions if self.sessions else 0.0


@dataclass(frozen=True, slots=True)
class Facts:
    """What is so for one leg.

    ``go_aheads``: who gave one, and when. ``approved``: since when each other leg of its release is approved or beyond, by
    place; None: it is not. ``beside``: the places on the same track, if not all. ``settled``: when a report of a kind was
    decided last. ``names``: how people are called, by id.
    """

    now: datetime
    go_aheads: Mapping[str, datetime] = field(default_factory=dict)
    approved: Mapping[str, datetime | None] = field(default_factory=dict)
    beside: tuple[str, ...] | None = None
    live: Mapping[str, SeenLive] = field(default_factory=dict)
    trials: Mapping[str, SeenTrial] = field(default_factory=dict)
    open_reports: Mapping[str, int] = field(default_factory=dict)
    settled: Mapping[str, datetime] = field(default_factory=dict)
    names: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Stand:
    """How one condition stands. ``since``: since when it holds, where that is known; ``missing``: what it waits for.

    ``alternatives`` are how those of an any-of stand.
    """

    condition: Condition
    holds: bool
    since: datetime | None = None
    missing: str = ""
    alternatives: tuple[Stand, ...] = ()


def _tell_kind(schema: dict[str, Any]) -> None:
    """In a schema a condition names its kind, by which it is told from the others."""
    schema["required"] = ["kind", *schema.get("required", ())]


class _Condition(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True, json_schema_extra=_tell_kind)

    def written(self) -> str:
        """As ``parse_condition`` reads it."""
        raise NotImplementedError

    def told(self, names: Mapping[str, str]) -> str:
        """In words, such as ``approval at northgate``."""
        raise NotImplementedError

    def reads(self) -> frozenset[Source]:
        raise NotImplementedError

    def stand(self, facts: Facts) -> Stand:
        raise NotImplementedError

    def spans(self, after: datetime, until: datetime) -> Iterator[Span]:
        """When it holds between two instants by the clock alone, in order of time."""
        return iter(())

    def next_turn(self, now: datetime) -> datetime | None:
        """The next instant at which it begins or ceases to hold by the clock alone."""
        return None

    def by_clock(self) -> bool:
        """Whether the clock alone decides."""
        return self.reads() == {Source.CLOCK}


class GoAhead(_Condition):
    """People have to give the go-ahead; ``people`` are those who may, by id, and none means any person."""

    kind: Literal["go-ahead"] = "go-ahead"
    count: int = Field(default=1, ge=1, le=MOST_PEOPLE, description="so many people have to give it")
    people: tuple[Named, ...] = Field(default=(), max_length=MOST_PEOPLE, description="who may give it; none: anybody")

    @model_validator(mode="after")
    def _enough_people(self) -> Self:
        if len(set(self.people)) != len(self.people):
            raise ValueError("a person is named twice")
        if self.people and self.count > len(self.people):
            raise ValueError(f"{self.count} people have to give the go-ahead, and {len(self.people)} may")
        return self

    def written(self) -> str:
        count = f" {self.count}" if self.count > 1 or self.people else ""
        return "go-ahead" + count + (f" of {','.join(self.people)}" if self.people else "")

    def told(self, names: Mapping[str, str]) -> str:
        many = "the go-ahead to launch" if self.count == 1 else f"{self.count} go-aheads"
        return many + (f" of {either([names.get(one, one) for one in self.people])}" if self.people else "")

    def reads(self) -> frozenset[Source]:
        return frozenset({Source.GO_AHEADS})

    def given(self, facts: Facts) -> dict[str, datetime]:
        """The go-aheads that count here."""
        return {who: at for who, at in facts.go_aheads.items() if not self.people or who in self.people}

    def stand(self, facts: Facts) -> Stand:
        given = sorted(self.given(facts).values())
        if len(given) >= self.count:
            return Stand(self, True, given[self.count - 1])
        missing = self.told(facts.names)
        if given:
            by = listed([facts.names.get(who, who) for who in self.given(facts)])
            missing += f" ({len(given)} of {self.count} given, by {by})"
        return Stand(self, False, missing=missing)


class NotBefore(_Condition):
    """Not before an instant; ``zone`` is the one in which it was meant."""

    kind: Literal["after"] = "after"
    instant: AwareDatetime
    zone: str = Field(default="UTC", max_length=60, description="such as Europe/Berlin (IANA)")

    _known = field_validator("zone")(known_zone)

    @field_validator("instant")
    @classmethod
    def _in_our_time(cls, value: datetime) -> datetime:
        return of_our_time(value).astimezone(UTC)

    def _local(self) -> str:
        return self.instant.astimezone(ZoneInfo(self.zone)).isoformat(timespec="minutes")

    def written(self) -> str:
        return f"after {self._local()} {self.zone}"

    def told(self, names: Mapping[str, str]) -> str:
        return f"the instant {self._local()}"

    def reads(self) -> frozenset[Source]:
        return frozenset({Source.CLOCK})

    def stand(self, facts: Facts) -> Stand:
        if self.instant <= facts.now:
            return Stand(self, True, self.instant)
        return Stand(self, False, missing=self.told(facts.names))

    def spans(self, after: datetime, until: datetime) -> Iterator[Span]:
        if self.instant < until:
            yield max(self.instant, after), until

    def next_turn(self, now: datetime) -> datetime | None:
        return self.instant if self.instant > now else None


class LaunchHours(_Condition):
    """Only on some days of the week and between two times of day; an end at or before the begin is on the next day."""

    kind: Literal["hours"] = "hours"
    days: tuple[Day, ...] = Field(min_length=1, max_length=7)
    begins: time = Field(description="as the clock on the wall shows it: 08:00")
    ends: time
    zone: str = Field(default="UTC", max_length=60, description="such as Europe/Berlin (IANA)")

    _known = field_validator("zone")(known_zone)

    @field_validator("days")
    @classmethod
    def _in_the_order_of_the_week(cls, value: tuple[Day, ...]) -> tuple[Day, ...]:
        return tuple(day for day in DAYS if day in value)

    @field_validator("begins", "ends")
    @classmethod
    def _on_the_wall(cls, value: time) -> time:
        return on_the_wall(value).replace(second=0, microsecond=0, fold=0)

    def _days_written(self) -> str:
        places = [DAYS.index(day) for day in self.days]
        in_a_row = len(places) > 2 and places[-1] - places[0] == len(places) - 1
        return f"{self.days[0]}-{self.days[-1]}" if in_a_row else ",".join(self.days)

    def written(self) -> str:
        return f"hours {self._days_written()} {self.begins:%H:%M}-{self.ends:%H:%M} {self.zone}"

    def told(self, names: Mapping[str, str]) -> str:
        return f"launch hours ({self._days_written()} {self.begins:%H:%M}–{self.ends:%H:%M} {self.zone})"

    def reads(self) -> frozenset[Source]:
        return frozenset({Source.CLOCK})

    def _window(self, day: date) -> Span | None:
        """The hours that begin on a day of the zone's calendar."""
        if DAYS[day.weekday()] not in self.days:
            return None
        begin = datetime.combine(day, self.begins)
        end = datetime.combine(day if self.ends > self.begins else day + timedelta(days=1), self.ends)
        return first_at(begin, self.zone), last_at(end, self.zone)

    def spans(self, after: datetime, until: datetime) -> Iterator[Span]:
        day = after.astimezone(ZoneInfo(self.zone)).date() - timedelta(days=2)
        for _ in range((until - after).days + 5):
            found = self._window(day)
            if found is not None and found[0] < until and found[1] > after and found[0] < found[1]:
                yield found
            day += timedelta(days=1)

    def _next_window(self, now: datetime) -> Span | None:
        """The hours that are open at ``now``, or else the next ones."""
        return next(self.spans(now, now + timedelta(days=9)), None)

    def stand(self, facts: Facts) -> Stand:
        window = self._next_window(facts.now)
        if window is not None and window[0] <= facts.now:
            return Stand(self, True, window[0])
        told = self.told(facts.names)
        if window is None:
            return Stand(self, False, missing=told)
        next_ = window[0].astimezone(ZoneInfo(self.zone)).isoformat(timespec="minutes")
        return Stand(self, False, missing=f"{told}, next from {next_}")

    def next_turn(self, now: datetime) -> datetime | None:
        window = self._next_window(now)
        return None if window is None else window[0] if window[0] > now else window[1]


class Approved(_Condition):
    """Other legs of the release have to be approved; none named: all others on the same track."""

    kind: Literal["approved"] = "approved"
    places: tuple[Named, ...] = Field(default=(), max_length=MOST_PLACES, description="none: all other stores")

    def written(self) -> str:
        return "approved" + (f" {','.join(self.places)}" if self.places else "")

    def told(self, names: Mapping[str, str]) -> str:
        return f"approval at {listed(self.places) or 'all other stores'}"

    def reads(self) -> frozenset[Source]:
        return frozenset({Source.REVIEWS, Source.ROLLOUTS})

    def stand(self, facts: Facts) -> Stand:
        wanted = self.places or (tuple(facts.approved) if facts.beside is None else facts.beside)
        missing = [place for place in wanted if facts.approved.get(place) is None]
        if missing:
            return Stand(self, False, missing=f"approval at {', '.join(missing)}")
        return Stand(self, True, max((at for at in map(facts.approved.get, wanted) if at is not None), default=None))


class LiveAt(_Condition):
    """Another leg of the release has to be seen live at a share of people."""

    kind: Literal["live"] = "live"
    place: Named
    share: float = Field(gt=0, le=1, description="0 to 1")

    def written(self) -> str:
        return f"live {self.place} {percent(self.share)}"

    def told(self, names: Mapping[str, str]) -> str:
        return f"{self.place} to be live at {percent(self.share)}"

    def reads(self) -> frozenset[Source]:
        return frozenset({Source.ROLLOUTS})

    def stand(self, facts: Facts) -> Stand:
        seen = facts.live.get(self.place, SeenLive(0.0, None))
        if seen.share >= self.share:
            return Stand(self, True, seen.since)
        return Stand(self, False, missing=f"{self.told(facts.names)} (now {percent(seen.share)})")


class TrialSteady(_Condition):
    """While a cohort tests this build, enough sessions have to end without a crash."""

    kind: Literal["trial"] = "trial"
    cohort: Named
    crash_free: float = Field(gt=0, le=1, description="the least share of sessions that end without a crash, 0 to 1")
    sessions: int = Field(ge=1, le=MOST_COUNTED, description="counted at least")

    def written(self) -> str:
        return f"trial {self.cohort} {percent(self.crash_free)} {self.sessions}"

    def told(self, names: Mapping[str, str]) -> str:
        return f"{percent(self.crash_free)} of at least {self.sessions:,} sessions of {self.cohort} without a crash"

    def reads(self) -> frozenset[Source]:
        return frozenset({Source.TRIALS})

    def stand(self, facts: Facts) -> Stand:
        seen = facts.trials.get(self.cohort)
        if seen is None:
            return Stand(self, False, missing=f"{self.told(facts.names)} (no trial of this build there)")
        if seen.sessions >= self.sessions and seen.crash_free >= self.crash_free:
            return Stand(self, True)
        so_far = f"{percent(seen.crash_free)} of {seen.sessions:,}" if seen.sessions else "none counted"
        return Stand(self, False, missing=f"{self.told(facts.names)} (so far {so_far})")


class NoReports(_Condition):
    """No open field report of a kind about this build; no kind named: of none at all."""

    kind: Literal["no-reports"] = "no-reports"
    of: ReportKind | None = Field(default=None, description="none: of any kind")

    def written(self) -> str:
        return "no-reports" + (f" {self.of}" if self.of else "")

    def told(self, names: Mapping[str, str]) -> str:
        return f"no open field report{f' of kind {self.of}' if self.of else ''}"

    def reads(self) -> frozenset[Source]:
        return frozenset({Source.REPORTS})

    def stand(self, facts: Facts) -> Stand:
        counted = [number for kind, number in facts.open_reports.items() if self.of is None or kind == self.of]
        if not sum(counted):
            decided = [at for kind, at in facts.settled.items() if self.of is None or kind == self.of]
            return Stand(self, True, max(decided, default=None))
        return Stand(self, False, missing=f"{self.told(facts.names)} ({sum(counted)} are open)")


Single = Annotated[
    GoAhead | NotBefore | LaunchHours | Approved | LiveAt | TrialSteady | NoReports, Field(discriminator="kind")
]


class AnyOf(_Condition):
    """One of several has to hold."""

    kind: Literal["any"] = "any"
    of: tuple[Single, ...] = Field(min_length=2, max_length=MOST_ALTERNATIVES)

    def written(self) -> str:
        return " or ".join(one.written() for one in self.of)

    def told(self, names: Mapping[str, str]) -> str:
        return " or ".join(one.told(names) for one in self.of)

    def reads(self) -> frozenset[Source]:
        return frozenset().union(*(one.reads() for one in self.of))

    def stand(self, facts: Facts) -> Stand:
        stands = tuple(one.stand(facts) for one in self.of)
        holding = [stand for stand in stands if stand.holds]
        if holding:
            known = [stand.since for stand in holding if stand.since is not None]
            return Stand(self, True, min(known) if len(known) == len(holding) else None, alternatives=stands)
        return Stand(self, False, missing=" or ".join(stand.missing for stand in stands), alternatives=stands)

    def by_clock(self) -> bool:
        return any(one.by_clock() for one in self.of)


Condition = Annotated[
    GoAhead | NotBefore | LaunchHours | Approved | LiveAt | TrialSteady | NoReports | AnyOf, Field(discriminator="kind")
]
Conditions = Annotated[tuple[Condition, ...], Field(max_length=MOST_CONDITIONS)]
CONDITIONS: TypeAdapter[tuple[Condition, ...]] = TypeAdapter(Conditions, config=ConfigDict(defer_build=True))


def singles(conditions: Iterable[Condition]) -> Iterator[Single]:
    """Every condition, those of alternatives each for itself."""
    for one in conditions:
        yield from one.of if isinstance(one, AnyOf) else (one,)


def stands(conditions: Iterable[Condition], facts: Facts) -> list[Stand]:
    """How each condition stands."""
    return [one.stand(facts) for one in conditions]


def unmet(conditions: Iterable[Condition], facts: Facts) -> list[str]:
    """What the launch still waits for, in plain words; empty when it may go."""
    return [stand.missing for stand in stands(conditions, facts) if not stand.holds]


def reads(conditions: Iterable[Condition]) -> frozenset[Source]:
    """Everything that some conditions read."""
    return frozenset().union(*(one.reads() for one in conditions))


def earliest(conditions: Iterable[Condition]) -> datetime | None:
    """The instant before which no launch can be, whatever else happens; None: there is none."""
    return max((one.instant for one in conditions if isinstance(one, NotBefore)), default=None)


def renamed(conditions: Iterable[Condition], names: Mapping[str, str]) -> tuple[Condition, ...]:
    """The same conditions with people called otherwise; who is not among ``names`` keeps the name."""

    def one(condition: Single) -> Single:
        if not isinstance(condition, GoAhead):
            return condition
        return condition.model_copy(update={"people": tuple(names.get(who, who) for who in condition.people)})

    return tuple(
        single.model_copy(update={"of": tuple(map(one, single.of))}) if isinstance(single, AnyOf) else one(single)
        for single in conditions
    )


def with_shorthands(
    conditions: tuple[Condition, ...],
    *,
    go_ahead: bool | None = None,
    not_before: datetime | None = None,
    no_date: bool = False,
    with_others: bool | None = None,
) -> tuple[Condition, ...]:
    """Conditions changed by the three usual words; one that is None leaves what stands there."""
    kinds: dict[type[_Condition], Condition | None] = {}
    if go_ahead is False or (go_ahead and not any(isinstance(one, GoAhead) for one in conditions)):
        kinds[GoAhead] = GoAhead() if go_ahead else None
    if not_before is not None or no_date:
        kinds[NotBefore] = NotBefore(instant=not_before) if not_before is not None else None
    if with_others is not None:
        kinds[Approved] = Approved() if with_others else None
    kept = tuple(one for one in conditions if type(one) not in kinds)
    return (*kept, *(one for one in kinds.values() if one is not None))


def may_give(conditions: Iterable[Condition], person: str) -> bool:
    """Whether one of the conditions asks for a go-ahead that this person may give."""
    return any(isinstance(one, GoAhead) and (not one.people or person in one.people) for one in singles(conditions))


def next_turn(conditions: Iterable[Condition], now: datetime) -> datetime | None:
    """The next instant at which one of the conditions changes by the clock alone; None: none does."""
    return min((at for one in singles(conditions) if (at := one.next_turn(now)) is not None), default=None)


def foreseen(conditions: Iterable[Condition], facts: Facts) -> datetime | None:
    """The first instant at which everything holds if nothing but time passes, ``now`` among them; None: it never does."""
    open_ = [one for one in conditions if not _settled(one, facts)]
    return first_together(open_, facts.now)


def _settled(condition: Condition, facts: Facts) -> bool:
    """Whether a condition, or one of its alternatives, holds by something that time does not take away."""
    return any(one.stand(facts).holds for one in singles([condition]) if not one.by_clock())


def first_together(conditions: Iterable[Condition], now: datetime) -> datetime | None:
    """The first instant from ``now`` on at which all conditions hold by the clock alone; None: there is none."""
    timed = [[one for one in singles([condition]) if one.by_clock()] for condition in conditions]
    if not all(timed):
        return None
    bases = [now]
    for at in sorted(one.instant for parts in timed for one in parts if isinstance(one, NotBefore)):
        if at > bases[-1] + SOUGHT:
            bases.append(at)
    for base in bases:
        until = base + SOUGHT
        left: list[Span] = [(base, until)]
        for parts in timed:
            left = _in_both(left, sorted(span for one in parts for span in one.spans(base, until)))
        if left:
            return left[0][0]
    return None


def _in_both(some: Sequence[Span], others: Iterable[Span]) -> list[Span]:
    """What lies both in one of ``some``, which do not overlap, and in one of ``others``, in order of time."""
    found, at = [], 0
    reached: datetime | None = None
    for begin, end in others:
        begin = begin if reached is None else max(begin, reached)
        while at < len(some) and some[at][1] <= begin:
            at += 1
        place = at
        while place < len(some) and some[place][0] < end:
            both = max(begin, some[place][0]), min(end, some[place][1])
            if both[0] < both[1]:
                found.append(both)
            place += 1
        reached = end if reached is None else max(reached, end)
    return found
