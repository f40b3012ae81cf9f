"""Evidence: whether a thing that a store wants is there, kind by kind.

The graph of a rulebook names things; each has a kind, and each kind has one function here. It takes the
values that the desk knows and answers where the thing stands, why, what stands against it, and which act
helps. No store and no thing of a store is ever named: what differs between stores is in their rulebooks.

What the desk cannot see is never called done: it is ``doubtful``, and a person looks.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

from restless_tide.core.answers import asked, case_after
from restless_tide.core.applying import holds
from restless_tide.core.availability import Availability, check_change, concerns
from restless_tide.core.berth import BerthState
from restless_tide.core.check import CHECK_PICTURES, CHECK_QUESTION, Drawn, Readable, failed
from restless_tide.core.consignment import ON_ITS_WAY, ConsignmentState
from restless_tide.core.errors import Finding, Level
from restless_tide.core.evidence_of_answers import of_answers
from restless_tide.core.evidence_of_goods import of_goods
from restless_tide.core.evidence_of_pictures import of_pictures
from restless_tide.core.known import BuildKnown, Evidence, Known, MendAct, NodeState, case_of
from restless_tide.core.leg import LAUNCHED, OPEN_TO_SUBMISSION, LegPhase
from restless_tide.core.matter import MATTER_OPEN, check_matters
from restless_tide.core.picture_sets import place_of_set, taken_sets
from restless_tide.core.readiness import NOTES, check_handing_in, check_packages, check_push
from restless_tide.core.rulebook import Rulebook, Thing, ThingKind
from restless_tide.core.texts import (
    TextState,
    at,
    check_texts,
    differing,
    place_of,
    required,
    state_of_text,
    taken,
    text_at,
    text_missing,
)


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
        findings = tuple(
            replace(one, level=Level.CAUTION) if one.level is Level.BLOCKER else one for one in found.findings
        )
        return replace(found, state=NodeState.DOUBTFUL, reason=f"{found.reason} {said}".strip(), findings=findings)
    if thing.applies_from is not None and thing.applies_from > known.now:
        said = f"{rules.store} asks for it from {thing.applies_from:%d %b %Y} on, before the planned day."
        return replace(found, reason=f"{found.reason} {said}".strip())
    return found


def _applies(rules: Rulebook, thing: Thing, known: Known) -> bool | None:
    """Whether a thing is asked of this app; None where that depends on what is not known yet."""
    if thing.when is None:
        return True
    case = case_of(known)
    return holds(thing.when, case_after(case, asked(rules, known.answers, case, known.day)))


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


def _picture(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    """A rulebook that names the thing and no class of pictures says too little for the desk to see it."""
    return of_pictures(rules, key, known) if rules.pictures_of(key) else _unseen(rules, key, thing, known)


def _goods(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    return of_goods(rules, known)


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
    found += check_matters(leg.matters)
    found += failed(
        leg.checks,
        _readable(rules, known),
        [name for facts in build.facts for name in facts.permissions] if build else [],
        _drawn(rules, known),
    )
    said = {
        LegPhase.REJECTED: f"Rejected: {' '.join(leg.reasons)}".strip(": "),
        LegPhase.RECALLED: "It was recalled.",
    }.get(leg.phase, "It was not handed in yet.")
    return Evidence(NodeState.MISSING, said, tuple(found), _mend_of(found), changes=True)


def _mend_of(found: Sequence[Finding]) -> MendAct:
    """The act that helps against the first of what stands against handing in."""
    wrong = next((one for one in found if one.level is Level.BLOCKER), None)
    if wrong is None:
        return MendAct.SUBMIT
    if wrong.code in _MENDED_BY:
        return _MENDED_BY[wrong.code]
    if text_at(wrong.place) is not None:
        return MendAct.WRITE_TEXT
    return MendAct.WRITE_NOTES if wrong.place.startswith(NOTES) else MendAct.PUSH_BUILD


_MENDED_BY = {
    MATTER_OPEN: MendAct.DECIDE_MATTERS,
    CHECK_QUESTION: MendAct.TICK_CHECKS,
    CHECK_PICTURES: MendAct.PUT_PICTURES,
}


def _drawn(rules: Rulebook, known: Known) -> list[Drawn]:
    """Every set of pictures that the store takes, in each language in which the app has texts or pictures there."""
    given = known.pictures
    sets = {(one.locale, one.key): one for one in taken_sets(rules, given)}
    locales = {one.locale for one in sets.values()} | {given.language}
    return [
        Drawn(
            rules.listing.picture_meaning(key) or key,
            place_of_set(locale, key),
            f"{rules.listing.picture_title(key)} in {locale}",
            len({piece.original.sha256 for piece in sets[locale, key].pieces}) if (locale, key) in sets else 0,
        )
        for key, rule in rules.listing.pictures.items()
        for locale in (sorted(locales) if rule.by_locale else [given.language])
    ]


def _readable(rules: Rulebook, known: Known) -> list[Readable]:
    """Everything that people will read of the app at this store."""
    notes = (known.leg.notes or {}) if known.leg is not None else {}
    texts = [
        Readable(place_of(one.locale, one.field), f"{one.field} in {one.locale}", one.text)
        for one in taken(rules, known.texts)
    ]
    return [*texts, *(Readable(f"{NOTES}.{locale}", f"notes in {locale}", text) for locale, text in notes.items())]


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
    ThingKind.PICTURE: _picture,
    ThingKind.ANSWERS: of_answers,
    ThingKind.GOODS: _goods,
    ThingKind.PAGE: _unseen,
    ThingKind.OFFER: _offer,
    ThingKind.TRIAL: _trial,
    ThingKind.REVIEW: _review,
    ThingKind.LAUNCH: _launch,
}
