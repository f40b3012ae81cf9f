"""A stand-in's own testing: trials, seats as it counts them, what testers do and report there.

Seats are counted by kind over all trials that run at a berth, each address once, or by build where the
rulebook says so.
"""

from __future__ import annotations

import base64
import binascii
import random
from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import Any

from pydantic import BaseModel, Field

from restless_tide.core.rulebook import CohortKind, CohortRules
from restless_tide.gateways import protocol
from restless_tide.standins import tracks
from restless_tide.standins.judgement import Refusal
from restless_tide.standins.population import BAD_CRASH_RATE, SESSIONS_A_DAY, USUAL_CRASH_RATE
from restless_tide.standins.shelf import Thing
from restless_tide.standins.store import SimulatedStore, fresh, shown

_RUNS = ("with the store", "open")
_LONGEST_DAYS = 120


def _rules(store: SimulatedStore, kind: str) -> CohortRules:
    rules = next((rules for known, rules in store.rules.cohorts.items() if known == kind), None)
    if rules is None:
        raise Refusal("kind-unknown", f"We have no {kind} testers.")
    return rules


def open_trial(store: SimulatedStore, berth_id: str, wanted: protocol.TrialRequest) -> Thing:
    consignment = store.needed("consignment", wanted.consignment)
    if consignment["berth"] != berth_id or consignment["state"] != "ready":
        raise Refusal("build-not-ready", f"The build is {consignment['state']}.")
    rules = _rules(store, wanted.kind)
    track = tracks.for_trial(store, berth_id, wanted.kind, wanted.track)
    tracks.demand_room(store, berth_id, track, consignment)
    wait = rules.review_first and not _looked_at(store, berth_id, wanted.kind, consignment, rules)
    _demand_brief(rules, wanted, wait)
    trial = {
        "id": fresh("trial"),
        "berth": berth_id,
        "version": consignment["version"],
        "number": consignment["number"],
        "kind": wanted.kind,
        "track": track,
        "consignment": wanted.consignment,
        "testers": [],
        "brief": wanted.brief,
        "sign_in": wanted.sign_in,
        "reason": None,
    }
    trial["page"] = f"{store.address}/testing/{trial['id']}"
    _sit_down(store, trial | {"state": "with the store"}, wanted.testers)
    trial["testers"] = list(dict.fromkeys(wanted.testers))
    if wait:
        hours = store.rules.trial_review_hours(CohortKind(wanted.kind))
        told = store.due(trial | {"state": "with the store"}, "trial", minutes=hours * 60)
    else:
        told = store.open_for_testers(trial)
    return told | seats(store, store.needed("trial", trial["id"]))


def _looked_at(store: SimulatedStore, berth_id: str, kind: str, consignment: Thing, rules: CohortRules) -> bool:
    """Whether an earlier trial with the same version, or the same build, was opened for such testers."""
    return any(
        other["berth"] == berth_id
        and other["kind"] == kind
        and other.get("was_open")
        and other["version"] == consignment["version"]
        and (rules.reviewed_once_per == "version" or str(other.get("number")) == str(consignment["number"]))
        for other in store.shelf.all("trial")
    )


def _demand_brief(rules: CohortRules, wanted: protocol.TrialRequest, reviewed: bool) -> None:
    if not any(text.strip() for text in wanted.brief.values()):
        raise Refusal("brief-empty", "Say what testers are to try.")
    for locale, text in wanted.brief.items():
        if len(text) > rules.brief_limit_characters:
            raise Refusal(
                "brief-too-long", f"The brief in {locale} has more than {rules.brief_limit_characters} characters."
            )
    for locale in rules.brief_locales_required:
        if not wanted.brief.get(locale, "").strip():
            raise Refusal("brief-missing", f"We want what to look at in {locale}.")
    if reviewed and rules.sign_in_required and not wanted.sign_in:
        raise Refusal("sign-in-missing", "Our reviewer has to know how to sign in.")


def _seated(store: SimulatedStore, trial: Thing) -> set[str]:
    rules = _rules(store, trial["kind"])
    return {
        address
        for other in store.shelf.all("trial")
        if other["berth"] == trial["berth"]
        and other["kind"] == trial["kind"]
        and other["state"] in _RUNS
        and not (rules.seats_per_build and other["consignment"] != trial["consignment"])
        for address in other["testers"]
    }


def _sit_down(store: SimulatedStore, trial: Thing, addresses: Iterable[str]) -> None:
    """Raise Refusal unless every address finds a seat; none sits down otherwise."""
    rules = _rules(store, trial["kind"])
    own = {domain.lower() for domain in store.account().get("domains", [])}
    if rules.own_domains_only and own:
        for address in addresses:
            if address.rpartition("@")[2].lower() not in own:
                raise Refusal("outside-the-account", f"{trial['kind']} testers belong to the account's own domains.")
    if len(_seated(store, trial) | set(addresses)) > rules.seats:
        raise Refusal("seats-exhausted", f"{trial['kind']} testers have {rules.seats} seats here.")


