"""A stand-in's own tracks: what stands on them, which the team has opened, and which device gets which build.

Written apart from core's on purpose: a device of the stand-in decides for itself, so that the desk's
foresight of what people get can be held against it.
"""

from __future__ import annotations

import random
from datetime import datetime
from typing import TYPE_CHECKING

from restless_tide.core.rulebook import PRODUCTION, Audience, CohortKind, Numbering, PeopleGet, TrackRules
from restless_tide.gateways import protocol
from restless_tide.standins.judgement import Refusal, as_tuple, number_as_tuple
from restless_tide.standins.population import DEVICES
from restless_tide.standins.shelf import Thing

if TYPE_CHECKING:
    from restless_tide.standins.store import SimulatedStore

OFFERED = ("rising", "paused", "complete")
USUALLY_CHOOSING = 0.04
"""The share of devices that have chosen a track which people choose for themselves."""
SAMPLE = 60
COUNTRIES = ("DE", "JP", "NO", "AT", "BR")
"""Where the devices of the sample are, by turns."""


def of(thing: Thing) -> str:
    """The track of a submission, rollout or trial; what was made before there were tracks stands on production."""
    return str(thing.get("track") or PRODUCTION)


def known(store: SimulatedStore, berth_id: str) -> dict[str, TrackRules]:
    """The rules of every track of a berth: the rulebook's, and those that the team has opened."""
    found = dict(store.rules.ways)
    own = store.rules.own_tracks
    for entry in store.shelf.all("track"):
        if entry["berth"] == berth_id and not entry["closed"] and own is not None:
            found[entry["key"]] = found[own.like].model_copy(update={"title": entry["title"], "rank": None})
    return found


def open_to_rollouts(store: SimulatedStore) -> list[str]:
    return [key for key, way in store.rules.ways.items() if way.audience is not Audience.COHORTS]


def for_trial(store: SimulatedStore, berth_id: str, kind: str, wanted: str | None) -> str:
    """The track over which testers of a kind get a build. Raises Refusal for one that does not take them."""
    ways = known(store, berth_id)
    if wanted is not None and wanted not in ways:
        raise Refusal("track-unknown", f"We have no track {wanted!r} here.")
    fit = [key for key, way in ways.items() if CohortKind(kind) in way.kinds]
    if wanted is not None and wanted not in fit:
        raise Refusal("track-unfit", f"{kind} testers do not get builds over {wanted}.")
    return wanted or fit[0]


def demand_room(store: SimulatedStore, berth_id: str, track: str, consignment: Thing) -> None:
    """Raise Refusal where the testers of a track have as many builds as they may."""
    there = {
        trial["consignment"]
        for trial in store.shelf.all("trial")
        if trial["berth"] == berth_id and of(trial) == track and trial["state"] == "open"
    }
    most = known(store, berth_id)[track].most_builds
    if len(there - {consignment["id"]}) >= most:
        raise Refusal("track-full", f"Testers have {most} builds at once over {track}; end a test first.")


def stood(store: SimulatedStore, berth_id: str, consignment: Thing) -> dict[str, tuple[float, int]]:
    """For each track: the hours a build has been there by now, and how many people have it from there."""
    now, found = store.clock.now(), dict[str, tuple[float, int]]()
    for trial in store.shelf.all("trial"):
        if trial["consignment"] != consignment["id"] or trial["state"] != "open":
            continue
        since = datetime.fromisoformat(trial.get("opened_at") or now.isoformat())
        hours, people = found.get(of(trial), (0.0, 0))
        found[of(trial)] = (
            max(hours, (now - since).total_seconds() / 3600),
            people + len(trial["testers"]),
        )
    for rollout in store.shelf.all("rollout"):
        if rollout.get("consignment") == consignment["id"] and rollout["state"] in OFFERED:
            since = datetime.fromisoformat(rollout["offers"][0][0])
            people = round(_people(store, berth_id, of(rollout)) * rollout["share"])
            found[of(rollout)] = ((now - since).total_seconds() / 3600, people)
    return found


def _people(store: SimulatedStore, berth_id: str, track: str) -> int:
    """How many may get builds over a track."""
    way = known(store, berth_id)[track]
    if way.audience is Audience.EVERYBODY:
        return DEVICES
    if way.audience is Audience.CHOOSERS:
        return round(DEVICES * float(store.setting(f"choosing {track}", USUALLY_CHOOSING)))
    seated = {
        address
        for trial in store.shelf.all("trial")
        if trial["berth"] == berth_id and of(trial) == track and trial["state"] in ("open", "with the store")
        for address in trial["testers"]
    }
    return len(seated)


