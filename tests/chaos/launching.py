"""Launch conditions in the storm: go-aheads are given and withdrawn, hours pass, stores go live, and the desk is killed.

When it has settled, every leg whose conditions hold was launched, once; and none was without the go-ahead that it waits for.
"""

from __future__ import annotations

import random
from collections import Counter
from typing import Any

from restless_tide.core.condition_text import parse_condition
from restless_tide.demo.processes import STORES
from restless_tide.wire.errors import DeskUnreachable, TideError
from tests.harbour import Harbour

ACTS = ("give", "give", "withdraw", "change")
WAITING = {
    "northgate": ("go-ahead",),
    "openfield": ("go-ahead", "live northgate 1% or live slatehouse 1%"),
    "slatehouse": ("go-ahead", "hours mon-sun 00:00-23:59 or approved openfield"),
}
OTHERS = ("go-ahead or approved", "approved", "no-reports or live northgate 1%")
"""What stands beside the go-ahead after a change."""


def set_up(there: Harbour) -> str:
    """An app whose release is approved everywhere, and waits; returns its name."""
    app = there.new_app()
    there.draft(app, stores=STORES)
    for store, texts in WAITING.items():
        conditions = [parse_condition(text, "UTC") for text in texts]
        there.tide.releases.change_leg(app, "1.0.0", store, conditions=conditions)
    there.approve(app)
    there.released(app, "1.0.0", lambda seen: all(leg.phase == "approved" for leg in seen.legs))
    return app


def act(there: Harbour, app: str, dice: random.Random, accepted: Counter[str]) -> str:
    """One thing that a person does about launches; returns ``done``, ``refused`` or ``unknown``."""
    what, store, releases = dice.choice(ACTS), dice.choice(STORES), there.tide.releases
    try:
        match what:
            case "give":
                releases.give_go_ahead(app, "1.0.0", store=store, reason="storm")
            case "withdraw":
                releases.take_back_go_ahead(app, "1.0.0", store=store, reason="storm")
            case "change":
                texts = ("go-ahead", dice.choice(OTHERS))
                conditions = [parse_condition(text, "UTC") for text in texts]
                releases.change_leg(app, "1.0.0", store, conditions=conditions)
    except DeskUnreachable:
        return "unknown"
    except TideError:
        return "refused"
    accepted[f"launching: {what}"] += 1
    return "done"


def due(there: Harbour, app: str) -> bool:
    """Whether a leg waits for nothing any more and is still to be launched."""
    return any(leg.phase == "approved" and not leg.waits_for for leg in there.tide.releases.one(app, "1.0.0").legs)


def violations(there: Harbour, rows: Any, app: str) -> list[str]:
    """Legs that were launched twice or without a go-ahead, and those that wait although nothing is missing."""
    found, given = [], dict[str, bool]()
    lines: Counter[str] = Counter()
    asked = "SELECT subject, act FROM logbook WHERE app = '%s' ORDER BY id"
    for subject, what in rows(there, asked % app):
        match what:
            case "go-ahead given":
                given[subject] = True
            case "go-ahead withdrawn":
                given[subject] = False
            case "launch":
                lines[subject] += 1
                if not given.get(subject):
                    found.append(f"{subject} was launched without a go-ahead")
    for leg in there.tide.releases.one(app, "1.0.0").legs:
        subject = f"release 1.0.0 at {leg.store}"
        times = sum(one["track"] == "production" for one in there.rollouts(leg.store, app))
        if lines[subject] != times or times > 1:
            found.append(f"{subject}: launched {lines[subject]} times here, {times} times there")
        if leg.phase == "approved" and not leg.waits_for:
            found.append(f"{subject} waits for nothing, and is not launched")
    return found