def seats(store: SimulatedStore, trial: Thing) -> Thing:
    return {"seats": _rules(store, trial["kind"]).seats, "seats_taken": len(_seated(store, trial))}


def trial(store: SimulatedStore, trial_id: str) -> Thing:
    found = store.needed("trial", trial_id)
    return shown(found) | seats(store, found)


def seat(store: SimulatedStore, trial_id: str, addresses: tuple[str, ...]) -> Thing:
    found = store.needed("trial", trial_id)
    if found["state"] not in _RUNS:
        raise Refusal("trial-over", f"The trial is {found['state']}.")
    _sit_down(store, found, addresses)
    store.shelf.put("trial", found | {"testers": list(dict.fromkeys([*found["testers"], *addresses]))})
    return trial(store, trial_id)


def unseat(store: SimulatedStore, trial_id: str, addresses: tuple[str, ...]) -> Thing:
    found = store.needed("trial", trial_id)
    gone = set(addresses)
    store.shelf.put("trial", found | {"testers": [entry for entry in found["testers"] if entry not in gone]})
    for address in gone:
        store.shelf.remove("install", f"{trial_id} {address}")
    return trial(store, trial_id)


def close_trial(store: SimulatedStore, trial_id: str) -> Thing:
    found = store.needed("trial", trial_id)
    return store.tell("trial", found | {"state": "closed", "due_at": None})


# what testers do


def tester_acts(store: SimulatedStore, trial_id: str, address: str, act: str, device: str, system: str) -> Thing:
    """Someone accepts, installs or leaves on the store's own pages."""
    found = store.needed("trial", trial_id)
    address = address.strip().lower()
    if address not in found["testers"]:
        raise Refusal("not-invited", "This address has no seat in this test.", 404)
    if found["state"] != "open" and act != "leave":
        raise Refusal("trial-not-open", f"This test is {found['state']}.")
    told = {"trial": trial_id, "address": address, "device": device, "system": system}
    if act == "install":
        kept = told | {"id": f"{trial_id} {address}", "at": store.clock.now().isoformat()}
        store.shelf.put("install", kept)
    if act == "leave":
        unseat(store, trial_id, (address,))
    state = {"install": "installed", "leave": "declined", "accept": "accepted"}[act]
    store.event("tester.changed", trial_id, told | {"state": state})
    return told | {"state": state}


def installed(store: SimulatedStore, trial_id: str) -> list[Thing]:
    return [entry for entry in store.shelf.all("install") if entry["trial"] == trial_id]


class ReportWish(BaseModel):
    """What someone reports in the store's own app. Pictures as base64."""

    trial: str
    address: str = ""
    kind: str = "remark"
    text: str = ""
    device: str = ""
    system: str = ""
    language: str = ""
    stack: str = ""
    pictures: list[str] = Field(default_factory=list)


def report(store: SimulatedStore, wish: ReportWish) -> Thing:
    found = store.needed("trial", wish.trial)
    kept = {"id": fresh("report"), **wish.model_dump()}
    store.shelf.put("report", kept)
    told: dict[str, Any] = {**wish.model_dump(exclude={"pictures"}), "pictures": len(wish.pictures)}
    told |= {name: found[name] for name in ("berth", "version")} | {"number": found.get("number")}
    sequence = store.event("report.filed", kept["id"], told)
    return {"id": kept["id"], "sequence": sequence}


def picture(store: SimulatedStore, report_id: str, place: int) -> bytes:
    kept = store.needed("report", report_id)["pictures"]
    if place > len(kept):
        raise Refusal("picture-unknown", f"The report has {len(kept)} pictures.", 404)
    try:
        return base64.b64decode(kept[place - 1], validate=True)
    except binascii.Error:
        return str(kept[place - 1]).encode()


def usage(store: SimulatedStore, trial_id: str) -> Thing:
    """Sessions by day, as the people who have installed it make them; seeded, so the same day always tells the same."""
    found = store.needed("trial", trial_id)
    now, bad = store.clock.now(), str(found.get("number")) in store.bad_numbers()
    people = [datetime.fromisoformat(entry["at"]) for entry in installed(store, trial_id)]
    if not people:
        return {"days": []}
    days = []
    day = max(min(people), now - timedelta(days=_LONGEST_DAYS)).date()
    while day <= now.date():
        dice = random.Random(f"{store.seed}/{trial_id}/{day}")
        having = sum(at.date() <= day for at in people)
        part = 1.0 if day < now.date() else (now.hour + 1) / 24
        expected = having * SESSIONS_A_DAY * part
        sessions = max(round(dice.gauss(expected, expected**0.5 / 2)), 0)
        rate = BAD_CRASH_RATE if bad else USUAL_CRASH_RATE
        crashed = sum(dice.random() < rate for _ in range(sessions))
        days.append({"day": day.isoformat(), "sessions": sessions, "crashed": crashed})
        day += timedelta(days=1)
    return {"days": days}
