"""The ten walks of everyday work by clicks, from an empty desk: everything is found by its name, and each act ends in words."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Locator, Page, expect

from tests.console.conftest import sign_in
from tests.harbour import Harbour, sample_pictures, until
from tests.patience import PATIENCE_SECONDS

STORES = {"northgate": "Northgate", "openfield": "Openfield", "slatehouse": "Slatehouse"}
IDENTIFIER = "org.example.saltgrass.marram"


class Walker:
    """Someone at the console; counts the presses of each walk, and the fields that are filled in."""

    def __init__(self, page: Page) -> None:
        self.page = page
        self.acts: dict[str, int] = {}
        self._walk = ""

    def walk(self, name: str) -> None:
        self._walk, self.acts[name] = name, 0

    def press(self, what: Locator) -> None:
        self.acts[self._walk] += 1
        what.click()

    def button(self, name: str, where: Page | Locator | None = None, *, exact: bool = True) -> None:
        self.press((where or self.page).get_by_role("button", name=name, exact=exact))

    def link(self, name: str, where: Page | Locator | None = None) -> None:
        self.press((where or self.page).get_by_role("link", name=name, exact=True))

    def fill(self, label: str, text: str, where: Page | Locator | None = None) -> None:
        self.acts[self._walk] += 1
        (where or self.page).get_by_label(label).fill(text)

    def says(self, text: str) -> None:
        """The act has ended in these words; they stay until they are closed."""
        expect(self.page.get_by_role("status").filter(has_text=text).first).to_be_visible()


@pytest.fixture
def empty(tmp_path: Path) -> Iterator[Harbour]:
    opened = Harbour.open(tmp_path / "harbour", stores=tuple(STORES))
    yield opened
    opened.close()


def test_ten_walks_by_clicks(empty: Harbour, browser: Browser, tmp_path: Path) -> None:
    context = browser.new_context(base_url=empty.address, viewport={"width": 1280, "height": 900})
    context.set_default_timeout(PATIENCE_SECONDS * 1000)
    page = context.new_page()
    sign_in(page)
    console = Walker(page)

    console.walk("connect three stores")
    console.link("connect a store")
    for name, title in STORES.items():
        file = tmp_path / f"{name}.json"
        file.write_text(json.dumps(empty.control(name, "connections", {})), encoding="utf-8")
        console.button("Connect a store")
        console.fill("Short name", name)
        page.get_by_label("Connection file").set_input_files(file)
        console.button("Try and connect")
        console.says(f"{name} is connected")
        expect(page.get_by_role("region", name=title)).to_be_visible()

    console.walk("first app")
    console.button("Register an app")
    for label, text in (("Title", "Maram"), ("Short name", "marram")):
        console.fill(label, text)
    for platform in ("Android", "iOS", "desktops"):
        console.fill(f"Identifier on {platform}", IDENTIFIER)
    console.button("Register it")
    for title in STORES.values():
        console.button(f"Open at {title}")
        console.button("Open the berth")
        expect(page.get_by_role("button", name="Open the berth")).to_have_count(0)
    until(lambda: empty.tide.apps.one("marram"), lambda app: [b.state for b in app.berths] == ["open"] * 3)

    console.walk("push three platforms")
    console.link("Apps", page.get_by_label("The desk"))
    console.link("Builds")
    for count, name in enumerate(STORES, 1):
        package = empty.package("marram", name)
        page.locator("input[type=file]").set_input_files(package)
        console.button("Send to", exact=False)
        until(lambda: empty.tide.builds.of_app("marram"), lambda seen, count=count: len(seen) == count)
        if name == "northgate":  # this store takes the first build on its own pages only
            first = package
    empty.hand_in("northgate", "marram", first)
    builds_are(empty, "processing")
    empty.pass_hours(3, desk=False)
    builds_are(empty, "ready")

    console.walk("hand it to testers")
    console.link("Testing")
    console.button("Make a cohort")
    console.fill("Name", "crew")
    console.button("Make it")
    console.says("crew is made")
    console.link("Add testers")
    console.button("Add testers")
    console.fill("Address", "wren@example.org")
    console.button("Add")
    console.says("wren@example.org is in crew")
    console.button("Hand a build to them")
    console.fill("Please look at", "Walk a path.")
    console.fill("Testers may ask", "ida@example.org")
    console.button("Hand it to", exact=False)
    until(lambda: empty.tide.testing.trials("marram"), lambda found: [trial.state for trial in found] == ["open"])

    console.walk("draft a release")
    console.link("Releases")
    console.button("Draft a release")
    console.fill("What is new, in English", "Dune maps.")
    console.button("Draft it")
    console.says("1.0.0 is drafted")

    console.walk("correct a slip")
    console.button("Take this store out", page.get_by_role("region", name="Slatehouse"))
    console.button("Take it out")
    console.says("1.0.0 no longer goes to slatehouse")
    console.button("edit")
    console.fill("Notes", "Dune maps, and faster.")
    console.button("Save")
    console.says("The notes in en are saved")
    console.link("Apps", page.get_by_label("The desk"))
    console.button("Change the title")
    console.fill("Title", "Marram")
    console.button("Save")

    console.walk("write and answer what stores ask")
    console.link("Marram")
    console.link("1.0.0")
    expect(page.get_by_role("button", name="Hand in for review")).to_be_disabled()
    console.press(page.get_by_role("region", name="Is it ready?").get_by_role("link", name="Write it").first)
    for title in ("Short line", "Description"):
        there = page.get_by_role("region", name=title, exact=True)
        console.fill("en", "For people who walk along the shore.", there)
        console.button("Save", there)
        expect(there.get_by_role("button", name="Save", exact=True)).to_have_count(0)
    console.link("Pictures")
    for title, key in (("Icon", "icon"), ("Pictures on a phone", "phone"), ("Pictures on a desktop", "desktop")):
        there = page.get_by_role("region", name=title, exact=True)
        there.locator("input[type=file]").first.set_input_files(sample_pictures()[key])
        expect(there.get_by_text(re.compile("put in[.]"))).to_be_visible()
    console.link("Questions")
    for title, choice in (
        ("Category", "Nature and outdoors"),
        ("Violence", "None"),
        ("Audience", "Adults"),
        ("Encryption", "No"),
        ("Advertising", "None"),
        ("Sold inside the app", "No"),
        ("Content of others", "No"),
        ("Does the app lead people onto ground where they can come to harm?", "No"),
    ):
        there = page.get_by_role("region", name=title, exact=True)
        console.press(there.get_by_label(choice, exact=True))
        console.button("Save", there)
        expect(there.get_by_role("button", name="Save", exact=True)).to_have_count(0)
    there = page.get_by_role("region", name="Data gathered", exact=True)
    console.button("None of all this", there)
    console.button("Save", there)
    expect(page.get_by_role("button", name="Save", exact=True)).to_have_count(0)
    console.button("Send what differs")
    console.says("What differs is sent to every store")
    console.link("Releases")
    console.link("1.0.0")

    console.walk("submit and see it go out")
    console.button("Hand in for review")
    console.button("Hand it in")
    console.says("1.0.0 is handed in for review")
    empty.all_confirmed("marram")
    empty.pass_hours(60, desk=False)
    expect(page.get_by_role("region", name="Openfield")).to_contain_text("rising")
    expect(page.get_by_role("region", name="Northgate")).to_contain_text("rising")

    console.walk("halt")
    console.button("halt", page.get_by_role("group", name="Steer every store"))
    console.fill("Why? It stands in the logbook.", "crashes on start")
    console.button("Halt now")
    console.says("Halt of Marram 1.0.0 is ordered at")
    console.button("Done")

    console.walk("find who halted")
    history = page.get_by_role("region", name="History")
    expect(history).to_contain_text("Ida Fenwick")
    expect(history).to_contain_text("crashes on start")

    console.walk("retire it")
    console.button("withdraw", page.get_by_role("group", name="Steer every store"))
    console.fill("Why? It stands in the logbook.", "replaced by Ferryglass")
    console.button("Withdraw now")
    console.button("Done")
    empty.all_confirmed("marram")
    console.link("Testing")
    console.press(page.get_by_role("region", name="crew").get_by_role("link", name="1.0.0"))
    console.button("End it")
    console.fill("Why?", "over")
    console.button("End the trial")
    console.says("The trial of 1.0.0 (1) ends")
    until(lambda: empty.tide.testing.trials("marram"), lambda found: all(trial.confirmed for trial in found))
    console.link("Apps", page.get_by_label("The desk"))
    console.button("Retire …")
    console.button("Retire Marram")
    console.says("Marram is retired")

    page.get_by_role("link", name="Messages", exact=True).click()
    expect(page.get_by_role("listitem").filter(has_text="crew is made")).to_be_visible()
    page.get_by_role("listitem").filter(has_text="Marram is retired").get_by_role("button", name="Undo").click()
    console.says("Undone: Marram is retired")
    assert empty.tide.apps.one("marram").retired_at is None
    context.close()
    assert console.acts == {
        "connect three stores": 10, "first app": 13, "push three platforms": 5, "hand it to testers": 12, "draft a release": 4,
        "correct a slip": 9, "write and answer what stores ask": 30, "submit and see it go out": 2, "halt": 4, "find who halted": 0, "retire it": 12,
    }  # fmt: skip


def builds_are(harbour: Harbour, state: str) -> None:
    until(
        lambda: harbour.tide.builds.of_app("marram"),
        lambda seen: all(entry.state == state for build in seen for entry in build.consignments),
    )
