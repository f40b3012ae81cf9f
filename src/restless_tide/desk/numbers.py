"""What a build is called next, and numbers held for builds that are still being made."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Finding, Invalid, Level, NotFound, StoreUnreachable
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.versions import Held, Proposal, Shelf, Step, propose_for_all
from restless_tide.desk import find, holdings
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Berth, Build, Leg, Reservation

_LABEL_LIMIT = 120


def propose(desk: Desk, app_name: str, store_names: Sequence[str], step: Step) -> tuple[Proposal, list[Finding]]:
    """The version and number that may come next at all these stores (none named: wherever the app has a berth)."""
    shelves, cautions = _shelves(desk, app_name, store_names)
    with desk.look() as session:
        return _proposal(session, find.app(session, app_name), shelves, step), cautions


def reserve(
    desk: Desk, person: str, app_name: str, store_names: Sequence[str], step: Step, label: str
) -> tuple[Reservation, Proposal, list[Finding]]:
    """Hold the next version and number. The stores are asked first; the holding itself is one act, so no two get the same."""
    if len(label) > _LABEL_LIMIT:
        raise Invalid(f"A label has {_LABEL_LIMIT} characters at most.", code="label-too-long")
    shelves, cautions = _shelves(desk, app_name, store_names)
    with desk.act(person) as act:
        app = find.app(act.session, app_name)
        proposal = _proposal(act.session, app, shelves, step)
        reservation = Reservation(
            app_id=app.id,
            version=proposal.version,
            number=proposal.number,
            stores=[asked.store for asked in shelves],
            label=label,
            reserved_by=person,
            reserved_at=act.now,
        )
        act.session.add(reservation)
        act.session.flush()
        told = {"version": proposal.version, "number": proposal.number.text, "label": label}
        act.log("number reserved", f"reservation {reservation.id}", app=app.name, after=told)
        return reservation, proposal, cautions


def of_app(session: Session, app_name: str) -> Sequence[Reservation]:
    """The reservations that no build has taken up yet, newest first."""
    app = find.app(session, app_name)
    waiting = select(Reservation).where(Reservation.app_id == app.id, Reservation.build_id.is_(None))
    return session.scalars(waiting.order_by(Reservation.reserved_at.desc())).all()


def give_back(act: Act, app_name: str, reservation_id: str) -> None:
    """Free a number that was reserved and never used. Raises Conflict when its build has come."""
    app = find.app(act.session, app_name)
    found = act.session.get(Reservation, reservation_id)
    if found is None or found.app_id != app.id:
        raise NotFound(f"{app.title} has no reservation {reservation_id!r}.", code="reservation-unknown")
    if found.build_id is not None:
        raise Conflict(f"Build {found.build_id} carries this number; it is used up.", code="number-taken")
    act.session.delete(found)
    told = {"version": found.version, "number": found.number.text}
    act.log("number given back", f"reservation {found.id}", app=app.name, before=told)


def take_up(act: Act, build: Build) -> None:
    """The build that a number was reserved for has come."""
    same = select(Reservation).where(
        Reservation.app_id == build.app_id,
        Reservation.version == build.version,
        Reservation.number_order == build.number.order,
    )
    for reservation in act.session.scalars(same):
        reservation.build_id = reservation.build_id or build.id


@dataclass(frozen=True)
class _Asked:
    """What one store was found to hold."""

    store: str
    platform: str
    shelf: Shelf


def _shelves(desk: Desk, app_name: str, store_names: Sequence[str]) -> tuple[list[_Asked], list[Finding]]:
    """What each store holds, asked there and then; the desk's own records, with a caution, where one does not answer."""
    shelves, cautions = [], []
    with desk.look() as session:
        app = find.app(session, app_name)
        berths = [find.berth(session, app, find.store(session, name)) for name in dict.fromkeys(store_names)]
        berths = berths or [berth for berth in app.berths if berth.store_ref]
        if not berths:
            raise Invalid(
                f"{app.title} has no open berth yet; any version and number may be the first.",
                remedy=f"Open one with: tide berth open --app {app.name} --store STORE",
                code="berth-unknown",
            )
        for berth in berths:
            try:
                held = holdings.held_at(desk, berth)
            except StoreUnreachable as wrong:
                held = holdings.held_by_record(session, berth)
                detail = f"{berth.store.name} was not asked, its line is from the desk's own records: {wrong.detail}"
                cautions.append(Finding("store-not-asked", Level.CAUTION, detail, berth.store.name, wrong.remedy))
            gone_out = _gone_out(session, berth)
            told = tuple(replace(build, went_out=(build.version, build.number) in gone_out) for build in held)
            shelves.append(_Asked(berth.store.name, berth.platform, Shelf(rules_of(berth.store), told)))
    return shelves, cautions


def _gone_out(session: Session, berth: Berth) -> set[tuple[str, BuildNumber]]:
    """The builds of this berth whose releases people were offered, whatever became of them."""
    offered = (
        select(Build.version, Build.number)
        .join(Leg, Leg.build_id == Build.id)
        .where(Leg.berth_id == berth.id, Leg.launched_at.is_not(None))
    )
    return {(version, number) for version, number in session.execute(offered)}


def _proposal(session: Session, app: App, shelves: Sequence[_Asked], step: Step) -> Proposal:
    """What the stores hold, with what is held here beside it: reservations, and builds not sent anywhere yet."""
    kept = select(Reservation.version, Reservation.number).where(Reservation.app_id == app.id)
    reserved = [Held(version, number, reserved=True) for version, number in session.execute(kept)]
    found = []
    for asked in shelves:
        here = select(Build.version, Build.number).where(Build.app_id == app.id, Build.platform == asked.platform)
        entered = [Held(version, number) for version, number in session.execute(here)]
        known = {(build.version, build.number) for build in asked.shelf.held}
        more = [held for held in (*reserved, *entered) if (held.version, held.number) not in known]
        found.append(Shelf(asked.shelf.rules, (*asked.shelf.held, *more)))
    return propose_for_all(found, step)
