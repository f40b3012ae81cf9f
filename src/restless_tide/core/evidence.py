"""Evidence: whether a thing that a store wants is there, kind by kind.

The graph of a rulebook names things; each has a kind, and each kind has one function here. It takes the
values that the desk knows and answers where the thing stands, why, what stands against it, and which act
helps. No store and no thing of a store is ever named: what differs between stores is in their rulebooks.

What the desk cannot see is never called done: it is ``doubtful``, and a person looks.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from enum import StrEnum

from restless_tide.core.answers import (
    NO_ANSWERS,
    AnswersAt,
    AnswerState,
    Asked,
    against_answers,
    against_package,
    answer_missing,
    asked,
    differing_answers,
    given_at,
    place_of_answer,
    refused_by,
    shape_at,
    state_of_answer,
    whole,
)
from restless_tide.core.applying import Case, holds
from restless_tide.core.availability import Availability, check_change, concerns
from restless_tide.core.berth import BerthState
from restless_tide.core.consignment import ON_ITS_WAY, ConsignmentState
from restless_tide.core.errors import Finding, Level
from restless_tide.core.graph import Standing
from restless_tide.core.leg import LAUNCHED, OPEN_TO_SUBMISSION, LegPhase
from restless_tide.core.packages.facts import Facts
from restless_tide.core.readiness import check_handing_in, check_packages, check_push
from restless_tide.core.rulebook import PRODUCTION, Rulebook, Thing, ThingKind
from restless_tide.core.signing import NOTHING_EXPECTED, Expected
from restless_tide.core.texts import (
    NO_TEXTS,
    TextsAt,
    TextState,
    at,
    check_texts,
    differing,
    place_of,
    required,
    state_of_text,
    text_at,
    text_missing,
)
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
    ANSWER_TOPICS = "answer topics"
    SEND_ANSWERS = "send answers"
    SET_OFFER = "set offer"
    DRAFT_RELEASE = "draft release"
    WRITE_NOTES = "write notes"
    SUBMIT = "submit"
    GO_AHEAD = "go ahead"
    OPEN_TRIAL = "open trial"
    LOOK_THERE = "look at the store"
    WAIT = "wait"


REMEDIES: Mapping[MendAct, str] = {
    MendAct.OPEN_BERTH: "Open the app's place there.",
    MendAct.SIGN_PAPERS: "Sign it on the store's own pages.",
    MendAct.PUSH_BUILD: "Push a build there and wait until the store has processed it.",
    MendAct.ANSWER_QUESTIONS: "Answer the store's questions.",
    MendAct.WRITE_TEXT: "Write the texts that are missing and send them there.",
    MendAct.SEND_TEXTS: "Send the texts there.",
    MendAct.ANSWER_TOPICS: "Answer what the store asks and send the answers there.",
    MendAct.SEND_ANSWERS: "Send the answers there.",
    MendAct.WAIT: "Wait until the store has confirmed it.",
}
"""What is advised at a hand-in where a thing is not there, in words that fit every surface."""


@dataclass(frozen=True, slots=True)
class Evidence:
    """Where a thing stands. ``reason`` is one sentence; ``changes``: this release has something to do with it.

    ``code`` is that of the finding which says at a hand-in that the thing is not there.
    """

    state: NodeState
    reason: str = ""
    findings: tuple[Finding, ...] = ()
    mend: MendAct = MendAct.NONE
    changes: bool = False
    code: str = ""


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
    """The build that is to go there. ``state`` None: it was never sent; ``held`` is what the store has of the app.

    Without ``facts`` nothing is known of its packages, and nothing is said of them.
    """

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
    answers: AnswersAt = NO_ANSWERS
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
    applying = _applies(rules, thing, known)
    if applying is False:
        return Evidence(NodeState.NOT_ASKED, f"{rules.store} does not ask for it of this app.")
    found = EVIDENCE[thing.kind](rules, key, thing, known)
    if applying is None and found.state is not NodeState.DONE:
        said = f"{rules.store} may not ask for it; that depends on what is not known yet."
        return replace(found, state=NodeState.DOUBTFUL, reason=f"{found.reason} {said}".strip())
    if thing.applies_from is not None and thing.applies_from > known.now:
        said = f"{rules.store} asks for it from {thing.applies_from:%d %b %Y} on, before the planned day."
        return replace(found, reason=f"{found.reason} {said}".strip())
    return found


def case_of(known: Known) -> Case:
    """What the conditions of a rulebook are held against."""
    facts = known.build.facts if known.build is not None else ()
    return Case(facts=facts or None, offer=known.offered)


def _applies(rules: Rulebook, thing: Thing, known: Known) -> bool | None:
    """Whether a thing is asked of this app; None where that depends on what is not known yet."""
    if thing.when is None:
        return True
    questions = asked(rules, known.answers, case_of(known), known.day)
    given = {one.key: one.stands for one in questions if one.stands is not None and one.surely}
    open_ = frozenset(one.key for one in questions if one.key not in given)
    return holds(thing.when, replace(case_of(known), answers=given, unanswered=open_))


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
        return _unseen(rules, key, thing, known)
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
    match build.state:
        case None:
            facts, expected = build.facts, build.expected
            found = check_push(rules, build.held, facts, known.identifier, known.day, expected) if facts else []
            return _no_build(
                NodeState.MISSING, f"{build.label} was not sent to {rules.store}.", MendAct.PUSH_BUILD, found
            )
        case state if state in ON_ITS_WAY:
            return _no_build(NodeState.WAITING, f"{build.label} is {state} at {rules.store}.", MendAct.WAIT)
        case ConsignmentState.HELD:
            said = f"{rules.store} holds {build.label} until its questions are answered."
            return _no_build(NodeState.MISSING, said, MendAct.ANSWER_QUESTIONS)
        case ConsignmentState.READY:
            return _ready(rules, build, known)
    said = f"{rules.store} has {build.label} as {build.state}. {build.reason}".strip()
    return _no_build(NodeState.MISSING, said, MendAct.PUSH_BUILD)


def _no_build(state: NodeState, said: str, mend: MendAct, found: Sequence[Finding] = ()) -> Evidence:
    return Evidence(state, said, tuple(found), mend, changes=True, code="build-not-ready")


def _ready(rules: Rulebook, build: BuildKnown, known: Known) -> Evidence:
    """The store took this build, so its rules of today block it no more; what a person should look at stays."""
    found = [
        replace(one, level=Level.CAUTION, detail=f"{one.detail} The store took this build before.")
        if one.level is Level.BLOCKER
        else one
        for one in (check_packages(rules, build.facts, known.identifier) if build.facts else ())
    ]
    state = NodeState.DOUBTFUL if any(one.level is Level.CAUTION for one in found) else NodeState.DONE
    return Evidence(state, f"{build.label} is ready at {rules.store}.", tuple(found), changes=True)


def _text(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    given, fields = known.texts, rules.fields_of(key)
    needed = [place for place in required(rules, given, given.held) if place[1] in fields]
    lacking = {place for place in needed if not at(given.held, *place)}
    changed = {
        (locale, name): state_of_text(given, locale, name, text)
        for locale, texts in differing(rules, given).items()
        for name, text in texts.items()
        if name in fields
    }
    unsent = {place for place, state in changed.items() if state not in (TextState.ORDERED, TextState.WAITS)}
    findings = [
        _weighed(found, lacking)
        for found in check_texts(rules, given, fields, only_new=True)
        if found.code != "text-missing" or not at(given.held, *(text_at(found.place) or ("", "")))
    ]
    told = {text_at(found.place) for found in findings if found.level is Level.BLOCKER}
    findings += [
        _unsent(rules, *place) if place in unsent else text_missing(rules, *place)
        for place in sorted(place for place in lacking if place not in told)
        if changed.get(place) is not TextState.ORDERED
    ]
    not_ordered = {place for place in lacking if changed.get(place) is not TextState.ORDERED}
    if not_ordered:
        act = MendAct.SEND_TEXTS if unsent >= not_ordered and not told else MendAct.WRITE_TEXT
        said = f"{rules.store} does not hold {_texts(len(not_ordered))} that it demands."
        return Evidence(NodeState.MISSING, said, tuple(findings), act, changes=True)
    if lacking:
        said = f"{rules.store} has not confirmed the texts yet."
        return Evidence(NodeState.WAITING, said, tuple(findings), MendAct.WAIT, changes=True)
    if unsent:
        said = f"{_texts(len(unsent))} {'differs' if len(unsent) == 1 else 'differ'} from what {rules.store} holds."
        return Evidence(NodeState.DOUBTFUL, said, tuple(findings), MendAct.SEND_TEXTS, changes=True)
    kept = sum(state is TextState.WAITS for state in changed.values())
    said = f"{_texts(kept)} {'waits' if kept == 1 else 'wait'} for the review to end." if kept else ""
    if any(found.level is Level.CAUTION for found in findings):
        return Evidence(NodeState.DOUBTFUL, said, tuple(findings), MendAct.WRITE_TEXT, changes=True)
    return Evidence(NodeState.DONE, said, tuple(findings), changes=bool(changed))


def _texts(count: int) -> str:
    return "1 text" if count == 1 else f"{count} texts"


def _weighed(found: Finding, lacking: set[tuple[str, str]]) -> Finding:
    """A finding on a text blocks a release only where the texts have to be sent."""
    if found.level is Level.BLOCKER and not lacking:
        return replace(found, level=Level.CAUTION)
    return found


def _unsent(rules: Rulebook, locale: str, name: str) -> Finding:
    return Finding(
        "text-not-sent",
        Level.BLOCKER,
        f"{rules.store} does not hold {rules.listing.title(name)} in {locale} yet.",
        place_of(locale, name),
        "Send the texts there.",
    )


def _answers(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    given, chosen, case = known.answers, rules.questions_of(key), case_of(known)
    ours = [one for one in asked(rules, given, case, known.day) if one.key in chosen]
    there = [one for one in asked(rules, AnswersAt(held=given.held), case, known.day) if one.key in chosen]
    notes = [
        *(_perhaps(rules, one) for one in ours if not one.surely and one.stands is None),
        *(_announced(rules, one) for one in _coming(rules, chosen, known)),
    ]
    if not ours and not there:
        return Evidence(NodeState.NOT_ASKED, f"{rules.store} asks nothing of this app.", tuple(notes))
    states = {one: state_of_answer(rules, given, one, given_at(rules, given, one)[0]) for one in chosen}
    ordered = {one for one, state in states.items() if state is AnswerState.SENT}
    lacking, to_come = _lacking(there, given), _lacking(ours, given)
    changed = differing_answers(rules, given, ours)
    refused = refused_by(rules, there)
    unready = _unready(rules, given, [one for one in chosen if one in (lacking | to_come) - ordered], ours, changed)
    unready = [found for found in unready if found.place not in {one.place for one in refused}]
    findings = (
        *refused,
        *(found if lacking else replace(found, level=Level.CAUTION) for found in unready),
        *_held_against_package(ours, known),
        *notes,
    )
    if lacking - ordered:
        ready = all(found.code == "answer-not-sent" for found in unready)
        act = MendAct.SEND_ANSWERS if ready else MendAct.ANSWER_TOPICS
        said = f"{rules.store} does not hold {_counted(len(lacking - ordered))} that it demands."
        return Evidence(NodeState.MISSING, said, findings, act, changes=True)
    if refused:
        said = f"{rules.store} takes no app with these answers."
        return Evidence(NodeState.MISSING, said, findings, MendAct.ANSWER_TOPICS, changes=True)
    if lacking:
        said = f"{rules.store} has not confirmed the answers yet."
        return Evidence(NodeState.WAITING, said, findings, MendAct.WAIT, changes=True)
    unsent = [one for one in changed if states[one] not in (AnswerState.SENT, AnswerState.WAITS)]
    if unsent:
        said = f"{_counted(len(unsent))} {'differs' if len(unsent) == 1 else 'differ'} from what {rules.store} holds."
        return Evidence(NodeState.DOUBTFUL, said, findings, MendAct.SEND_ANSWERS, changes=True)
    if any(found.level is Level.CAUTION for found in findings):
        return Evidence(NodeState.DOUBTFUL, "", findings, MendAct.ANSWER_TOPICS, changes=True)
    said = "Changed answers wait for the review to end." if changed.keys() & given.kept else ""
    return Evidence(NodeState.DONE, said, findings, changes=bool(changed))


def _lacking(questions: Sequence[Asked], given: AnswersAt) -> set[str]:
    """The questions that are surely asked and demanded, and of which the store holds no answer."""
    return {one.key for one in questions if one.surely and one.required and one.key not in given.held}


def _unready(
    rules: Rulebook, given: AnswersAt, wanting: Sequence[str], ours: Sequence[Asked], changed: Iterable[str]
) -> list[Finding]:
    """What stands against answers that the store does not hold yet, one finding for each at most."""
    unfit = [*against_answers(rules, given, changed), *refused_by(rules, ours)]
    told = {found.place for found in unfit}
    return [*unfit, *(_wanting(rules, given, one) for one in wanting if place_of_answer(one) not in told)]


def _counted(count: int) -> str:
    return "1 answer" if count == 1 else f"{count} answers"


def _wanting(rules: Rulebook, given: AnswersAt, key: str) -> Finding:
    answer, _ = given_at(rules, given, key)
    if not whole(shape_at(rules, key), answer):
        return answer_missing(rules, key)
    return Finding(
        "answer-not-sent",
        Level.BLOCKER,
        f"{rules.store} does not hold the answer to: {rules.questionnaire.text(key)}",
        place_of_answer(key),
        "Send the answers there.",
    )


def _held_against_package(questions: Sequence[Asked], known: Known) -> list[Finding]:
    build = known.build
    if build is None or not build.facts:
        return []
    topics = {one.topic for one in questions if one.topic is not None}
    common = {topic: answer for topic, answer in known.answers.common.items() if topic in topics}
    return against_package(common, build.facts, build.label)


def _perhaps(rules: Rulebook, one: Asked) -> Finding:
    return Finding(
        "answer-perhaps",
        Level.NOTE,
        f"{rules.store} may ask: {rules.questionnaire.text(one.key)} That depends on what is not known yet.",
        place_of_answer(one.key),
    )


def _coming(rules: Rulebook, chosen: Sequence[str], known: Known) -> list[str]:
    rule = rules.questionnaire.questions
    starts = {key: rule[key].applies_from for key in chosen}
    return [key for key, start in starts.items() if start is not None and start > known.day]


def _announced(rules: Rulebook, key: str) -> Finding:
    start = rules.questionnaire.questions[key].applies_from
    return Finding(
        "answer-asked-later",
        Level.NOTE,
        f"From {start:%d %b %Y} on {rules.store} asks: {rules.questionnaire.text(key)}",
        place_of_answer(key),
        "Answer it before that day.",
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
        return Evidence(NodeState.MISSING, "It is not drafted yet.", mend=MendAct.DRAFT_RELEASE, changes=True)
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
        return Evidence(NodeState.MISSING, "It is not drafted yet.", mend=MendAct.DRAFT_RELEASE)
    if leg.phase in LAUNCHED:
        return Evidence(NodeState.DONE, f"It is {leg.phase}.", changes=True)
    if leg.phase is LegPhase.APPROVED:
        told = "; ".join(leg.waits_for)
        act = MendAct.GO_AHEAD if leg.waits_for else MendAct.WAIT
        return Evidence(NodeState.WAITING, f"It waits for {told}." if told else "", mend=act, changes=True)
    return Evidence(NodeState.MISSING, changes=True)


def _unseen(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    """What the desk cannot see. A release that is live shows that the store was content."""
    if known.standing.live:
        return Evidence(NodeState.DONE, f"{rules.store} has let a release of this app go live.")
    return Evidence(
        NodeState.DOUBTFUL, f"The desk cannot see this; look at {rules.store}'s own pages.", mend=MendAct.LOOK_THERE
    )


EVIDENCE: Mapping[ThingKind, Callable[[Rulebook, str, Thing, Known], Evidence]] = {
    ThingKind.PAPERS: _papers,
    ThingKind.BERTH: _berth,
    ThingKind.BUILD: _build,
    ThingKind.TEXT: _text,
    ThingKind.PICTURE: _unseen,
    ThingKind.ANSWERS: _answers,
    ThingKind.PAGE: _unseen,
    ThingKind.OFFER: _offer,
    ThingKind.TRIAL: _trial,
    ThingKind.REVIEW: _review,
    ThingKind.LAUNCH: _launch,
}
