"""Notices: who is subscribed to what, and what became of each."""

from __future__ import annotations

from fastapi import Response

from restless_tide.desk import notices
from restless_tide.service import shown
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.notices import DeliveryTold, SubscriptionTold, SubscriptionWanted

router = router_of("notices", "/v1")


@router.get("/subscriptions")
def subscriptions(desk: TheDesk, _: SignedIn) -> list[SubscriptionTold]:
    with desk.look() as session:
        return [shown.subscription(row) for row in notices.subscriptions(session)]


@router.post("/subscriptions", status_code=201)
def subscribe(wanted: SubscriptionWanted, desk: TheDesk, person: SignedIn) -> SubscriptionTold:
    """Subscribe by mail or signed webhook; the secret of a webhook is in this answer only."""
    row, secret = notices.subscribe(desk, person.id, wanted.channel, wanted.address, wanted.kinds, wanted.apps)
    return shown.subscription(row, secret)


@router.delete("/subscriptions/{subscription}", status_code=204)
def end(subscription: str, desk: TheDesk, person: SignedIn) -> Response:
    with desk.act(person.id) as act:
        notices.end(act, subscription)
    return Response(status_code=204)


@router.post("/subscriptions/{subscription}/tries", status_code=202)
def try_out(subscription: str, desk: TheDesk, person: SignedIn) -> DeliveryTold:
    """Send a notice of no consequence, to see that the way works."""
    with desk.act(person.id) as act:
        return shown.delivery(notices.try_out(act, subscription))


@router.get("/deliveries")
def deliveries(desk: TheDesk, _: SignedIn) -> list[DeliveryTold]:
    """The latest deliveries, newest first."""
    with desk.look() as session:
        return [shown.delivery(row) for row in notices.deliveries(session)]


@router.post("/deliveries/{delivery}/again", status_code=202)
def send_again(delivery: str, desk: TheDesk, person: SignedIn) -> DeliveryTold:
    with desk.act(person.id) as act:
        return shown.delivery(notices.send_again(act, delivery))
