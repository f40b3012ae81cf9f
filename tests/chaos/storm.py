"""The storm: a seeded driver that acts on many releases over three stores while everything goes wrong.

    python -m tests.chaos.storm --seed 7 --kills 1000

The service is killed with SIGKILL at random instants; stores go away, answer 429 or 500, are slow, lose
answers after acting, push their events late, doubled, out of order and beside forged ones. When it has
settled, the desk's records are held against the stores' own: see ``violations``. The seed of a failure
replays the same acts; the instants of the kills depend on the machine.
"""

from __future__ import annotations

import argparse
import json
import random
import sqlite3
import sys
import tempfile
import threading
import time
from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

from restless_tide.client import DeskUnreachable
from restless_tide.core.good import Good, GoodKind, GoodText, SoldGood, read_sold
from restless_tide.demo.processes import STORES
from restless_tide.desk import backup
from restless_tide.desk.settings import Settings
from restless_tide.standins import pictures
from restless_tide.wire.apps import Availability
from restless_tide.wire.errors import TideError
from tests.chaos import guarding, launching, people
from tests.harbour import CALM, Harbour, sample_pictures

APPS = 4
ACTS_A_LIFE = 4
TESTING_SHARE, GUARDING_SHARE, LAUNCHING_SHARE = 0.25, 0.25, 0.15
LONGEST_LIFE_SECONDS = 0.6
SETTLE_SECONDS = 180.0
BESIDE = "slatehouse/classrooms"
"""A track that takes what production has passed, without another review."""
STEERED = {"launch", "set share", "pause", "resume", "halt", "withdraw"}


@dataclass
class Storm:
    """What happened in one storm."""

    kills: int = 0
    lives: list[float] = field(default_factory=list)
    accepted: Counter[str] = field(default_factory=Counter)
    refused: int = 0
    unknown: int = 0
    orders_seen: set[str] = field(default_factory=set)
    before: dict[str, int] = field(default_factory=dict)
    violations: list[str] = field(default_factory=list)
    settled_after_seconds: float = 0.0
    counted: Counter[str] = field(default_factory=Counter)
    waiting: str = ""
    """The app whose release waits for its launch."""

    def note(self, came: str) -> None:
        """What became of one act: ``done``, ``refused`` or ``unknown``."""
        self.refused += came == "refused"
        self.unknown += came == "unknown"


@contextmanager
def harbour(folder: Path, plant: str = "") -> Iterator[Harbour]:
    """Three stores and a desk; ``plant`` breaks it on purpose."""
    opened = Harbour.open(folder, stores=STORES, plant=plant, counted=True)
    try:
        opened.connect_stores()
        yield opened
    finally:
        opened.close()


def rage(
    folder: Path,
    seed: int,
    kills: int,
    *,
    count: int = APPS,
    plant: str = "",
    moods: Sequence[dict[str, Any]] = (),
    told: Any = lambda _: None,
    restored: bool = False,
) -> Storm:
    """One storm from calm to calm; ``violations`` of the outcome say what was broken. ``moods``: of these alone.

    ``restored``: a backup is taken in the middle of it, and when all is calm the desk is put back to that; it has to agree
    with the stores again, which have done much since.
    """
    dice, storm = random.Random(seed), Storm()
    with harbour(folder, plant) as there:
        apps = [there.new_app() for _ in range(count)]
        for app in apps:
            there.draft(app, stores=STORES)
            for store in ("northgate", "slatehouse"):
                there.tide.releases.change_leg(app, "1.0.0", store, ladder=guarding.LADDER)
            there.approve(app)
        for app in apps:
            there.released(app, "1.0.0", lambda seen: all(leg.phase == "rising" and leg.confirmed for leg in seen.legs))
        people.gather(there, apps, STORES)
        guarding.set_up(there, apps)
        storm.waiting = launching.set_up(there)
        builds = {app: {leg.store: leg.build for leg in there.tide.releases.one(app, "1.0.0").legs} for app in apps}
        storm.before = {store: len(there.control(store, "acts")) for store in STORES}
        begun = position_of(there)
        while storm.kills < kills:
            weather(there, dice, moods)
            taking = _backup_of(there) if restored and storm.kills == kills // 2 else None
            live(there, apps, builds, dice, storm)
            if taking is not None:
                taking.join()
            storm.kills += 1
            there.processes.start("desk")
            guarding.set_clock_again(there, storm.accepted)
            if storm.kills % 50 == 0:
                told(f"{storm.kills} kills, {sum(storm.accepted.values())} acts accepted")
        there.calm()
        began = time.monotonic()
        settle(there, storm)
        storm.settled_after_seconds = time.monotonic() - began
        verified = there.tide.watching.verify_logbook()
        if verified.first_broken is not None:
            storm.violations.append(f"the logbook breaks at line {verified.first_broken}")
        storm.violations += violations(there, storm, begun)
        if restored:
            storm.violations += _after_restoring(there, storm)
    return storm


