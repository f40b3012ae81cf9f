"""Where the pictures of an app stand at a store: by what it holds, and by what it would be sent."""

from __future__ import annotations

from dataclasses import replace

from restless_tide.core.errors import Finding, Level
from restless_tide.core.known import Evidence, Known, MendAct, NodeState
from restless_tide.core.picture_sets import (
    check_sets,
    differing_sets,
    films_alone,
    pictures_place,
    place_of_set,
    required_sets,
    set_at,
    set_missing,
    state_of_set,
)
from restless_tide.core.rulebook import Rulebook
from restless_tide.core.texts import TextState


def of_pictures(rules: Rulebook, key: str, known: Known) -> Evidence:
    """Where the pictures of a thing stand. What the store holds decides; what is changed here and not sent is a caution."""
    given, classes = known.pictures, rules.pictures_of(key)
    lacking = {place for place in required_sets(rules, given) if place[1] in classes and not set_at(given.held, *place)}
    changed = {
        place: state_of_set(given, *place, files)
        for place, files in differing_sets(rules, given).items()
        if place[1] in classes
    }
    unsent = {place for place, state in changed.items() if state not in (TextState.ORDERED, TextState.WAITS)}
    said = [
        found
        for found in check_sets(rules, given, classes, only_new=True)
        if found.code != "pictures-missing" or pictures_place(found.place) in lacking
    ]
    told = {pictures_place(found.place) for found in said if found.level is Level.BLOCKER}
    findings = [
        found if lacking or found.level is not Level.BLOCKER else replace(found, level=Level.CAUTION) for found in said
    ]
    not_ordered = {place for place in lacking if changed.get(place) is not TextState.ORDERED}
    findings += [
        _unsent(rules, *place) if place in unsent else set_missing(rules, *place)
        for place in sorted(not_ordered)
        if place not in told
    ]
    if not_ordered:
        act = MendAct.SEND_PICTURES if unsent >= not_ordered and not told else MendAct.PUT_PICTURES
        reason = f"{rules.store} does not hold {_sets(len(not_ordered))} of pictures that it demands."
        return Evidence(NodeState.MISSING, reason, tuple(findings), act, changes=True)
    alone = [found for found in films_alone(rules, given) if (pictures_place(found.place) or ("", ""))[1] in classes]
    if alone:
        others = [found for found in findings if found.place not in {one.place for one in alone}]
        reason = f"{rules.store} holds a film without the pictures that it needs."
        return Evidence(NodeState.MISSING, reason, (*alone, *others), MendAct.PUT_PICTURES, changes=True)
    if lacking:
        reason = f"{rules.store} has not confirmed the pictures yet."
        return Evidence(NodeState.WAITING, reason, tuple(findings), MendAct.WAIT, changes=True)
    if unsent:
        reason = f"{_sets(len(unsent))} of pictures {'differs' if len(unsent) == 1 else 'differ'} from what {rules.store} holds."
        act = MendAct.PUT_PICTURES if told else MendAct.SEND_PICTURES
        return Evidence(NodeState.DOUBTFUL, reason, tuple(findings), act, changes=True)
    kept = sum(state is TextState.WAITS for state in changed.values())
    reason = f"{_sets(kept)} of pictures {'waits' if kept == 1 else 'wait'} for the review to end." if kept else ""
    if any(found.level is Level.CAUTION for found in findings):
        return Evidence(NodeState.DOUBTFUL, reason, tuple(findings), MendAct.PUT_PICTURES, changes=True)
    if not reason and not any(given.held.get(locale, {}).get(one) for locale in given.held for one in classes):
        reason = "Nothing is demanded, and nothing is there."
    return Evidence(NodeState.DONE, reason, tuple(findings), changes=bool(changed))


def _sets(count: int) -> str:
    return "1 set" if count == 1 else f"{count} sets"


def _unsent(rules: Rulebook, locale: str, key: str) -> Finding:
    return Finding(
        "pictures-not-sent",
        Level.BLOCKER,
        f"{rules.store} does not hold {rules.listing.picture_title(key)} in {locale} yet.",
        place_of_set(locale, key),
        "Send the pictures there.",
    )
