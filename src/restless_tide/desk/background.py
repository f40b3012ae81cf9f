"""What a desk and its engine know of each other while a process lives. Nothing of it is kept: a restart begins anew."""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from restless_tide.desk.launch_facts import Fact
from restless_tide.gateways.protocol import StoreEvent

if TYPE_CHECKING:
    from restless_tide.desk.desk import Act


@dataclass
class Background:
    """``fence``: the number under which this desk's engine holds the lease; what the engine writes is checked against it.

    Stores are named by their ids.
    """

    fence: int | None = None

    in_flight: dict[str, frozenset[str]] = field(default_factory=dict)
    """The keys of the calls that the engine has in flight, by lane."""
    begin_urgent: Callable[[Act], None] = lambda act: None
    """Begin an act's urgent orders in its own transaction; set by the engine."""

    hearing: threading.Lock = field(default_factory=threading.Lock)
    heard: dict[str, list[StoreEvent]] = field(default_factory=dict)
    """Pushed events by store that are to be read in a moment."""
    ring_heard: Callable[[], None] = lambda: None
    """Have the engine take what was pushed; set by the engine."""
    answered: dict[str, set[tuple[int, str]]] = field(default_factory=dict)
    """By store, places in its sequence with the key that led there, which an answer has told already."""
    forged: Counter[str] = field(default_factory=Counter)
    """Pushed events by store that did not prove where they came from."""

    gaps: set[str] = field(default_factory=set)
    """Stores of which a pushed event came too early; they are asked at once."""
    ring_asking: Callable[[], None] = lambda: None
    """Have the engine ask them; set by the engine."""
    news: set[str] = field(default_factory=set)
    """Stores that told of another rulebook or standing; they are asked for it at once."""
    look_after: dict[str, float] = field(default_factory=dict)
    """When each store is next to be looked at for pictures and figures of use, by the process's own clock."""

    to_draw: set[str] = field(default_factory=set)
    """The names of apps of which a store may get other pictures now than were made for it."""
    ring_drawing: Callable[[], None] = lambda: None
    """Have the engine make what is missing of them; set by the engine."""

    to_judge: set[str] = field(default_factory=set)
    """The names of apps whose guards are to look, since something was counted or changed."""
    ring_judging: Callable[[], None] = lambda: None
    """Have the engine let them look; set by the engine."""

    launching: threading.Lock = field(default_factory=threading.Lock)
    launch_facts: set[Fact] = field(default_factory=set)
    """What has changed since launch conditions were looked at last."""
    ring_launching: Callable[[], None] = lambda: None
    """Have the engine look at the conditions that read it; set by the engine."""

    mail_trouble: str | None = None
    """Why no mail goes out just now; None: nothing is known to be in the way."""
    to_scrub: bool = False
    """Whether something deleted may still lie in the write-ahead log."""
