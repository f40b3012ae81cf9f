"""Notices: subscriptions and deliveries."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from restless_tide.core.notice import DeliveryEvent, DeliveryState, NoticeKind
from restless_tide.wire.base import MOST_ENTRIES, Names, OneLine, Told, Wanted


class SubscriptionWanted(Wanted):
    channel: Literal["mail", "webhook"]
    address: OneLine
    kinds: list[NoticeKind] = Field(default_factory=list, max_length=MOST_ENTRIES, description="none: all")
    apps: Names = Field(default_factory=list, description="none: all")


class SubscriptionTold(Told):
    id: str
    channel: str
    address: str
    kinds: list[NoticeKind]
    apps: list[str]
    created_at: datetime
    secret: str | None = Field(default=None, repr=False, description="of a webhook, shown in the first answer only")


class DeliveryTold(Told):
    id: str
    subscription: str
    channel: str
    address: str
    kind: str
    app: str | None
    subject: str
    said: str
    place: str
    at: datetime
    state: DeliveryState
    possible: list[DeliveryEvent]
    attempts: int
    trouble: str | None
    settled_at: datetime | None
