"""The real thing for tests: stand-in stores, mail sink and desk as processes, driven through the client."""

from __future__ import annotations

import atexit
import itertools
import os
import re
import shutil
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from pathlib import Path
from typing import Any, TypeVar

import httpx
from sqlalchemy import select

from restless_tide.client import Tide
from restless_tide.core.answer_shapes import plain
from restless_tide.core.rights import standing_of
from restless_tide.demo.processes import HOST, Processes
from restless_tide.desk import tokens
from restless_tide.desk.settings import settings_from
from restless_tide.records.tables import Person
from restless_tide.service.serve import add_first_person, open_desk
from restless_tide.standins import pictures
from restless_tide.standins.packages import PackageRecipe, write_apk, write_ipa, write_msix
from restless_tide.wire.builds import ConsignmentTold
from restless_tide.wire.releases import LegTold, LegWanted, ReleaseTold
from tests import copies
from tests.answering import HARMLESS
from tests.nursery import NurseryProcesses
from tests.patience import OPENLY, PATIENCE_SECONDS
from tests.ports import own_ports

Seen = TypeVar("Seen")

EMAIL, PASSWORD = "ida@saltgrass.example.org", "sea-lavender-4"
FIRST_PAUSE_SECONDS, LONGEST_PAUSE_SECONDS, PAUSES_GROW_BY = 0.02, 0.2, 1.5
FAST = {"TIDE_STEPPABLE_CLOCK": "yes", "TIDE_POLL_SECONDS": "0.3", "TIDE_JOIN_ATTEMPTS": "2000"}
TWO_STORES = ("northgate", "openfield")
TEXTS = {
    "summary": "What grows at the edge of the tide.",
    "description": "A diary for people who walk along the shore.",
}
ANSWERS = {key: plain(answer) for key, answer in HARMLESS.items() if key != "reviewer-hint"}
OWN_ANSWERS = {"northgate": {"ground": "no"}, "openfield": {"calls-a-day": 3}}
PLACE = "android.permission.VIBRATE"
_WRITERS = {"northgate": (write_ipa, "ipa"), "slatehouse": (write_msix, "msix")}
CALM = {
    "outage": False,
    "fail": 0,
    "too_many": 0,
    "slow_seconds": 0.0,
    "lose_answers": 0,
    "push_off": False,
    "push_late_seconds": 0.0,
    "push_doubled": False,
    "push_shuffled": False,
    "push_forged": False,
}
_names = itertools.count(1)
_originals: dict[tuple[str, ...], copies.Original] = {}
"""The first app of this process with a dossier, by the stores it is at."""


def until(look: Callable[[], Seen], settled: Callable[[Seen], object]) -> Seen:
    """Look until it is settled; fails with what was seen last."""
    deadline, pause = time.monotonic() + PATIENCE_SECONDS, FIRST_PAUSE_SECONDS
    seen = look()
    while not settled(seen):
        assert time.monotonic() < deadline, f"never settled; last seen: {seen}"
        time.sleep(pause)
        pause = min(pause * PAUSES_GROW_BY, LONGEST_PAUSE_SECONDS)
        seen = look()
    return seen


@cache
def _line() -> httpx.Client:
    """To what is beside the desk; connections are kept, since making the first one of a client takes a while."""
    line = httpx.Client(**OPENLY)
    atexit.register(line.close)
    return line


