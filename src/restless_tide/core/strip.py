"""What was live where: what a store offered new people at any instant, from what it was seen to hold over time.

At one store several versions are offered at once: a rollout to a share of people, and to the others the version that had
reached everybody before it. The parts of all versions add up to 1 at most; to the rest nothing is offered.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from restless_tide.core.availability import Availability
from restless_tide.core.ladder import FULL_SHARE
from restless_tide.core.rollout import ON_ITS_WAY, STOPPED, RolloutState
from restless_tide.core.words import percent


@dataclass(frozen=True, slots=True)
class Shown:
    """A store was seen to hold this of a version, from ``at`` on."""

    at: datetime
    version: str
    state: RolloutState
    share: float


@dataclass(frozen=True, slots=True)
class OfferShown:
    """A store was seen to offer the app in these countries and to these people, from ``at`` on."""

    at: datetime
    offer: Availability


@dataclass(frozen=True, slots=True)
class Layer:
    """``part`` of new people, above 0 and up to 1, are offered the version."""

    version: str
    state: RolloutState
    part: float


@dataclass(frozen=True, slots=True)
class Stretch:
    """A stretch of time in which nothing changed; the newest version first. ``offer`` None: it was not seen."""

    since: datetime
    until: datetime
    layers: tuple[Layer, ...]
    offer: Availability | None = None


@dataclass(frozen=True, slots=True)
class Mark:
    """An instant that a reader looks for: a launch, a halt, a withdrawal, a return, everybody reached."""

    at: datetime
    version: str
    state: RolloutState
    share: float


def layers(held: Iterable[tuple[str, RolloutState, float]], *, brings_back: bool) -> tuple[Layer, ...]:
    """What is offered when the store holds these versions, the one launched last first.

    ``brings_back``: at this store a withdrawal brings back the version before.
    """
    found, rest, newest = list[Layer](), FULL_SHARE, True
    for version, state, share in held:
        if state is RolloutState.COMPLETE:
            found.append(Layer(version, state, rest))
            break
        if state in ON_ITS_WAY and newest and share:
            found.append(Layer(version, state, rest * share))
            rest *= 1 - share
        if state is RolloutState.HALTED and newest and share >= FULL_SHARE:
            break
        if state is RolloutState.WITHDRAWN and newest and not brings_back:
            break
        newest = newest and state is RolloutState.WITHDRAWN
        if rest <= 0:
            break
    return tuple(found)


def stretches(
    shown: Sequence[Shown],
    offers: Sequence[OfferShown],
    since: datetime,
    until: datetime,
    *,
    brings_back: bool,
) -> list[Stretch]:
    """One store's strip from ``since`` to ``until``; stretches that follow each other differ.

    Both sequences are in the order of their instants. Of what was seen before ``since`` the last counts.
    """
    held = dict[str, tuple[RolloutState, float]]()
    launched = list[str]()
    offer: Availability | None = None
    found = list[Stretch]()
    both: list[Shown | OfferShown] = [*shown, *offers]
    events = sorted(both, key=lambda event: event.at)
    for place, event in enumerate(events):
        if event.at >= until:
            break
        if isinstance(event, OfferShown):
            offer = event.offer
        else:
            _hold(held, launched, event)
        end = min(events[place + 1].at, until) if place + 1 < len(events) else until
        begin = max(event.at, since)
        if begin < end:
            _append(found, begin, end, _now(held, launched, offer, brings_back=brings_back), offer)
    return found


def _hold(held: dict[str, tuple[RolloutState, float]], launched: list[str], event: Shown) -> None:
    held[event.version] = (event.state, event.share)
    if event.state is RolloutState.WAITING:
        held.pop(event.version)
    elif event.version not in launched:
        launched.append(event.version)


def _now(
    held: dict[str, tuple[RolloutState, float]],
    launched: list[str],
    offer: Availability | None,
    *,
    brings_back: bool,
) -> tuple[Layer, ...]:
    if offer is not None and offer.closed:
        return ()
    newest_first = ((version, *held[version]) for version in reversed(launched) if version in held)
    return layers(newest_first, brings_back=brings_back)


def _append(
    found: list[Stretch], begin: datetime, end: datetime, now: tuple[Layer, ...], offer: Availability | None
) -> None:
    last = found[-1] if found else None
    if last is not None and last.until == begin and (last.layers, last.offer) == (now, offer):
        found[-1] = Stretch(last.since, end, now, offer)
    else:
        found.append(Stretch(begin, end, now, offer))


def marks(shown: Sequence[Shown], since: datetime, until: datetime) -> list[Mark]:
    """The launches, halts, withdrawals and returns of one store, and where everybody was reached, in a time."""
    found, before = list[Mark](), dict[str, RolloutState]()
    for event in shown:
        was = before.get(event.version)
        before[event.version] = event.state
        returns = was in STOPPED and event.state not in STOPPED
        tells = event.state in {*STOPPED, RolloutState.COMPLETE} or was is None or returns
        if (
            event.state is not was
            and tells
            and event.state is not RolloutState.SUPERSEDED
            and since <= event.at < until
        ):
            found.append(Mark(event.at, event.version, event.state, event.share))
    return found


def at_instant(
    shown: Sequence[Shown], offers: Sequence[OfferShown], at: datetime, *, brings_back: bool
) -> tuple[tuple[Layer, ...], Availability | None]:
    """What one store offered at an instant, and where."""
    held, launched = dict[str, tuple[RolloutState, float]](), list[str]()
    for event in shown:
        if event.at <= at:
            _hold(held, launched, event)
    offer = next((event.offer for event in reversed(offers) if event.at <= at), None)
    return _now(held, launched, offer, brings_back=brings_back), offer


USUAL_SPAN, LONGEST_SPAN = timedelta(days=180), timedelta(days=3660)
"""How much of a strip is shown unless more is asked for, and the most that is."""
EVERYWHERE, CLOSED = "everywhere", "closed to new people"


def told(offered: Sequence[Layer], offer: Availability | None, *, known: bool = True) -> str:
    """What new people are offered, in words. ``known``: what the store holds was seen at all."""
    if offer is not None and offer.closed:
        return CLOSED
    if not offered:
        return "nothing" if known else "not seen yet"
    if len(offered) == 1 and offered[0].part == 1:
        return offered[0].version
    return ", ".join(f"{one.version} to {percent(one.part)}" for one in offered)


def told_where(offer: Availability | None) -> str:
    """Where an app is offered, in words or as its countries; a store that was never told otherwise offers it everywhere."""
    if offer is not None and offer.closed:
        return CLOSED
    return " ".join(offer.countries if offer is not None else ()) or EVERYWHERE


def offered_in(country: str, offer: Availability | None) -> bool:
    """Whether a store offers the app in a country (ISO 3166 alpha-2), as far as was seen."""
    return offer is None or (not offer.closed and (not offer.countries or country.upper() in offer.countries))
