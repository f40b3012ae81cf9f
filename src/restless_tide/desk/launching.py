"""What the launch of a leg waits for: how each of its conditions stands, who gives the go-ahead, when it can be foreseen."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session, object_session

from restless_tide.core.conditions import (
    Condition,
    Facts,
    GoAhead,
    SeenLive,
    SeenTrial,
    Source,
    Stand,
    TrialSteady,
    foreseen,
    may_give,
    reads,
    renamed,
    singles,
    unmet,
)
from restless_tide.core.conditions import stands as core_stands
from restless_tide.core.contradictions import Beside, contradictions
from restless_tide.core.errors import ImpossibleAct, Invalid
from restless_tide.core.leg import OPEN_TO_SUBMISSION, LegPhase
from restless_tide.core.rollout import OFFERED
from restless_tide.core.words import listed
from restless_tide.desk import build_reports, find, go_aheads, legs, pacing, people
from restless_tide.desk.desk import Act
from restless_tide.desk.go_aheads import conditions_of
from restless_tide.records.tables import (
    Cohort,
    Consignment,
    GoAheadGiven,
    Leg,
    Person,
    Release,
    Trial,
    TrialUsage,
)

_UNAPPROVED = OPEN_TO_SUBMISSION | {LegPhase.UNDER_REVIEW}


def facts_of(leg: Leg, now: datetime) -> Facts:
    """What is so for a leg; only what its conditions read is asked for."""
    conditions = conditions_of(leg)
    if not conditions:
        return Facts(now)
    session, read = object_session(leg), reads(conditions)
    assert session is not None
    facts = Facts(now)
    if Source.GO_AHEADS in read:
        given = go_aheads.given(leg)
        facts = _with(facts, go_aheads=given, names=people.names(session, people_of(conditions) | given.keys()))
    if read & {Source.REVIEWS, Source.ROLLOUTS}:
        others = [other for other in leg.release.legs if other.id != leg.id]
        facts = _with(
            facts,
            approved={str(find.place_of(other)): _approved_since(other) for other in others},
            beside=tuple(str(find.place_of(other)) for other in others if other.track == leg.track),
            live={str(find.place_of(other)): _live(other) for other in others},
        )
    if Source.TRIALS in read:
        facts = _with(facts, trials=_trials(session, leg))
    if Source.REPORTS in read:
        counts, settled = build_reports.counted(session, leg.build_id)
        facts = _with(facts, open_reports=counts, settled=settled)
    return facts


def _with(facts: Facts, **found: object) -> Facts:
    return replace(facts, **found)  # type: ignore[arg-type]


def people_of(conditions: Collection[Condition]) -> set[str]:
    """The ids of the people whom conditions name."""
    return {who for one in singles(conditions) if isinstance(one, GoAhead) for who in one.people}


def _approved_since(leg: Leg) -> datetime | None:
    if legs.phase(leg) in _UNAPPROVED:
        return None
    last = legs.last_round(leg)
    return last.changed_at if last is not None else leg.launched_at or leg.created_at


def _live(leg: Leg) -> SeenLive:
    seen = leg.sighting
    if seen is None or leg.state not in OFFERED or seen.state not in OFFERED:
        return SeenLive(0.0, None)
    return SeenLive(seen.share, seen.at)


def _trials(session: Session, leg: Leg) -> dict[str, SeenTrial]:
    """What was counted of the leg's build, by the name of the cohort that tests it."""
    asked = (
        select(Cohort.name, func.sum(TrialUsage.sessions), func.sum(TrialUsage.crashed))
        .join(Trial, Trial.cohort_id == Cohort.id)
        .join(Consignment, Consignment.id == Trial.consignment_id)
        .outerjoin(TrialUsage, TrialUsage.trial_id == Trial.id)
        .where(Consignment.build_id == leg.build_id)
        .group_by(Cohort.name)
    )
    return {name: SeenTrial(sessions or 0, crashed or 0) for name, sessions, crashed in session.execute(asked)}


def stands(leg: Leg, now: datetime) -> list[Stand]:
    """How each condition of a leg stands."""
    return core_stands(conditions_of(leg), facts_of(leg, now))


def waits_for(leg: Leg, now: datetime) -> list[str]:
    """What an approved leg still waits for before its launch."""
    missing = unmet(conditions_of(leg), facts_of(leg, now)) if leg.conditions else []
    return [*missing, *pacing.waits_for_thaw(leg, now), *pacing.waits_for_lead(leg, now)]


def comes_at(leg: Leg, now: datetime) -> datetime | None:
    """When an approved leg is launched if nothing but time passes; None: something else is missing."""
    if legs.phase(leg) is not LegPhase.APPROVED or pacing.waits_for_lead(leg, now):
        return None
    conditions, facts, at = conditions_of(leg), facts_of(leg, now), now
    for _ in range(_MOST_FREEZES_IN_A_ROW):
        found = foreseen(conditions, replace(facts, now=at))
        frozen = legs.frozen_until(leg, found) if found is not None else None
        if found is None or frozen is None:
            return found
        at = frozen[1]
    return None


