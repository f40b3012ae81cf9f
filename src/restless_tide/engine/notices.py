"""Notices leave: by mail, or as CloudEvents signed by Standard Webhooks. What is about to expire is noticed here, too."""

from __future__ import annotations

import json
import random
import smtplib
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from email.message import EmailMessage

import structlog
from sqlalchemy import or_, select
from sqlalchemy.orm import Session, object_session
from standardwebhooks import Webhook

from restless_tide.core.errors import LostLease
from restless_tide.core.notice import DELIVERY, DeliveryEvent, DeliveryState, NoticeKind, expiry_mark
from restless_tide.core.retry import MOST_ATTEMPTS, TO_PEOPLE
from restless_tide.desk import expiries, judging
from restless_tide.desk.addresses import demand_reachable
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.lanes import needed
from restless_tide.desk.notices import secret_of
from restless_tide.desk.standing import expiring
from restless_tide.engine import postbox
from restless_tide.engine.webhooks import Answer, Letter, Webhooks
from restless_tide.plots import of
from restless_tide.plots.child import drawn
from restless_tide.records.tables import Delivery, GuardWatch, Notice, Store, Subscription

_BATCH = 20
_GONE = 410
"""What a receiver answers that wants nothing any more (RFC 9110, section 15.5.11)."""
_log = structlog.get_logger("engine")


