"""A stand-in's own view of where, for how much and to whom an app is offered, and of its texts."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from restless_tide.core.rulebook import LocksAt, OfferPart, ThingKind
from restless_tide.gateways import protocol
from restless_tide.standins.judgement import Refusal
from restless_tide.standins.shelf import Thing
from restless_tide.standins.store import SimulatedStore

_FREE = protocol.AvailabilityMessage().model_dump(mode="json")


def availability(store: SimulatedStore, berth_id: str) -> Thing:
    return store.needed("berth", berth_id).get("availability") or dict(_FREE)


def set_availability(store: SimulatedStore, berth_id: str, wanted: protocol.AvailabilityMessage) -> Thing:
    berth = store.needed("berth", berth_id)
    before, after = availability(store, berth_id), wanted.model_dump(mode="json")
    _demand_known(store, after)
    _demand_open(store, berth_id, before, after)
    told = store.tell("berth", berth | {"availability": after, "state": "open"})
    return after | {"sequence": told["sequence"]}


def _demand_known(store: SimulatedStore, after: Thing) -> None:
    rules = store.rules.availability
    if after["who"] not in [str(who) for who in rules.who]:
        raise Refusal("who-unknown", f"We offer apps to {', '.join(rules.who)}.")
    if (after["who"] == "named organisations") != bool(after["organisations"]):
        raise Refusal("organisations-unfit", "Named organisations need names, and only they.")
    if (after["price"] is None) != (after["currency"] is None):
        raise Refusal("price-unfit", "A price needs a currency, and a currency a price.")
    if after["price"] is not None:
        price = Decimal(after["price"])
        if not rules.paid:
            raise Refusal("paid-not-taken", "We carry free apps only.")
        if rules.currencies and after["currency"] not in rules.currencies:
            raise Refusal("currency-not-taken", f"We take {', '.join(rules.currencies)}.")
        too_low = rules.lowest_price is not None and price < rules.lowest_price
        if price <= 0 or too_low or (rules.highest_price is not None and price > rules.highest_price):
            raise Refusal("price-unfit", "The price lies outside what we take.")
    if after["closed"] and not rules.may_close:
        raise Refusal("cannot-close", "An app cannot be closed here.")


def _demand_open(store: SimulatedStore, berth_id: str, before: Thing, after: Thing) -> None:
    """Locks and one-way changes, by what has happened at this berth."""
    rounds = [entry for entry in store.shelf.all("submission") if entry["berth"] == berth_id]
    live = store.live(berth_id) is not None
    was, becomes = before["price"] is not None, after["price"] is not None
    allowed = store.rules.availability
    if live and was and not becomes and not allowed.paid_to_free:
        raise Refusal("one-way", "A paid app stays paid here.")
    if live and becomes and not was and not allowed.free_to_paid:
        raise Refusal("one-way", "An app that was free stays free here.")
    touched = {
        OfferPart.WHO: before["who"] != after["who"] or before["organisations"] != after["organisations"],
        OfferPart.PRICE: was and becomes and before["price"] != after["price"],
        OfferPart.COUNTRIES: before["countries"] != after["countries"],
        OfferPart.PAYMENT: was != becomes,
    }
    for thing in store.rules.things.values():
        if thing.part is None or not touched[thing.part]:
            continue
        if _locked(thing.locks_at, rounds, store, berth_id):
            raise Refusal("locked", f"{thing.title} cannot be changed any more, or not now.")
        rises = thing.part is OfferPart.PRICE and Decimal(after["price"]) > Decimal(before["price"])
        if thing.locks_at is LocksAt.ONLY_DOWNWARDS and live and rises:
            raise Refusal("only-downwards", "A price only goes down once people have the app.")


def _locked(locks_at: LocksAt, rounds: list[Thing], store: SimulatedStore, berth_id: str) -> bool:
    if locks_at is LocksAt.FIRST_REVIEW:
        return bool(rounds)
    if locks_at is LocksAt.FIRST_BUILD:
        return any(entry["berth"] == berth_id for entry in store.shelf.all("consignment"))
    return locks_at is LocksAt.EACH_VERSION and any(entry["state"] in ("queued", "in hand") for entry in rounds)


def dossier(store: SimulatedStore, berth_id: str) -> Thing:
    return store.needed("berth", berth_id).get("dossier") or {"texts": {}, "answers": {}}


def write_dossier(store: SimulatedStore, berth_id: str, wanted: protocol.Dossier) -> Thing:
    berth = store.needed("berth", berth_id)
    known = store.rules.listing.fields
    for locale, texts in wanted.texts.items():
        for field, text in texts.items():
            if field not in known:
                raise Refusal("field-unknown", f"We have no field {field!r}.")
            if len(text) > known[field].limit_characters:
                raise Refusal("text-too-long", f"{field} in {locale} has more than {known[field].limit_characters}.")
    rounds = [entry for entry in store.shelf.all("submission") if entry["berth"] == berth_id]
    listing = [thing for thing in store.rules.things.values() if thing.kind is ThingKind.TEXT]
    if any(_locked(thing.locks_at, rounds, store, berth_id) for thing in listing):
        raise Refusal("locked", "The texts are fixed while a version is under review.")
    kept: dict[str, Any] = wanted.model_dump(mode="json")
    store.tell("berth", berth | {"dossier": kept, "state": "open"})
    return kept
