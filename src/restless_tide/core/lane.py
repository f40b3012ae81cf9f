"""A lane: the orders of one leg, trial, consignment or berth, and everything that decides about them.

Like the machine of an HTTP connection, a lane has no input or output of its own: something happened
(an order was placed, a store answered, an event was heard), ``step`` says what follows, and the engine
does it. Nothing else in the house decides what is sent next, what an answer or a silence means, what a
restart repeats, or when wanted and seen agree.

Two ideas carry it:

**Wanted is a level, not an edge.** A lane keeps what is wanted of its subject and what the store was
last seen to hold, with the place of that sighting in the store's own sequence. Whenever nothing is
waiting and the two differ, the lane acts until they agree or the store refuses. So it does not matter
how a difference came about: a call that reached the store late, an answer that was not true, a store
restored from a backup.

**Whose act it was, the store says.** An event carries the idempotency key of the call that caused it,
so a difference under a key of ours is put right, and one under no key is someone's act on the store's
own pages, which is taken as wanted. Only a stop is never undone that way: then a person is asked.

Sequences never run backwards here. An answer counts as a sighting; what the store tells later of the
same or an earlier place in its sequence is known already. A store that was restored from a backup is
heard from its beginning again (``Restored``).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum
from typing import Any, NamedTuple

from restless_tide.core.consignment import CONSIGNMENT
from restless_tide.core.ladder import FULL_SHARE
from restless_tide.core.machine import Machine
from restless_tide.core.order import (
    FAILING_AFTER_ATTEMPTS,
    RULES,
    OrderKind,
    OrderState,
    Subject,
    pause_before_retry_seconds,
)
from restless_tide.core.retry import TO_STORES, URGENT
from restless_tide.core.rollout import GONE, OFFERED, ROLLOUT, STOPPED, RolloutEvent, RolloutState
from restless_tide.core.round import ROUND, RoundState
from restless_tide.core.trial import TRIAL, TrialState


class Held(NamedTuple):
    """What is wanted of a subject, or what a store holds of it. ``share`` is of people, 0 to 1, for rollouts only."""

    state: str
    share: float = 0.0


class Entry(NamedTuple):
    """An order that is not settled. ``asks`` holds the share it sets, or what a berth shall offer.

    ``again``: the lane placed it by itself, because wanted and seen differed.
    """

    key: str
    kind: OrderKind
    subject: str
    asks: Held = Held("")
    attempts: int = 0
    try_after: datetime | None = None
    with_person: bool = False
    again: bool = False


class Level(NamedTuple):
    """One subject: what is wanted, what was seen last, and what has been done about the difference.

    ``sequence`` is the sighting's place in the store's own sequence; ``ours``: a call of ours caused it.
    ``stranger``: someone has acted at the store since the two last agreed. ``asked``: a person has to say
    whether what the store offers against a stop is wanted. ``repeated_at`` is the sighting that was acted
    on last, ``repeats`` how often in a row.
    """

    id: str
    subject: Subject
    wanted: Held
    seen: Held | None = None
    sequence: int = 0
    ours: bool = True
    stranger: bool = False
    asked: bool = False
    repeated_at: int = -1
    repeats: int = 0


class Lane(NamedTuple):
    """``orders`` in the sequence in which they were placed; ``calls`` are the keys of the calls in flight now.

    ``heard`` is the place in the store's sequence up to which its events have been taken.
    """

    level: Level
    orders: tuple[Entry, ...] = ()
    calls: frozenset[str] = frozenset()
    heard: int = 0


# what happens


class Placed(NamedTuple):
    """Someone ordered something."""

    entry: Entry


class Began(NamedTuple):
    """The engine makes this call now; from here on it may reach the store."""

    key: str


class Answered(NamedTuple):
    """The store did it. ``held`` is what it holds now, None where the answer does not tell."""

    key: str
    held: Held | None = None
    sequence: int | None = None


class Refused(NamedTuple):
    """The store said no."""

    key: str


class Silent(NamedTuple):
    """No answer: nobody knows what the store did. ``dice`` (0 to 1) spreads the next try."""

    key: str
    asked_seconds: float = 0.0
    dice: float = 1.0
    expected: bool = False


class Sighted(NamedTuple):
    """The store's event number ``sequence`` tells what it holds. ``key`` is ours if a call of ours caused it."""

    held: Held
    sequence: int
    key: str | None = None