class Courier:
    """Sends the notices of a desk: mails one after the other, webhooks side by side."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._webhooks = Webhooks(
            lambda address: demand_reachable(address, desk.settings),
            self._answered,
            desk.ring,
            outward=desk.settings.forbid_inward,
        )

    def close(self) -> None:
        self._webhooks.close()

    def send_waiting(self) -> None:
        """Send what waits, of every subscription; one that cannot be sent keeps no other."""
        for delivery_id in self._waiting():
            try:
                self._send(delivery_id)
            except LostLease:
                raise
            except Exception:  # noqa: BLE001  (it is tried again later, and the others go)
                _log.exception("a notice could not be sent", delivery=delivery_id)
                self._settle(delivery_id, Answer("the desk could not send it; its log has the details"))

    def _waiting(self) -> list[str]:
        """Of every receiver that has nothing under way, the oldest: one for a webhook, several for a mail address."""
        due = or_(Delivery.try_after.is_(None), Delivery.try_after <= self._desk.clock.now())
        busy = self._webhooks.busy
        with self._desk.look() as session:
            waits = select(Delivery.subscription_id).where(Delivery.state == DeliveryState.QUEUED, due).distinct()
            found: list[str] = []
            for subscription_id in session.scalars(waits).all():
                if subscription_id in busy:
                    continue
                subscription = needed(session, Subscription, subscription_id)
                oldest = (
                    select(Delivery.id)
                    .join(Notice)
                    .where(Delivery.subscription_id == subscription_id, Delivery.state == DeliveryState.QUEUED, due)
                    .order_by(Notice.at)
                    .limit(1 if subscription.channel == "webhook" else _BATCH)
                )
                found += session.scalars(oldest)
        return found

    def _send(self, delivery_id: str) -> None:
        with self._desk.look() as session:
            delivery = needed(session, Delivery, delivery_id)
            subscription = delivery.subscription
            if subscription.ended_at is not None:
                answer = Answer("the subscription has ended")
            elif subscription.channel == "webhook":
                self._webhooks.post(_letter(self._desk, delivery, subscription))
                return
            else:
                answer = Answer(_mail(self._desk, delivery, subscription))
        self._settle(delivery_id, answer)

    def _answered(self, letter: Letter, answer: Answer) -> None:
        self._settle(letter.id, answer)

    def _settle(self, delivery_id: str, answer: Answer) -> None:
        with self._desk.act(ENGINE) as act:
            delivery = needed(act.session, Delivery, delivery_id)
            if answer.status == _GONE and delivery.subscription.ended_at is None:
                delivery.subscription.ended_at = act.now
                why = f"its receiver answered {_GONE}: it wants nothing any more"
                act.log("subscription ended", f"subscription {delivery.subscription_id}", reason=why)
            _settle(act, delivery, answer)


def _settle(act: Act, delivery: Delivery, answer: Answer) -> None:
    if delivery.state is not DeliveryState.QUEUED:
        return
    delivery.attempts += 1
    delivery.trouble = answer.trouble
    taken = answer.trouble is None
    over = not taken and (delivery.attempts >= MOST_ATTEMPTS or delivery.subscription.ended_at is not None)
    if not taken and not over:
        pause = TO_PEOPLE.pause(delivery.attempts, asked=answer.asked_seconds, dice=random.random())  # noqa: S311
        delivery.try_after = act.now + timedelta(seconds=pause)
        return
    delivery.state = DELIVERY.after(delivery.state, DeliveryEvent.GIVE_UP if over else DeliveryEvent.SEND)
    delivery.settled_at = act.now
    act.tell(f"notice {delivery.state}", f"notice {delivery.notice_id}", app=delivery.notice.app)


def _mail(desk: Desk, delivery: Delivery, subscription: Subscription) -> str | None:
    """Send a notice by mail; returns what is in the way, if anything."""
    notice = delivery.notice
    where = f"{desk.settings.address}{notice.place}"
    mail = postbox.begun(desk.settings, subscription.address, f"{notice.kind}: {notice.subject}", delivery.id)
    mail["List-Id"] = f"Notices of the desk <notices.{desk.settings.mail_domain}>"
    mail.set_content(
        f"{notice.said}\n\n{where}\n\nYou receive this because you subscribed: {desk.settings.address}/notices\n"
    )
    _add_picture(desk, notice, mail)
    try:
        with postbox.connected(desk.settings) as server:
            server.send_message(mail)
    except (OSError, smtplib.SMTPException) as wrong:
        return postbox.told(wrong)
    return None


def _add_picture(desk: Desk, notice: Notice, mail: EmailMessage) -> None:
    """Put the course of the rollout into the mail of a breach. Without it the mail leaves all the same."""
    if notice.kind != NoticeKind.BREACH:
        return
    session = object_session(notice)
    assert session is not None
    watch = session.get(GuardWatch, judging.watch_of(notice.key))
    if watch is None:
        return
    try:
        values = of.rollout(
            session, watch.release, desk.clock.now(), said=str((watch.breach or {}).get("said", watch.said))
        )
        content = drawn(values)
    except Exception:  # noqa: BLE001  (what happened must be told)
        _log.exception("a notice leaves without its picture", notice=notice.id)
        return
    name = f"{watch.release.app.name}-{watch.release.version}.png"
    mail.add_attachment(content, maintype="image", subtype="png", filename=name, disposition="inline")


def _letter(desk: Desk, delivery: Delivery, subscription: Subscription) -> Letter:
    """A notice as a CloudEvent, signed by Standard Webhooks."""
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
    return Letter(delivery.id, subscription.id, subscription.address, body, headers)


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


def notice_expiries(desk: Desk) -> int:
    """Tell of what is about to expire at stores and of apps; each mark once. Returns how many are new."""
    with desk.look() as session:
        endings = [*_of_stores(session), *_of_apps(session)]
        due = {}
        for ending in endings:
            days = (ending.until - desk.clock.now()).total_seconds() / 86_400
            mark = expiry_mark(days)
            if mark is not None:
                due[f"{ending.owner}/{ending.what}/{ending.until.date()}/{mark}"] = (ending, days)
        known = set(session.scalars(select(Notice.key).where(Notice.key.in_(due))))
    told = 0
    for key in due.keys() - known:
        ending, days = due[key]
        said = f"{ending.what} {'has expired' if days <= 0 else f'expires in {days:.0f} days'}. {ending.then}".strip()
        with desk.act(ENGINE) as act:
            made = act.notice(NoticeKind.EXPIRING, key, ending.subject, said, place=ending.place, app=ending.app)
            told += made is not None
    return told


def _of_stores(session: Session) -> list[_Ending]:
    return [
        _Ending(
            store.id, f"{expiry.what} at {store.name}", expiry.until, expiry.blocks, f"store {store.name}", "/stores"
        )
        for store in session.scalars(select(Store))
        for expiry in expiring(store)
    ]


def _of_apps(session: Session) -> list[_Ending]:
    return [
        _Ending(app, expiry.what, expiry.until, expiry.then, f"app {app}", f"/apps/{app}/signing", app)
        for app, found in expiries.by_app(session).items()
        for expiry in found
    ]
