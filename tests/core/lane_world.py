"""A lane, a network that loses and delays, and a store of a few lines: every move that is possible from one state.

Time is left out: an instant may be reached between any two moves, so whatever waits for one may go at any
time. So is history that nothing depends on any more: tickets that are settled and no longer on their way are
forgotten, the others are numbered anew by age, and places in the store's sequence keep only their order.
Two ways to the same situation are then one state.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from functools import lru_cache, partial
from typing import NamedTuple

from restless_tide.core import lane as lanes
from restless_tide.core.lane import (
    Accepted,
    Answered,
    Ask,
    Began,
    Entry,
    Happening,
    Held,
    Lane,
    Level,
    Moment,
    Outcome,
    Placed,
    Refused,
    Repeat,
    Restarted,
    Restored,
    Settle,
    Sighted,
    Silent,
)
from restless_tide.core.order import OrderKind, OrderState, Subject, kind_for
from restless_tide.core.rollout import OFFERED, ROLLOUT, STEERING, STOPPED, RolloutEvent, RolloutState

LEG = "leg"
NOW = datetime(2026, 11, 25, tzinfo=UTC)
LATER = datetime(2027, 11, 25, tzinfo=UTC)
SHARES = (0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0)
BEGINNING = Held(RolloutState.RISING, SHARES[0])
_HALT, _SHARE = OrderKind.HALT, OrderKind.SET_SHARE
_R = RolloutState
_OURS = "earlier"
"""Stands for the key of an order of ours that is settled long since."""


class Answer(NamedTuple):
    """What the store said; ``held`` is None when it refused."""

    held: Held | None
    sequence: int


class Ticket(NamedTuple):
    """An order as the world knows it.

    ``done``: the store did it; ``passed``: a later one was done before it; ``stopped``: a halt was ordered after it.
    """

    key: str
    kind: OrderKind
    share: float
    waiting: bool = True
    done: bool = False
    passed: bool = False
    stopped: bool = False
    said: Answer | None = None


class Event(NamedTuple):
    sequence: int
    held: Held
    key: str | None


class World(NamedTuple):
    """``requests`` and ``answers`` are on their way; ``events`` are told and not heard yet; ``faults`` are left to happen.

    ``told``: a person was asked. ``odd``: the store did or refused something that nobody here gave it reason to.
    """

    lane: Lane
    held: Held = BEGINNING
    sequence: int = 1
    requests: frozenset[str] = frozenset()
    answers: frozenset[str] = frozenset()
    events: tuple[Event, ...] = ()
    tickets: tuple[Ticket, ...] = ()
    placed: int = 0
    faults: int = 0
    told: bool = False
    odd: bool = False


class Broken(Exception):
    """A promise is broken."""


class Move(NamedTuple):
    """``free``: it happens by itself sooner or later. What people do, and every fault, need not happen.

    ``make`` gives the world after it, or raises Broken.
    """

    name: str
    free: bool
    make: Callable[[], World]


def beginning(faults: int) -> World:
    """A leg that rises at its first share; wanted and seen agree."""
    return World(Lane(Level(LEG, Subject.LEG, BEGINNING, BEGINNING, 1), heard=1), faults=faults)


def moves(world: World, orders: int, *, strangers: bool = True, restores: bool = False) -> Iterator[Move]:
    """Everything that can happen next."""
    lane = world.lane
    if world.placed < orders:
        yield from _placings(world)
    if lane.level.asked:
        yield Move("accepted", False, lambda: happen(world, Accepted()))
    key = lanes.next_call(lane, LATER)
    if key is not None:
        yield Move(f"call {key}", True, partial(_begun, world, key))
    for key in lane.calls:
        if key not in world.requests and key not in world.answers:
            yield Move(f"no answer to {key}", True, partial(happen, world, Silent(key)))
    for key in world.requests:
        yield Move(f"store does {key}", True, partial(_served, world, key))
    for key in world.answers:
        yield Move(f"answer to {key}", True, partial(_answer_came, world, key))
    if world.events:
        yield Move("event", True, partial(_heard, world, 0))
    if world.faults:
        yield from _faults(world._replace(faults=world.faults - 1), strangers, restores)


def _begun(world: World, key: str) -> World:
    _demand_in_turn(world, key)
    begun = happen(world, Began(key))
    return begun._replace(requests=begun.requests | {key})


def _answer_came(world: World, key: str) -> World:
    said = ticket(world, key).said
    assert said is not None
    left = world._replace(answers=world.answers - {key})
    return happen(left, Answered(key, said.held, said.sequence) if said.held else Refused(key))


def ticket(world: World, key: str) -> Ticket:
    return next(entry for entry in world.tickets if entry.key == key)


def plain(world: World) -> World:
    """The same situation without the history that nothing depends on any more."""
    lane, level = world.lane, world.lane.level
    on_their_way = world.requests | world.answers | lane.calls
    tickets = [entry for entry in world.tickets if entry.waiting or entry.key in on_their_way]
    names = {entry.key: str(place) for place, entry in enumerate(tickets)}
    places = {world.sequence, lane.heard, level.sequence}
    for event in world.events:
        places.add(event.sequence)
    for entry in tickets:
        if entry.said:
            places.add(entry.said.sequence)
    rank = {sequence: place for place, sequence in enumerate(sorted(places), 1)}
    sequence = rank[level.sequence]
    repeated_at = sequence if level.repeated_at == level.sequence else -1
    orders = tuple([Entry(names[o[0]], o[1], o[2], o[3], 1 if o[4] else 0, None, o[6], o[7]) for o in lane.orders])
    events = tuple([Event(rank[e[0]], e[1], names.get(e[2], _OURS) if e[2] else None) for e in world.events])
    kept = tuple(
        [Ticket(names[t.key], *t[1:7], Answer(t.said.held, rank[t.said.sequence]) if t.said else None) for t in tickets]
    )
    return World(
        Lane(
            Level(*level[:4], sequence, *level[5:8], repeated_at, 1 if level.repeats else 0),
            orders,
            frozenset([names[key] for key in lane.calls]),
            rank[lane.heard],
        ),
        world.held,
        rank[world.sequence],
        frozenset([names[key] for key in world.requests]),
        frozenset([names[key] for key in world.answers]),
        events,
        kept,
        world.placed,
        world.faults,
        world.told and level.asked,
        world.odd,
    )


def _placings(world: World) -> Iterator[Move]:
    level = world.lane.level
    stop = RolloutEvent.WITHDRAW if level.wanted.state == _R.WITHDRAWN else RolloutEvent.HALT
    for event in STEERING:
        comes_back = event is RolloutEvent.RESUME and level.wanted.state == _R.WITHDRAWN
        if comes_back and (world.lane.orders or level.seen != level.wanted):
            continue  # as the desk has it: a withdrawal is confirmed before the release can come back
        again = event is stop and level.asked
        if again or ROLLOUT.allows(RolloutState(level.wanted.state), event):
            yield Move(f"{event} ordered", False, partial(_placed, world, event))


def _placed(world: World, event: RolloutEvent) -> World:
    kind, share, key = kind_for(event), 0.0, str(len(world.tickets))
    if kind is _SHARE:
        raised = (one for one in SHARES if one > world.lane.level.wanted.share)
        share = 1.0 if event is RolloutEvent.FINISH else next(raised)
    tickets = world.tickets
    if kind is _HALT:
        tickets = tuple(entry._replace(stopped=True) for entry in tickets)
    grown = world._replace(placed=world.placed + 1, tickets=(*tickets, Ticket(key, kind, share)))
    return happen(grown, Placed(Entry(key, kind, LEG, Held("", share))))


def _faults(world: World, strangers: bool, restores: bool) -> Iterator[Move]:
    lane = world.lane
    if lane.calls:
        yield Move("killed", False, lambda: happen(world._replace(answers=frozenset()), Restarted()))
    for key in world.requests:
        yield Move(f"request {key} lost", False, partial(_lost, world, key))
        if key in lane.calls:
            yield Move(f"{key} given up on its way", False, partial(happen, world, Silent(key)))
        if ticket(world, key).said is None:
            odd = world._replace(odd=True)
            yield Move(f"store refuses {key}", False, partial(_answered, odd, key, Answer(None, world.sequence)))
    for key in world.answers:
        yield Move(f"answer to {key} lost", False, partial(_lost, world, key))
    for place in range(1, len(world.events)):
        yield Move("event out of order", False, partial(_heard, world, place))
    if lane.level.seen is not None:
        again = Sighted(lane.level.seen, lane.level.sequence, _OURS if lane.level.ours else None)
        yield Move("event doubled", False, lambda: happen(world, again))
    if strangers:
        for event in (RolloutEvent.PAUSE, RolloutEvent.RESUME, RolloutEvent.HALT):
            after = effect(world.held, kind_for(event), 0.0)
            if after is not None:
                odd = world._replace(odd=True)
                yield Move(f"someone does {event} there", False, partial(_told, odd, after, None))
    if restores:
        yield Move("store restored", False, lambda: _restored(world))


def _lost(world: World, key: str) -> World:
    return world._replace(requests=world.requests - {key}, answers=world.answers - {key})


def _restored(world: World) -> World:
    """The store is as it was in the beginning, and remembers no key."""
    tickets = tuple(entry._replace(said=None, done=False) for entry in world.tickets)
    events = (Event(1, BEGINNING, _OURS),)
    back = world._replace(held=BEGINNING, sequence=1, answers=frozenset(), events=events, tickets=tickets)
    return happen(back, Restored(0))


@lru_cache(maxsize=None, typed=True)
def _step(lane: Lane, what: Happening, spare_key: str) -> tuple[Lane, list[Outcome]]:
    """A lane knows nothing of the network and the store, so many worlds ask it the same."""
    return lanes.step(lane, what, Moment(NOW, spare_key))


def forget_steps() -> None:
    """Ask the lane anew, since it was changed."""
    _step.cache_clear()


def happen(world: World, what: Happening) -> World:
    """The world after the lane has been told of something. Raises Broken."""
    lane, out = _step(world.lane, what, str(len(world.tickets)))
    tickets, told = world.tickets, world.told
    for outcome in out:
        match outcome:
            case Settle(key, state, _):
                tickets = tuple(_fated(entry, state) if entry.key == key else entry for entry in tickets)
            case Repeat(entry, _):
                tickets = (*tickets, Ticket(entry.key, entry.kind, entry.asks.share))
            case Ask():
                told = True
    return world._replace(lane=lane, tickets=tickets, told=told)


def _fated(entry: Ticket, state: OrderState) -> Ticket:
    """An order is settled as what the store made of it: done once, or not at all."""
    if state is OrderState.CONFIRMED and not entry.done:
        raise Broken(f"{entry.kind} {entry.key} is confirmed and was never done")
    if state is OrderState.REFUSED and entry.done:
        raise Broken(f"{entry.kind} {entry.key} is refused and was done")
    if state is OrderState.CONFIRMED and entry.passed:
        raise Broken(f"{entry.kind} {entry.key} was done after a later one")
    return entry._replace(waiting=False)


def _demand_in_turn(world: World, key: str) -> None:
    """Nothing older than a halt begins once the halt was placed, and nothing begins out of turn."""
    begins = ticket(world, key)
    if begins.kind is _HALT:
        return
    if begins.stopped:
        raise Broken(f"{begins.kind} {key} begins after a halt that was ordered later")
    if any(entry.kind is _HALT for entry in world.lane.orders):
        raise Broken(f"{begins.kind} {key} begins while a halt waits")
    if world.lane.orders[0].key != key:
        raise Broken(f"{begins.kind} {key} begins before its turn")
    if world.lane.calls:
        raise Broken(f"{begins.kind} {key} begins while another call is in flight")


def effect(held: Held, kind: OrderKind, share: float) -> Held | None:
    """What the store holds after an act; None: it refuses."""
    match kind:
        case OrderKind.SET_SHARE:
            rises = held.state == _R.RISING or (held.state == _R.PAUSED and share == 1.0)
            if rises and share > held.share:
                return Held(_R.COMPLETE if share == 1.0 else _R.RISING, share)
        case OrderKind.PAUSE:
            if held.state == _R.RISING:
                return Held(_R.PAUSED, held.share)
        case OrderKind.RESUME:
            if held.state in (_R.PAUSED, _R.HALTED, _R.WITHDRAWN):
                return Held(_R.COMPLETE if held.share == 1.0 else _R.RISING, held.share)
        case OrderKind.HALT:
            if held.state in OFFERED:
                return Held(_R.HALTED, held.share)
        case OrderKind.WITHDRAW:
            if held.state != _R.WITHDRAWN:
                return Held(_R.WITHDRAWN, held.share)
    return None


def _served(world: World, key: str) -> World:
    """A request reaches the store: done once under its key, and answered alike ever after."""
    asked = ticket(world, key)
    if asked.said is not None:
        return _answered(world, key, asked.said)
    after = effect(world.held, asked.kind, asked.share)
    if after is None:
        return _answered(world, key, Answer(None, world.sequence))
    place = world.tickets.index(asked)
    passes = asked.kind is not _HALT and asked.waiting
    tickets = tuple(
        entry._replace(done=True)
        if entry is asked
        else entry._replace(passed=True)
        if passes and before < place and entry.waiting and not entry.done
        else entry
        for before, entry in enumerate(world.tickets)
    )
    world = _told(world._replace(tickets=tickets), after, key)
    return _answered(world, key, Answer(after, world.sequence))


def _told(world: World, held: Held, key: str | None) -> World:
    sequence = world.sequence + 1
    return world._replace(held=held, sequence=sequence, events=(*world.events, Event(sequence, held, key)))


def _answered(world: World, key: str, said: Answer) -> World:
    """The answer goes back, if someone still waits for it."""
    tickets = tuple(entry._replace(said=said) if entry.key == key else entry for entry in world.tickets)
    answers = world.answers | {key} if key in world.lane.calls else world.answers
    return world._replace(requests=world.requests - {key}, answers=answers, tickets=tickets)


def _heard(world: World, place: int) -> World:
    event = world.events[place]
    left = world._replace(events=world.events[:place] + world.events[place + 1 :])
    return happen(left, Sighted(event.held, event.sequence, event.key))


def trouble_at_rest(world: World) -> str:
    """What is wrong with a world in which nothing more happens by itself; empty: all is well."""
    level = world.lane.level
    if world.lane.orders:
        return "an order waits for ever"
    if level.seen != world.held:
        return f"{level.seen} was seen, {world.held} is so"
    if level.asked:
        asks = level.wanted.state in STOPPED and world.held.state in OFFERED
        return "" if asks and world.told and world.odd else "a person is asked without reason, or was never told"
    if level.wanted != world.held:
        return f"{level.wanted} is wanted, {world.held} is so"
    return ""
