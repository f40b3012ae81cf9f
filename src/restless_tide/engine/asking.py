"""Asking a store how it is: its events, and now and then its rulebook, its announcements and the account's standing."""

from __future__ import annotations

import time
from datetime import timedelta

import structlog

from restless_tide.core.breaker import Breaker
from restless_tide.core.errors import Invalid, StoreRefused, TideError
from restless_tide.desk import dossiers, lanes, rulebooks
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.lanes import needed
from restless_tide.engine import counting, field_reports, reviewing, sightings
from restless_tide.gateways.client import Gateway
from restless_tide.gateways.protocol import StoreEvent
from restless_tide.records.tables import Berth, Store

STANDING_EVERY = timedelta(minutes=10)
LOOK_EVERY_SECONDS = 2.0
"""How often the desk looks whether pictures or figures of use are due; sooner when the store told of something."""
_log = structlog.get_logger("engine")


def ask(desk: Desk, store_id: str) -> int | None:
    """Take what a store has told since the last time; returns how many events were new.

    None when it does not answer; it is marked so then.
    """
    with desk.look() as session:
        store = needed(session, Store, store_id)
        cursor, troubled = sightings.cursor_of(store), store.trouble is not None
        overlap = 1 if cursor.seen and cursor.last else 0
        seen, unpushed = store.rulebook_seen_at, store.push_ref is None
    try:
        gateway = desk.gateway(store)
        events = gateway.events(cursor.seen - overlap)
        restored = sightings.was_restored(cursor, events)
        history = _everything(gateway) if restored else ()
    except TideError as wrong:
        note_failure(desk, store_id, wrong.detail, told=True)
        return None
    if troubled:
        note_success(desk, store_id)
    if restored:
        sightings.restore(desk, store_id, cursor, history)
    events = events[overlap:]
    taken = 0
    if (events and not restored) or troubled:
        taken = sightings.take(desk, store_id, events)
    now = desk.clock.now()
    if seen is None or store_id in desk.background.news or not timedelta() <= now - seen < STANDING_EVERY:
        desk.background.news.discard(store_id)
        _ask_standing(desk, store_id, gateway)
    if unpushed and desk.settings.push:
        keep_push(desk, store_id, gateway)
    read_dossiers(desk, store_id, gateway)
    counting.fetch(desk, store_id, gateway)
    if events or time.monotonic() >= desk.background.look_after.get(store_id, 0.0):
        desk.background.look_after[store_id] = time.monotonic() + LOOK_EVERY_SECONDS
        field_reports.fetch_pictures(desk, store_id, gateway)
        reviewing.fetch_files(desk, store_id, gateway)
        field_reports.ask_usage(desk, store_id, gateway)
    return taken


def _everything(gateway: Gateway) -> tuple[StoreEvent, ...]:
    """Every event that a store has ever told."""
    found: list[StoreEvent] = []
    while page := gateway.events(found[-1].sequence if found else 0):
        found.extend(page)
    return tuple(found)


def note_failure(desk: Desk, store_id: str, detail: str, *, told: bool) -> None:
    """One failure more in a row; ``told`` marks the store as not reached, which a poll may and a single act may not."""
    with desk.act(ENGINE) as act:
        store = needed(act.session, Store, store_id)
        breaker = Breaker(store.breaker_failures, store.breaker_rests_until)
        if breaker.rests_until is None or breaker.rests_until <= act.now:
            after = breaker.after_failure(act.now)
            store.breaker_failures, store.breaker_rests_until = after.failures, after.rests_until
            if after.rests_until is not None and breaker.rests_until is None:
                act.tell("store left alone", f"store {store.name}", said=detail)
        if told and store.trouble != detail:
            store.trouble = detail
            act.tell("store away", f"store {store.name}", said=detail)


def note_success(desk: Desk, store_id: str) -> None:
    """The store answers: the breaker closes, and what waited for it goes at once."""
    with desk.look() as session:
        store = needed(session, Store, store_id)
        if store.trouble is None and not store.breaker_failures:
            return
    with desk.act(ENGINE) as act:
        store = needed(act.session, Store, store_id)
        if store.trouble is None and not store.breaker_failures:
            return
        store.breaker_failures, store.breaker_rests_until = 0, None
        was_away, store.trouble = store.trouble is not None, None
        store.reached_at = act.now
        if was_away:
            lanes.forget_waits(act.session, store)
            act.tell("store back", f"store {store.name}")
    desk.ring()


def _ask_standing(desk: Desk, store_id: str, gateway: Gateway) -> None:
    """Rulebook in force and announced, account, push. A broken rulebook is noted; the one before stays in force."""
    trouble = None
    rules = following = account = None
    try:
        rules, following, account = gateway.rulebook(), gateway.next_rulebook(), gateway.account()
    except Invalid as wrong:
        trouble = wrong.detail
        _log.warning("a rulebook cannot be read", store=store_id, why=wrong.detail)
    except TideError as wrong:
        _log.warning("the standing could not be asked", store=store_id, why=wrong.detail)
        desk.background.news.add(store_id)
        return
    with desk.act(ENGINE) as act:
        store = needed(act.session, Store, store_id)
        store.rulebook_seen_at, store.skew_seconds = act.now, gateway.skew_seconds
        if store.rulebook_trouble != trouble:
            store.rulebook_trouble = trouble
            act.tell(
                "rulebook not taken" if trouble else "rulebook working again", f"store {store.name}", said=trouble or ""
            )
        if trouble is None and rules is not None and account is not None:
            store.account, store.may = account.model_dump(mode="json"), list(account.may)
            rulebooks.take_in(act, store, rules)
            rulebooks.take_announced(act, store, following)


def read_dossiers(desk: Desk, store_id: str, gateway: Gateway) -> None:
    """Read what the store holds of dossiers that were never read; what cannot be read is read the next time."""
    with desk.look() as session:
        unread = [(berth.id, berth.store_ref or "") for berth in dossiers.unread(session, store_id)]
    for berth_id, reference in unread:
        try:
            held = gateway.dossier(reference)
        except TideError as wrong:
            _log.warning("what a store holds of a dossier could not be read", store=store_id, why=wrong.detail)
            return
        with desk.act(ENGINE) as act:
            dossiers.read_there(act, needed(act.session, Berth, berth_id), held)


def keep_push(desk: Desk, store_id: str, gateway: Gateway) -> None:
    """Have the store push its events here, if it can; one that cannot is not asked again until it is connected anew."""
    with desk.look() as session:
        store = needed(session, Store, store_id)
        address, key = f"{desk.settings.address}/v1/stores/{store.id}/events", f"push {store.id} {store.client_id}"
    try:
        made = gateway.begin_push(address, key.replace(" ", "-"))
    except StoreRefused:
        with desk.act(ENGINE) as act:
            needed(act.session, Store, store_id).push_ref = ""
        return
    except TideError as wrong:
        _log.info("events are not pushed yet", store=store_id, why=wrong.detail)
        return
    with desk.act(ENGINE) as act:
        keep_push_secret(desk, act, needed(act.session, Store, store_id), made.id, made.secret or "")


def keep_push_secret(desk: Desk, act: Act, store: Store, push: str, secret: str) -> None:
    store.push_ref = push
    store.sealed_push_secret = desk.seal.close(secret.encode(), f"push {store.id}")
    act.tell("events are pushed", f"store {store.name}")