class Handed(NamedTuple):
    """The store is carried by hand: a step waits for a person, and the order with it."""

    key: str


class Settled(NamedTuple):
    """A person has settled the step of this order, so that its call finds an answer now."""

    key: str


class Accepted(NamedTuple):
    """A person takes what the store offers as wanted."""


class Restarted(NamedTuple):
    """Another engine works from here on: which calls are in flight, nobody knows."""


class Restored(NamedTuple):
    """The store's sequence went back to ``heard``: what was seen after that is no longer so, and it tells everything anew."""

    heard: int


Happening = Placed | Began | Answered | Refused | Silent | Sighted | Handed | Settled | Accepted | Restarted | Restored


# what follows


class Settle(NamedTuple):
    """The order is over."""

    key: str
    state: OrderState
    why: str = ""


class Wait(NamedTuple):
    """The order waits, until its entry's ``try_after``. ``failing``: tell people, it has been tried often."""

    key: str
    failing: bool = False


class Cause(StrEnum):
    """Why what is wanted is something else now."""

    ORDERED = "ordered"
    MOVED = "moved on at the store"
    STRANGER = "changed at the store"
    REFUSED = "refused"
    HELD = "as the store holds it"
    LATE = "launched after it was stopped"


class Keep(NamedTuple):
    """This is wanted from now on."""

    wanted: Held
    cause: Cause


class Repeat(NamedTuple):
    """Place this order: what the store holds is not what is wanted. ``failing``: tell people, it was repeated often."""

    entry: Entry
    failing: bool = False


class Ask(NamedTuple):
    """Ask a person at once: the store offers again what was stopped, and no call of ours did it."""


Outcome = Settle | Wait | Keep | Repeat | Ask


class Moment(NamedTuple):
    """When it happens, and the key for an order that the lane may place on its own."""

    now: datetime
    spare_key: str


# how each subject is brought from what is seen to what is wanted


NOTHING = Held("{}")
"""What a berth offers of which a store has told nothing yet."""


@dataclass(frozen=True, slots=True)
class Policy:
    """One subject. ``toward``: the order that leads from a state that is seen to one that is wanted.

    ``machine``: what the store tells moves the subject along this table, and what the table does not allow is
    only kept as seen. Without one, what someone does at the store is taken as wanted. ``beginning`` is what a store
    holds that never told of the subject. Against ``stops`` nobody's act at the store is taken as wanted.
    """

    toward: Mapping[tuple[str, str], OrderKind]
    machine: Machine[Any, Any] | None = None
    stops: frozenset[str] = frozenset()
    beginning: Held = NOTHING


_L, _K = RolloutState, OrderKind
_OFFERED = tuple(state for state in RolloutState if state in OFFERED)

POLICIES: Mapping[Subject, Policy] = {
    Subject.LEG: Policy(
        toward={
            (_L.RISING, _L.RISING): _K.SET_SHARE,
            (_L.RISING, _L.PAUSED): _K.RESUME,
            (_L.RISING, _L.HALTED): _K.RESUME,
            (_L.RISING, _L.WITHDRAWN): _K.RESUME,
            (_L.COMPLETE, _L.RISING): _K.SET_SHARE,
            (_L.COMPLETE, _L.PAUSED): _K.SET_SHARE,
            (_L.COMPLETE, _L.HALTED): _K.RESUME,
            (_L.COMPLETE, _L.WITHDRAWN): _K.RESUME,
            (_L.PAUSED, _L.RISING): _K.PAUSE,
            **{(_L.WAITING, offered): _K.HALT for offered in _OFFERED},
            **{(_L.HALTED, offered): _K.HALT for offered in _OFFERED},
            **{(_L.WITHDRAWN, offered): _K.WITHDRAW for offered in (*_OFFERED, _L.HALTED)},
        },
        stops=STOPPED,
        beginning=Held(ROLLOUT.initial),
    ),
    Subject.ROUND: Policy(
        toward={(RoundState.RECALLED, seen): _K.RECALL for seen in (RoundState.QUEUED, RoundState.IN_HAND)},
        machine=ROUND,
    ),
    Subject.TRIAL: Policy(
        toward={
            (ended, seen): _K.CLOSE_TRIAL
            for ended in (TrialState.CLOSED, TrialState.REPLACED)
            for seen in (TrialState.WITH_STORE, TrialState.OPEN)
        },
        machine=TRIAL,
    ),
    Subject.CONSIGNMENT: Policy(toward={}, machine=CONSIGNMENT),
    Subject.BERTH: Policy(toward={}),
    Subject.STORE: Policy(toward={}),
}


