"""A new app goes from nothing to ready in three connected stores and the hand-carried one by the console alone.

(By commands alone, and from a folder alone: tests/service/test_from_nothing.py.)
"""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Locator, Page, expect

from tests.console.conftest import sign_in
from tests.harbour import TEXTS, Harbour, sample_pictures, until
from tests.service.test_from_nothing import ready, shore  # noqa: F401  (a fixture)

pytestmark = pytest.mark.console

APP, TITLE = "byclicks", "Byclicks"
STORES = ("Northgate", "Openfield", "Slatehouse", "Wrackline")
CHOICES = (
    ("Category", "Nature and outdoors"),
    ("Violence", "None"),
    ("Talk between people", "No"),
    ("Audience", "Adults"),
    ("Encryption", "No"),
    ("Advertising", "None"),
    ("Sold inside the app", "No"),
    ("Content of others", "No"),
    ("News", "No"),
    ("Sign-in for reviewers", "No, or anyone can make an account"),
    ("Does the app lead people onto ground where they can come to harm?", "No"),
)


@pytest.fixture
def desk(browser: Browser, shore: Harbour) -> Iterator[Page]:  # noqa: F811
    context = browser.new_context(base_url=shore.address, viewport={"width": 1280, "height": 900})
    page = context.new_page()
    sign_in(page)
    yield page
    context.close()


def card(page: Page, title: str) -> Locator:
    return page.get_by_role("region", name=title, exact=True)


def carry(page: Page, begins: str, outcome: str = "Done") -> None:
    """Do the step at the hand-carried store whose title begins so."""
    page.goto("/steps")
    step = page.get_by_role("region", name=re.compile(f"^{begins}"))
    step.get_by_role("button", name=outcome).click()
    expect(step).to_be_hidden()


def test_by_the_console_alone(desk: Page, shore: Harbour) -> None:  # noqa: F811
    register(desk)
    open_places(desk)
    hand_in_builds(desk, shore)
    write(desk)
    show(desk)
    answer(desk)
    desk.get_by_role("button", name="Send what differs").click()
    for begins in ("Write the texts", "Put in the pictures", "Answer the questions"):
        carry(desk, begins)
    desk.goto(f"/apps/{APP}/releases")
    desk.get_by_role("button", name="Draft a release").click()
    desk.get_by_label("What is new, in English").fill("The first one.")
    desk.get_by_role("button", name="Draft it").click()
    expect(desk.get_by_role("region", name="Is it ready?")).to_contain_text("✓ Ready")
    assert until(lambda: ready(shore, APP), lambda seen: set(seen.values()) == {"ready"}).keys() == {
        store.lower() for store in STORES
    }


def register(page: Page) -> None:
    page.goto("/stores")
    page.get_by_role("button", name="Register an app").click()
    page.get_by_label("Title").fill(TITLE)
    page.get_by_label("Short name").fill(APP)
    for field in page.get_by_label(re.compile("^Identifier on")).all():
        field.fill(f"org.example.saltgrass.{APP}")
    page.get_by_role("button", name="Register it").click()
    expect(page.get_by_role("row", name=re.compile(TITLE))).to_be_visible()


def open_places(page: Page) -> None:
    row = page.get_by_role("row", name=re.compile(TITLE))
    for store in STORES:
        row.get_by_role("button", name=f"Open at {store}").click()
        row.get_by_role("button", name="Open the berth").click()
        expect(row.get_by_role("button", name=f"Open at {store}")).to_be_hidden()
    carry(page, "Open a place")


def hand_in_builds(page: Page, shore: Harbour) -> None:  # noqa: F811
    page.goto(f"/apps/{APP}/builds")
    for store in ("northgate", "openfield", "slatehouse"):
        file = shore.package(APP, store)
        page.locator("input[type=file]").set_input_files(file)
        sheet = page.get_by_role("region", name="what the stores will say")
        sheet.get_by_role("button", name=re.compile("^Send to")).click()
        expect(sheet).to_be_hidden()
        if store == "northgate":
            until(lambda: [one for one in shore.tide.steps.waiting() if "first build" in one.title], bool)
            shore.hand_in(store, APP, file)
    carry(page, "Hand in build")
    shore.pass_hours(3, desk=False)
    carry(page, "See whether", "It is ready")
    until(
        lambda: [one.state for build in shore.tide.builds.of_app(APP) for one in build.consignments],
        lambda states: len(states) == len(STORES) and set(states) == {"ready"},
    )


def write(page: Page) -> None:
    page.goto(f"/apps/{APP}/dossier")
    for title, key in (("Short line", "summary"), ("Description", "description")):
        card(page, title).get_by_label("en", exact=True).fill(TEXTS[key])
        card(page, title).get_by_role("button", name="Save", exact=True).click()
        expect(card(page, title).get_by_role("button", name="Save", exact=True)).to_be_hidden()


def show(page: Page) -> None:
    page.get_by_role("link", name="Pictures", exact=True).click()
    for title, key in (("Icon", "icon"), ("Pictures on a phone", "phone"), ("Pictures on a desktop", "desktop")):
        files = sample_pictures()[key]
        card(page, title).locator("input[type=file]").first.set_input_files(files)
        shown = card(page, title).get_by_role("listitem").filter(has=page.get_by_role("link", name="in full size"))
        expect(shown).to_have_count(len(files))
    expect(card(page, "Where the pictures stand")).not_to_contain_text("to put right")


def answer(page: Page) -> None:
    page.get_by_role("link", name="Questions", exact=True).click()
    for title, choice in CHOICES:
        card(page, title).get_by_label(choice, exact=True).check()
        save(page, title)
    for title, words in (
        ("Address for stores", "stores@example.org"),
        ("Youngest age", "8"),
    ):
        card(page, title).get_by_role("textbox").or_(card(page, title).get_by_role("spinbutton")).fill(words)
        save(page, title)
    card(page, "Data gathered").get_by_role("button", name="None of all this").click()
    save(page, "Data gathered")
    expect(card(page, "Where the answers stand")).not_to_contain_text("to answer")


def save(page: Page, title: str) -> None:
    card(page, title).get_by_role("button", name="Save", exact=True).click()
    expect(card(page, title).get_by_role("button", name="Save", exact=True)).to_be_hidden()
