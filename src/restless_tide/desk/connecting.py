"""Connecting stores: by a gateway and its key, or as stores whose steps are carried by hand."""

from __future__ import annotations

import secrets

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, ImpossibleAct
from restless_tide.core.rulebook import read_rulebook
from restless_tide.desk import find, rulebooks
from restless_tide.desk.addresses import demand_reachable
from restless_tide.desk.desk import Desk
from restless_tide.desk.stores import slug
from restless_tide.gateways.client import Gateway, read_connection_file
from restless_tide.gateways.protocol import RIGHTS
from restless_tide.records.columns import new_id
from restless_tide.records.tables import Store

KEY_STEPS = (
    "Sign in on the store's own pages as the owner of the account, or as a person who may manage its keys.",
    "Look for the page where keys for programs are made; it often stands under users, access or integrations.",
    f"Make a key for a program, with these rights: {', '.join(RIGHTS)}. Without one of them the desk says what it cannot do.",
    "Name it after this desk, so that a person who removes unused keys knows what would stop.",
    "Fetch the connection file at once: most stores show a key only this one time.",
    "Choose the file here. The desk tries it, says what it may, and keeps the key sealed; delete the file then.",
)
"""How a key is made, told where a store is connected."""


def connect(desk: Desk, person: str, name: str, connection_file: str) -> Store:
    """Try the connection, and keep it sealed when the store accepts it. A known store gets the new key.

    Raises Invalid for an unfit file, StoreUnreachable or StoreRefused when the trial fails; nothing
    is kept then.
    """
    store_name = slug(name, "a store")
    connection = read_connection_file(connection_file)
    demand_reachable(connection.gateway, desk.settings)
    gateway = Gateway(connection, name=store_name, outward=desk.settings.forbid_inward)
    try:
        account, rules, following = gateway.account(), gateway.rulebook(), gateway.next_rulebook()
    finally:
        gateway.close()
    with desk.act(person) as act:
        store = _known(act.session, store_name)
        known, again = store is not None, store is not None and not store.in_use
        if store is None:
            store = Store(id=new_id("s"), name=store_name, connected_at=act.now, rulebook={})
            act.session.add(store)
        elif store.hand_carried:
            raise Conflict(f"{store_name} is carried by hand.", remedy="Use another name.", code="store-known")
        elif store.rulebook["store"] != rules.store:
            raise Conflict(
                f"{store_name} is the name of an account at {store.rulebook['store']}; this connection leads to {rules.store}.",
                remedy="Connect it under another name.",
                code="store-known",
            )
        store.address = connection.gateway
        store.client_id = connection.client_id
        store.sealed_key = desk.seal.close(connection.model_dump_json().encode(), f"store {store.id}")
        store.may, store.account = list(account.may), account.model_dump(mode="json")
        store.reached_at, store.trouble, store.rulebook_seen_at = act.now, None, act.now
        store.push_ref = store.sealed_push_secret = store.disconnected_at = None
        rulebooks.take_in(act, store, rules)
        act.session.flush()
        rulebooks.take_announced(act, store, following)
        after = {"address": store.address, "may": store.may, "rulebook": rules.revision}
        done = "store connected again" if again else "store key replaced" if known else "store connected"
        act.log(done, f"store {store_name}", after=after)
        desk.background.gaps.add(store.id)
    return store


def carry(desk: Desk, person: str, name: str, rulebook_text: str, place: str = "The rulebook") -> Store:
    """Keep a store without a gateway; its rulebook is a file. A known one gets the new revision.

    Raises Invalid naming each line of the file that breaks the schema; the one before stays in force then.
    """
    store_name = slug(name, "a store")
    rules = read_rulebook(rulebook_text, place)
    with desk.act(person) as act:
        store = _known(act.session, store_name)
        if store is None:
            store = Store(id=new_id("s"), name=store_name, connected_at=act.now, rulebook={}, may=[])
            act.session.add(store)
            act.log("store carried by hand", f"store {store_name}", after={"rulebook": rules.revision})
        elif not store.hand_carried:
            raise Conflict(f"{store_name} has a gateway, which serves its rulebook.", code="store-known")
        store.rulebook_seen_at, store.disconnected_at = act.now, None
        rulebooks.take_in(act, store, rules)
    return store


def rotate_push(desk: Desk, person: str, store_name: str) -> Store:
    """Have the store make a new secret for the events it pushes; the old one counts for a day there."""
    with desk.look() as session:
        store = find.store(session, store_name)
        reference = store.push_ref
    if not reference:
        raise ImpossibleAct(
            f"{store_name} does not push its events here.",
            possible=[],
            remedy="A store that is carried by hand, or asked only, has no such secret.",
            code="push-unknown",
        )
    made = desk.gateway(store).rotate_push(reference, f"rotate-{secrets.token_hex(8)}")
    with desk.act(person) as act:
        store = find.store(act.session, store_name)
        store.sealed_push_secret = desk.seal.close((made.secret or "").encode(), f"push {store.id}")
        act.log("push secret renewed", f"store {store.name}")
    return store


def _known(session: Session, store_name: str) -> Store | None:
    return session.scalar(select(Store).where(Store.name == store_name))