def toward(subject: Subject, wanted: Held, seen: Held) -> OrderKind | None:
    """The order that leads from what is seen to what is wanted; None: nothing leads there, or there is nothing to do."""
    if subject is Subject.BERTH:
        return OrderKind.SET_AVAILABILITY if wanted != seen else None
    kind = POLICIES[subject].toward.get((wanted.state, seen.state))
    if kind is OrderKind.SET_SHARE and wanted.share <= seen.share:
        return None  # a share only rises
    return kind


def asked_of(entry: Entry, held: Held) -> Held:
    """What is wanted once this order of a leg or a berth is added to ``held``."""
    rule = RULES[entry.kind]
    if rule.subject is Subject.BERTH:
        return entry.asks if entry.kind is OrderKind.SET_AVAILABILITY else held
    if rule.subject is not Subject.LEG:
        return held
    if held.state in GONE and not ROLLOUT.allows(RolloutState(held.state), RolloutEvent(rule.events[0])):
        return held
    share = entry.asks.share if entry.kind in (OrderKind.LAUNCH, OrderKind.SET_SHARE) else held.share
    state = str(ROLLOUT.leads_to(RolloutEvent(rule.events[0])))
    return Held(RolloutState.COMPLETE if state == RolloutState.RISING and share >= FULL_SHARE else state, share)


# what is sent next


def next_call(lane: Lane, now: datetime, *, alone: bool = False) -> str | None:
    """The key of the call to make now, if any. ``alone``: the store is left alone; only what waits for nothing goes.

    Orders go one after the other, by their turn and then as they were placed; what goes beside waits for no call.
    """
    if not lane.orders:
        return None
    first = min(lane.orders, key=lambda entry: RULES[entry.kind].turn)
    rule = RULES[first.kind]
    if first.with_person or first.key in lane.calls or _rests(first, now):
        return None
    if not rule.beside and (alone or lane.calls):
        return None
    return first.key


def _rests(entry: Entry, now: datetime) -> bool:
    """Whether an order waits for its next try; a clock that was put back makes nothing wait longer than it may."""
    if entry.try_after is None:
        return False
    longest = URGENT.longest if RULES[entry.kind].urgent else TO_STORES.longest_asked
    return timedelta() < entry.try_after - now <= timedelta(seconds=longest)


# what follows from what happens


def step(lane: Lane, what: Happening, moment: Moment) -> tuple[Lane, list[Outcome]]:
    """What the lane is after something has happened, and what is to be done about it."""
    out: list[Outcome] = []
    match what:
        case Placed(entry):
            return _placed(lane, entry)
        case Began(key):
            return lane._replace(
                calls=lane.calls | {key},
                orders=_changed(lane, key, lambda entry: entry._replace(attempts=entry.attempts + 1, try_after=None)),
            ), out
        case Answered(key, held, sequence):
            lane = _settled(_ended(lane, key), key, OrderState.CONFIRMED, "", out)
            if held is not None and sequence is not None:
                lane = _sight(lane, held, sequence, True, out)
        case Refused(key):
            lane = _refused(_ended(lane, key), key, out)
        case Silent(key):
            lane = _silent(_ended(lane, key), what, moment.now, out)
        case Sighted(held, sequence, key):
            lane = lane._replace(heard=max(lane.heard, sequence))
            if key is not None and lane.level.subject is Subject.LEG:
                lane = _settled(lane, key, OrderState.CONFIRMED, "", out)
            lane = _sight(lane, held, sequence, key is not None, out)
        case Handed(key):
            lane = _ended(lane, key)
            lane = lane._replace(orders=_changed(lane, key, lambda entry: entry._replace(with_person=True)))
        case Settled(key):
            lane = lane._replace(
                orders=_changed(lane, key, lambda entry: entry._replace(with_person=False, try_after=None))
            )
        case Accepted():
            if lane.level.seen is not None:
                lane = _want(lane, _folded(lane, lane.level.seen), Cause.STRANGER, out)
            lane = lane._replace(level=lane.level._replace(asked=False, stranger=False))
        case Restarted():
            lane = lane._replace(calls=frozenset())
        case Restored(heard):
            level = lane.level
            if level.sequence > heard:
                level = level._replace(sequence=0, repeated_at=-1, ours=True)
            lane = lane._replace(heard=heard, level=level)
            return lane, out
    return _agree(lane, moment, out), out


