"""Where the answers about an app stand at a store: by what it holds, and by what it would be sent."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

from restless_tide.core.answer_checks import (
    against_answers,
    against_package,
    answer_missing,
    place_of_answer,
    refused_by,
)
from restless_tide.core.answer_shapes import shape_at, whole
from restless_tide.core.answers import (
    AnswersAt,
    AnswerState,
    Asked,
    asked,
    coming,
    differing_answers,
    given_at,
    state_of_answer,
)
from restless_tide.core.errors import Finding, Level
from restless_tide.core.known import Evidence, Known, MendAct, NodeState, case_of
from restless_tide.core.rulebook import Rulebook, Thing


def of_answers(rules: Rulebook, key: str, thing: Thing, known: Known) -> Evidence:
    """Where a thing of kind answers stands. What the store holds decides; what is changed here and not sent is a caution."""
    given, chosen, case = known.answers, rules.questions_of(key), case_of(known)
    ours = [one for one in asked(rules, given, case, known.day) if one.key in chosen]
    there = [one for one in asked(rules, AnswersAt(held=given.held), case, known.day) if one.key in chosen]
    notes = [
        *(_perhaps(rules, one) for one in ours if not one.surely and one.stands is None),
        *(_announced(rules, one) for one in coming(rules, given, case, known.day) if one.key in chosen),
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
    left = {one.place for one in refused} - {place_of_answer(one) for one in ordered}
    if left:
        corrected = left <= {place_of_answer(one) for one in changed} - {
            found.place for found in refused_by(rules, ours)
        }
        act = MendAct.SEND_ANSWERS if corrected else MendAct.ANSWER_TOPICS
        return Evidence(
            NodeState.MISSING, f"{rules.store} takes no app with these answers.", findings, act, changes=True
        )
    if lacking or refused:
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


def _announced(rules: Rulebook, one: Asked) -> Finding:
    return Finding(
        "answer-asked-later",
        Level.NOTE,
        f"From {one.applies_from:%d %b %Y} on {rules.store} asks: {rules.questionnaire.text(one.key)}",
        place_of_answer(one.key),
        "Answer it before that day.",
    )
