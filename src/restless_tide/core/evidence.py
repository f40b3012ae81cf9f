"""Evidence: whether a thing that a store wants is there, kind by kind.

The graph of a rulebook names things; each has a kind, and each kind has one function here. It takes the
values that the desk knows and answers where the thing stands, why, what stands against it, and which act
helps. No store and no thing of a store is ever named: what differs between stores is in their rulebooks.

What the desk cannot see is never called done: it is ``doubtful``, and a person looks.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from enum import StrEnum

from restless_tide.core.availability import Availability, check_change, concerns
from restless_tide.core.berth import BerthState
from restless_tide.core.consignment import ON_ITS_WAY, ConsignmentState
from restless_tide.core.errors import Finding, Level
from restless_tide.core.graph import Standing
from restless_tide.core.leg import LAUNCHED, OPEN_TO_SUBMISSION, LegPhase
from restless_tide.core.packages.facts import Facts
from restless_tide.core.questions import foreseen
from restless_tide.core.readiness import check_handing_in, check_packages, check_push
from restless_tide.core.rulebook import PRODUCTION, Rulebook, Thing, ThingKind
from restless_tide.core.signing import NOTHING_EXPECTED, Expected
from restless_tide.core.texts import NO_TEXTS, TextsAt, TextState, at, check_texts, differing, required, state_of_text
from restless_tide.core.versions import Held

EVERYWHERE_FREE, NOTHING_BEGUN = Availability(), Standing()


class NodeState(StrEnum):
    """Where a thing stands that a store wants."""

    DONE = "done"
    DOUBTFUL = "doubtful"
    MISSING = "missing"
    WAITING = "waiting"
    LOCKED = "locked"
    NOT_ASKED = "not asked"


FULFILLED = frozenset({NodeState.DONE, NodeState.DOUBTFUL, NodeState.NOT_ASKED})
"""What comes after such a thing may begin."""


class MendAct(StrEnum):
    """The act that helps. Each surface words it for itself: a command, a link."""

    NONE = ""
    OPEN_BERTH = "open berth"
    SIGN_PAPERS = "sign papers"
    PUSH_BUILD = "push build"
    ANSWER_QUESTIONS = "answer questions"
    WRITE_TEXT = "write text"
    SEND_TEXTS = "send texts"
    SET_OFFER = "set offer"
    DRAFT_RELEASE = "draft release"
    WRITE_NOTES = "write notes"
    SUBMIT = "submit"
    GO_AHEAD = "go ahead"
    OPEN_TRIAL = "open trial"
    LOOK_THERE = "look at the store"
    WAIT = "wait"


@dataclass(frozen=True, slots=True)
class Evidence:
    """Where a thing stands. ``reason`` is one sentence; ``changes``: this release has something to do with it."""

    state: NodeState
    reason: str = ""
    findings: tuple[Finding, ...] = ()
    mend: MendAct = MendAct.NONE
    changes: bool = False


@dataclass(frozen=True, slots=True)
class Paper:
    """A contract of the account; ``blocks`` are the keys of the things that need it."""

    name: str
    state: str
    until: datetime | None = None
    blocks: tuple[str, ...] = ()

    @property
    def valid(self) -> bool:
        return self.state == "valid"


@dataclass(frozen=True, slots=True)
class BuildKnown:
    """The build that is to go there. ``state`` None: it was never sent; ``held`` is what the store has of the app."""

    label: str
    version: str
    facts: tuple[Facts, ...]
    state: ConsignmentState | None = None
    reason: str = ""
    held: tuple[Held, ...] = ()
    expected: Expected = NOTHING_EXPECTED


@dataclass(frozen=True, slots=True)
class LegKnown:
    """The release at this store. ``notes`` None: its track shows none; ``reasons`` are those of the last rejection."""

    version: str
    phase: LegPhase
    notes: Mapping[str, str] | None
    track: str = PRODUCTION
    waits_for: tuple[str, ...] = ()
    reasons: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Known:
    """All that the desk knows of one app at one store. ``day`` is when the release is planned to go there.

    ``berth`` None: nobody has asked for a place there. ``papers`` None: the desk cannot see the account.
    ``offer_settled``: the store was last seen to offer the app as ordered.
    """

    now: datetime
    day: datetime
    identifier: str
    berth: BerthState | None = None
    berth_refused: str = ""
    papers: tuple[Paper, ...] | None = None
    build: BuildKnown | None = None
    leg: LegKnown | None = None
    texts: TextsAt = NO_TEXTS
    offered: Availability = EVERYWHERE_FREE
    wanted_offer: Availability | None = None
    offer_settled: bool = True
    standing: Standing = NOTHING_BEGUN
    trials_opened: int = 0


def evidence(rules: Rulebook, key: str, known: Known) -> Evidence:
    """Where one thing of the rulebook's graph stands. Raises KeyError for a thing that it does not have."""
    thing = rules.graph[key]
    if thing.applies_from is not None and thing.applies_from > known.day:
        return Evidence(NodeState.NOT_ASKED, f"{rules.store} asks for it from {thing.applies_from:%d %b %Y} on.")
    found = EVIDENCE[thing.kind](rules, key, thing, known)
    if thing.applies_from is not None and thing.applies_from > known.now:
        said = f"{rules.store} asks for it from {thing.applies_from:%d %b %Y} on, before the planned day."
        return replace(found, reason=f"{found.reason} {said}".strip())
    return found


