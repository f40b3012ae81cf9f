"""The readiness sheet: one walk over a store's graph that says what stops a release, why, and which act helps.

What is asked of handing in, of placing a build, of another offer and of the sheet on a release's page is this
walk; they differ only in how far they go. A push asks the store itself what it holds, and judges by the function
that the evidence of a build calls, too.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from restless_tide.core.availability import check_change
from restless_tide.core.errors import Finding, Level
from restless_tide.core.evidence import evidence
from restless_tide.core.graph import locked_because, missing_before, usual_hours, way_to, will_lock
from restless_tide.core.known import FULFILLED, REMEDIES, Evidence, Known, MendAct, NodeState
from restless_tide.core.leg import OPEN_TO_SUBMISSION
from restless_tide.core.rulebook import PRODUCTION, Rulebook, ThingKind


class Verdict(StrEnum):
    """What a sheet comes to."""

    READY = "ready"
    CAUTIONS = "cautions"
    BLOCKED = "blocked"


@dataclass(frozen=True, slots=True)
class Line:
    """One thing that the store wants. ``needed``: the release waits for it. ``folded``: nothing about it changes now.

    ``code`` is that of the finding which says at a hand-in that it is not there.
    """

    key: str
    kind: ThingKind
    title: str
    help: str
    state: NodeState
    reason: str
    findings: tuple[Finding, ...]
    code: str
    mend: MendAct
    waits_for: tuple[str, ...]
    lock: str
    usual_hours: float
    applies_from: datetime | None
    needed: bool
    folded: bool


@dataclass(frozen=True, slots=True)
class Sheet:
    """One store's sheet. ``done`` of ``needed`` things are there; ``usual_hours`` is what the rest usually takes."""

    verdict: Verdict
    lines: tuple[Line, ...]
    done: int
    needed: int
    usual_hours: float

    def findings(self, *, without: Collection[ThingKind] = ()) -> list[Finding]:
        """What stands against handing it in, and what needs a look before, in the graph's order.

        ``without`` are kinds of things that are looked at elsewhere.
        """
        lines = [line for line in self.lines if line.needed and line.kind not in without]
        said = (found for line in lines for found in _said_of(line))
        return [found for found in said if found.level is not Level.NOTE]


_HANDED_ON = (ThingKind.REVIEW, ThingKind.LAUNCH)
"""What a person or the store does with the release when all else is there."""


def sheet(rules: Rulebook, known: Known) -> Sheet:
    """The sheet of one app at one store, with what the desk knows of it."""
    found = {key: evidence(rules, key, known) for key in rules.graph}
    done = {key for key, one in found.items() if one.state in FULFILLED}
    needed = needed_for(rules, known)
    lines = tuple(_line(rules, key, found[key], done, needed, known) for key in _in_order(rules))
    counted = [line for line in lines if line.needed]
    return Sheet(
        verdict=_verdict(lines, known),
        lines=lines,
        done=sum(line.state in FULFILLED for line in counted),
        needed=len(counted),
        usual_hours=max(
            (usual_hours(rules.graph, goal, done, known.day) for goal in _goals(rules, known)), default=0.0
        ),
    )


def needed_for(rules: Rulebook, known: Known) -> set[str]:
    """The things on the way to where the release is to go: to people over its track."""
    return {step.key for goal in _goals(rules, known) for step in way_to(rules.graph, goal, (), known.day)}


def offer_findings(rules: Rulebook, known: Known) -> list[Finding]:
    """What stands against offering the app as ``known.wanted_offer`` says: the things of the graph that decide it."""
    wanted = known.wanted_offer if known.wanted_offer is not None else known.offered
    said = check_change(rules, known.offered, wanted, known.standing)
    walked = [found for key in rules.keys_of(ThingKind.OFFER) for found in evidence(rules, key, known).findings]
    return list(dict.fromkeys([*said, *walked]))


def _goals(rules: Rulebook, known: Known) -> list[str]:
    track = known.leg.track if known.leg is not None else PRODUCTION
    if track == PRODUCTION:
        return rules.keys_of(ThingKind.LAUNCH)
    return rules.keys_of(ThingKind.BUILD)


def _in_order(rules: Rulebook) -> list[str]:
    """The things so that each comes after what it opens after, otherwise as the rulebook has them."""
    placed: dict[str, None] = {}

    def place(key: str) -> None:
        for before in rules.graph[key].opens_after:
            place(before)
        placed.setdefault(key)

    for key in rules.graph:
        place(key)
    return list(placed)


def _line(
    rules: Rulebook, key: str, found: Evidence, done: Collection[str], needed: Collection[str], known: Known
) -> Line:
    thing = rules.graph[key]
    waits = missing_before(rules.graph, key, done, known.day)
    state, reason = found.state, found.reason
    if waits and state is NodeState.MISSING:
        state = NodeState.LOCKED
        reason = f"It opens after: {', '.join(waits)}. {reason}".strip()
    return Line(
        key=key,
        kind=thing.kind,
        title=thing.title,
        help=thing.help,
        state=state,
        reason=reason,
        findings=found.findings,
        code=found.code or f"{thing.kind}-missing",
        mend=found.mend if state is not NodeState.LOCKED else MendAct.NONE,
        waits_for=tuple(waits),
        lock=locked_because(thing, known.standing) or will_lock(thing, known.standing),
        usual_hours=thing.usually_takes_hours,
        applies_from=thing.applies_from,
        needed=key in needed or (thing.kind is ThingKind.REVIEW and _reviewed(rules, known)),
        folded=known.standing.live and not found.changes and state in FULFILLED and not _weighs(found),
    )


def _reviewed(rules: Rulebook, known: Known) -> bool:
    way = rules.ways.get(known.leg.track) if known.leg is not None else None
    return way is not None and way.review_first


def _weighs(found: Evidence) -> bool:
    return any(one.level is not Level.NOTE for one in found.findings)


def _verdict(lines: Sequence[Line], known: Known) -> Verdict:
    if known.leg is not None and known.leg.phase not in OPEN_TO_SUBMISSION:
        return Verdict.READY
    needed = [line for line in lines if line.needed]
    unfulfilled = any(line.state not in FULFILLED for line in needed if line.kind not in _HANDED_ON)
    said = [found for line in needed for found in line.findings]
    if unfulfilled or any(found.level is Level.BLOCKER for found in said):
        return Verdict.BLOCKED
    doubtful = any(line.state is NodeState.DOUBTFUL for line in needed)
    if doubtful or any(found.level is Level.CAUTION for found in said):
        return Verdict.CAUTIONS
    return Verdict.READY


def _said_of(line: Line) -> list[Finding]:
    """The line's findings; where it is not there and none of them is a blocker, one more that is."""
    blocked = any(found.level is Level.BLOCKER for found in line.findings)
    if line.state in FULFILLED or line.kind in _HANDED_ON or blocked:
        return list(line.findings)
    detail = f"{line.title}: {line.reason}" if line.reason else f"{line.title} is {line.state}."
    return [Finding(line.code, Level.BLOCKER, detail, line.key, REMEDIES.get(line.mend, "")), *line.findings]
