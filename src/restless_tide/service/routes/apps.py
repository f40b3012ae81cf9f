"""Apps and berths."""

from __future__ import annotations

from restless_tide.core.rights import Reach, Right
from restless_tide.desk import apps, correcting, find, retiring
from restless_tide.service import shown
from restless_tide.service.rights import needs
from restless_tide.service.router import Reason, router_of
from restless_tide.service.signed_in import Reached, SignedIn, TheDesk
from restless_tide.wire.apps import (
    AppChange,
    AppTold,
    AppWanted,
    BerthDetailTold,
    BerthNameWanted,
    BerthTold,
    BerthWanted,
    OfferSheetTold,
    OfferWanted,
)
from restless_tide.wire.problems import findings_told
from restless_tide.wire.retiring import OutlookTold, ReasonWanted

router = router_of("apps", "/v1/apps")


@router.get("")
@needs(Right.SEE_BUILDS, Reach.SOME)
def every(desk: TheDesk, reach: Reached) -> list[AppTold]:
    """The apps that you reach, by title."""
    with desk.look() as session:
        return [app for app in shown.every_app(session) if reach is None or app.name in reach]


@router.post("", status_code=201)
@needs(Right.ARRANGE_APPS, Reach.DESK)
def register(wanted: AppWanted, desk: TheDesk, person: SignedIn) -> AppTold:
    """Register an app under a name of its own, with its identifiers by platform."""
    with desk.act(person.id) as act:
        return shown.app(act.session, apps.register(act, wanted.name, wanted.title, wanted.identifiers))


@router.get("/{app}")
@needs(Right.SEE_BUILDS)
def one(app: str, desk: TheDesk, _: SignedIn) -> AppTold:
    """One app, with its berths."""
    with desk.look() as session:
        return shown.app(session, find.app(session, app))


@router.patch("/{app}")
@needs(Right.ARRANGE_APPS)
def change(app: str, wanted: AppChange, desk: TheDesk, person: SignedIn) -> AppTold:
    """Correct the title, or an identifier that nothing uses yet."""
    with desk.act(person.id) as act:
        return shown.app(act.session, correcting.change_app(act, app, wanted.title, wanted.identifiers))


@router.delete("/{app}", status_code=204)
@needs(Right.ARRANGE_APPS)
def remove(app: str, desk: TheDesk, person: SignedIn) -> None:
    """Remove an app that nothing hangs on."""
    with desk.act(person.id) as act:
        correcting.remove_app(act, app)


@router.get("/{app}/retirement")
@needs(Right.SEE)
def outlook(app: str, desk: TheDesk, _: SignedIn) -> OutlookTold:
    """What retiring the app would meet: what has to end first, and what stays."""
    with desk.look() as session:
        return OutlookTold.of(retiring.app_outlook(session, find.app(session, app)))


@router.put("/{app}/retirement")
@needs(Right.ARRANGE_APPS)
def retire(app: str, wanted: ReasonWanted, desk: TheDesk, person: SignedIn) -> AppTold:
    """Take the app out of use: nothing new begins with it, and what happened stays to be read."""
    with desk.act(person.id) as act:
        return shown.app(act.session, retiring.retire_app(act, app, wanted.reason))


@router.delete("/{app}/retirement")
@needs(Right.ARRANGE_APPS)
def restore(app: str, desk: TheDesk, person: SignedIn, reason: Reason = "") -> AppTold:
    """Take the app into use again."""
    with desk.act(person.id) as act:
        return shown.app(act.session, retiring.restore_app(act, app, reason))


@router.post("/{app}/berths", status_code=202)
@needs(Right.ARRANGE_APPS)
def open_berth(app: str, wanted: BerthWanted, desk: TheDesk, person: SignedIn) -> BerthTold:
    """Order the app's place at a store; its answer shows in the berth's state."""
    with desk.act(person.id) as act:
        row = apps.open_berth(act, app, wanted.store, wanted.listed_name, wanted.language)
        return shown.berth(act.session, row)


@router.get("/{app}/berths/{store}")
@needs(Right.SEE)
def berth(app: str, store: str, desk: TheDesk, _: SignedIn) -> BerthDetailTold:
    """A berth with what is offered there, what may be chosen, and the way to a launch."""
    with desk.look() as session:
        row = find.berth(session, find.app(session, app), find.store(session, store))
        return shown.berth_detail(session, row, desk.clock.now())


@router.post("/{app}/berths/{store}/names", status_code=202)
@needs(Right.ARRANGE_APPS)
def rename_berth(app: str, store: str, wanted: BerthNameWanted, desk: TheDesk, person: SignedIn) -> BerthTold:
    """Order another name at the store; it changes when the store has confirmed it."""
    with desk.act(person.id) as act:
        return shown.berth(act.session, apps.rename_berth(act, app, store, wanted.name, wanted.reason))


@router.post("/{app}/berths/{store}/offer-checks")
@needs(Right.PREPARE)
def check_offer(app: str, store: str, wanted: OfferWanted, desk: TheDesk, _: SignedIn) -> OfferSheetTold:
    """What a change of price, countries or who may get the app would meet and mean, before it is ordered."""
    apps.demand_codes(wanted.availability)
    with desk.look() as session:
        row = find.berth(session, find.app(session, app), find.store(session, store))
        findings, told = apps.check_availability(session, row, wanted.availability, desk.clock.now())
        return OfferSheetTold(findings=findings_told(findings), consequences=told)


@router.post("/{app}/berths/{store}/offers", status_code=202)
@needs(Right.ARRANGE_APPS)
def offer(app: str, store: str, wanted: OfferWanted, desk: TheDesk, person: SignedIn) -> BerthDetailTold:
    """Order where, for how much and to whom the app is offered; closing and reopening, too."""
    with desk.act(person.id) as act:
        row = apps.set_availability(act, app, store, wanted.availability, wanted.reason)
        return shown.berth_detail(act.session, row, act.now)