def _berth(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    match known.berth:
        case BerthState.OPEN:
            return Evidence(NodeState.DONE)
        case BerthState.ORDERED:
            return Evidence(NodeState.WAITING, f"{rules.store} has not confirmed it yet.", mend=MendAct.WAIT)
        case BerthState.REFUSED:
            said = f"{rules.store} refused it: {known.berth_refused}"
            return Evidence(NodeState.MISSING, said, mend=MendAct.OPEN_BERTH, changes=True)
    return Evidence(
        NodeState.MISSING, f"The app has no place at {rules.store} yet.", mend=MendAct.OPEN_BERTH, changes=True
    )


def _papers(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    if known.papers is None:
        return _unseen(rules, known)
    missing = [paper for paper in known.papers if not paper.valid]
    if missing:
        told = ", ".join(f"{paper.name} is {paper.state}" for paper in missing)
        return Evidence(NodeState.MISSING, f"{told}.", mend=MendAct.SIGN_PAPERS)
    ending = [paper for paper in known.papers if paper.until is not None and paper.until <= known.day]
    if ending:
        told = ", ".join(f"{paper.name} ends {paper.until:%d %b %Y}" for paper in ending)
        return Evidence(NodeState.DOUBTFUL, f"{told}, before the planned day.", mend=MendAct.SIGN_PAPERS)
    return Evidence(NodeState.DONE)


def _build(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    build = known.build
    if build is None:
        asked = ", ".join(rules.packages.formats)
        return Evidence(
            NodeState.MISSING,
            f"No build is there yet. {rules.store} takes {asked}.",
            mend=MendAct.PUSH_BUILD,
            changes=True,
        )
    blocked = _not_ready(rules, build)
    match build.state:
        case None:
            found = check_push(rules, build.held, build.facts, known.identifier, known.day, build.expected)
            said = f"{build.label} was not sent to {rules.store}."
            return Evidence(NodeState.MISSING, said, (blocked, *found), MendAct.PUSH_BUILD, changes=True)
        case state if state in ON_ITS_WAY:
            said = f"{build.label} is {state} at {rules.store}."
            return Evidence(NodeState.WAITING, said, (blocked,), MendAct.WAIT, changes=True)
        case ConsignmentState.HELD:
            said = f"{rules.store} holds {build.label} until its questions are answered."
            return Evidence(NodeState.MISSING, said, (blocked,), MendAct.ANSWER_QUESTIONS, changes=True)
        case ConsignmentState.READY:
            return _ready(rules, build, known)
    said = f"{rules.store} has {build.label} as {build.state}. {build.reason}".strip()
    return Evidence(NodeState.MISSING, said, (blocked,), MendAct.PUSH_BUILD, changes=True)


def _ready(rules: Rulebook, build: BuildKnown, known: Known) -> Evidence:
    """The store took this build, so its rules of today block it no more; what a person should look at stays."""
    found = [
        replace(one, level=Level.CAUTION, detail=f"{one.detail} The store took this build before.")
        if one.level is Level.BLOCKER
        else one
        for one in check_packages(rules, build.facts, known.identifier)
    ]
    state = NodeState.DOUBTFUL if any(one.level is Level.CAUTION for one in found) else NodeState.DONE
    return Evidence(state, f"{build.label} is ready at {rules.store}.", tuple(found), changes=True)


def _not_ready(rules: Rulebook, build: BuildKnown) -> Finding:
    return Finding(
        "build-not-ready",
        Level.BLOCKER,
        f"{build.label} is not ready at {rules.store}.",
        "build",
        "Push it there and wait until the store has processed it.",
    )


def _text(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    given, fields = known.texts, rules.fields_of(key)
    needed = [place for place in required(rules, given, given.held) if place[1] in fields]
    lacking = {place for place in needed if not at(given.held, *place)}
    findings = [_weighed(found, lacking) for found in check_texts(rules, given, fields)]
    changed = differing(rules, given)
    waiting = {
        (locale, name)
        for locale, texts in changed.items()
        for name, text in texts.items()
        if state_of_text(given, locale, name, text) is TextState.ORDERED
    }
    unsent = sorted(
        (locale, name)
        for locale, texts in changed.items()
        for name in texts
        if name in fields and (locale, name) not in waiting and (locale, name) not in given.kept
    )
    told = {found.place for found in findings if found.level is Level.BLOCKER}
    for locale, name in unsent:
        if (locale, name) in lacking and f"texts.{locale}.{name}" not in told:
            findings.append(_unsent(rules, locale, name))
    if lacking - waiting:
        told_missing = ", ".join(
            f"{rules.listing.title(name)} in {locale}" for locale, name in sorted(lacking - waiting)
        )
        act = MendAct.SEND_TEXTS if set(unsent) >= lacking - waiting else MendAct.WRITE_TEXT
        said = f"{rules.store} does not hold {told_missing}."
        return Evidence(NodeState.MISSING, said, tuple(findings), act, changes=True)
    if lacking:
        return Evidence(
            NodeState.WAITING,
            f"{rules.store} has not confirmed the texts yet.",
            tuple(findings),
            MendAct.WAIT,
            changes=True,
        )
    if unsent:
        said = f"{len(unsent)} {'text differs' if len(unsent) == 1 else 'texts differ'} from what {rules.store} holds."
        return Evidence(NodeState.DOUBTFUL, said, tuple(findings), MendAct.SEND_TEXTS, changes=True)
    kept = [place for place in given.kept if place[1] in fields]
    said = (
        f"{len(kept)} changed {'text waits' if len(kept) == 1 else 'texts wait'} for the next version." if kept else ""
    )
    doubtful = any(found.level is Level.CAUTION for found in findings)
    mend = MendAct.WRITE_TEXT if doubtful else MendAct.NONE
    return Evidence(
        NodeState.DOUBTFUL if doubtful else NodeState.DONE, said, tuple(findings), mend, changes=bool(kept or waiting)
    )


def _weighed(found: Finding, lacking: set[tuple[str, str]]) -> Finding:
    """A finding on a text blocks a release only where the store holds nothing better."""
    _, locale, name = (*found.place.split(".", 2), "", "")[:3]
    if found.level is Level.BLOCKER and (locale, name) not in lacking:
        return replace(found, level=Level.CAUTION)
    return found


def _unsent(rules: Rulebook, locale: str, name: str) -> Finding:
    return Finding(
        "text-not-sent",
        Level.BLOCKER,
        f"{rules.store} does not hold {rules.listing.title(name)} in {locale} yet.",
        f"texts.{locale}.{name}",
        "Send the texts there.",
    )


def _offer(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    wanted = known.wanted_offer
    if wanted is not None:
        about = [
            found for found in check_change(rules, known.offered, wanted, known.standing) if concerns(found, thing)
        ]
        blocking = [paper for paper in known.papers or () if not paper.valid and key in paper.blocks]
        if blocking and _priced(known.offered) != _priced(wanted):
            about += [
                Finding(
                    "paper-missing",
                    Level.BLOCKER,
                    f"{paper.name} is {paper.state} at {rules.store}; without it no price can be set.",
                    "price",
                    "Sign it on the store's own pages.",
                )
                for paper in blocking
            ]
        if about:
            return Evidence(NodeState.LOCKED, about[0].detail, tuple(about), MendAct.SET_OFFER, changes=True)
        return Evidence(NodeState.DONE, changes=True)
    if known.berth is not BerthState.OPEN:
        return Evidence(NodeState.MISSING, mend=MendAct.OPEN_BERTH)
    if not known.offer_settled:
        return Evidence(NodeState.WAITING, f"{rules.store} has not confirmed the offer yet.", mend=MendAct.WAIT)
    return Evidence(NodeState.DONE, f"Offered {known.offered.told()}.")


def _priced(offer: Availability) -> tuple[object, object]:
    return offer.price, offer.currency


def _trial(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    if known.trials_opened:
        return Evidence(NodeState.DONE)
    return Evidence(NodeState.MISSING, "No trial with a build was opened there yet.", mend=MendAct.OPEN_TRIAL)


def _review(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    leg = known.leg
    if leg is None:
        return Evidence(NodeState.MISSING, "No release is drafted yet.", mend=MendAct.DRAFT_RELEASE, changes=True)
    if leg.phase is LegPhase.UNDER_REVIEW:
        return Evidence(NodeState.WAITING, f"{rules.store} is looking at it.", mend=MendAct.WAIT, changes=True)
    if leg.phase not in OPEN_TO_SUBMISSION:
        return Evidence(NodeState.DONE, changes=True)
    build = known.build
    found = check_handing_in(
        rules, leg.version, build.version if build else leg.version, leg.notes, build.label if build else ""
    )
    wrong = any(one.level is Level.BLOCKER for one in found)
    act = MendAct.WRITE_NOTES if any(one.place.startswith("notes") for one in found) else MendAct.PUSH_BUILD
    said = {
        LegPhase.REJECTED: f"Rejected: {' '.join(leg.reasons)}".strip(": "),
        LegPhase.RECALLED: "It was recalled.",
    }.get(leg.phase, "It was not handed in yet.")
    return Evidence(NodeState.MISSING, said, tuple(found), act if wrong else MendAct.SUBMIT, changes=True)


def _launch(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    leg = known.leg
    if leg is None:
        return Evidence(NodeState.MISSING, "No release is drafted yet.", mend=MendAct.DRAFT_RELEASE)
    if leg.phase in LAUNCHED:
        return Evidence(NodeState.DONE, f"It is {leg.phase}.", changes=True)
    if leg.phase is LegPhase.APPROVED:
        told = "; ".join(leg.waits_for)
        act = MendAct.GO_AHEAD if leg.waits_for else MendAct.WAIT
        return Evidence(NodeState.WAITING, f"It waits for {told}." if told else "", mend=act, changes=True)
    return Evidence(NodeState.MISSING, changes=True)


def _unseen(rules: Rulebook, known: Known, *_: object) -> Evidence:
    """What the desk cannot see. A release that is live shows that the store was content."""
    if known.standing.live:
        return Evidence(NodeState.DONE, f"{rules.store} has let a release of this app go live.")
    return Evidence(
        NodeState.DOUBTFUL, f"The desk cannot see this; look at {rules.store}'s own pages.", mend=MendAct.LOOK_THERE
    )


def _not_kept_here(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    return _unseen(rules, known)


def questions_to_come(rules: Rulebook, known: Known) -> Sequence[str]:
    """What the store will ask about the build when it has come there, by the facts and the planned day."""
    build = known.build
    return [question.text for question in foreseen(rules, build.facts, known.day)] if build is not None else []


EVIDENCE: Mapping[ThingKind, Callable[[Rulebook, str, Thing, Known], Evidence]] = {
    ThingKind.PAPERS: _papers,
    ThingKind.BERTH: _berth,
    ThingKind.BUILD: _build,
    ThingKind.TEXT: _text,
    ThingKind.PICTURE: _not_kept_here,
    ThingKind.ANSWERS: _not_kept_here,
    ThingKind.PAGE: _not_kept_here,
    ThingKind.OFFER: _offer,
    ThingKind.TRIAL: _trial,
    ThingKind.REVIEW: _review,
    ThingKind.LAUNCH: _launch,
}