def listing(store: SimulatedStore, berth_id: str) -> Thing:
    store.needed("berth", berth_id)
    own = {entry["key"] for entry in store.shelf.all("track") if entry["berth"] == berth_id}
    return {
        "tracks": [
            {
                "key": key,
                "title": way.title,
                "own": key in own,
                "people": _people(store, berth_id, key),
                "placements": _placements(store, berth_id, key),
            }
            for key, way in known(store, berth_id).items()
        ]
    }


def _placements(store: SimulatedStore, berth_id: str, track: str) -> list[Thing]:
    held = []
    for rollout in store.shelf.all("rollout"):
        if (
            rollout["berth"] == berth_id
            and of(rollout) == track
            and rollout["state"] not in ("superseded", "withdrawn")
        ):
            held.append(
                {
                    "consignment": rollout.get("consignment") or rollout["submission"],
                    "submission": rollout["submission"],
                    "since": rollout["offers"][0][0],
                    **{name: rollout[name] for name in ("version", "number", "state", "share")},
                }
            )
    for trial in store.shelf.all("trial"):
        if trial["berth"] == berth_id and of(trial) == track and trial["state"] == "open":
            held.append(
                {
                    "consignment": trial["consignment"],
                    "trial": trial["id"],
                    "since": trial.get("opened_at") or store.clock.now().isoformat(),
                    "share": 1.0,
                    **{name: trial[name] for name in ("version", "number", "state")},
                }
            )
    return held


# tracks of the team's own


def open_own(store: SimulatedStore, berth_id: str, wanted: protocol.TrackRequest) -> Thing:
    store.needed("berth", berth_id)
    own = store.rules.own_tracks
    if own is None:
        raise Refusal("no-own-tracks", "Teams open no tracks of their own here.")
    if wanted.key in known(store, berth_id):
        raise Refusal("track-known", f"There is a track {wanted.key} already.")
    mine = [entry for entry in store.shelf.all("track") if entry["berth"] == berth_id and not entry["closed"]]
    if len(mine) >= own.most:
        raise Refusal("tracks-used-up", f"A team has {own.most} tracks of its own at most; close one first.")
    track = {
        "id": f"{berth_id} {wanted.key}",
        "berth": berth_id,
        "key": wanted.key,
        "title": wanted.title,
        "closed": False,
    }
    return _told(store, track)


def rename_own(store: SimulatedStore, berth_id: str, key: str, title: str) -> Thing:
    return _told(store, _own(store, berth_id, key) | {"title": title})


def close_own(store: SimulatedStore, berth_id: str, key: str) -> Thing:
    track = _own(store, berth_id, key)
    if any(of(trial) == key and trial["berth"] == berth_id and trial["state"] in ("open", "with the store")
           for trial in store.shelf.all("trial")):  # fmt: skip
        raise Refusal("track-in-use", f"People still get a build over {key}; end that first.")
    return _told(store, track | {"closed": True})


def _own(store: SimulatedStore, berth_id: str, key: str) -> Thing:
    found = store.shelf.get("track", f"{berth_id} {key}")
    if found is None or found["closed"]:
        raise Refusal("track-unknown", f"There is no track {key} of your own here.", 404)
    return found


def _told(store: SimulatedStore, track: Thing) -> Thing:
    """Keep a track of the team's own and tell of it."""
    store.shelf.put("track", track)
    told = {name: track[name] for name in ("berth", "key", "title", "closed")} | {"own": True}
    people = None if track["closed"] else _people(store, track["berth"], track["key"])
    sequence = store.event("track.changed", track["key"], told | {"people": people})
    return told | {"people": people, "sequence": sequence}


def count_choosers(store: SimulatedStore, berth_id: str) -> None:
    """Tell how many people have chosen each track that people choose for themselves."""
    for key, way in store.rules.ways.items():
        if way.audience is Audience.CHOOSERS:
            _tell_people(store, berth_id, key, way)


def people_choose(store: SimulatedStore, berth_id: str, track: str, share: float) -> Thing:
    """So many devices have chosen a track by now."""
    store.shelf.keep_setting(f"choosing {track}", share)
    return _tell_people(store, berth_id, track, known(store, berth_id)[track])


