"""Events that a store pushes: taken only with its signature (Standard Webhooks), a fresh timestamp and a known store."""

from __future__ import annotations

import binascii
from collections.abc import Mapping, Sequence
from typing import Annotated

from pydantic import Field, TypeAdapter, ValidationError
from sqlalchemy import bindparam, select
from standardwebhooks import Webhook
from standardwebhooks.webhooks import WebhookVerificationError

from restless_tide.core.errors import Invalid, Unauthenticated
from restless_tide.desk.desk import Desk
from restless_tide.gateways.protocol import EVENTS_TYPE, MOST_EVENTS, StoreEvent
from restless_tide.records.tables import Store

_SEVERAL = TypeAdapter(Annotated[tuple[StoreEvent, ...], Field(max_length=MOST_EVENTS)])
_SECRET = select(Store.sealed_push_secret).where(Store.id == bindparam("id"))


def verified(desk: Desk, store_id: str, body: bytes, headers: Mapping[str, str]) -> Sequence[StoreEvent]:
    """The events of a push, one or a batch. Raises Unauthenticated in the same words whatever is missing, Invalid for a broken one."""
    with desk.glance() as session:
        sealed = session.scalar(_SECRET, {"id": store_id})
    try:
        if sealed is None:
            raise WebhookVerificationError
        secret = desk.seal.open(sealed, f"push {store_id}").decode()
        Webhook(secret).verify(body, dict(headers), json_parse=False)
    except (WebhookVerificationError, binascii.Error, ValueError):
        if sealed is not None:
            desk.background.forged[store_id] += 1
        raise Unauthenticated("This event does not prove where it comes from.", code="event-unproved") from None
    try:
        if headers.get("content-type", "").partition(";")[0].strip().lower() == EVENTS_TYPE:
            return _SEVERAL.validate_json(body)
        return (StoreEvent.model_validate_json(body),)
    except ValidationError:
        raise Invalid("This is no event of the gateway protocol, and no batch of them.", code="event-unfit") from None
