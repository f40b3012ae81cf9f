"""The readiness sheet and the dossier: 40 locales at four stores, against the same rows read bare."""

from __future__ import annotations

import hashlib
import random
import sys
import time
from datetime import UTC, datetime
from pathlib import Path
from statistics import median

from playwright.sync_api import Locator, Page, sync_playwright
from sqlalchemy import text
from sqlalchemy.orm import Session
from tests.browser import launched

from bench.filling import a_rising_leg, a_store, an_app
from bench.measuring import run, say, timed
from bench.stores import control
from restless_tide.client import Tide
from restless_tide.core.rollout import RolloutState
from restless_tide.core.rulebook import read_rulebook
from restless_tide.demo.chapter import WRACKLINE
from restless_tide.demo.processes import Processes
from restless_tide.desk import readiness
from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.settings import Settings
from restless_tide.records import tables
from restless_tide.service import shown_dossier

LOCALES = [
    f"{language}-{region}"
    for language in ("en", "de", "fr", "nb", "da", "nl", "it", "es")
    for region in ("AT", "CH", "DE", "NO", "FR")
]
CHANGED = 3
TYPED = 4_000
_WORDS = ("walk", "shore", "dunes", "tide", "shell", "bird", "diary", "find")
_RAW = (
    "SELECT berth_id, locale, picture_class, pictures FROM app_picture_sets WHERE app_id = :app",
    "SELECT * FROM picture_files",
    "SELECT berth_id, locale, picture_class, files, kept FROM held_pictures WHERE berth_id IN (SELECT id FROM berths WHERE app_id = :app)",
    "SELECT locale, field, text, revision FROM app_texts WHERE app_id = :app",
    "SELECT berth_id, locale, field, text, kept FROM held_texts WHERE berth_id IN (SELECT id FROM berths WHERE app_id = :app)",
    "SELECT * FROM legs JOIN releases ON releases.id = legs.release_id JOIN berths ON berths.id = legs.berth_id "
    "JOIN stores ON stores.id = berths.store_id JOIN builds ON builds.id = legs.build_id WHERE releases.app_id = :app",
)


def _written(dice: random.Random, words: int) -> str:
    return " ".join(dice.choices(_WORDS, k=words)).capitalize() + "."


def sheet(folder: Path) -> None:
    """A release at four stores with 40 locales, all texts held; the sheet against raw SQL of the same rows."""
    print("\nThe readiness sheet")
    dice, desk = random.Random(7), Desk(Settings(data=folder / "sheet"), RealClock())
    now = datetime.now(UTC)
    with desk.database.writing() as session:
        found = [a_store(name) for name in ("northgate", "openfield", "slatehouse")]
        rules = read_rulebook(WRACKLINE.read_text(encoding="utf-8"))
        found.append(tables.Store(name="wrackline", may=[], rulebook=rules.model_dump(mode="json"), connected_at=now))
        session.add_all(found)
        session.flush()
        app, release = an_app(session, "marram")
        session.add_all(
            tables.AppIdentifier(app_id=app.id, platform=platform, identifier="org.example.marram")
            for platform in ("android", "ios", "desktop")
        )
        legs = [a_rising_leg(session, app, release, store, f"s-{store.name}") for store in found]
        for leg in legs:
            leg.state, leg.launched_at, leg.share = RolloutState.WAITING, None, 0.0
            session.query(tables.Round).filter_by(leg_id=leg.id).delete()
        texts = {
            (locale, field): _written(dice, 6 if field == "summary" else 90)
            for locale in LOCALES
            for field in ("summary", "description")
        }
        for (locale, field), said in texts.items():
            session.add(
                tables.AppText(app_id=app.id, locale=locale, field=field, text=said, changed_at=now, changed_by="bench")
            )
            session.add_all(
                tables.HeldText(berth_id=leg.berth_id, locale=locale, field=field, text=said, seen_at=now)
                for leg in legs
            )
        _show(session, app, legs, now)
        app_id = app.id

    def ours() -> None:
        with desk.look() as session:
            told = shown_dossier.readiness(readiness.sheets(session, "marram", "1.0.0", now))
            assert len(told.places) == len(found)

    def raw() -> None:
        with desk.database.engine.connect() as connection:
            for statement in _RAW:
                connection.execute(text(statement), {"app": app_id}).all()

    say(f"sheet of a release, 4 stores × {len(LOCALES)} locales", timed(ours, 9), "its rows by raw SQL", timed(raw, 9))
    desk.close()


