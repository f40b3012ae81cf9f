"""Notices: who is subscribed to what, and what became of each."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Response

from restless_tide.core.rights import Reach, Right
from restless_tide.desk import notices
from restless_tide.service import shown
from restless_tide.service.paging import link_next
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import SignedIn, TheAsker, TheDesk, WhoAsks
from restless_tide.wire.notices import DeliveryTold, SubscriptionTold, SubscriptionWanted

router = router_of("notices", "/v1")


@router.get("/subscriptions")
@needs(Right.SUBSCRIBE, Reach.SOME)
def subscriptions(desk: TheDesk, asker: TheAsker) -> list[SubscriptionTold]:
    """Your subscriptions; who manages people sees everybody's."""
    with desk.look() as session:
        return [shown.subscription(row) for row in notices.subscriptions(session, notices.whose(asker))]


@router.post("/subscriptions", status_code=201)
@needs(Right.SUBSCRIBE, Reach.SOME)
def subscribe(wanted: SubscriptionWanted, desk: TheDesk, person: SignedIn, who: WhoAsks) -> SubscriptionTold:
    """Subscribe by mail or signed webhook; the secret of a webhook is in this answer only.

    Notices come of the apps that you reach, now and later. A webhook takes the right to arrange the desk.
    """
    for app in wanted.apps:
        who.demand(Right.SUBSCRIBE, app)
    if wanted.channel == "webhook":
        who.demand(Right.ARRANGE_DESK)
    row, secret = notices.subscribe(desk, person.id, wanted.channel, wanted.address, wanted.kinds, wanted.apps)
    return shown.subscription(row, secret)


@router.delete("/subscriptions/{subscription}", status_code=204)
@needs(Right.SUBSCRIBE, Reach.SOME)
def end(subscription: str, desk: TheDesk, asker: TheAsker) -> Response:
    """End a subscription; nothing more is sent to it."""
    with desk.act(asker.person.id) as act:
        notices.end(act, subscription, notices.whose(asker))
    return Response(status_code=204)


@router.post("/subscriptions/{subscription}/tries", status_code=202)
@needs(Right.SUBSCRIBE, Reach.SOME)
def try_out(subscription: str, desk: TheDesk, asker: TheAsker) -> DeliveryTold:
    """Send a notice of no consequence, to see that the way works."""
    with desk.act(asker.person.id) as act:
        return shown.delivery(notices.try_out(act, subscription, notices.whose(asker)))


@router.get("/deliveries")
@needs(Right.SUBSCRIBE, Reach.SOME)
def deliveries(
    desk: TheDesk,
    asker: TheAsker,
    response: Response,
    after: Annotated[str | None, Query(description="the id of the last delivery of the page before")] = None,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
) -> list[DeliveryTold]:
    """Deliveries to you, newest first; who manages people sees everybody's."""
    with desk.look() as session:
        rows = notices.deliveries(session, notices.whose(asker), after=after, limit=limit + 1)
        if len(rows) > limit:
            link_next(response, "/v1/deliveries", rows[limit - 1].id, limit=limit)
        return [shown.delivery(row) for row in rows[:limit]]


@router.post("/deliveries/{delivery}/again", status_code=202)
@needs(Right.SUBSCRIBE, Reach.SOME)
def send_again(delivery: str, desk: TheDesk, asker: TheAsker) -> DeliveryTold:
    """Send a delivery that was given up once more."""
    with desk.act(asker.person.id) as act:
        return shown.delivery(notices.send_again(act, delivery, notices.whose(asker)))
