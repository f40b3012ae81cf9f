"""Seats: who fits into a cohort by a store's rules."""

from __future__ import annotations

from restless_tide.core.errors import Conflict, Finding, Level, NotReady
from restless_tide.core.rulebook import CohortKind, CohortRules, Rulebook


def seat_rules(rules: Rulebook, kind: CohortKind) -> CohortRules:
    """The rules for cohorts of this kind. Raises Conflict where the store knows none."""
    if kind not in rules.cohorts:
        known = ", ".join(rules.cohorts)
        raise Conflict(
            f"{rules.store} knows no {kind} testers.", remedy=f"Kinds it knows: {known}.", code="cohort-kind-unknown"
        )
    return rules.cohorts[kind]


def demand_seats(rules: Rulebook, kind: CohortKind, wanted: int) -> None:
    """Raise NotReady when ``wanted`` testers of this kind do not fit; nothing is half done."""
    seats = seat_rules(rules, kind).seats
    if wanted > seats:
        raise NotReady(
            f"{rules.store} has {seats} {kind} seats; {wanted} testers would need one.",
            code="seats-exhausted",
            remedy=f"Take {wanted - seats} tester(s) out of the cohort, or hand the build to a cohort of another kind.",
            findings=[
                Finding("seats-exhausted", Level.BLOCKER, f"{wanted - seats} seats short at {rules.store}", "cohort")
            ],
        )