def _tell_people(store: SimulatedStore, berth_id: str, track: str, way: TrackRules) -> Thing:
    told = {"berth": berth_id, "key": track, "title": way.title, "own": False, "closed": False}
    told["people"] = _people(store, berth_id, track)
    store.event("track.changed", track, told)
    return told


# devices


def look_for_updates(store: SimulatedStore, berth_id: str) -> list[Thing]:
    """Every device of the sample asks the store for a build, and keeps it; what each has now, with its place in each line."""
    for device in _sample(store, berth_id):
        found = _offered_to(store, berth_id, device)
        has = device.get("has")
        if found is not None and (has is None or _above(store, found, has)):
            device["has"] = found
        store.shelf.put("device", device)
    return [entry for entry in store.shelf.all("device") if entry["berth"] == berth_id]


def _sample(store: SimulatedStore, berth_id: str) -> list[Thing]:
    """Devices of people who use each track, and of everybody with a seat."""
    kept = {entry["id"]: entry for entry in store.shelf.all("device")}
    choosing = [key for key, way in store.rules.ways.items() if way.audience is Audience.CHOOSERS]
    names = {f"{berth_id} {place}": "" for place in range(SAMPLE)}
    for trial in store.shelf.all("trial"):
        if trial["berth"] == berth_id:
            names |= {f"{berth_id} {address}": address for address in trial["testers"]}
    found = []
    for place, (name, address) in enumerate(names.items()):
        chosen = choosing[place % (len(choosing) + 1) - 1] if choosing and place % (len(choosing) + 1) else ""
        country = COUNTRIES[place % len(COUNTRIES)]
        made = {"id": name, "berth": berth_id, "address": address, "chosen": chosen, "country": country}
        found.append(kept.get(name, made))
    return found


def place_in_line(store: SimulatedStore, device: str, rollout: str) -> float:
    """Where a device stands in the line for a rollout, from 0 to 1; those before the share are offered it."""
    return random.Random(f"{store.seed}/{device}/{rollout}").random()


def _offered_to(store: SimulatedStore, berth_id: str, device: Thing) -> Thing | None:
    offers = []
    for rollout in store.shelf.all("rollout"):
        if rollout["berth"] != berth_id or rollout["state"] not in OFFERED:
            continue
        if of(rollout) not in (PRODUCTION, _chosen(store, device)):
            continue
        if place_in_line(store, device["id"], rollout["id"]) < rollout["share"]:
            offers.append(_as_offer(rollout, rollout["offers"][0][0]))
    for trial in store.shelf.all("trial"):
        if trial["berth"] == berth_id and trial["state"] == "open" and device["address"] in trial["testers"]:
            offers.append(_as_offer(trial, trial["opened_at"]))
    if not offers:
        return None
    if store.rules.people_get is PeopleGet.LATEST_PLACED:
        return max(offers, key=lambda offer: (offer["since"], _height(store, offer)))
    if store.rules.people_get is PeopleGet.OWN_CHOICE:
        first = _first_choice(store, device)
        offers = [offer for offer in offers if offer["track"] == first] or [
            offer for offer in offers if offer["track"] == PRODUCTION
        ]
    return max(offers, key=lambda offer: (_height(store, offer), offer["since"]), default=None)


def _chosen(store: SimulatedStore, device: Thing) -> str:
    """The track that a device has chosen, where that reaches its country."""
    only = store.rules.ways[device["chosen"]].countries if device["chosen"] else ()
    return device["chosen"] if not only or device["country"] in only else ""


def _first_choice(store: SimulatedStore, device: Thing) -> str:
    seats = [of(trial) for trial in store.shelf.all("trial") if device["address"] and device["address"] in trial["testers"]
             and trial["berth"] == device["berth"] and trial["state"] == "open"]  # fmt: skip
    for key in store.rules.ways:
        if key in seats or key == _chosen(store, device):
            return key
    return PRODUCTION


def _as_offer(thing: Thing, since: str) -> Thing:
    return {
        "id": thing["id"],
        "track": of(thing),
        "version": thing["version"],
        "number": str(thing["number"]),
        "since": since,
    }


def _height(store: SimulatedStore, offer: Thing) -> tuple[object, ...]:
    number = number_as_tuple(offer["number"])
    if store.rules.numbers.numbering is Numbering.RISES_FOR_EVER:
        return number
    return (*as_tuple(offer["version"]), *number)


def _above(store: SimulatedStore, offer: Thing, has: Thing) -> bool:
    return _height(store, offer) >= _height(store, has)
