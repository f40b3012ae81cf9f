"""Taking out of use what has a history: an app, a cohort, the connection to a store; and taking it into use again.

Everything that happened stays to be read. Nothing goes out of use while something is under way there, since nobody
would look after it any more; what that is, and what stays as it is, is told before.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from contextlib import suppress
from dataclasses import dataclass

from sqlalchemy import CompoundSelect, select, union_all
from sqlalchemy.orm import Session

from restless_tide.core.consignment import UNDER_WAY as BUILD_UNDER_WAY
from restless_tide.core.errors import Conflict, ImpossibleAct, TideError
from restless_tide.core.leg import LegPhase
from restless_tide.core.order import PENDING
from restless_tide.core.rollout import ON_ITS_WAY, RolloutState
from restless_tide.core.step import StepState
from restless_tide.core.trial import UNDER_WAY as TRIAL_UNDER_WAY
from restless_tide.desk import find, go_aheads, legs
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Berth, Cohort, Consignment, Leg, Order, Step, Store, Trial


@dataclass(frozen=True)
class Outlook:
    """What taking something out of use would meet: ``under_way`` has to end first, ``stays`` continues as it is."""

    under_way: tuple[str, ...]
    stays: tuple[str, ...]


def app_outlook(session: Session, app: App) -> Outlook:
    """What retiring an app would meet."""
    of_app = _legs(session, app.berths)
    offered = [
        f"{leg.release.version} stays on offer at {rules_of(leg.berth.store).store}, to those who look for it there."
        for leg in of_app
        if leg.state is RolloutState.COMPLETE
    ]
    stays = [*offered, "Its builds, releases, reports and its part of the logbook stay to be read."]
    waiting = session.scalars(select(Order).where(Order.lane.in_(_lanes(app.berths)), Order.state.in_(PENDING))).all()
    return Outlook((*_under_way(session, app.berths), *_told_orders(waiting)), tuple(stays))


def cohort_outlook(cohort: Cohort) -> Outlook:
    """What retiring a cohort would meet."""
    link = ["Its link ends: nobody joins by it any more."] if cohort.join_open else []
    stays = [*link, "Its people stay known at the desk, and its trials and their reports stay to be read."]
    return Outlook(tuple(_told_trials(cohort.trials)), tuple(stays))


def store_outlook(session: Session, store: Store) -> Outlook:
    """What disconnecting a store would meet."""
    berths = session.scalars(select(Berth).where(Berth.store_id == store.id)).all()
    steps = session.scalars(select(Step).where(Step.store_id == store.id, Step.state == StepState.WAITING)).all()
    waiting = session.scalars(select(Order).where(Order.store_id == store.id, Order.state.in_(PENDING))).all()
    under_way = [
        *_under_way(session, berths),
        *_told_orders(waiting),
        *(f"A step waits for a person: {step.title}." for step in steps),
    ]
    stays = []
    if not store.hand_carried:
        stays.append("The desk forgets the key. Withdraw it on the store's own pages, too.")
    if berths:
        apps = ", ".join(sorted({berth.app.title for berth in berths}))
        stays.append(f"What the store offers of {apps} stays as it is there; from here it can no longer be stopped.")
    stays.append(
        "Everything that happened stays to be read, and connecting it again under this name continues from there."
    )
    return Outlook(tuple(under_way), tuple(stays))


def retire_app(act: Act, name: str, reason: str) -> App:
    """Take an app out of use. Raises ImpossibleAct with what is under way."""
    app = find.app(act.session, name)
    if app.retired_at is None:
        _demand_nothing_under_way(app.title, "retired", app_outlook(act.session, app))
        app.retired_at = act.now
        act.log("app retired", f"app {app.name}", app=app.name, reason=reason)
    return app


def restore_app(act: Act, name: str, reason: str) -> App:
    app = find.app(act.session, name)
    if app.retired_at is not None:
        app.retired_at = None
        act.log("app in use again", f"app {app.name}", app=app.name, reason=reason)
    return app


def retire_cohort(act: Act, app_name: str, name: str, reason: str) -> Cohort:
    """Take a cohort out of use; its link ends. Raises ImpossibleAct with the trials that run."""
    app = find.app(act.session, app_name)
    cohort = find.cohort(act.session, app, name)
    if cohort.retired_at is None:
        _demand_nothing_under_way(cohort.name, "retired", cohort_outlook(cohort))
        cohort.retired_at, cohort.join_open = act.now, False
        act.log("cohort retired", f"cohort {cohort.name}", app=app.name, reason=reason)
    return cohort


def restore_cohort(act: Act, app_name: str, name: str, reason: str) -> Cohort:
    app = find.app(act.session, app_name)
    cohort = find.cohort(act.session, app, name)
    if cohort.retired_at is not None:
        cohort.retired_at = None
        act.log("cohort in use again", f"cohort {cohort.name}", app=app.name, reason=reason)
    return cohort


def disconnect(desk: Desk, person: str, name: str, reason: str) -> Store:
    """Forget a store's key and ask it nothing more; it is connected again under the same name by connecting it.

    Raises ImpossibleAct with what is under way there. A store that does not answer is disconnected all the same.
    """
    with desk.look() as session:
        store = find.store(session, name)
        if not store.in_use:
            return store
        _demand_nothing_under_way(store.name, "disconnected", store_outlook(session, store))
        push, gateway = store.push_ref, None if store.hand_carried else desk.gateway(store)
    if push and gateway is not None:
        with suppress(TideError):  # a store that does not answer goes on pushing, and its events are not taken
            gateway.end_push(push, f"end {push}")
    with desk.act(person) as act:
        store = find.store(act.session, name)
        _demand_nothing_under_way(store.name, "disconnected", store_outlook(act.session, store))
        store.disconnected_at, store.trouble = act.now, None
        store.sealed_key = store.push_ref = store.sealed_push_secret = None
        store.breaker_failures, store.breaker_rests_until = 0, None
        act.log("store disconnected", f"store {store.name}", reason=reason)
    desk.background.to_scrub = True
    return store


def app_in_use(session: Session, name: str) -> App:
    """An app that something new may begin with. Raises Conflict for a retired one."""
    app = find.app(session, name)
    if app.retired_at is not None:
        raise Conflict(
            f"{app.title} is retired; nothing new begins with it.",
            remedy=f"Take it into use again: tide app restore {app.name}",
            code="app-retired",
        )
    return app


def demand_in_use(cohort: Cohort) -> None:
    """Raise Conflict for a cohort that is retired."""
    if cohort.retired_at is not None:
        raise Conflict(
            f"{cohort.name} is retired; it gets no builds and no people.",
            remedy=f"Take it into use again: tide cohort restore {cohort.name} --app {cohort.app.name}",
            code="cohort-retired",
        )


def _demand_nothing_under_way(name: str, what: str, outlook: Outlook) -> None:
    if outlook.under_way:
        raise ImpossibleAct(
            f"{name} cannot be {what} yet. {' '.join(outlook.under_way)}",
            possible=["end what is under way", "try again then"],
        )


def _under_way(session: Session, berths: Sequence[Berth]) -> list[str]:
    """What is under way at these berths, each in a sentence that says how it ends."""
    found = [
        f"The place of {berth.app.title} at {rules_of(berth.store).store} is ordered."
        for berth in berths
        if _asked(berth)
    ]
    for leg in _legs(session, berths):
        phase, what = legs.phase(leg), f"{leg.release.app.title} {leg.release.version}"
        at = rules_of(leg.berth.store).store
        if leg.state in ON_ITS_WAY:
            found.append(f"{what} is {phase} at {at}: finish it, or withdraw it.")
        elif phase is LegPhase.UNDER_REVIEW:
            found.append(f"{what} is under review at {at}: recall it, or wait for the answer.")
        elif phase is LegPhase.APPROVED and not go_aheads.waits_for_people(leg):
            found.append(f"{what} is approved at {at} and launches automatically: have it wait for a go-ahead.")
    ids = [berth.id for berth in berths]
    coming = select(Consignment).where(Consignment.berth_id.in_(ids), Consignment.state.in_(BUILD_UNDER_WAY))
    for consignment in session.scalars(coming):
        at = rules_of(consignment.berth.store).store
        found.append(f"Build {consignment.build.label} is {consignment.state} at {at}.")
    running = select(Trial).join(Consignment).where(Consignment.berth_id.in_(ids), Trial.state.in_(TRIAL_UNDER_WAY))
    return [*found, *_told_trials(session.scalars(running).all())]


def _lanes(berths: Sequence[Berth]) -> CompoundSelect[str]:
    """The lanes in which the orders about these berths, and about what is there, go."""
    ids = [berth.id for berth in berths]
    return union_all(
        select(Berth.id).where(Berth.id.in_(ids)),
        select(Leg.id).where(Leg.berth_id.in_(ids)),
        select(Consignment.id).where(Consignment.berth_id.in_(ids)),
        select(Trial.id).join(Consignment).where(Consignment.berth_id.in_(ids)),
    )


def _told_orders(orders: Collection[Order]) -> list[str]:
    return [f"An order waits for {rules_of(order.store).store}: {order.kind}." for order in orders]


def _told_trials(trials: Collection[Trial]) -> list[str]:
    return [
        f"The trial of {trial.consignment.build.label} with {trial.cohort.name} at {rules_of(trial.consignment.berth.store).store}"
        f" is {trial.state}: close it."
        for trial in trials
        if trial.state in TRIAL_UNDER_WAY
    ]


def _asked(berth: Berth) -> bool:
    return berth.store_ref is None and berth.refused_because is None


def _legs(session: Session, berths: Sequence[Berth]) -> Sequence[Leg]:
    ids = [berth.id for berth in berths]
    return session.scalars(select(Leg).where(Leg.berth_id.in_(ids)).order_by(Leg.created_at)).all()
