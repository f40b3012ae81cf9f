"""Testing with thousands of people: lists in, mails out, the cohort's page, equal crashes; each beside its comparison."""

from __future__ import annotations

import csv
import io
import os
import random
import smtplib
import sqlite3
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from email.message import EmailMessage
from pathlib import Path

import httpx
from playwright.sync_api import sync_playwright
from tests.browser import launched

from bench.measuring import say, timed
from restless_tide.client import Tide
from restless_tide.core.crashes import fingerprint, read_stack, read_symbols, symbolise
from restless_tide.core.report import ReportKind
from restless_tide.demo.processes import HOST, Processes
from restless_tide.demo.walkers import NAME_MAP
from restless_tide.records.database import Database
from restless_tide.records.tables import App, FieldReport
from restless_tide.standins.packages import PackageRecipe, write_apk

LIST, SEATS, CRASHES = 12_500, int(os.environ.get("BENCH_SEATS", "8000")), 50_000
CHROMIUM = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
            "--disable-component-update", "--disable-sync"]  # fmt: skip
STACK = "java.lang.{kind}: {n} is empty\n\tat b.c.a(SourceFile:{line})\n\tat b.d.b(SourceFile:88)\n\tat x.{place}.run(SourceFile:4)\n"


def people(count: int, tag: str) -> bytes:
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow(("address", "name", "language", "tags"))
    writer.writerows((f"{tag}{place}@example.org", f"Tester {place}", "de", "coast") for place in range(count))
    return out.getvalue().encode()


def control(processes: Processes, path: str, body: dict[str, object]) -> None:
    url = f"http://{HOST}:{processes.ports.stores['openfield']}/control/{path}"
    httpx.post(url, json=body, timeout=30, trust_env=False).raise_for_status()


def until(settled: Callable[[], bool], seconds: float = 900) -> None:
    """Look once a second, so that the looking costs little."""
    deadline = time.monotonic() + seconds
    while not settled() and time.monotonic() < deadline:
        time.sleep(1.0)


def prepare(processes: Processes, tide: Tide, folder: Path) -> str:
    """An app with a ready build at one store; returns the build's id."""
    connection = httpx.post(
        f"http://{HOST}:{processes.ports.stores['openfield']}/control/connections", json={}, trust_env=False
    ).json()
    tide.stores.connect("openfield", connection)
    tide.apps.register("bench", title="Bench", identifiers={"android": "org.example.bench"})
    tide.apps.open_berth("bench", "openfield")
    until(lambda: tide.apps.berth("bench", "openfield").state == "open")
    sent = tide.builds.push(
        write_apk(folder / "bench.apk", PackageRecipe("org.example.bench", "1.0.0", 1, "Bench")),
        app="bench",
    ).consignments[0]
    until(lambda: tide.builds.consignment(sent.id).state == "processing")
    control(processes, "clock", {"step_hours": 1})
    until(lambda: tide.builds.consignment(sent.id).state == "ready")
    return sent.build


def lists(tide: Tide, folder: Path) -> None:
    print(f"\nA list of {LIST} testers")
    content = people(LIST, "l")
    tide.testing.make_cohort("bench", "listed", kind="guest", stores=["openfield"])
    looked = timed(lambda: tide.testing.import_testers(content, app="bench", cohort="listed"), 3)
    began = time.perf_counter()
    tide.testing.import_testers(content, app="bench", cohort="listed", dry_run=False)
    applied = time.perf_counter() - began
    rows = list(csv.reader(io.StringIO(content.decode(), newline="")))[1:]

    def raw() -> None:
        path = folder / "raw.sqlite"
        path.unlink(missing_ok=True)
        with sqlite3.connect(path) as records:
            records.execute("PRAGMA journal_mode=WAL")
            records.execute("PRAGMA synchronous=FULL")
            records.execute(
                "CREATE TABLE t (id INTEGER PRIMARY KEY, email TEXT UNIQUE, name TEXT, language TEXT, tags TEXT)"
            )
            records.execute("CREATE TABLE m (cohort TEXT, tester INTEGER, PRIMARY KEY (cohort, tester))")
            records.executemany("INSERT INTO t (email, name, language, tags) VALUES (?, ?, ?, ?)", rows)
            records.execute("INSERT INTO m SELECT 'listed', id FROM t")

    bare = timed(raw, 3)
    say("looked at, every row judged", looked, "sqlite3 inserting the rows raw", bare)
    say("taken in as one act", applied, "sqlite3 inserting the rows raw", bare)


