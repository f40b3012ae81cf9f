"""The console where stores, steps and notices are: what a person meets there, and does."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from restless_tide.demo.chapter import WRACKLINE
from tests.harbour import EMAIL, PASSWORD, Harbour, until
from tests.service.test_three_stores import announce

pytestmark = pytest.mark.console


@pytest.fixture
def carried_app(harbour: Harbour) -> str:
    if not any(store.name == "wrackline" for store in harbour.tide.stores.every()):
        harbour.tide.stores.carry("wrackline", WRACKLINE.read_text(encoding="utf-8"))
    return harbour.new_app()


def test_a_step_is_prepared_carried_and_said_done_and_another_is_refused_in_the_stores_words(
    page: Page,
    harbour: Harbour,
    carried_app: str,
) -> None:
    harbour.tide.apps.open_berth(carried_app, "wrackline")
    page.goto("/steps")
    step = page.get_by_role("region", name=f"Open a place for {carried_app.title()} at Wrackline")
    expect(step.get_by_text(f"org.example.saltgrass.{carried_app}")).to_be_visible()
    expect(step.get_by_text("Look for: The store lists the app")).to_be_visible()
    no = step.get_by_role("button", name="The store refused")
    expect(no).to_be_disabled()
    step.get_by_label("What the store said").fill("That name sounds like ours.")
    no.click()
    expect(step).to_be_hidden()
    until(lambda: harbour.tide.apps.berth(carried_app, "wrackline"), lambda berth: berth.state == "refused")
    harbour.tide.apps.open_berth(carried_app, "wrackline", listed_name="Another")
    step = page.get_by_role("region", name="Open a place for Another at Wrackline")
    step.get_by_role("button", name="Done").click()
    until(lambda: harbour.tide.apps.berth(carried_app, "wrackline"), lambda berth: berth.state == "open")
    expect(page.get_by_role("row", name="Open a place for Another at Wrackline")).to_contain_text("done")


def test_a_first_build_by_hand_offers_its_file(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    file = harbour.package(app, "northgate")
    harbour.push(file, app=app, store="northgate")
    page.goto("/steps")
    step = page.get_by_role("region", name=f"Hand in the first build of {app.title()} at Northgate by hand")
    with page.expect_download() as fetched:
        step.get_by_role("link", name="Fetch the file").click()
    assert fetched.value.suggested_filename == f"org.example.saltgrass.{app}-1.0.0-1.ipa"
    assert fetched.value.path().read_bytes() == file.read_bytes()
    harbour.hand_in("northgate", app, file)
    expect(step).to_be_hidden()


def test_the_stores_page_tells_standing_breaker_and_sightings_and_what_a_key_needs(
    page: Page,
    harbour: Harbour,
) -> None:
    page.goto("/stores")
    card = page.get_by_role("region", name="Openfield").first
    for told in ("standing good", "Breaker", "closed", "events are pushed by the store"):
        expect(card.get_by_text(told).first).to_be_visible()
    card.get_by_text("Rulebook 11").click()
    expect(card.get_by_text("Numbers rise for ever.")).to_be_visible()
    harbour.control("openfield", "mischief", {"outage": True})
    try:
        expect(card.get_by_text("Not reached.")).to_be_visible()
        expect(card.get_by_text("Left alone for now.")).to_be_visible()
    finally:
        harbour.control("openfield", "mischief", {"outage": False})
    expect(card.get_by_text("Reached")).to_be_visible()
    page.get_by_role("button", name="Connect a store").click()
    page.get_by_text("How to make a key at the store").click()
    expect(page.get_by_text("with these rights: read, builds")).to_be_visible()


def test_a_price_is_set_with_what_cannot_be_taken_back_said_before(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    page.goto("/stores")
    row = page.get_by_role("row").filter(has_text=app.title())
    row.get_by_role("button", name="Price, countries, who").first.click()
    page.get_by_label("It costs something").check()
    page.get_by_label("Price").fill("0.10")
    page.get_by_role("button", name="What would it mean?").click()
    expect(page.get_by_text("The lowest price at Northgate is 0.40.")).to_be_visible()
    page.get_by_label("Price").fill("2.99")
    page.get_by_label("Countries").fill("de, no")
    page.get_by_role("button", name="What would it mean?").click()
    expect(page.get_by_text("It becomes a paid app.")).to_be_visible()
    page.get_by_label("Why?").fill("spring")
    page.get_by_role("button", name="Order it").click()
    expect(row.get_by_text("everyone, 2 countries, EUR 2.99")).to_be_visible()
    seen = until(lambda: harbour.tide.apps.berth_detail(app, "northgate"), lambda berth: berth.confirmed)
    assert seen.offered_told == "everyone, 2 countries, EUR 2.99"


def test_somebody_subscribes_tries_the_way_and_ends_it(page: Page, harbour: Harbour) -> None:
    page.goto("/notices")
    page.get_by_role("button", name="New subscription").click()
    page.get_by_label("Address").fill("console@example.org")
    page.get_by_label("processing ended").uncheck()
    page.get_by_role("button", name="Subscribe").click()
    row = page.get_by_role("region", name="Subscriptions").get_by_role("row").filter(has_text="console@example.org")
    expect(row).not_to_contain_text("processing ended")
    row.get_by_role("button", name="Try it").click()
    told = page.get_by_role("row").filter(has_text="This only tries the way.")
    expect(told.first).to_contain_text("sent")
    assert until(lambda: harbour.mails("console@example.org"), bool)[0]["subject"] == "try-out: a try-out"
    row.get_by_role("button", name="End it").click()
    expect(row).to_be_hidden()


def test_an_announced_revision_stands_on_the_stores_page_with_what_it_hits(
    tmp_path: Path,
    browser: Browser,
) -> None:
    there = Harbour.open(tmp_path / "coast", stores=("slatehouse",))
    try:
        there.connect_stores()
        app = there.new_app()
        there.draft(app, stores=("slatehouse",))
        announce(there, 24 * 20)
        context = browser.new_context(base_url=there.address)
        opened = context.new_page()
        opened.goto("/stores")
        opened.get_by_label("E-mail").fill(EMAIL)
        opened.get_by_label("Password").fill(PASSWORD)
        opened.get_by_role("button", name="Sign in").click()
        card = opened.get_by_role("region", name="Slatehouse")
        expect(card.get_by_text("Longest release notes: 1100 → 60")).to_be_visible()
        expect(card.get_by_text(f"Affects {app.title()} 1.0.0")).to_be_visible()
        expect(card.get_by_text("Slatehouse wants release notes in de.")).to_be_visible()
        context.close()
    finally:
        there.close()