@cache
def sample_pictures() -> dict[str, list[Path]]:
    """An icon, two pictures on a phone and one on a desktop, made once: in sizes that most stores take as they are."""
    folder = Path(tempfile.mkdtemp(prefix="tide-pictures-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    found: dict[str, list[Path]] = {}
    for picture_class, contents in (
        ("icon", [pictures.icon(900)]),
        ("phone", [pictures.screen(seed, 1080, 2300) for seed in ("The shore", "The tide")]),
        ("desktop", [pictures.screen("The map", 2000, 1250)]),
    ):
        for at, content in enumerate(contents, 1):
            file = folder / f"{picture_class}-{at}.png"
            file.write_bytes(content)
            found.setdefault(picture_class, []).append(file)
    return found


@cache
def settled() -> tuple[Path, str]:
    """The data of a desk in which Ida has a token, made once; and the token."""
    folder = Path(tempfile.mkdtemp(prefix="tide-settled-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    environment = {"TIDE_DATA": str(folder / "desk")}
    add_first_person(environment, "Ida Fenwick", EMAIL, PASSWORD)
    desk = open_desk(settings_from(environment))
    with desk.act("operator") as act:
        ida = act.session.scalars(select(Person)).one()
        _, token = tokens.make(act.as_person(ida.id), "tests", standing_of(ida.grants))
    desk.close()
    return folder / "desk", token


def settle_in(processes: Processes) -> str:
    """Give a desk that is to be started its first person; returns her token."""
    made, token = settled()
    shutil.copytree(made, processes.folder / "desk")
    return token


@dataclass
class Harbour:
    processes: Processes
    tide: Tide
    token: str
    folder: Path

    @classmethod
    def open(
        cls,
        folder: Path,
        environment: dict[str, str] | None = None,
        stores: tuple[str, ...] = TWO_STORES,
        plant: str = "",
        *,
        counted: bool = False,
    ) -> Harbour:
        """``counted``: the stores count what people do, which takes much work for each hour that passes."""
        processes = NurseryProcesses(folder, own_ports(), FAST | (environment or {}), stores, plant=plant)
        try:
            token = settle_in(processes)
            processes.start_all()
            opened = cls(processes, Tide(processes.ports.address, token=token), token, folder)
            for store in stores:
                opened.control(store, "mischief", {"uncounted": not counted})
        except BaseException:
            processes.stop_all()
            raise
        return opened

    def close(self) -> None:
        self.tide.close()
        self.processes.stop_all()

    @property
    def address(self) -> str:
        return self.processes.ports.address

    def control(self, store: str, path: str, body: dict[str, Any] | None = None) -> Any:
        url = f"http://{HOST}:{self.processes.ports.stores[store]}/control/{path}"
        answer = _line().request("GET" if body is None else "POST", url, json=body)
        return answer.raise_for_status().json()

    def calm(self) -> None:
        """Every store and the mail server behave well again."""
        for store in self.processes.stores:
            self.control(store, "mischief", CALM)
        self.mail_mood()

    def mails(self, to: str) -> list[dict[str, Any]]:
        url = f"http://{HOST}:{self.processes.ports.mail}/mails"
        return _line().get(url, params={"to": to}).raise_for_status().json()

    def mail_mood(self, **mood: Any) -> None:
        """How the mail server behaves from now on; without anything it is well again."""
        url = f"http://{HOST}:{self.processes.ports.mail}/mood"
        _line().post(url, json=mood).raise_for_status()

    def invited(self, trial: str) -> dict[str, str]:
        """The state of each invitation of a trial, by address."""
        return {entry.tester.email: entry.state for entry in self.tide.testing.invitations(trial)}

    def link_of(self, address: str) -> str:
        """The personal link in the newest mail to someone, once there is one."""
        mails = until(lambda: self.mails(address), lambda found: found)
        found = re.search(r"http\S+/invitation/\S+", mails[-1]["text"])
        assert found is not None
        return found.group()

    def connect_stores(self) -> None:
        for store in self.processes.stores:
            self.tide.stores.connect(store, self.control(store, "connections", {}))

    def pass_hours(self, hours: float, *, desk: bool = True) -> None:
        """The stores' clocks first, so that no stage is asked for too early."""
        for store in self.processes.stores:
            self.control(store, "clock", {"step_hours": hours})
        if desk:
            self.tide.watching.move_clock(step_hours=hours)

    def new_app(self, *, dossier: bool = True, copied: bool = True) -> str:
        """An app of its own with berths at both stores, and what they want to be written and answered.

        The first is made step by step, and the others are copies of it, unless ``copied`` is false.
        """
        name = f"app{os.getpid()}x{next(_names)}"
        if not (dossier and copied):
            return self._made(name, dossier=dossier)
        folder, stores = self.processes.folder, tuple(self.processes.stores)
        of = _originals.get(stores)
        if of is None:
            self._made(name, dossier=True)
            until(lambda: copies.at_rest(folder), lambda rests: rests)
            _originals[stores] = copies.original(
                folder, name, lambda store, kind: self.control(store, f"things/{kind}"), self._clocks()
            )
            return name
        copies.copy(
            of,
            name,
            folder,
            lambda store, kind, things: self.control(store, f"things/{kind}", {"things": things}),
            self._clocks(),
        )
        return name

    def _clocks(self) -> dict[str, datetime]:
        return {store: datetime.fromisoformat(self.control(store, "state")["now"]) for store in self.processes.stores}

    def _made(self, name: str, *, dossier: bool) -> str:
        identifier = f"org.example.saltgrass.{name}"
        self.tide.apps.register(
            name, title=name.title(), identifiers=dict.fromkeys(("android", "desktop", "ios"), identifier)
        )
        for store in self.processes.stores:
            self.tide.apps.open_berth(name, store)
            until(lambda store=store: self.tide.apps.berth(name, store), lambda berth: berth.state == "open")
        if dossier:
            self.write_dossier(name)
        return name

    def write_dossier(self, app: str) -> None:
        """What every store wants to be written and answered about an app, held there."""
        self.tide.dossier.write(app, "en", TEXTS)
        self.put_pictures(app)
        self.answer(app)
        self.tide.dossier.send(app)
        self.until_held(app)

    def put_pictures(self, app: str) -> None:
        """The pictures that every store wants, small ones that need no change at most of them."""
        for picture_class, files in sample_pictures().items():
            kept = [self.tide.dossier.keep_picture(file).sha256 for file in files]
            self.tide.dossier.put_pictures(app, "en", picture_class, kept)

    def answer(self, app: str) -> None:
        """Answer all that every store asks about an app."""
        self.tide.dossier.answer(app, ANSWERS)
        for store in OWN_ANSWERS.keys() & {*self.processes.stores}:
            self.tide.dossier.answer(app, OWN_ANSWERS[store], store=store)

    def until_held(self, app: str) -> None:
        """Wait until every store holds the dossier as it is written here."""
        until(lambda: self.tide.dossier.texts(app).stores, lambda stores: not any(store.differing for store in stores))
        until(
            lambda: self.tide.dossier.pictures(app).stores, lambda stores: not any(store.differing for store in stores)
        )
        until(
            lambda: self.tide.dossier.questions(app).stores, lambda stores: not any(store.differing for store in stores)
        )

    def package(self, app: str, store: str, version: str = "1.0.0", number: int | str = 1, **recipe: Any) -> Path:
        write, suffix = _WRITERS.get(store, (write_apk, "apk"))
        made = PackageRecipe(f"org.example.saltgrass.{app}", version, number, app.title(), **recipe)
        return write(self.folder / f"{app}-{version}-{number}.{suffix}", made)

    def push(self, *files: Path, app: str, store: str, **wish: Any) -> ConsignmentTold:
        return self.tide.builds.push(*files, app=app, stores=[store], **wish).consignments[0]

    def processing(self, file: Path, app: str, store: str) -> ConsignmentTold:
        """Push a build until the store processes it; where the first goes in by hand, someone does that."""
        sent = self.push(file, app=app, store=store)

        def where() -> str:
            by_hand = any(
                (step.app, step.store) == (app, store) and "first build" in step.title
                for step in self.tide.steps.waiting()
            )
            return "by hand" if by_hand else self.tide.builds.consignment(sent.id).state

        if until(where, lambda state: state in ("by hand", "processing")) == "by hand":
            self.hand_in(store, app, file)
        return until(lambda: self.tide.builds.consignment(sent.id), lambda seen: seen.state == "processing")

    def hand_in(self, store: str, app: str, file: Path) -> None:
        """Someone hands a package in on the store's own pages."""
        url = f"http://{HOST}:{self.processes.ports.stores[store]}/control/hand-in"
        asked = {"identifier": f"org.example.saltgrass.{app}"}
        _line().post(url, params=asked, content=file.read_bytes()).raise_for_status()

    def ready_build(self, app: str, store: str, version: str = "1.0.0", number: int = 1) -> str:
        """Push a build and let the store process it; returns its id."""
        consignment = self.processing(self.package(app, store, version, number), app, store)
        self.pass_hours(3 if store == "slatehouse" else 1, desk=False)
        until(lambda: self.tide.builds.consignment(consignment.id), lambda seen: seen.state == "ready")
        return consignment.build

    def draft(
        self,
        app: str,
        version: str = "1.0.0",
        *,
        stores: tuple[str, ...] = ("northgate", "openfield"),
        number: int = 1,
        **wish: Any,
    ) -> ReleaseTold:
        legs = {store: LegWanted(build=self.ready_build(app, store, version, number), **wish) for store in stores}
        return self.tide.releases.draft(app, version, legs=legs, notes={"en": "What is new."})

    def approve(self, app: str, version: str = "1.0.0", store: str | None = None) -> None:
        """Hand in and let the reviews pass."""
        self.submit(app, version, store=store)
        self.all_confirmed(app, version)
        self.pass_hours(60, desk=False)

    def submit(self, app: str, version: str = "1.0.0", *, store: str | None = None, **wish: Any) -> ReleaseTold:
        """Look at it, and hand it in as it was looked at."""
        return handed_in(self.tide, app, version, store=store, **wish)

    def risen(
        self, app: str, version: str = "1.0.0", *, stores: tuple[str, ...] = ("northgate", "openfield"), number: int = 1
    ) -> ReleaseTold:
        """A release that is on its way up at these stores, everything confirmed."""
        self.draft(app, version, stores=stores, number=number)
        self.approve(app, version)
        return self.released(
            app,
            version,
            lambda release: all(leg.phase == "rising" and leg.confirmed and leg.seen for leg in release.legs),
        )

    def released(self, app: str, version: str, settled: Callable[[ReleaseTold], object]) -> ReleaseTold:
        return until(lambda: self.tide.releases.one(app, version), settled)

    def all_confirmed(self, app: str, version: str = "1.0.0") -> ReleaseTold:
        return self.released(app, version, lambda release: all(leg.confirmed for leg in release.legs))

    def leg(self, app: str, store: str, version: str = "1.0.0") -> LegTold:
        return leg_of(self.tide.releases.one(app, version), store)

    def rollouts(self, store: str, app: str) -> list[dict[str, Any]]:
        """What the store itself holds: the independent witness."""
        berths = {berth["id"] for berth in self.control(store, "things/berth") if berth["reference"] == app}
        return [rollout for rollout in self.control(store, "things/rollout") if rollout["berth"] in berths]


def handed_in(tide: Tide, app: str, version: str, *, store: str | None = None, **wish: Any) -> ReleaseTold:
    """Look at a release, and hand it in as it was looked at."""
    looked = tide.releases.look(app, version, store=store).revision
    return tide.releases.submit(app, version, store=store, looked=looked, **wish)


def leg_of(release: ReleaseTold, store: str) -> LegTold:
    return next(leg for leg in release.legs if leg.store == store)
