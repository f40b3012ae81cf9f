"""Guards and freezes in the storm: counts come that make a guard halt, freezes begin and end, hours pass.

When it has settled, every breach was acted on once, and nothing was raised while a freeze held it.
"""

from __future__ import annotations

import json
import random
from collections import Counter
from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from typing import Any

import httpx

from restless_tide.wire.errors import DeskUnreachable, TideError
from tests.harbour import Harbour

ACTS = ("crash", "crash", "crash", "crash", "freeze", "thaw", "thaw", "hour", "hour")
GUARD, SOURCE = "storm guard", "collector"
GUARDED = ("openfield", "slatehouse")
"""A leg that is halted at Northgate would be over."""
LADDER = "5@7,10@2,15@2,20@2,25@2,30@2,35@2,40@2,45@2,50,100"
"""Stages so short that many end in the storm, within freezes and besides."""
FREEZE_HOURS, FIRST_HOURS = 6, 5
HOUR = "guarding: hour"
_BAD = {"people": 800, "sessions": 900, "crashed_sessions": 90, "crashed_people": 80, "first_starts": 400}


def set_up(there: Harbour, apps: Iterable[str]) -> None:
    """A guard for each app that halts the leg whose counts are bad, and some hours that can be counted."""
    for app in apps:
        there.tide.guards.set_up(
            app, name=GUARD, against="a fixed bound", bound=0.01, source=SOURCE, stores=[*GUARDED],
            together=False, every_store=False, on_breach="halt",
        )  # fmt: skip
    there.pass_hours(FIRST_HOURS)


def set_clock_again(there: Harbour, accepted: Counter[str]) -> None:
    """A desk that begins anew shows real time; here it continues from where it was."""
    there.tide.watching.move_clock(step_hours=FIRST_HOURS + accepted[HOUR])


def act(there: Harbour, app: str, dice: random.Random, accepted: Counter[str]) -> str:
    """One thing that happens about guards and freezes; returns ``done``, ``refused`` or ``unknown``."""
    what, store = dice.choice(ACTS), dice.choice(GUARDED)
    try:
        match what:
            case "crash":
                _count(there, app, store)
            case "freeze":
                wall = there.tide.watching.clock().now.astimezone(UTC).replace(tzinfo=None)
                ends = wall + timedelta(hours=FREEZE_HOURS)
                there.tide.freezes.set(f"freeze of {app}", wall - timedelta(hours=1), ends, apps=[app])
            case "thaw":
                there.tide.freezes.end(f"freeze of {app}", reason="storm")
            case "hour":
                there.pass_hours(1)
    except DeskUnreachable:
        return "unknown"
    except (TideError, httpx.HTTPError):
        return "refused"
    accepted[f"guarding: {what}"] += 1
    return "done"


def _count(there: Harbour, app: str, store: str) -> None:
    """The newest hour that is over is told to be bad, once more with each telling."""
    now = there.tide.watching.clock().now.astimezone(UTC).replace(minute=0, second=0, microsecond=0)
    revision = int((datetime.now(UTC) - datetime(2026, 1, 1, tzinfo=UTC)).total_seconds() * 10)
    hour = {"at": now - timedelta(hours=1), "revision": revision, "cells": [{"version": "1.0.0", **_BAD}]}
    there.tide.guards.enter(app, store, [hour], source=SOURCE)


def waiting(rows: Any, there: Harbour) -> bool:
    """Whether a guard has still to look at what was counted last, or to do what follows from it."""
    unjudged = rows(
        there,
        "SELECT 1 FROM gauge_hours h JOIN legs l ON l.berth_id = h.berth_id AND l.track = 'production'"
        " JOIN releases r ON r.id = l.release_id JOIN guards g ON g.app_id = r.app_id AND g.source = h.source"
        " LEFT JOIN guard_watches w ON w.guard_id = g.id AND w.leg_id = l.id"
        " WHERE l.state IN ('rising', 'paused', 'halted') AND (w.judged_at IS NULL OR w.judged_at < h.taken_at) LIMIT 1",
    )
    undone = rows(there, "SELECT 1 FROM guard_watches WHERE breached_at IS NOT NULL AND acted = '' LIMIT 1")
    return bool(unjudged or undone)


def violations(there: Harbour, rows: Any) -> list[str]:
    """Breaches that were not acted on once, and raises while a freeze held them."""
    found = []
    by_subject: dict[str, Counter[str]] = {}
    asked = "SELECT app, subject, act, person FROM logbook WHERE person LIKE 'guard:%' OR act LIKE 'guard%' ORDER BY id"
    for app, subject, what, _ in rows(there, asked):
        by_subject.setdefault(f"{app} {subject}", Counter())[what] += 1
    for subject, acts in by_subject.items():
        if acts["halt"] > acts["guard: breach"]:
            found.append(f"{subject}: {acts['guard: breach']} breaches, and {acts['halt']} halts by the guard")
    ordered = Counter(row[0] for row in rows(there, "SELECT kind FROM orders WHERE ordered_by LIKE 'guard:%'"))
    halts = sum(acts["halt"] for acts in by_subject.values())
    if ordered["halt"] != halts:
        found.append(f"{ordered['halt']} halts were ordered by guards, {halts} stand in the logbook")
    for guard, acted in rows(there, "SELECT guard_id, acted FROM guard_watches WHERE breached_at IS NOT NULL"):
        if not acted:
            found.append(f"a breach of {guard} was never acted on")
    return found + _raised_in_a_freeze(there, rows)


def _raised_in_a_freeze(there: Harbour, rows: Any) -> list[str]:
    """Acts that offered a build to new people while a freeze was on, read in the sequence of the logbook.

    The desk's clock is set back for a moment when it is killed, so an instant alone does not say what came first.
    """
    found, frozen = [], dict[str, tuple[datetime, datetime]]()
    asked = "SELECT at, app, act, subject, before, after FROM logbook ORDER BY id"
    for at, app, what, subject, before, after in rows(there, asked):
        told, was = json.loads(after or "null") or {}, json.loads(before or "null") or {}
        if what == "freeze set":
            (name,) = told["apps"]
            frozen[name] = (datetime.fromisoformat(told["begins"]), datetime.fromisoformat(told["ends"]))
        elif what == "freeze ended":
            (name,) = was["apps"]
            frozen.pop(name, None)
        elif app in frozen and (what in _RAISES or (what == "resume" and was.get("state") in ("halted", "withdrawn"))):
            begins, ends = frozen[app]
            if begins <= datetime.fromisoformat(at) < ends:
                found.append(f"{what} of {app}, {subject}, at {at} in a freeze from {begins} to {ends}")
    return found


_RAISES = ("launch", "advance", "finish")
