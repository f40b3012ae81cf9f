"""The board of tracks: builds are placed and moved by menu, by key and by hand, and what a move would mean is said first."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Locator, Page, expect

from tests.console.conftest import sign_in
from tests.harbour import Harbour, until
from tests.patience import PATIENCE_SECONDS
from tests.service.test_tracks import cell, crew, until_held


@pytest.fixture
def page(browser: Browser, harbour: Harbour) -> Iterator[Page]:
    """Signed in by itself: a night passes in these tests, and no sign-in lasts so long."""
    context = browser.new_context(base_url=harbour.address, viewport={"width": 1280, "height": 800})
    context.set_default_timeout(PATIENCE_SECONDS * 1000)
    opened = context.new_page()
    sign_in(opened)
    yield opened
    context.close()


def move(here: Locator, to: str) -> None:
    here.get_by_role("button", name="Move 1.0.0 (1) from Workbench of Openfield").click()
    here.get_by_role("button", name=to).click()


def after_a_night(page: Page, harbour: Harbour, app: str) -> None:
    harbour.pass_hours(13)
    page.context.clear_cookies()
    sign_in(page)
    page.goto(f"/apps/{app}/tracks")


def on_workbench(harbour: Harbour) -> str:
    app = harbour.new_app()
    crew(harbour, app, "wren", "tam")
    build = harbour.ready_build(app, "openfield")
    harbour.tide.tracks.place(app, build, ["openfield/workbench"])
    until_held(harbour, app, "openfield/workbench", "1.0.0 open")
    return app


def test_a_build_is_placed_and_moved_up_and_the_board_says_what_stands_against_it(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    crew(harbour, app, "wren", "tam")
    harbour.ready_build(app, "openfield")
    page.goto(f"/apps/{app}/tracks")
    expect(page.get_by_role("region", name="Workbench of Openfield")).to_contain_text("2 people, crew")
    page.get_by_role("button", name="Place a build").click()
    page.locator("form").get_by_role("combobox").select_option(label="1.0.0 (1), android")
    page.get_by_role("group", name="On which tracks").get_by_text("Workbench").click()
    page.get_by_role("button", name="See what it means").click()
    sheet = page.get_by_role("region", name="Place 1.0.0 (1)")
    expect(sheet).to_contain_text("Nothing is sent again. 2 people may get it (crew).")
    sheet.get_by_role("button", name="Place it").click()
    until_held(harbour, app, "openfield/workbench", "1.0.0 open")
    here = page.get_by_role("region", name="Workbench of Openfield")
    expect(here).to_contain_text("open crew, 2 seated")

    move(here, "to Early")
    sheet = page.get_by_role("region", name="Promote 1.0.0 (1)")
    expect(sheet).to_contain_text("it needs 12 more hours there")
    expect(sheet.get_by_role("button", name="Promote it")).to_be_disabled()
    page.keyboard.press("Escape")
    expect(sheet).to_have_count(0)
    after_a_night(page, harbour, app)
    move(here, "to Early")
    page.get_by_role("button", name="Promote it").click()
    expect(page.get_by_role("status").filter(has_text="1.0.0 (1) is ordered to Early of Openfield")).to_be_visible()
    until(lambda: harbour.leg(app, "openfield").confirmed, bool)
    harbour.pass_hours(8, desk=False)
    expect(page.get_by_role("region", name="Early of Openfield")).to_contain_text("rising at 20%")
    page.get_by_role("region", name="Early of Openfield").get_by_role("link", name="Early").click()
    past = page.get_by_role("region", name="What it held")
    expect(past).to_contain_text("build placed by Ida Fenwick")
    page.get_by_role("button", name="Clear it").click()
    page.get_by_label("Why? It stands in the logbook.").fill("it is not wanted")
    page.get_by_role("button", name="Clear it now").click()
    expect(past.get_by_role("row", name=re.compile("1.0.0"))).to_contain_text("withdrawn")


def test_a_build_is_dragged_to_the_next_track_and_a_rule_waits_for_the_go_ahead(page: Page, harbour: Harbour) -> None:
    app = on_workbench(harbour)
    page.goto(f"/apps/{app}/tracks")
    here = page.get_by_role("region", name="Workbench of Openfield")
    here.get_by_role("listitem").drag_to(page.get_by_role("region", name="Production of Openfield"))
    sheet = page.get_by_role("region", name="Promote 1.0.0 (1)")
    expect(sheet).to_contain_text("It is drafted there and not handed in")
    sheet.get_by_role("button", name="Draft it").click()
    expect(page.get_by_role("region", name="Production of Openfield")).to_contain_text("draft")
    assert [placed.phase for placed in cell(harbour, app, "openfield/production").coming] == ["draft"]

    page.get_by_role("button", name="Move up by a rule").click()
    form = page.locator("form").filter(has_text="Move up by a rule")
    form.get_by_role("combobox").first.select_option(label="Workbench of Openfield")
    form.get_by_role("combobox").nth(1).select_option(label="Early")
    form.get_by_label("Hours there").fill("12")
    form.get_by_label("and a go-ahead for each build").check()
    form.get_by_role("button", name="Make the rule").click()
    rules = page.get_by_role("region", name="Rules")
    expect(rules).to_contain_text("Workbench of Openfield → Early of Openfield after 12 hours, a go-ahead")
    rules.get_by_role("button", name="Give the go-ahead").click()
    after_a_night(page, harbour, app)
    expect(page.get_by_role("region", name="Early of Openfield")).to_contain_text("comes next")
    rules.get_by_role("button", name="End the rule").click()
    rules.get_by_role("button", name="End it").click()
    expect(rules).to_have_count(0)


def test_a_track_of_the_teams_own_stands_on_the_board(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    page.goto(f"/apps/{app}/tracks")
    store = page.get_by_role("region", name="Openfield", exact=True)
    store.get_by_role("button", name="Open a track of your own").click()
    store.get_by_label("Short name").fill("pier")
    store.get_by_label("Title").fill("The pier")
    store.get_by_role("button", name="Open it").click()
    expect(page.get_by_role("region", name="The pier of Openfield")).to_contain_text("none is here")
    page.get_by_role("link", name="The pier", exact=True).click()
    page.get_by_role("button", name="Rename").click()
    page.get_by_label("Title").fill("The long pier")
    page.get_by_role("button", name="Order it").click()
    expect(page.get_by_role("heading", name="The long pier of Openfield")).to_be_visible()
    page.get_by_role("button", name="Close the track").click()
    page.get_by_role("button", name="Close it").click()
    page.get_by_role("link", name="All tracks").click()
    expect(page.get_by_role("region", name="Porch of Openfield")).to_be_visible()
    expect(page.get_by_role("region", name="The long pier of Openfield")).to_have_count(0)