def _backup_of(there: Harbour) -> threading.Thread:
    """A backup that is taken while the desk acts, and is killed."""
    data = Settings(data=there.processes.folder / "desk")
    target = there.processes.folder / "backup"
    thread = threading.Thread(target=lambda: backup.back_up(data, target, with_key=True))
    thread.start()
    return thread


def _after_restoring(there: Harbour, storm: Storm) -> list[str]:
    """What a desk that was put back to its backup does not agree on with the stores, once it has asked them."""
    data = there.processes.folder / "desk"
    there.processes.stop("desk")
    data.rename(data.with_name("desk-before"))
    backup.restore(Settings(data=data), there.processes.folder / "backup")
    there.processes.start("desk")
    guarding.set_clock_again(there, storm.accepted)
    settle(there, storm)
    untold = _take_what_is_offered_again(there, storm)
    broken = there.tide.watching.verify_logbook().first_broken
    chain = [f"the restored logbook breaks at line {broken}"] if broken is not None else []
    deadline = time.monotonic() + SETTLE_SECONDS
    while (found := _disagreements(there)) and time.monotonic() < deadline:
        time.sleep(0.2)
    return [*chain, *(f"after restoring: {one}" for one in (*untold, *found))]


def _take_what_is_offered_again(there: Harbour, storm: Storm) -> list[str]:
    """Say that what runs at a store is wanted, for each leg that the desk asks a person about; returns those nobody heard of.

    A leg may be halted in the backup and resumed after it. The order to resume it is not in the backup, so to the desk
    the store offers again what was stopped; it never takes that as wanted without a person.
    """
    heard = set(rows(there, "SELECT place, subject FROM notices WHERE kind = 'offered again'"))
    asked = [
        (app, release.version, leg.place)
        for (app,) in rows(there, "SELECT name FROM apps")
        for release in there.tide.releases.of_app(app)
        for leg in release.legs
        if leg.offered_again
    ]
    for app, version, place in asked:
        there.tide.releases.steer(app, version, "resume", reason="it runs there", store=place)
    storm.counted["resumed after restoring"] = len(asked)
    return [
        f"{app} {version} is offered again at {place}, and nobody was told"
        for app, version, place in asked
        if (f"/apps/{app}/releases/{version}", f"release {version} at {place}") not in heard
    ]


def weather(there: Harbour, dice: random.Random, moods: Sequence[dict[str, Any]] = ()) -> None:
    """Another mood for one of the stores, of ``moods`` or of all that there are."""
    every: list[dict[str, Any]] = [
        CALM,
        CALM,
        {"outage": True},
        {"fail": dice.randint(1, 4)},
        {"too_many": dice.randint(1, 3), "retry_after_seconds": 1.0},
        {"slow_seconds": dice.uniform(0.05, 0.4)},
        {"slow_seconds": dice.uniform(0.2, 0.8)},
        {"lose_answers": dice.randint(1, 3)},
        {"push_off": True},
        {"push_late_seconds": 0.3},
        {"push_doubled": True, "push_shuffled": True},
        {"push_forged": True},
    ]
    there.control(dice.choice(STORES), "mischief", CALM | dice.choice(moods or every))


def live(there: Harbour, apps: list[str], builds: dict[str, dict[str, str]], dice: random.Random, storm: Storm) -> None:
    """A short life of the desk: some acts, and a kill at a random instant, also in the middle of one."""
    life, began = dice.uniform(0, LONGEST_LIFE_SECONDS), time.monotonic()
    killer = threading.Timer(life, there.processes.kill, ("desk",))
    do_something(there, apps, builds, dice, storm)
    killer.start()
    for _ in range(ACTS_A_LIFE):
        do_something(there, apps, builds, dice, storm)
        if not killer.is_alive():
            break
    killer.join()
    storm.lives.append(time.monotonic() - began)


