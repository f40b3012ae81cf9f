"""Events pushed by a stand-in: CloudEvents signed by Standard Webhooks, in order and until they are taken."""

from __future__ import annotations

import base64
import json
import random
import secrets
import threading
from datetime import UTC, datetime, timedelta

import httpx
from standardwebhooks import Webhook

from restless_tide.gateways import protocol
from restless_tide.standins.shelf import Thing
from restless_tide.standins.store import SimulatedStore, fresh

OLD_SECRET_LIFE = timedelta(hours=24)
_LONGEST_PAUSE_SECONDS = 0.5
"""A subscriber or a mood may be new without an event."""
_TROUBLED_PAUSE_SECONDS = 1.0
_GATHER_SECONDS_AN_EVENT, _LONGEST_GATHER_SECONDS = 0.05, 0.5
"""From one request to the next, by the events in it: the first goes at once, and the more there are the more go together."""
_PAGE = 50
_TIMEOUT_SECONDS = 5.0


def new_secret() -> str:
    return "whsec_" + base64.b64encode(secrets.token_bytes(24)).decode()


def begin(store: SimulatedStore, address: str) -> Thing:
    """Keep a place to push to, from the next event on; the secret is told once."""
    push = {
        "id": fresh("push"),
        "address": address,
        "secrets": [new_secret()],
        "after": store.shelf.last_event(),
        "ended": False,
    }
    store.shelf.put("push", push)
    return _told(push, secret=True)


def rotate(store: SimulatedStore, push_id: str) -> Thing:
    """A new secret; the old one signs along for a day."""
    push = store.needed("push", push_id)
    until = (datetime.now(UTC) + OLD_SECRET_LIFE).isoformat()
    push |= {"secrets": [new_secret(), push["secrets"][0]], "old_until": until}
    store.shelf.put("push", push)
    return _told(push, secret=True)


def end(store: SimulatedStore, push_id: str) -> Thing:
    return _told(store.shelf.put("push", store.needed("push", push_id) | {"ended": True}), secret=False)


def _told(push: Thing, *, secret: bool) -> Thing:
    told = {"id": push["id"], "address": push["address"]}
    return told | {"secret": push["secrets"][0]} if secret else told


class Pusher:
    """Sends what the subscribers have not taken yet, until told to stop."""

    def __init__(self, store: SimulatedStore) -> None:
        self._store = store
        self._stopping = threading.Event()
        self._http = httpx.Client(timeout=_TIMEOUT_SECONDS, trust_env=False, verify=False)  # noqa: S501  (loopback)
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._dice = random.Random(7)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._stopping.set()
        self._store.shelf.told.set()
        self._thread.join()
        self._http.close()

    def _run(self) -> None:
        while not self._stopping.is_set():
            self._store.shelf.told.wait(_LONGEST_PAUSE_SECONDS)
            self._store.shelf.told.clear()
            served = [self._serve(push) for push in self._store.shelf.all("push") if not push["ended"]]
            if None in served:
                self._stopping.wait(_TROUBLED_PAUSE_SECONDS)
            elif most := max((sent for sent in served if sent), default=0):
                self._stopping.wait(min(most * _GATHER_SECONDS_AN_EVENT, _LONGEST_GATHER_SECONDS))

    def _serve(self, push: Thing) -> int | None:
        """How many events were sent; None: the subscriber did not take them."""
        events = self._store.shelf.events_after(push["after"], _PAGE)
        if not events or self._store.setting("push_off", False) or self._store.setting("outage", False):
            return 0
        late = self._store.setting("push_late_seconds", 0.0)
        if late and self._stopping.wait(late):
            return 0
        for several in self._as_pushed(events):
            if self._store.setting("push_forged", False):
                self._post(push["address"], [_forged(several[0])], [new_secret()])
            if not self._post(push["address"], several, _secrets(push)):
                return None
        kept = self._store.shelf.get("push", push["id"]) or push
        self._store.shelf.put("push", kept | {"after": events[-1]["sequence"]})
        if len(events) == _PAGE:
            self._store.shelf.told.set()
        return len(events)

    def _as_pushed(self, events: list[Thing]) -> list[list[Thing]]:
        """All in one request, or in the sequence and number of the store's mood, each in a request of its own."""
        shuffled, doubled = self._store.setting("push_shuffled", False), self._store.setting("push_doubled", False)
        if not (shuffled or doubled or self._store.setting("push_forged", False)):
            return [events]
        order = list(events)
        if shuffled:
            self._dice.shuffle(order)
        return [[event] for event in order for _ in range(2 if doubled else 1)]

    def _post(self, address: str, events: list[Thing], signing: list[str]) -> bool:
        alone = len(events) == 1
        body, message = json.dumps(events[0] if alone else events), events[0]["id"]
        now = datetime.now(UTC)
        headers = {
            "Content-Type": protocol.EVENT_TYPE if alone else protocol.EVENTS_TYPE,
            "webhook-id": message,
            "webhook-timestamp": str(int(now.timestamp())),
            "webhook-signature": " ".join(Webhook(secret).sign(message, now, body) for secret in signing),
        }
        try:
            return self._http.post(address, content=body, headers=headers).is_success
        except httpx.TransportError:
            return False


def _secrets(push: Thing) -> list[str]:
    old_counts = push.get("old_until", "") > datetime.now(UTC).isoformat()
    return list(push["secrets"]) if old_counts else push["secrets"][:1]


def _forged(event: Thing) -> Thing:
    """What someone who does not know the secret would send to have a release believed complete."""
    data = event["data"] | {"state": "complete", "share": 1.0}
    return event | {"id": fresh("event"), "sequence": event["sequence"] + 1, "data": data}
