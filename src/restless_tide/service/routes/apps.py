"""Apps and berths."""

from __future__ import annotations

from fastapi import APIRouter

from restless_tide.desk import apps, find
from restless_tide.service import shown
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.apps import AppTold, AppWanted, BerthTold, BerthWanted

router = APIRouter(prefix="/v1/apps", tags=["apps"])


@router.get("")
def every(desk: TheDesk, _: SignedIn) -> list[AppTold]:
    with desk.look() as session:
        return [shown.app(session, row) for row in apps.every(session)]


@router.post("", status_code=201)
def register(wanted: AppWanted, desk: TheDesk, person: SignedIn) -> AppTold:
    with desk.act(person.id) as act:
        return shown.app(act.session, apps.register(act, wanted.name, wanted.title, wanted.identifiers))


@router.get("/{app}")
def one(app: str, desk: TheDesk, _: SignedIn) -> AppTold:
    with desk.look() as session:
        return shown.app(session, find.app(session, app))


@router.post("/{app}/berths", status_code=202)
def open_berth(app: str, wanted: BerthWanted, desk: TheDesk, person: SignedIn) -> BerthTold:
    """Order the app's place at a store; its answer shows in the berth's state."""
    with desk.act(person.id) as act:
        row = apps.open_berth(act, app, wanted.store, wanted.listed_name, wanted.language)
        return shown.berth(act.session, row)