def do_something(
    there: Harbour, apps: list[str], builds: dict[str, dict[str, str]], dice: random.Random, storm: Storm
) -> None:
    app, about = dice.choice(apps), dice.random()
    if about < TESTING_SHARE:
        storm.note(people.act(there, app, builds[app], dice, storm.accepted))
    elif about < TESTING_SHARE + GUARDING_SHARE:
        storm.note(guarding.act(there, app, dice, storm.accepted))
    elif about < TESTING_SHARE + GUARDING_SHARE + LAUNCHING_SHARE:
        storm.note(launching.act(there, storm.waiting, dice, storm.accepted))
    else:
        act_somewhere(there, app, dice, storm)


def send(there: Harbour, app: str, store: str | None, storm: Storm) -> None:
    """Send what differs of the dossier to a store or to all."""
    for one in there.tide.dossier.send(app, store=(store or "").partition("/")[0] or None):
        storm.accepted["write texts"] += bool(one.sent)
        storm.accepted["write pictures"] += bool(one.pictures_sent)
        storm.accepted["write answers"] += bool(one.answers_sent)
        storm.accepted["write goods"] += bool(one.goods_sent)


def another_pictures(dice: random.Random) -> list[Path]:
    """Two or three pictures on a phone, some of which stores hold already, in any order."""
    files = [*sample_pictures()["phone"]]
    new = files[0].with_name(f"storm-{dice.randrange(6)}.png")
    if not new.exists():
        new.write_bytes(pictures.screen(new.stem, 1080, 2300))
    return dice.sample([*files, new], dice.choice([2, 3]))


def another_good(there: Harbour, dice: random.Random) -> Good | None:
    """A good at some price, with one of few pictures; or none, so that it is taken out."""
    if dice.random() < 0.2:
        return None
    text = GoodText(name="Maps", description="All of them.")
    file = sample_pictures()["phone"][0].with_name(f"good-{dice.randrange(3)}.png")
    if not file.exists():
        file.write_bytes(pictures.screen(file.stem, 640, 640))
    picture = there.tide.dossier.keep_picture(file).sha256
    price = Decimal(dice.randint(2, 9))
    return Good(kind=GoodKind.KEPT, price=price, currency="EUR", texts={"en": text, "de": text}, picture=picture)


def act_somewhere(there: Harbour, app: str, dice: random.Random, storm: Storm) -> None:
    store = dice.choice([None, *STORES, BESIDE])
    act = dice.choice(
        [
            "pause",
            "resume",
            "resume",
            "advance",
            "halt",
            "rush",
            "rush",
            "offer",
            "texts",
            "pictures",
            "answers",
            "goods",
            "promote",
        ]
    )
    if act == "promote":
        promote(there, app, storm)
        return
    if act == "rush":  # a halt right behind a step of the same leg, which may be in flight
        store = dice.choice(["openfield", "slatehouse", BESIDE])
        for one in ("resume", "halt"):
            steer(there, app, one, store, None, storm)
        return
    if act == "halt" and store in (None, "northgate"):
        store = dice.choice(["openfield", "slatehouse"])  # a halted leg at Northgate would be over
    try:
        if act == "offer":
            wanted = Availability(countries=tuple(dice.sample(["DE", "NO", "AT", "CH"], dice.randint(0, 3))))
            there.tide.apps.offer(app, (store or "northgate").partition("/")[0], wanted, reason="storm")
            storm.accepted["set availability"] += 1
            return
        if act == "texts":
            texts = {"summary": f"A diary, {dice.randrange(1000)} pages.", "description": "Changed in a storm."}
            there.tide.dossier.write(app, dice.choice(["en", "de"]), texts)
            send(there, app, store, storm)
            return
        if act == "pictures":
            kept = [there.tide.dossier.keep_picture(file).sha256 for file in another_pictures(dice)]
            there.tide.dossier.put_pictures(app, "en", "phone", kept)
            send(there, app, store, storm)
            return
        if act == "answers":
            there.tide.dossier.answer(
                app, {"violence": dice.choice(["none", "mild"]), "youngest-age": dice.randint(3, 21)}
            )
            send(there, app, store, storm)
            return
        if act == "goods":
            there.tide.dossier.write_good(app, dice.choice(["maps", "tides"]), another_good(there, dice))
            send(there, app, store, storm)
            return
        share = None
        if act == "advance":
            store = store if store in ("northgate", "slatehouse") else "northgate"
            here = there.leg(app, store).share
            share = min(here + 0.001, 0.9)
    except DeskUnreachable:
        storm.unknown += 1
        return
    except TideError:
        storm.refused += 1
        return
    steer(there, app, act, store, share, storm)


