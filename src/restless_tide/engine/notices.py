"""Notices leave: by mail, or as CloudEvents signed by Standard Webhooks. What is about to lapse is noticed here, too."""

from __future__ import annotations

import json
import random
import smtplib
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from email.message import EmailMessage

import httpx
from sqlalchemy import or_, select
from sqlalchemy.orm import Session
from standardwebhooks import Webhook

from restless_tide.core.errors import TideError
from restless_tide.core.notice import DELIVERY, MOST_ATTEMPTS, DeliveryEvent, DeliveryState, NoticeKind, lapse_mark
from restless_tide.core.order import pause_before_retry_seconds
from restless_tide.desk import lapses
from restless_tide.desk.addresses import demand_reachable
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.notices import secret_of
from restless_tide.desk.standing import lapsing
from restless_tide.engine import postbox
from restless_tide.engine.carriers import needed
from restless_tide.records.tables import App, Delivery, Notice, Store, Subscription

_BATCH = 20
_GONE = 410


class Undelivered(Exception):
    """It did not go out, and why; it is tried again."""


def deliver_waiting(desk: Desk, http: httpx.Client) -> int:
    """Send what waits; returns how many were taken by their receivers."""
    now = desk.clock.now()
    with desk.look() as session:
        waiting = session.scalars(
            select(Delivery.id)
            .where(Delivery.state == DeliveryState.QUEUED, or_(Delivery.try_after.is_(None), Delivery.try_after <= now))
            .limit(_BATCH)
        ).all()
    return sum(_deliver(desk, http, delivery_id) for delivery_id in waiting)


def _deliver(desk: Desk, http: httpx.Client, delivery_id: str) -> bool:
    with desk.look() as session:
        delivery = needed(session, Delivery, delivery_id)
        subscription = delivery.subscription
        if subscription.ended_at is not None:
            trouble: str | None = "the subscription has ended"
        else:
            try:
                (_post if subscription.channel == "webhook" else _mail)(desk, http, delivery, subscription)
                trouble = None
            except Undelivered as wrong:
                trouble = str(wrong)
            except TideError as wrong:
                trouble = wrong.detail
    with desk.act(ENGINE) as act:
        _settle(act, needed(act.session, Delivery, delivery_id), trouble)
    return trouble is None


def _settle(act: Act, delivery: Delivery, trouble: str | None) -> None:
    if delivery.state is not DeliveryState.QUEUED:
        return
    delivery.attempts += 1
    delivery.trouble = trouble
    over = trouble is not None and (delivery.attempts >= MOST_ATTEMPTS or delivery.subscription.ended_at is not None)
    if trouble is not None and not over:
        pause = pause_before_retry_seconds(delivery.attempts, dice=random.random())  # noqa: S311
        delivery.try_after = act.now + timedelta(seconds=pause)
        return
    delivery.state = DELIVERY.after(delivery.state, DeliveryEvent.GIVE_UP if over else DeliveryEvent.SEND)
    delivery.settled_at = act.now
    act.tell(f"notice {delivery.state}", f"notice {delivery.notice_id}", app=delivery.notice.app)


def _mail(desk: Desk, _: httpx.Client, delivery: Delivery, subscription: Subscription) -> None:
    notice = delivery.notice
    mail = EmailMessage()
    mail["From"] = desk.settings.mail_from
    mail["To"] = subscription.address
    mail["Subject"] = f"{notice.kind}: {notice.subject}"
    mail["Message-ID"] = f"<{delivery.id}@{desk.settings.mail_from.rpartition('@')[2]}>"
    where = f"{desk.settings.address}{notice.place}"
    mail.set_content(
        f"{notice.said}\n\n{where}\n\nYou are told because you subscribed: {desk.settings.address}/notices\n"
    )
    try:
        with postbox.connected(desk.settings) as server:
            server.send_message(mail)
    except (OSError, smtplib.SMTPException) as wrong:
        raise Undelivered(postbox.told(wrong)) from None


def _post(desk: Desk, http: httpx.Client, delivery: Delivery, subscription: Subscription) -> None:
    demand_reachable(subscription.address, desk.settings)
    notice = delivery.notice
    body = json.dumps(
        {
            "specversion": "1.0",
            "id": notice.id,
            "source": desk.settings.address,
            "type": f"org.example.restless-tide.{notice.kind.replace(' ', '-')}",
            "subject": notice.subject,
            "time": notice.at.isoformat(),
            "datacontenttype": "application/json",
            "data": {"kind": notice.kind, "app": notice.app, "said": notice.said, "place": notice.place},
        }
    )
    now = datetime.now(UTC)
    headers = {
        "Content-Type": "application/cloudevents+json",
        "webhook-id": notice.id,
        "webhook-timestamp": str(int(now.timestamp())),
        "webhook-signature": Webhook(secret_of(desk, subscription)).sign(notice.id, now, body),
    }
    try:
        answer = http.post(subscription.address, content=body, headers=headers)
    except (httpx.HTTPError, httpx.InvalidURL) as wrong:
        raise Undelivered(f"nothing takes it there ({type(wrong).__name__})") from None
    if not answer.is_success:
        raise Undelivered(f"it was answered {answer.status_code}")


@dataclass(frozen=True)
class _Ending:
    """Something that ends; ``owner`` keeps two things of the same name apart."""

    owner: str
    what: str
    until: datetime
    then: str
    subject: str
    place: str
    app: str | None = None


def notice_lapses(desk: Desk) -> int:
    """Tell of what is about to lapse at stores and of apps; each mark once. Returns how many are new."""
    with desk.look() as session:
        endings = [*_of_stores(session), *_of_apps(session)]
        due = {}
        for ending in endings:
            days = (ending.until - desk.clock.now()).total_seconds() / 86_400
            mark = lapse_mark(days)
            if mark is not None:
                due[f"{ending.owner}/{ending.what}/{ending.until.date()}/{mark}"] = (ending, days)
        known = set(session.scalars(select(Notice.key).where(Notice.key.in_(due))))
    told = 0
    for key in due.keys() - known:
        ending, days = due[key]
        said = f"{ending.what} {'has lapsed' if days <= 0 else f'lapses in {days:.0f} days'}. {ending.then}".strip()
        with desk.act(ENGINE) as act:
            made = act.notice(NoticeKind.LAPSING, key, ending.subject, said, place=ending.place, app=ending.app)
            told += made is not None
    return told


def _of_stores(session: Session) -> list[_Ending]:
    return [
        _Ending(store.id, f"{lapse.what} at {store.name}", lapse.until, lapse.blocks, f"store {store.name}", "/stores")
        for store in session.scalars(select(Store))
        for lapse in lapsing(store)
    ]


def _of_apps(session: Session) -> list[_Ending]:
    return [
        _Ending(app.name, lapse.what, lapse.until, lapse.then, f"app {app.name}", f"/apps/{app.name}/signing", app.name)
        for app in session.scalars(select(App))
        for lapse in lapses.of_app(session, app)
    ]
