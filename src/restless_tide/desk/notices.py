"""Subscribing to notices, and seeing what became of each."""

from __future__ import annotations

import base64
import secrets
from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Invalid
from restless_tide.core.notice import DELIVERY, DeliveryEvent, NoticeKind
from restless_tide.desk import find, naming
from restless_tide.desk.addresses import demand_reachable, mail_address
from restless_tide.desk.desk import Act, Desk
from restless_tide.records.tables import Delivery, Notice, Subscription

CHANNELS = ("mail", "webhook")
_SHOWN = 100


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


def end(act: Act, subscription_id: str) -> Subscription:
    row = _found(act.session, subscription_id)
    if row.ended_at is None:
        row.ended_at = act.now
        act.log("subscription ended", f"subscription {row.id}")
    return row


def try_out(act: Act, subscription_id: str) -> Delivery:
    """Send a notice of no consequence, to see that the way works."""
    row = _found(act.session, subscription_id)
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


def send_again(act: Act, delivery_id: str) -> Delivery:
    """Queue a delivery that was given up once more."""
    row: Delivery = naming.by_id(act.session, Delivery, "delivery", delivery_id, "See: tide notice deliveries")
    row.state = DELIVERY.after(row.state, DeliveryEvent.SEND_AGAIN)
    row.attempts, row.try_after, row.settled_at = 0, None, None
    act.tell("notice queued", f"notice {row.notice_id}", app=row.notice.app)
    return row


def subscriptions(session: Session) -> list[Subscription]:
    """Those that run, oldest first."""
    return list(
        session.scalars(select(Subscription).where(Subscription.ended_at.is_(None)).order_by(Subscription.created_at))
    )


def deliveries(session: Session) -> list[Delivery]:
    """The latest deliveries, newest first."""
    return list(session.scalars(select(Delivery).join(Notice).order_by(Notice.at.desc(), Delivery.id).limit(_SHOWN)))


def _found(session: Session, subscription_id: str) -> Subscription:
    row: Subscription = naming.by_id(session, Subscription, "subscription", subscription_id, "See: tide notice list")
    return row