def promote(there: Harbour, app: str, storm: Storm) -> None:
    """What production has goes to another track, too; asked for again and again, it goes there once."""
    try:
        there.tide.tracks.promote(app, "slatehouse", to=BESIDE.partition("/")[2], reason="storm")
    except DeskUnreachable:
        storm.unknown += 1
    except TideError:
        storm.refused += 1
    else:
        storm.accepted["promote"] += 1


def steer(there: Harbour, app: str, act: str, store: str | None, share: float | None, storm: Storm) -> None:
    """Order one act and remember what became of it."""
    try:
        done = there.tide.releases.steer(app, "1.0.0", act, reason="storm", store=store, share=share)
    except DeskUnreachable:
        storm.unknown += 1
        return
    except TideError:
        storm.refused += 1
        return
    for outcome in done.outcomes:
        if outcome.order is not None:
            storm.accepted[act] += 1
            storm.orders_seen.add(outcome.order)


def settle(there: Harbour, storm: Storm) -> None:
    """Wait until nothing is ordered any more and everything that the stores told has been taken."""
    deadline, before = time.monotonic() + SETTLE_SECONDS, dict[str, int]()
    while time.monotonic() < deadline:
        if (ended := there.processes.ended()) is not None:
            storm.violations.append(f"{ended} has ended by itself: see {there.processes.folder / f'{ended}.log'}")
            return
        judging, launching_now = guarding.waiting(rows, there), launching.due(there, storm.waiting)
        pending = sum(store.pending_orders for store in there.tide.stores.every())
        seen = dict(rows(there, "SELECT name, events_seen FROM stores"))
        last = {store: last_event(there, store) for store in STORES}
        calm = not (pending or judging or launching_now) and all(seen[store] == last[store] for store in STORES)
        if calm and before == last:  # an event that was taken meanwhile may have called for more
            return
        before = last if calm else {}
        time.sleep(0.2)
    storm.violations.append(
        f"it did not come to rest in {SETTLE_SECONDS:g} s: {pending} orders, {seen} of {last}, guards: {judging}, launches: {launching_now}"
    )


def last_event(there: Harbour, store: str) -> int:
    with closing(sqlite3.connect(there.processes.folder / store / "store.sqlite")) as shelf:
        return int(shelf.execute("SELECT max(sequence) FROM events").fetchone()[0] or 0)


def rows(there: Harbour, question: str) -> list[tuple[Any, ...]]:
    """The desk's own records, read beside it."""
    with closing(
        sqlite3.connect(f"file:{there.processes.folder / 'desk' / 'desk.sqlite'}?mode=ro", uri=True)
    ) as records:
        return records.execute(question).fetchall()


def position_of(there: Harbour) -> int:
    return int(rows(there, "SELECT max(position) FROM orders")[0][0])


