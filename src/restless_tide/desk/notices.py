"""Subscribing to notices, and seeing what became of each."""

from __future__ import annotations

import base64
import secrets
from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Invalid, NotFound
from restless_tide.core.notice import DELIVERY, DeliveryEvent, NoticeKind
from restless_tide.core.rights import Right
from restless_tide.desk import find, keyset, naming
from restless_tide.desk.addresses import demand_reachable, mail_address
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.sessions import Asker
from restless_tide.records.tables import Delivery, Notice, Subscription

CHANNELS = ("mail", "webhook")


def subscribe(
    desk: Desk, person: str, channel: str, address: str, kinds: Sequence[NoticeKind], apps: Sequence[str]
) -> tuple[Subscription, str | None]:
    """Have notices sent; no kinds: all, no apps: all. Returns it and, for a webhook, its secret, shown this once."""
    if channel == "mail":
        place, secret = mail_address(address), None
    elif channel == "webhook":
        demand_reachable(address, desk.settings)
        place, secret = address, "whsec_" + base64.b64encode(secrets.token_bytes(24)).decode()
    else:
        raise Invalid(
            f"{channel!r} is no channel for notices.", remedy="Choose mail or webhook.", code="channel-unknown"
        )
    with desk.act(person) as act:
        names = [find.app(act.session, app).name for app in apps]
        row = Subscription(
            person_id=person,
            channel=channel,
            address=place,
            kinds=[str(kind) for kind in kinds or NoticeKind],
            apps=names,
            created_at=act.now,
        )
        act.session.add(row)
        act.session.flush()
        if secret is not None:
            row.sealed_secret = desk.seal.close(secret.encode(), f"subscription {row.id}")
        act.log("subscribed", f"subscription {row.id}", after={"channel": channel, "kinds": row.kinds, "apps": names})
    return row, secret


def secret_of(desk: Desk, subscription: Subscription) -> str:
    return desk.seal.open(subscription.sealed_secret or b"", f"subscription {subscription.id}").decode()


def whose(asker: Asker) -> str | None:
    """Whose subscriptions someone keeps: their own, or (None) everybody's."""
    return None if asker.standing.everywhere(Right.MANAGE_PEOPLE) else asker.person.id


def end(act: Act, subscription_id: str, of: str | None = None) -> Subscription:
    """End a subscription; with ``of`` only one of this person. Raises NotFound."""
    row = _found(act.session, subscription_id, of)
    if row.ended_at is None:
        row.ended_at = act.now
        act.log("subscription ended", f"subscription {row.id}")
    return row


def try_out(act: Act, subscription_id: str, of: str | None = None) -> Delivery:
    """Send a notice of no consequence, to see that the way works."""
    row = _found(act.session, subscription_id, of)
    if row.ended_at is not None:
        raise Invalid("The subscription has ended.", remedy="Subscribe again.", code="subscription-ended")
    key = f"try/{row.id}/{secrets.token_hex(4)}"
    notice = Notice(
        key=key, kind="try-out", subject="a try-out", said="This only tries the way.", place="/notices", at=act.now
    )
    act.session.add(notice)
    act.session.flush()
    delivery = Delivery(notice_id=notice.id, subscription_id=row.id)
    act.session.add(delivery)
    act.session.flush()
    return delivery


def send_again(act: Act, delivery_id: str, of: str | None = None) -> Delivery:
    """Queue a delivery that was given up once more."""
    row: Delivery = naming.by_id(act.session, Delivery, "delivery", delivery_id, "See: tide notice deliveries")
    if of is not None and row.subscription.person_id != of:
        raise NotFound(f"No delivery of yours is called {delivery_id!r}.", code="delivery-unknown")
    row.state = DELIVERY.after(row.state, DeliveryEvent.SEND_AGAIN)
    row.attempts, row.try_after, row.settled_at = 0, None, None
    act.tell("notice queued", f"notice {row.notice_id}", app=row.notice.app)
    return row


def subscriptions(session: Session, of: str | None = None) -> list[Subscription]:
    """Those that run, oldest first; with ``of`` only this person's."""
    wanted = select(Subscription).where(Subscription.ended_at.is_(None)).order_by(Subscription.created_at)
    return list(session.scalars(wanted if of is None else wanted.where(Subscription.person_id == of)))


def deliveries(session: Session, of: str | None = None, *, after: str | None = None, limit: int) -> list[Delivery]:
    """Deliveries, newest first, beyond the one with the id ``after``; with ``of`` only to this person. Raises NotFound."""
    wanted = select(Delivery).join(Notice)
    if of is not None:
        wanted = wanted.join(Subscription, Subscription.id == Delivery.subscription_id).where(
            Subscription.person_id == of
        )
    here = None
    if after is not None:
        last: Delivery = naming.by_id(session, Delivery, "delivery", after, "See: tide notice deliveries")
        here = (last.notice.at, last.id)
    keys = (Notice.at, Delivery.id)
    return list(session.scalars(keyset.page(wanted, keys, after=here, falls=True, limit=limit)))


def _found(session: Session, subscription_id: str, of: str | None) -> Subscription:
    row: Subscription = naming.by_id(session, Subscription, "subscription", subscription_id, "See: tide notice list")
    if of is not None and row.person_id != of:
        raise NotFound(f"No subscription of yours is called {subscription_id!r}.", code="subscription-unknown")
    return row
