"""Stores: connected, carried by hand, seen; the events they push; drills."""

from __future__ import annotations

import json
from typing import Annotated

from fastapi import Query, Request, Response
from fastapi.concurrency import run_in_threadpool

from restless_tide.core.rights import Apps, Reach, Right
from restless_tide.desk import connecting, drills, find, pushes, retiring, stores
from restless_tide.desk.desk import Desk
from restless_tide.engine import sightings
from restless_tide.gateways.protocol import EVENT_TYPE, EVENTS_TYPE, MOST_EVENTS
from restless_tide.service import shown, threads
from restless_tide.service.rights import needs, open_to_anyone
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import Reached, SignedIn, SignedInAtOnce, TheDesk
from restless_tide.wire.retiring import OutlookTold, ReasonWanted
from restless_tide.wire.stores import (
    CarriedWanted,
    DrillTold,
    DrillWanted,
    KeyStepsTold,
    RetriedTold,
    StoreTold,
    StoreWanted,
)

router = router_of("stores", "/v1")


@router.get("/stores")
@needs(Right.SEE, Reach.SOME)
def every(desk: TheDesk, reach: Reached) -> list[StoreTold]:
    """The stores this desk knows."""
    with desk.look() as session:
        return [shown.store(session, row, desk, reach) for row in stores.every(session)]


@router.post("/stores", status_code=201)
@needs(Right.ARRANGE_DESK, Reach.DESK)
def connect(wanted: StoreWanted, desk: TheDesk, person: SignedIn) -> StoreTold:
    """Connect a store, or replace its key; the connection is tried before anything is kept."""
    return _told(desk, connecting.connect(desk, person.id, wanted.name, json.dumps(wanted.connection)).name)


@router.post("/carried-stores", status_code=201)
@needs(Right.ARRANGE_DESK, Reach.DESK)
def carry(wanted: CarriedWanted, desk: TheDesk, person: SignedIn) -> StoreTold:
    """Keep a store without a gateway, or give it a new rulebook: its orders become steps for people."""
    return _told(desk, connecting.carry(desk, person.id, wanted.name, wanted.rulebook).name)


@router.get("/stores/key-steps")
@needs(Right.SEE, Reach.SOME)
def key_steps(_: SignedIn) -> KeyStepsTold:
    """How a key is made at a store, step by step, with the rights it needs."""
    return KeyStepsTold(steps=list(connecting.KEY_STEPS))


@router.get("/stores/{store}")
@needs(Right.SEE, Reach.SOME)
def one(store: str, desk: TheDesk, reach: Reached) -> StoreTold:
    """One store: how it is, and what waits there."""
    return _told(desk, store, reach)


@router.get("/stores/{store}/disconnection")
@needs(Right.SEE, Reach.DESK)
def outlook(store: str, desk: TheDesk, _: SignedIn) -> OutlookTold:
    """What disconnecting the store would meet: what has to end first, and what stays."""
    with desk.look() as session:
        return OutlookTold.of(retiring.store_outlook(session, find.store(session, store)))


@router.put("/stores/{store}/disconnection")
@needs(Right.ARRANGE_DESK, Reach.DESK)
def disconnect(store: str, wanted: ReasonWanted, desk: TheDesk, person: SignedIn) -> StoreTold:
    """Forget the key and ask the store nothing more. Connecting it under the same name takes it into use again."""
    return _told(desk, retiring.disconnect(desk, person.id, store, wanted.reason).name)


@router.post("/stores/{store}/push-secret")
@needs(Right.ARRANGE_DESK, Reach.DESK)
def rotate(store: str, desk: TheDesk, person: SignedIn) -> StoreTold:
    """Have the store make a new secret for the events it pushes."""
    return _told(desk, connecting.rotate_push(desk, person.id, store).name)


@router.post(
    "/stores/{store}/events",
    status_code=204,
    openapi_extra={
        "requestBody": {
            "required": True,
            "content": {
                EVENT_TYPE: {"schema": {"type": "object"}},
                EVENTS_TYPE: {"schema": {"type": "array", "items": {"type": "object"}, "maxItems": MOST_EVENTS}},
            },
        }
    },
)
@open_to_anyone
async def pushed(store: str, request: Request, desk: TheDesk) -> Response:
    """Take what a store pushes: a CloudEvent, or a batch of them, signed by Standard Webhooks. ``store`` is the store's id here."""
    body = await request.body()
    await run_in_threadpool(_hear, desk, store, body, dict(request.headers))
    return Response(status_code=204)


def _hear(desk: Desk, store: str, body: bytes, headers: dict[str, str]) -> None:
    sightings.hear(desk, store, pushes.verified(desk, store, body, headers))


@router.post("/stores/{store}/untaken-events")
@needs(Right.ARRANGE_DESK, Reach.DESK)
def try_untaken(store: str, desk: TheDesk, person: SignedIn) -> RetriedTold:
    """Try the events again that the desk could not take, after an update of the desk or of the store's gateway."""
    with desk.look() as session:
        name = find.store(session, store).name
    taken, left = sightings.try_untaken(desk, person.id, name)
    return RetriedTold(taken=taken, left=left)


@router.post("/drills", status_code=202, tags=["drills"])
@needs(Right.ARRANGE_DESK, Reach.DESK)
async def drill(wanted: DrillWanted, request: Request, desk: TheDesk, person: SignedInAtOnce) -> list[DrillTold]:
    """Send a halt the whole way to the stores and measure it; no release is touched."""

    def ordered() -> list[DrillTold]:
        with desk.act(person.id) as act:
            return [_drilled(drills.so_far(order)) for order in drills.order_halts(act, wanted.store)]

    return await threads.steering(request, ordered)


@router.get("/drills", tags=["drills"])
@needs(Right.SEE, Reach.SOME)
def drilled(desk: TheDesk, _: SignedIn, order: Annotated[list[str], Query()]) -> list[DrillTold]:
    """How these drills went so far."""
    with desk.look() as session:
        return [_drilled(entry) for entry in drills.look(session, order)]


def _drilled(entry: drills.Drilled) -> DrillTold:
    return DrillTold.of(entry)


def _told(desk: Desk, name: str, reach: Apps = None) -> StoreTold:
    with desk.look() as session:
        return shown.store(session, find.store(session, name), desk, reach)