def violations(there: Harbour, storm: Storm, begun: int) -> list[str]:
    """Everything that the desk's records and the stores' own do not agree on, in words."""
    found: list[str] = []
    orders = [
        dict(
            zip(
                ("id", "kind", "state", "lane", "position", "attempts", "ordered_at", "again", "trouble"),
                row,
                strict=True,
            )
        )
        for row in rows(
            there,
            "SELECT id, kind, state, lane, position, attempts, ordered_at, again, trouble FROM orders"
            f" WHERE position > {begun} ORDER BY position",
        )
    ]
    known = {order["id"]: order for order in orders}
    lost = storm.orders_seen - set(known)
    if lost:
        found.append(f"{len(lost)} accepted orders are not in the records: {sorted(lost)[:3]}")
    done: dict[str, list[dict[str, Any]]] = defaultdict(list)
    lanes: dict[str, list[dict[str, Any]]] = defaultdict(list)
    for store in STORES:
        for place, act in enumerate(there.control(store, "acts")[storm.before[store] :]):
            order = known.get(act["key"].partition(".")[0])
            if order is None:
                if not act["act"].endswith(("push", "upload")) and not act["key"].startswith("by-hand"):
                    found.append(f"{store} did {act['act']} under a key that no order has: {act['key']}")
                continue
            entry = act | {"order": order, "store": store, "place": place}
            if act["outcome"] == "done":
                done[order["id"]].append(entry)
            lanes[order["lane"]].append(entry)
    for order in orders:
        found += _wrong_effect(order, len(done[order["id"]]))
    for lane in lanes.values():
        found += _wrong_sequence(lane)
    found += _disagreements(there)
    found += people.disagreements(there, STORES, rows)
    found += guarding.violations(there, rows)
    found += launching.violations(there, rows, storm.waiting)
    found += _other_texts(there)
    found += _other_pictures(there)
    found += _other_answers(there)
    found += _other_goods(there)
    found += _misplaced(there)
    found += _untold(there, orders)
    storm.counted.update(order["state"] for order in orders)
    storm.counted["halts by guards"] = rows(there, "SELECT count(*) FROM orders WHERE ordered_by LIKE 'guard:%'")[0][0]
    storm.counted["repeated halts"] += sum(order["again"] for order in orders)
    storm.counted["attempts"] += sum(order["attempts"] for order in orders)
    return found


def _instant(kept: str) -> float:
    return datetime.fromisoformat(kept).replace(tzinfo=UTC).timestamp()


def _wrong_effect(order: dict[str, Any], times: int) -> list[str]:
    """Exactly once when it is confirmed, never when it was refused, at most once when it was dropped."""
    told = f"{order['kind']} {order['id']} is {order['state']} and was done {times} times"
    match order["state"]:
        case "confirmed":
            return [told] if times != 1 else []
        case "refused":
            return [f"{told}: {order['trouble']}"] if times else []
        case "dropped":
            return [told] if times > 1 else []
    return [f"{order['kind']} {order['id']} is still {order['state']}"]


def _wrong_sequence(lane: list[dict[str, Any]]) -> list[str]:
    """Acts of a lane arrive in the order in which they were ordered; only halts go first, and wait for at most one.

    An earlier halt of the lane does what a later one asks, so going after it is no waiting; but nothing else may come
    between the two.
    """
    found, last = [], 0
    for entry in sorted(lane, key=lambda entry: entry["place"]):
        order = entry["order"]
        if order["kind"] == "halt" or order["state"] == "dropped" or entry["outcome"] != "done":
            continue
        if order["position"] < last:
            found.append(f"{order['kind']} {order['id']} was overtaken by a later order of its lane")
        last = max(last, order["position"])
    for entry in lane:
        order = entry["order"]
        if order["kind"] != "halt" or order["again"]:
            continue
        ordered = _instant(order["ordered_at"])
        between = {
            other["order"]["id"]: other
            for other in lane
            if ordered < other["arrived"] < entry["arrived"] and other["order"]["position"] < order["position"]
        }
        halts = [other["arrived"] for other in between.values() if other["order"]["kind"] == "halt"]
        others = [other["arrived"] for other in between.values() if other["order"]["kind"] != "halt"]
        if len(others) > 1 or any(at > first for at in others for first in halts):
            told = [
                f"{other['order']['kind']} {key} ({other['order']['state']}, arrived {other['arrived'] - ordered:+.3f} s)"
                for key, other in between.items()
            ]
            found.append(
                f"halt {order['id']} (arrived {entry['arrived'] - ordered:+.3f} s) waited behind {', '.join(told)}"
            )
    return found