def _show(session: Session, app: tables.App, legs: list[tables.Leg], now: datetime) -> None:
    """Five pictures on a phone in every locale, as large as all stores take them, and what is held of them."""
    for locale in LOCALES:
        digests = [hashlib.sha256(f"{locale} {at}".encode()).hexdigest() for at in range(5)]
        session.add_all(
            tables.PictureFile(
                sha256=sha256, format="png", width=1080, height=2300, size_bytes=90_000, transparent=False, plain=True,
                kept_at=now,
            )
            for sha256 in digests
        )  # fmt: skip
        session.flush()
        session.add(
            tables.AppPictureSet(
                app_id=app.id,
                locale=locale,
                picture_class="phone",
                pictures=digests,
                changed_at=now,
                changed_by="bench",
            )
        )
        session.add_all(
            tables.HeldPictures(berth_id=leg.berth_id, locale=locale, picture_class=key, files=digests, seen_at=now)
            for leg in legs
            for key in ("scenes", "views")
        )


def over_the_wire(processes: Processes, tide: Tide, token: str, folder: Path) -> None:
    """A folder of 40 locales: fetched, compared, and sent when three texts have changed; the stores' calls are counted."""
    print("\nThe dossier, over the wire")
    dice = random.Random(8)
    for store in processes.stores:
        tide.stores.connect(store, control(processes, store, "connections", {}))
    tide.apps.register("lexicon", title="Lexicon", identifiers=dict.fromkeys(("android", "ios"), "org.example.lexicon"))
    for store in processes.stores:
        tide.apps.open_berth("lexicon", store)
    while any(berth.state != "open" for berth in tide.apps.one("lexicon").berths):
        time.sleep(0.05)
    for locale in LOCALES:
        tide.dossier.write("lexicon", locale, {"summary": _written(dice, 6), "description": _written(dice, 90)})
    tide.dossier.send("lexicon")
    _held(tide)
    command = (Path(sys.executable).with_name("tide"), "dossier")
    reached = ("--url", processes.ports.address, "--token", token)
    place, bare = folder / "dossier", timed(lambda: run(sys.executable, "-c", "import argparse, httpx"), 5)
    run(*command, "fetch", place, "--app", "lexicon", *reached)
    say(
        f"tide dossier fetch, {2 * len(LOCALES)} texts, nothing new",
        timed(lambda: run(*command, "fetch", place, *reached), 5),
        "import argparse, httpx",
        bare,
    )
    say(
        "tide dossier compare",
        timed(lambda: run(*command, "compare", place, *reached), 5),
        "import argparse, httpx",
        bare,
    )
    for locale in LOCALES[:CHANGED]:
        file = place / "texts" / f"{locale}.toml"
        file.write_text(file.read_text(encoding="utf-8").replace('summary = "', 'summary = "Now '), encoding="utf-8")
    before = _acts(processes)
    began = time.perf_counter()
    run(*command, "send", place, *reached, "--wait", "60")
    taken = time.perf_counter() - began
    _held(tide)
    calls = {store: count - before[store] for store, count in _acts(processes).items()}
    print(f"tide dossier send, {CHANGED} texts changed: {taken * 1000:.0f} ms; calls at the stores: {calls}")


def _held(tide: Tide) -> None:
    while any(store.differing for store in tide.dossier.texts("lexicon").stores):
        time.sleep(0.05)


def _acts(processes: Processes) -> dict[str, int]:
    return {
        store: sum(act["act"] == "write texts" for act in control(processes, store, "acts"))
        for store in processes.stores
    }


def typing(processes: Processes, email: str, password: str) -> None:
    """A text of 4,000 characters in the console: from a key to the next frame, against the same in a bare field."""
    with sync_playwright() as playwright:
        browser = launched(playwright)
        page = browser.new_context(base_url=processes.ports.address).new_page()
        page.goto("/")
        page.get_by_label("E-mail").fill(email)
        page.get_by_label("Password").fill(password)
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("link", name="Today", exact=True).wait_for()
        page.goto("/apps/lexicon/dossier")
        field = page.get_by_role("region", name="Description", exact=True).locator("textarea").first
        field.fill("x" * TYPED)
        ours = _key_to_frame(page, field)
        page.set_content(f"<textarea rows=16 cols=90>{'x' * TYPED}</textarea>")
        bare = _key_to_frame(page, page.locator("textarea"))
        browser.close()
    say(f"typing in a text of {TYPED:,} characters, key to next frame", ours, "a bare field", bare)


_LISTEN = """field => { window.took = []; field.addEventListener('input', event => {
    const began = event.timeStamp; requestAnimationFrame(() => setTimeout(() => window.took.push(performance.now() - began))) }) }"""


def _key_to_frame(page: Page, field: Locator) -> float:
    field.evaluate(_LISTEN)
    field.focus()
    for _ in range(40):
        page.keyboard.press("a")
        page.wait_for_timeout(60)
    taken: list[float] = page.evaluate("window.took")
    return median(taken) / 1000