def mails(processes: Processes, tide: Tide, build: str) -> None:
    print(f"\n{SEATS} seats at the store, and as many invitations through the sink")
    tide.testing.make_cohort("bench", "shore", kind="walk-in", stores=["openfield"])
    tide.testing.import_testers(people(SEATS, "s"), app="bench", cohort="shore", dry_run=False)
    processes.stop("mail")
    began = time.perf_counter()
    trial = tide.testing.open_trial(
        "bench", cohort="shore", build=build, store="openfield", notes="Look.", contact="ida@example.org"
    )
    print(f"the act that hands the build to {SEATS}: {time.perf_counter() - began:.2f} s")
    until(lambda: tide.testing.trial(trial.id).seated == SEATS)
    print(f"every seat given by the store after {time.perf_counter() - began:.1f} s, in batches of 250")
    control(processes, "clock", {"step_hours": 24})
    until(lambda: tide.testing.trial(trial.id).state == "open")
    processes.start("mail")
    until(lambda: tide.testing.trial(trial.id).invited.get("sent", 0) > 0)
    first = tide.testing.trial(trial.id).invited.get("sent", 0)
    began = time.perf_counter()
    until(lambda: tide.testing.trial(trial.id).invited.get("sent", 0) == SEATS, 240)
    sent = tide.testing.trial(trial.id).invited.get("sent", 0)
    ours = (time.perf_counter() - began) / max(sent - first, 1)
    print(f"{sent} of {SEATS} sent, {first} of them before the clock began")
    mail = EmailMessage()
    mail["From"], mail["To"], mail["Subject"] = "a@example.org", "b@example.org", "Try it"
    mail.set_content("Look.\n" * 20)
    mail.add_alternative("<p>Look.</p>\n" * 60, subtype="html")
    began = time.perf_counter()
    with smtplib.SMTP(HOST, processes.ports.smtp) as server:
        for _ in range(2_000):
            server.send_message(mail)
    bare = (time.perf_counter() - began) / 2_000
    say(f"one invitation: written, sent, its state kept ({1 / ours:.0f} a second)", ours, f"smtplib alone ({1 / bare:.0f} a second)", bare)  # fmt: skip


def page(processes: Processes, tide: Tide, email: str, password: str) -> None:
    print(f"\nThe cohort's page with {SEATS} testers")
    health = timed(lambda: tide.watching.health(), 20)
    say("the cohort: who, seats, what they have, what is stuck", timed(lambda: tide.testing.cohort("bench", "shore"), 9), "the health check over HTTP", health)  # fmt: skip
    say("its first 50 people", timed(lambda: tide.testing.members("bench", "shore", limit=50), 9), "the health check over HTTP", health)  # fmt: skip
    say("a search that finds eleven", timed(lambda: tide.testing.members("bench", "shore", text="tester 777"), 9), "the health check over HTTP", health)  # fmt: skip
    with sync_playwright() as playwright:
        browser = launched(playwright)
        view = browser.new_context(base_url=processes.ports.address, viewport={"width": 1280, "height": 800}).new_page()
        view.goto("/")
        view.get_by_label("E-mail").fill(email)
        view.get_by_label("Password").fill(password)
        view.get_by_role("button", name="Sign in").click()
        view.get_by_role("link", name="Logbook").wait_for()

        def shown(path: str, what: str) -> float:
            began = time.perf_counter()
            view.goto(path)
            view.get_by_text(what).first.wait_for()
            return time.perf_counter() - began

        ours = sorted(shown("/apps/bench/cohorts/shore", "Tester 0") for _ in range(5))[2]
        other = sorted(shown("/notices", "Notices") for _ in range(5))[2]
        say("first view in the browser", ours, "first view of a page without data", other)
        shown("/apps/bench/cohorts/shore", "Tester 0")
        began = time.perf_counter()
        view.get_by_label("Search people").fill(f"tester {SEATS - 46}")
        view.get_by_text(f"s{SEATS - 46}@example.org").wait_for()
        say(
            "typed to shown, of which 150 ms are waited for",
            time.perf_counter() - began,
            "first view of the page",
            ours,
        )
        browser.close()


def crashes(processes: Processes, tide: Tide) -> None:
    print(f"\n{CRASHES} crashes, equal ones together")
    dice = random.Random(3)
    names = read_symbols(NAME_MAP.encode(), "names.txt")
    texts = [
        STACK.format(kind=dice.choice(("IllegalStateException", "NullPointerException")), n=dice.random(), line=dice.randint(10, 40), place=f"P{dice.randint(0, 199)}")
        for _ in range(CRASHES)
    ]  # fmt: skip
    began = time.perf_counter()
    prints = []
    for text in texts:
        crash = read_stack(text)
        assert crash is not None
        prints.append(fingerprint(symbolise(crash, [names])))
    took = time.perf_counter() - began
    bare = timed(lambda: [text.splitlines() for text in texts], 3)
    say(f"read, named, fingerprinted: {len(set(prints))} groups", took, "splitting the texts into lines", bare)
    processes.stop("desk")
    database = Database(processes.folder / "desk" / "desk.sqlite")
    now = datetime.now(UTC)
    with database.writing() as session:
        app = session.query(App).one()
        session.add_all(
            FieldReport(
                app_id=app.id, source="api", kind=ReportKind.CRASH, text="", device="Wavelet 9", system="", language="",
                at=now, received_at=now - timedelta(seconds=place), changed_at=now, stack="", frames=[],
                thrown="E", headline=mark[:8], fingerprint=mark,
            )
            for place, mark in enumerate(prints)
        )  # fmt: skip
    database.close()
    processes.start("desk")
    with sqlite3.connect(processes.folder / "desk" / "desk.sqlite") as records:
        plain = timed(lambda: records.execute("SELECT fingerprint, count(*) FROM field_reports GROUP BY fingerprint").fetchall(), 5)  # fmt: skip
    say(
        "the page of crashes over HTTP",
        timed(lambda: tide.reports.groups("bench"), 5),
        "SQLite's GROUP BY alone",
        plain,
    )
    say("the first page of the inbox", timed(lambda: tide.reports.some(app="bench", limit=50), 5), "SQLite's GROUP BY alone", plain)  # fmt: skip