def _disagreements(there: Harbour) -> list[str]:
    """Where the desk believes something else than the store holds."""
    found = []
    wanted = rows(
        there,
        "SELECT rounds.store_ref, stores.name, legs.state, legs.share, sightings.state, sightings.share FROM legs"
        " JOIN berths ON berths.id = legs.berth_id JOIN stores ON stores.id = berths.store_id"
        " JOIN rounds ON rounds.leg_id = legs.id LEFT JOIN sightings ON sightings.subject = legs.id"
        " WHERE rounds.store_ref IS NOT NULL",
    )
    held = {store: {entry["id"]: entry for entry in there.control(store, "things/rollout")} for store in STORES}
    for reference, store, state, share, seen_state, seen_share in wanted:
        rollout = held[store].get(reference)
        truth = (rollout["state"], rollout["share"]) if rollout else (None, None)
        if state == "waiting" and truth == (seen_state, seen_share) == (None, None):
            continue  # approved, and not launched: a freeze holds it
        if (state, share) != truth or (seen_state, seen_share) != truth:
            found.append(
                f"{reference} at {store}: {truth} there, {(state, share)} ordered, {(seen_state, seen_share)} seen"
            )
    offers = rows(
        there,
        "SELECT berths.store_ref, stores.name, json_extract(berths.availability, '$.countries') FROM berths"
        " JOIN stores ON stores.id = berths.store_id WHERE berths.availability != '{}'",
    )
    for reference, store, countries in offers:
        (berth,) = [entry for entry in there.control(store, "things/berth") if entry["id"] == reference]
        truth = berth.get("availability", {}).get("countries", [])
        if sorted(truth) != sorted(json.loads(countries or "[]")):
            found.append(f"berth {reference} at {store}: {truth} there, {countries} here")
    return found


def _other_answers(there: Harbour) -> list[str]:
    """Where a store holds other answers than the desk believes."""
    found = []
    held: dict[tuple[str, str], dict[str, Any]] = defaultdict(dict)
    asked = rows(
        there,
        "SELECT stores.name, berths.store_ref, question, answer FROM held_answers"
        " JOIN berths ON berths.id = berth_id JOIN stores ON stores.id = berths.store_id WHERE answer IS NOT NULL",
    )
    for store, reference, question, answer in asked:
        held[store, reference][question] = json.loads(answer) if isinstance(answer, str) else answer
    for (store, reference), here in held.items():
        dossier = next(one for one in there.control(store, "things/dossier") if one["id"] == reference)
        if dossier["answers"] != here:
            found.append(f"answers of {reference} at {store}: {dossier['answers']} there, {here} here")
    if rows(there, "SELECT 1 FROM logbook WHERE act = 'answers changed at the store' LIMIT 1"):
        found.append("answers were taken as changed that nobody changed at a store")
    return found


def _other_goods(there: Harbour) -> list[str]:
    """Where a store holds other goods than the desk believes."""
    found = []
    held: dict[tuple[str, str], dict[str, SoldGood]] = defaultdict(dict)
    for store, reference, key, good in rows(
        there,
        "SELECT stores.name, berths.store_ref, reference, good FROM held_goods"
        " JOIN berths ON berths.id = berth_id JOIN stores ON stores.id = berths.store_id WHERE good IS NOT NULL",
    ):
        held[store, reference][key] = read_sold(json.loads(good))
    for (store, reference), here in held.items():
        dossier = next(one for one in there.control(store, "things/dossier") if one["id"] == reference)
        truth = {key: read_sold(good) for key, good in dossier["goods"].items()}
        if truth != here:
            found.append(f"goods of {reference} at {store}: {truth} there, {here} here")
    if rows(there, "SELECT 1 FROM logbook WHERE act = 'goods changed at the store' LIMIT 1"):
        found.append("goods were taken as changed that nobody changed at a store")
    return found


def _other_pictures(there: Harbour) -> list[str]:
    """Where a store holds other pictures than the desk believes, or a file of them is not there."""
    found = []
    held: dict[tuple[str, str], dict[str, dict[str, list[str]]]] = defaultdict(lambda: defaultdict(dict))
    for store, reference, locale, key, files in rows(
        there,
        "SELECT stores.name, berths.store_ref, locale, picture_class, files FROM held_pictures"
        " JOIN berths ON berths.id = berth_id JOIN stores ON stores.id = berths.store_id WHERE files != '[]'",
    ):
        held[store, reference][locale][key] = json.loads(files)
    for (store, reference), here in held.items():
        dossier = next(one for one in there.control(store, "things/dossier") if one["id"] == reference)
        if dossier["pictures"] != {locale: dict(sets) for locale, sets in here.items()}:
            found.append(f"pictures of {reference} at {store}: {dossier['pictures']} there, {dict(here)} here")
        files = {one for sets in dossier["pictures"].values() for those in sets.values() for one in those}
        place = there.processes.folder / store / "files"
        found += [f"{store} has lost the file {one[:12]}" for one in files if not (place / one).exists()]
    if rows(there, "SELECT 1 FROM logbook WHERE act = 'pictures changed at the store' LIMIT 1"):
        found.append("pictures were taken as changed that nobody changed at a store")
    return found


