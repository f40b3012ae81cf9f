"""What handing a build to cohorts would mean at each store: seats, review, what is missing. Nothing is changed here."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.cohorts import (
    Foresight,
    Seating,
    SeenTrial,
    brief_findings,
    foresee_review,
    seat_findings,
)
from restless_tide.core.consignment import UNDER_WAY as COMING
from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.errors import Finding, Invalid, Level, NotReady
from restless_tide.core.rulebook import CohortKind
from restless_tide.core.trial import UNDER_WAY
from restless_tide.desk import builds, cohorts, find, retiring, seating
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Berth, Build, Cohort, Consignment, Membership, Tester, Trial

USUAL_BRIEF = {"en": "Use it as you always do, and tell us what is not right."}


@dataclass(frozen=True)
class Brief:
    """What testers and the store's reviewer are told. ``texts`` by locale; what is left out comes from the cohort."""

    texts: Mapping[str, str] = field(default_factory=dict)
    contact: str = ""
    remarks_to: str = ""
    sign_in: Mapping[str, str] | None = None


@dataclass(frozen=True)
class Plan:
    """One cohort at one store: what handing the build to it would mean there. ``carried`` of them have taken part before."""

    cohort: Cohort
    berth: Berth
    consignment: Consignment | None
    track: str
    texts: dict[str, str]
    contact: str
    people: tuple[Tester, ...]
    carried: int
    without_platform: int
    seating: Seating | None
    foresight: Foresight | None
    replaces: Trial | None
    findings: tuple[Finding, ...]

    @property
    def waits_for_build(self) -> bool:
        return self.consignment is not None and self.consignment.state in COMING


def plan(
    session: Session,
    app_name: str,
    build_id: str,
    cohort_names: Sequence[str],
    store_names: Sequence[str],
    brief: Brief,
    *,
    when_ready: bool = False,
) -> list[Plan]:
    """What handing a build to cohorts would mean at each store: seats, review, what is missing. Changes nothing.

    Without stores: wherever the cohort is and the build went. Raises NotFound, Conflict for what is retired, and Invalid where
    that is nowhere.
    """
    app = retiring.app_in_use(session, app_name)
    build = find.build_of(session, app, build_id)
    chosen = find.cohorts(session, app, cohort_names)
    if not chosen:
        raise Invalid("No cohort was named.", remedy="Name one or more: --cohort NAME", code="cohort-missing")
    for cohort in chosen:
        retiring.demand_in_use(cohort)
    plans: list[Plan] = []
    sitting: dict[tuple[str, str], set[str]] = defaultdict(set)
    for cohort in chosen:
        for berth in _berths(session, app, build, cohort, store_names):
            besides = sitting[berth.id, cohort.kind]
            made = _plan_one(session, build, cohort, berth, brief, besides, when_ready=when_ready)
            besides.update(tester.id for tester in made.people)
            plans.append(made)
    return plans


def _berths(session: Session, app: App, build: Build, cohort: Cohort, store_names: Sequence[str]) -> list[Berth]:
    if store_names:
        return [find.berth(session, app, find.store(session, name)) for name in dict.fromkeys(store_names)]
    there = [row.berth for row in cohort.attachments if builds.consignment_at(session, build, row.berth) is not None]
    if not there:
        at = ", ".join(row.berth.store.name for row in cohort.attachments) or "no store"
        raise NotReady(
            f"{app.title} {build.label} went to none of the stores where {cohort.name} is ({at}).",
            remedy=f"Send it: tide build send {build.id} --store STORE",
            code="build-not-ready",
        )
    return there