_MOST_FREEZES_IN_A_ROW = 20


def asked_told(leg: Leg) -> str:
    """Whose go-ahead a leg waits for, in words."""
    session = object_session(leg)
    assert session is not None
    asked = go_aheads.waits_for_people(leg)
    if all(not one.people and one.count == 1 for one in asked):
        return "your go-ahead"
    given = go_aheads.given(leg)
    names = people.names(session, people_of(asked) | given.keys())
    facts = Facts(leg.created_at, go_aheads=given, names=names)
    return " and for ".join(one.stand(facts).missing for one in asked)


# setting


def with_ids(session: Session, conditions: Collection[Condition]) -> tuple[Condition, ...]:
    """The same conditions with people by their ids, where they are named by address. Raises Invalid for one who is unknown."""
    return renamed(conditions, {who: people.meant(session, who).id for who in people_of(conditions)})


def with_addresses(session: Session, conditions: Collection[Condition]) -> tuple[Condition, ...]:
    """The same conditions with people by their addresses, as a person writes them."""
    asked = select(Person.id, Person.email).where(Person.id.in_(people_of(conditions)))
    return renamed(conditions, dict(session.execute(asked).all()))


def set_conditions(act: Act, leg: Leg, conditions: tuple[Condition, ...]) -> None:
    """What the launch of a leg waits for from now on. Raises Invalid for conditions that can never hold together."""
    conditions = tuple(dict.fromkeys(conditions))
    app = leg.release.app
    for one in singles(conditions):
        if isinstance(one, TrialSteady):
            find.cohort(act.session, app, one.cohort)
    go_aheads.keep(leg, conditions)
    leg.looks_at = None


def demand_possible(session: Session, release: Release, now: datetime, place: str | None = None) -> None:
    """Raise Invalid where conditions of a release can never hold together, or those of one of its legs, with the reasons."""
    waiting = [leg for leg in release.legs if leg.conditions and leg.launched_at is None]
    if not waiting:
        return
    named = {who for leg in waiting for who in people_of(conditions_of(leg))}
    gone = named - people.names(session, named).keys()
    beside = [
        Beside(str(find.place_of(leg)), conditions_of(leg), launched=leg.launched_at is not None)
        for leg in release.legs
    ]
    found = contradictions(beside, now, frozenset(gone))
    if found and (place is None or place in found):
        raise Invalid(
            " ".join(found.values()),
            remedy="Change the conditions so that they can hold together.",
            code="conditions-contradict",
        )


# go-aheads


def give(act: Act, release: Release, chosen: list[Leg], reason: str) -> list[Leg]:
    """Give the go-ahead of one person for some legs; the launch follows when all conditions hold.

    Raises ImpossibleAct where none of them waits for one of this person.
    """
    done = []
    for leg in chosen:
        if (
            leg.launched_at is not None
            or act.person in go_aheads.given(leg)
            or not may_give(conditions_of(leg), act.person)
        ):
            continue
        leg.go_aheads.append(GoAheadGiven(leg_id=leg.id, person=act.person, given_at=act.now, reason=reason))
        act.log("go-ahead given", legs.leg_subject(leg), app=release.app.name, reason=reason)
        done.append(leg)
    if not done:
        raise ImpossibleAct(_why_none(act, release, chosen), possible=[])
    return done


def _why_none(act: Act, release: Release, chosen: list[Leg]) -> str:
    waiting = [leg for leg in chosen if leg.launched_at is None]
    if any(act.person in go_aheads.given(leg) for leg in waiting):
        return f"You have given your go-ahead for {release.version} already."
    asked = {who for leg in waiting for one in conditions_of(leg) for who in people_of([one])}
    if asked:
        names = people.names(act.session, asked)
        return f"The go-ahead for {release.version} is asked of {listed(sorted(names.values()))}."
    return f"No leg of {release.version} waits for the go-ahead."


def take_back(act: Act, release: Release, chosen: list[Leg], reason: str) -> list[Leg]:
    """Withdraw the go-ahead of this person for some legs that were not launched yet. Raises ImpossibleAct where there is none."""
    done = []
    for leg in chosen:
        mine = [one for one in leg.go_aheads if one.person == act.person and one.withdrawn_at is None]
        if leg.launched_at is not None or not mine:
            continue
        for one in mine:
            one.withdrawn_at = act.now
        act.log("go-ahead withdrawn", legs.leg_subject(leg), app=release.app.name, reason=reason)
        done.append(leg)
    if not done:
        given = [leg for leg in chosen if act.person in go_aheads.given(leg)]
        said = "it is launched already" if given else "you have given none"
        raise ImpossibleAct(f"There is no go-ahead to withdraw for {release.version}: {said}.", possible=[])
    return done