def _other_texts(there: Harbour) -> list[str]:
    """Where a store holds other texts than the desk believes, or than the order that it confirmed last."""
    found = []
    believed: dict[tuple[str, str], dict[str, dict[str, str]]] = defaultdict(lambda: defaultdict(dict))
    for store, reference, locale, name, said in rows(
        there,
        "SELECT stores.name, berths.store_ref, locale, field, text FROM held_texts"
        " JOIN berths ON berths.id = berth_id JOIN stores ON stores.id = berths.store_id WHERE text != ''",
    ):
        believed[store, reference][locale][name] = said
    for (store, reference), here in believed.items():
        (dossier,) = [entry for entry in there.control(store, "things/dossier") if entry["id"] == reference]
        if dossier["texts"] != {locale: dict(fields) for locale, fields in here.items()}:
            found.append(f"texts of {reference} at {store}: {dossier['texts']} there, {dict(here)} here")
    if rows(there, "SELECT 1 FROM logbook WHERE act = 'texts changed at the store' LIMIT 1"):
        found.append("texts were taken as changed that nobody changed at a store")
    return found


def _misplaced(there: Harbour) -> list[str]:
    """No build is placed twice on a track, none is lost on the way, and nothing reaches production that nobody asked there."""
    found = []
    asked = Counter(
        rows(
            there,
            "SELECT berths.store_ref, legs.track FROM legs JOIN berths ON berths.id = legs.berth_id"
            " WHERE legs.launched_at IS NOT NULL",
        )
    )
    placed: Counter[tuple[str, str]] = Counter()
    for store in STORES:
        for rollout in there.control(store, "things/rollout"):
            placed[rollout["berth"], rollout["track"]] += 1
    for place in asked | placed:
        if asked[place] != placed[place]:
            found.append(f"{place}: {asked[place]} placements here, {placed[place]} there")
    return found


def _untold(there: Harbour, orders: list[dict[str, Any]]) -> list[str]:
    """Every steering order has its line, and no forged event left one."""
    lines = Counter(row[0] for row in rows(there, "SELECT act FROM logbook"))
    wanted = Counter(order["kind"] for order in orders if not order["again"])
    words = {"set share": ("advance",), "pause": ("pause",), "resume": ("resume",), "halt": ("halt",)}
    found = [
        f"{wanted[kind]} orders to {kind}, but {sum(lines[act] for act in acts)} lines in the logbook"
        for kind, acts in words.items()
        if sum(lines[act] for act in acts) != wanted[kind]
    ]
    if lines["changed at the store"]:
        found.append(f"{lines['changed at the store']} changes were taken that nobody made at the stores")
    return found


def main() -> int:
    parser = argparse.ArgumentParser(description="Let a storm rage over three stores and a desk.")
    parser.add_argument("--seed", type=int, default=int(time.time()) % 100_000)
    parser.add_argument("--kills", type=int, default=100)
    parser.add_argument("--plant", choices=["double-send"], default="", help="break the desk on purpose")
    given = parser.parse_args()
    began = time.monotonic()
    print(f"seed {given.seed}, {given.kills} kills{f', planted: {given.plant}' if given.plant else ''}", flush=True)
    with tempfile.TemporaryDirectory(prefix="tide-storm-") as folder:
        storm = rage(
            Path(folder), given.seed, given.kills, plant=given.plant, told=lambda said: print(said, flush=True)
        )
    print(
        f"{storm.kills} kills in {time.monotonic() - began:.0f} s; a desk lived {sum(storm.lives) / len(storm.lives):.2f} s"
    )
    print(f"accepted: {dict(storm.accepted)}; refused {storm.refused}; cut off by a kill {storm.unknown}")
    print(f"orders: {dict(storm.counted)}; at rest {storm.settled_after_seconds:.1f} s after the storm")
    for violation in storm.violations[:20]:
        print(f"  BROKEN: {violation}")
    print(f"{len(storm.violations)} violations; replay with --seed {given.seed} --kills {given.kills}")
    return 1 if storm.violations else 0


if __name__ == "__main__":
    sys.exit(main())
