"""Stores."""

from __future__ import annotations

import json

from fastapi import APIRouter

from restless_tide.desk import find, stores
from restless_tide.service import shown
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.stores import StoreTold, StoreWanted

router = APIRouter(prefix="/v1/stores", tags=["stores"])


@router.get("")
def every(desk: TheDesk, _: SignedIn) -> list[StoreTold]:
    with desk.look() as session:
        return [shown.store(session, row) for row in stores.every(session)]


@router.post("", status_code=201)
def connect(wanted: StoreWanted, desk: TheDesk, person: SignedIn) -> StoreTold:
    """Connect a store, or replace its key; the connection is tried before anything is kept."""
    row = stores.connect(desk, person.id, wanted.name, json.dumps(wanted.connection))
    with desk.look() as session:
        return shown.store(session, find.store(session, row.name))
