"""A push: the packages of one build to one or several stores, and what follows there; all of it, or nothing.

Every store is asked what it holds and every rule is tried before anything is written. What does not fit
at one store keeps the build from all of them, so that no store is ahead of the others by accident.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

from sqlalchemy.orm import Session

from restless_tide.core.errors import Finding, Invalid
from restless_tide.core.packages import Facts
from restless_tide.core.readiness import base_of, demand_ready, of_stores
from restless_tide.core.tracks import Address
from restless_tide.core.trial import UNDER_WAY
from restless_tide.desk import builds, find, packages, retiring, tracks, trials
from restless_tide.desk.builds import Source
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.move_sheets import Wish
from restless_tide.desk.placing import Placed, place_in
from restless_tide.desk.planning import USUAL_BRIEF, Brief
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Berth, Build, Consignment, Person, Trial


@dataclass(frozen=True)
class Sheet:
    """What one store would say of these packages. ``there``: it has this build already, and is not asked again."""

    store: str
    title: str
    there: bool
    findings: tuple[Finding, ...]


@dataclass(frozen=True)
class HandOn:
    """The cohorts that get the build at these stores as soon as it is ready there."""

    cohorts: Sequence[str]
    brief: Brief = field(default_factory=Brief)


@dataclass(frozen=True)
class Pushed:
    """The ids of what was ordered. ``known_before``: the desk had this build already."""

    build: str
    known_before: bool
    consignments: tuple[str, ...]
    trials: tuple[str, ...]
    placed: tuple[Placed, ...] = ()


def check(desk: Desk, app_name: str, facts: Sequence[Facts], store_names: Sequence[str]) -> list[Sheet]:
    """What stands against sending packages of these facts, store by store (none named: every store that takes them).

    Raises NotFound, Invalid where no store has an open berth for the platform, and Conflict where another build of
    the app has this version and number.
    """
    with desk.look() as session:
        app = retiring.app_in_use(session, app_name)
        known = builds.made_of(session, app, facts)
        berths = _berths(session, app, facts, store_names)
        held = {entry.berth_id for entry in known.consignments} if known is not None else set()
        asked = [(berth.store.name, rules_of(berth.store).store, berth.id in held) for berth in berths]
    return [
        Sheet(store, title, there, () if there else tuple(builds.check(desk, app_name, store, facts)))
        for store, title, there in asked
    ]


def push(
    desk: Desk,
    person: Person,
    app_name: str,
    digests: Sequence[str],
    store_names: Sequence[str],
    source: Source = Source(),
    hand_on: HandOn | None = None,
    place_at: Sequence[Address] = (),
    wish: Wish = Wish(),
) -> Pushed:
    """Enter a build of packages that have arrived, order it to the stores, and draft what follows there.

    That are trials with cohorts, and placements on the tracks ``place_at``, whose stores get the build, too.

    The same packages again are the same build, and a store that has it is left as it is. Raises what
    ``builds.enter`` raises, and NotReady with every finding when something stands in the way anywhere.
    """
    with desk.look() as session:
        facts = builds.packages_of_one(session, digests)
    wanted = [*store_names, *(address.store for address in place_at)]
    sheets = check(desk, app_name, facts, list(dict.fromkeys(wanted)))
    demand_ready(of_stores((sheet.store, sheet.findings) for sheet in sheets), f"Sending this build of {app_name}")
    with desk.act(person.id) as act:
        build, known_before = builds.enter(act, app_name, digests, source)
        sent = tuple(builds.order_to(act, build, sheet.store) for sheet in sheets)
        drafted = tuple(_hand_on(act, person, build, sent, hand_on)) if hand_on is not None else ()
        there = {address for address, _ in tracks.where_is(act.session, build.app, [build.id])[build.id]}
        new = [(address, wish) for address in place_at if address not in there]
        placed = place_in(act, person, app_name, build.id, new) if new else []
        trial_ids = (*(trial.id for trial in drafted), *(trial for one in placed for trial in one.trials))
        return Pushed(build.id, known_before, tuple(entry.id for entry in sent), trial_ids, tuple(placed))


def digests_of(desk: Desk, app_name: str, build_id: str) -> list[str]:
    """The packages of a build that is entered already. Raises NotReady where their files were cleared."""
    with desk.look() as session:
        build = find.build_of(session, find.app(session, app_name), build_id)
        demand_ready(packages.cleared_findings(build), f"Sending {build.label}")
        return [entry.sha256 for entry in build.packages]


def _berths(session: Session, app: App, facts: Sequence[Facts], store_names: Sequence[str]) -> list[Berth]:
    if store_names:
        return [find.berth(session, app, find.store(session, name)) for name in dict.fromkeys(store_names)]
    platform = base_of(facts).platform
    found = [berth for berth in app.berths if berth.store_ref and berth.platform == platform]
    if not found:
        raise Invalid(
            f"{app.name} has no open berth for {platform}.",
            remedy=f"Open one with: tide berth open --app {app.name} --store STORE",
            code="berth-unknown",
        )
    return found


def _hand_on(act: Act, person: Person, build: Build, sent: Sequence[Consignment], hand_on: HandOn) -> Iterator[Trial]:
    """Trials that wait for the build, wherever a cohort is; what is handed to it already stays as it is.

    Without a brief of their own they take the cohort's, then the usual one.
    """
    brief = hand_on.brief
    for name in hand_on.cohorts:
        cohort = find.cohort(act.session, build.app, name)
        texts = brief.texts or ({} if cohort.brief else USUAL_BRIEF)
        contact = brief.contact or cohort.contact or person.email
        has_it = {trial.consignment_id: trial for trial in cohort.trials if trial.state in UNDER_WAY}
        at = {row.berth_id for row in cohort.attachments}
        there = [entry for entry in sent if entry.berth_id in at] or sent  # where it is nowhere, planning says so
        yield from (has_it[entry.id] for entry in there if entry.id in has_it)
        stores = [entry.berth.store.name for entry in there if entry.id not in has_it]
        if stores:
            own = replace(brief, texts=texts, contact=contact)
            yield from trials.open_trials(act, build.app.name, build.id, [name], stores, own, when_ready=True)