def _placed(lane: Lane, entry: Entry) -> tuple[Lane, list[Outcome]]:
    rule, level, out = RULES[entry.kind], lane.level, list[Outcome]()
    overtaken = [waiting for waiting in lane.orders if waiting.kind in rule.overtakes]
    out.extend(Settle(waiting.key, OrderState.DROPPED, f"overtaken by {entry.kind}") for waiting in overtaken)
    lane = lane._replace(orders=(*(waiting for waiting in lane.orders if waiting not in overtaken), entry))
    wanted = level.wanted
    if level.seen is not None and any(waiting.kind is OrderKind.SET_SHARE for waiting in overtaken):
        wanted = wanted._replace(share=level.seen.share)
    return _want(lane._replace(level=level._replace(asked=False)), asked_of(entry, wanted), Cause.ORDERED, out), out


def _refused(lane: Lane, key: str, out: list[Outcome]) -> Lane:
    """What the store holds is what is so: the orders that still wait are added to it.

    A stop stays wanted, though, when the store refuses to carry it out again: then a person is asked. A halt that the
    store refuses because an earlier one has stopped the release already is no refusal that anybody need hear of.
    """
    entry = _pending(lane, key)
    if entry is None:
        return lane
    level = lane.level
    stops = POLICIES[level.subject].stops
    if entry.kind is OrderKind.HALT and level.seen is not None and {level.wanted.state, level.seen.state} <= stops:
        return _settled(lane, key, OrderState.DROPPED, "it had stopped already", out)
    if entry.again and level.wanted.state in stops:
        if level.seen is not None and level.seen.state not in OFFERED:
            return _settled(lane, key, OrderState.DROPPED, "it had stopped already", out)
        out.append(Ask())
        return _settled(lane._replace(level=level._replace(asked=True)), key, OrderState.REFUSED, "", out)
    lane = _settled(lane, key, OrderState.REFUSED, "", out)
    level = lane.level
    if POLICIES[level.subject].machine is not None:
        leads_back = RULES[entry.kind].events and level.seen is not None and level.wanted != level.seen
        return _want(lane, level.seen, Cause.REFUSED, out) if leads_back and level.seen else lane
    return _want(lane, _folded(lane, level.seen or POLICIES[level.subject].beginning), Cause.REFUSED, out)


def _silent(lane: Lane, what: Silent, now: datetime, out: list[Outcome]) -> Lane:
    entry = _pending(lane, what.key)
    if entry is None:
        return lane
    urgent = RULES[entry.kind].urgent
    pause = pause_before_retry_seconds(entry.attempts, urgent=urgent, asked_seconds=what.asked_seconds, dice=what.dice)
    until = now + timedelta(seconds=pause)
    out.append(Wait(what.key, failing=entry.attempts == FAILING_AFTER_ATTEMPTS and not what.expected))
    return lane._replace(orders=_changed(lane, what.key, lambda entry: entry._replace(try_after=until)))


def _sight(lane: Lane, held: Held, sequence: int, ours: bool, out: list[Outcome]) -> Lane:
    """Note what the store holds at ``sequence``, unless something later is known."""
    level = lane.level
    if sequence <= level.sequence:
        if not ours and sequence != level.sequence and level.wanted != level.seen:
            lane = lane._replace(level=level._replace(stranger=True))
        return lane
    level = level._replace(seen=held, sequence=sequence, ours=ours)
    lane, policy = lane._replace(level=level), POLICIES[level.subject]
    if policy.machine is not None:
        moves = policy.machine.event_to(level.wanted.state, held.state) is not None
        return _want(lane, held, Cause.MOVED, out) if moves and held != level.wanted else lane
    if ours:
        return lane._replace(level=level._replace(asked=False)) if held.state not in OFFERED else lane
    if level.wanted.state in policy.stops and held.state in OFFERED:
        if not level.asked and not _waiting(lane):
            out.append(Ask())
            lane = lane._replace(level=level._replace(asked=True))
        return lane
    lane = lane._replace(level=level._replace(stranger=True, asked=False))
    return _want(lane, _folded(lane, held), Cause.STRANGER, out)