def _plan_one(
    session: Session,
    build: Build,
    cohort: Cohort,
    berth: Berth,
    brief: Brief,
    besides: set[str],
    *,
    when_ready: bool,
) -> Plan:
    app, store, rules = cohort.app, berth.store, rules_of(berth.store)
    findings: list[Finding] = []
    consignment = builds.consignment_at(session, build, berth)
    texts = {locale: text.strip() for locale, text in (brief.texts or cohort.brief).items() if text.strip()}
    contact, track = brief.contact or cohort.contact, cohorts.track_of(cohort, berth)
    if consignment is None or consignment.state is not ConsignmentState.READY:
        coming = consignment is not None and consignment.state in COMING
        state = consignment.state if consignment else "not sent there"
        if not (coming and when_ready):
            findings.append(
                Finding(
                    "build-not-ready",
                    Level.BLOCKER,
                    f"{app.title} {build.label} is {state} at {store.name}; testers can get it once it is ready.",
                    "build",
                    "Wait until it is ready, or say --when-ready."
                    if coming
                    else f"Push it with --wait: tide build push FILE --app {app.name} --store {store.name} --wait",
                )
            )
    if track not in cohorts.tracks_of(session, berth).ways:
        remedy = f"Choose another: tide cohort attach {cohort.name} --app {app.name} --store {store.name} --track TRACK"
        detail = f"{rules.store} no longer has the track {track} that {cohort.name} uses."
        findings.append(Finding("track-gone", Level.BLOCKER, detail, "cohort", remedy))
    if cohorts.attachment(cohort, berth) is None:
        findings.append(
            Finding(
                "cohort-elsewhere",
                Level.BLOCKER,
                f"{cohort.name} is not at {store.name}.",
                "cohort",
                f"Put it there: tide cohort attach {cohort.name} --app {app.name} --store {store.name}",
            )
        )
        return Plan(cohort, berth, consignment, track, texts, contact, (), 0, 0, None, None, None, tuple(findings))
    everybody = seating.people(session, cohort)
    people = seating.who_may_install(build, everybody)
    if not everybody:
        findings.append(
            Finding(
                "cohort-empty",
                Level.NOTE if cohort.kind is CohortKind.WALK_IN else Level.BLOCKER,
                f"Nobody is in {cohort.name}.",
                "cohort",
                f"Add testers: tide tester add ADDRESS --app {app.name} --cohort {cohort.name}",
            )
        )
    foresight = foresee_review(rules, cohort.kind, build.version, build.number, opened_before(session, berth))
    findings += brief_findings(rules, cohort.kind, texts, sign_in=brief.sign_in is not None, reviewed=foresight.waits)
    if not contact:
        findings.append(
            Finding("contact-missing", Level.BLOCKER, "A trial needs a contact.", "brief", "Say whom testers may ask.")
        )
    seats = seating.try_seats(session, berth, cohort.kind, build, people, besides)
    findings += seat_findings(seats, {tester.id: tester.email for tester in people})
    if foresight.waits:
        findings.append(
            Finding(
                "review-first", Level.NOTE, f"{foresight.because} Usually {foresight.usual_hours:.3g} hours.", "review"
            )
        )
    left = len(everybody) - len(people)
    if left:
        findings.append(
            Finding(
                "platform-missing",
                Level.NOTE,
                f"{left} of {cohort.name} have no {build.platform} device and are not invited.",
                "cohort",
            )
        )
    return Plan(
        cohort, berth, consignment, track, texts, contact, tuple(people), _carried(session, cohort, people), left, seats, foresight,
        replaced_by(cohort, berth), tuple(findings),
    )  # fmt: skip


def _carried(session: Session, cohort: Cohort, people: Sequence[Tester]) -> int:
    before = select(Membership.tester_id).where(Membership.cohort_id == cohort.id, Membership.accepted_at.is_not(None))
    return len({tester.id for tester in people}.intersection(session.scalars(before)))


def opened_before(session: Session, berth: Berth) -> list[SeenTrial]:
    """The trials that the store of a berth has opened there."""
    rows = session.execute(
        select(Build.version, Build.number, Cohort.kind)
        .select_from(Trial)
        .join(Consignment, Trial.consignment_id == Consignment.id)
        .join(Build, Consignment.build_id == Build.id)
        .join(Cohort, Trial.cohort_id == Cohort.id)
        .where(Consignment.berth_id == berth.id, Trial.opened_at.is_not(None))
        .distinct()
    ).all()
    return [SeenTrial(version, number, kind) for version, number, kind in rows]


def replaced_by(cohort: Cohort, berth: Berth) -> Trial | None:
    """The trial of a cohort at a berth that a newer one would replace."""
    return next(
        (trial for trial in cohort.trials if trial.state in UNDER_WAY and trial.consignment.berth_id == berth.id), None
    )
