"""Whether a rule applies to an app: the conditions of a rulebook held against what is known of a case.

What is not known yet, such as a build that nobody has made, leaves a condition open: neither true nor false.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field

from restless_tide.core.availability import Availability
from restless_tide.core.documents import FileAnswer
from restless_tide.core.numbers import whole_number
from restless_tide.core.packages.facts import Facts
from restless_tide.core.rule import When, decided

Answer = str | int | tuple[str, ...] | Mapping[str, tuple[str, ...]] | FileAnswer
"""An answer: a choice or words, a whole number, several choices, attributes by kind, or a document."""


@dataclass(frozen=True, slots=True)
class Case:
    """What a condition is about: an app at a store. None: not known yet."""

    facts: Sequence[Facts] | None = None
    offer: Availability | None = None
    answers: Mapping[str, Answer] = field(default_factory=dict)
    unanswered: Collection[str] = ()


def holds(when: When | None, case: Case) -> bool | None:
    """Whether a condition holds of a case; None where that depends on what is not known yet."""
    return True if when is None else decided(when, lambda one: _compared(one, case))


def _compared(when: When, case: Case) -> bool | None:
    if when.answer is not None:
        return _answered(when, case)
    if when.paid is not None:
        return None if case.offer is None else case.offer.paid == when.paid
    if when.offered_in is not None:
        return None if case.offer is None else not case.offer.countries or when.offered_in in case.offer.countries
    if case.facts is None:
        return None
    return any(_shows(when, package) for package in case.facts)


def _answered(when: When, case: Case) -> bool | None:
    given = case.answers.get(when.answer or "")
    if given is None:
        return None if when.answer in case.unanswered else False
    if when.at_least is not None:
        return isinstance(given, int) and given >= when.at_least
    if isinstance(given, Mapping):
        rows = given.values() if when.kind is None else [given.get(when.kind, ())]
        return any(attribute in row for row in rows for attribute in when.one_of)
    chosen = given if isinstance(given, tuple) else (given,)
    return any(choice in chosen for choice in when.one_of)


def _shows(when: When, package: Facts) -> bool:
    if when.permission is not None:
        return when.permission in package.permissions
    if when.capability is not None:
        return when.capability in package.capabilities
    return (whole_number(package.target_platform or "") or 0) >= (when.target_at_least or 0)