def _agree(lane: Lane, moment: Moment, out: list[Outcome]) -> Lane:
    """Bring what is seen to what is wanted, once nothing waits that would do it."""
    level = lane.level
    seen, wanted, policy = level.seen, level.wanted, POLICIES[level.subject]
    if seen is None or _waiting(lane):
        return lane
    if wanted == seen:
        return lane._replace(level=level._replace(stranger=False, asked=False, repeats=0))
    stopped = wanted.state in policy.stops or (level.subject is Subject.LEG and wanted.state == RolloutState.WAITING)
    if stopped and seen.state in OFFERED and (level.ours or wanted.state in policy.stops):
        if not level.ours:
            if not level.asked:
                out.append(Ask())
            return lane._replace(level=level._replace(asked=True))
        if wanted.state == RolloutState.WAITING:
            lane = _want(lane, Held(RolloutState.HALTED, seen.share), Cause.LATE, out)
        return _repeat(lane, moment, out)
    if (wanted.state == seen.state and wanted.share < seen.share) or (stopped and wanted.state == seen.state):
        return _agree(_want(lane, seen, Cause.HELD, out), moment, out)
    if lane.calls or lane.heard < level.sequence:
        return lane  # what is in flight, or still to be heard, may say more
    if policy.machine is None and (level.stranger or not level.ours):
        return _agree(_want(lane, seen, Cause.STRANGER, out), moment, out)
    if toward(level.subject, wanted, seen) is None:
        return lane if policy.machine is not None else _agree(_want(lane, seen, Cause.HELD, out), moment, out)
    return _repeat(lane, moment, out)


def _repeat(lane: Lane, moment: Moment, out: list[Outcome]) -> Lane:
    """Order once more what is wanted; once for each sighting, with growing pauses."""
    level = lane.level
    kind = toward(level.subject, level.wanted, level.seen) if level.seen is not None else None
    if kind is None or level.sequence <= level.repeated_at:
        return lane
    repeats, until = level.repeats + 1, None
    if repeats > 1:
        seconds = pause_before_retry_seconds(repeats - 1, urgent=RULES[kind].urgent)
        until = moment.now + timedelta(seconds=seconds)
    entry = Entry(moment.spare_key, kind, level.id, level.wanted, try_after=until, again=True)
    out.append(Repeat(entry, failing=repeats == FAILING_AFTER_ATTEMPTS))
    level = level._replace(repeated_at=level.sequence, repeats=repeats)
    return lane._replace(orders=(*lane.orders, entry), level=level)


def _want(lane: Lane, wanted: Held, cause: Cause, out: list[Outcome]) -> Lane:
    if wanted == lane.level.wanted:
        return lane
    out.append(Keep(wanted, cause))
    return lane._replace(level=lane.level._replace(wanted=wanted))


def _settled(lane: Lane, key: str, state: OrderState, why: str, out: list[Outcome]) -> Lane:
    if _pending(lane, key) is None:
        return lane
    out.append(Settle(key, state, why))
    return lane._replace(orders=tuple(entry for entry in lane.orders if entry.key != key))


def _folded(lane: Lane, held: Held) -> Held:
    """What will be so when the orders that wait have been carried out on ``held``."""
    for entry in sorted(lane.orders, key=lambda entry: RULES[entry.kind].turn):
        if entry.subject == lane.level.id:
            held = asked_of(entry, held)
    return held


def _waiting(lane: Lane) -> bool:
    """Whether an order waits that will change the subject."""
    return any(entry.subject == lane.level.id for entry in lane.orders)


def _pending(lane: Lane, key: str) -> Entry | None:
    return next((entry for entry in lane.orders if entry.key == key), None)


def _ended(lane: Lane, key: str) -> Lane:
    return lane._replace(calls=lane.calls - {key})


def _changed(lane: Lane, key: str, change: Callable[[Entry], Entry]) -> tuple[Entry, ...]:
    return tuple(change(entry) if entry.key == key else entry for entry in lane.orders)
