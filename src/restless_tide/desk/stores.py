"""Connecting stores."""

from __future__ import annotations

import re
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Invalid
from restless_tide.core.rulebook import Rulebook
from restless_tide.desk.desk import Desk
from restless_tide.gateways.client import Gateway, read_connection_file
from restless_tide.records.columns import new_id
from restless_tide.records.tables import Store

_read: dict[str, tuple[dict[str, Any], Rulebook]] = {}
_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,39}")


def slug(text: str, noun: str) -> str:
    """A short name that can be typed. Raises Invalid."""
    name = text.strip().lower()
    if not _NAME.fullmatch(name):
        raise Invalid(
            f"{text!r} cannot be the name of {noun}.",
            remedy="Use up to 40 small letters, digits and hyphens, beginning with a letter or digit.",
            code="name-unfit",
        )
    return name


def connect(desk: Desk, person: str, name: str, connection_file: str) -> Store:
    """Try the connection, and keep it sealed when the store accepts it. A known store gets the new key.

    Raises Invalid for an unfit file, StoreUnreachable or StoreRefused when the trial fails; nothing
    is kept then.
    """
    store_name = slug(name, "a store")
    connection = read_connection_file(connection_file)
    gateway = Gateway(connection, name=store_name)
    try:
        account, rules = gateway.account(), gateway.rulebook()
    finally:
        gateway.close()
    with desk.act(person) as act:
        store = act.session.scalar(select(Store).where(Store.name == store_name))
        known = store is not None
        if store is None:
            store = Store(id=new_id("s"), name=store_name, connected_at=act.now)
            act.session.add(store)
        elif store.rulebook["store"] != rules.store:
            raise Conflict(
                f"{store_name} is the name of an account at {store.rulebook['store']}; this connection leads to {rules.store}.",
                remedy="Connect it under another name.",
                code="store-known",
            )
        store.address = connection.gateway
        store.client_id = connection.client_id
        store.sealed_key = desk.seal.close(connection.model_dump_json().encode(), f"store {store.id}")
        store.may = list(account.may)
        store.rulebook = rules.model_dump(mode="json")
        store.reached_at, store.trouble = act.now, None
        act.session.flush()
        after = {"address": store.address, "may": store.may, "rulebook": rules.revision}
        act.log("store key replaced" if known else "store connected", f"store {store_name}", after=after)
    return store


def rules_of(store: Store) -> Rulebook:
    """The store's rulebook as rules; read anew only when it has changed."""
    known = _read.get(store.id)
    if known is None or known[0] != store.rulebook:
        known = _read[store.id] = (store.rulebook, Rulebook.model_validate(store.rulebook))
    return known[1]


def every(session: Session) -> list[Store]:
    return list(session.scalars(select(Store).order_by(Store.name)))
