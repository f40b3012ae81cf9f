"""Every page by axe, light and dark, on a phone and on a desk; keys, focus and what is announced."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import timedelta
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, Request, expect

from tests.harbour import Harbour, until

AXE = Path(__file__).parents[2] / "console" / "node_modules" / "axe-core" / "axe.min.js"
DRAWN = """(scheme) => new Promise((done) => {
  const look = () => (document.documentElement.dataset.bsTheme ?? scheme) === scheme && matchMedia(`(prefers-color-scheme: ${scheme})`).matches
    ? requestAnimationFrame(() => requestAnimationFrame(done)) : setTimeout(look, 10)
  look()
})"""
"""The scheme that was just asked for is on the screen. A tester's page follows the system and names no scheme."""
LEFT = "[data-left]"
FEED = "/v1/live"
"""It has no end."""
SOON_MILLISECONDS = 10
GO_TO = """(path) => {
  for (const one of document.querySelectorAll('main > *')) one.dataset.left = ''
  history.pushState({}, '', path)
  dispatchEvent(new PopStateEvent('popstate', { state: {} }))
}"""
"""To another page as its links do it, without loading the console anew."""
WIDTHS = (320, 400, 1280)
SEEN = ((320, "dark"), (1280, "light"))
"""Where axe looks: the narrowest and the widest, and both schemes."""


@cache
def axe() -> str:
    return AXE.read_text(encoding="utf-8")


def violations(page: Page) -> Iterator[str]:
    """What axe finds at each width and in each scheme, and whether the page scrolls sideways."""
    if not page.evaluate("'axe' in window"):
        page.evaluate(f"{axe()};0")
    for width in WIDTHS:
        page.set_viewport_size({"width": width, "height": 800})
        if page.evaluate("document.documentElement.scrollWidth") > width:
            yield f"at {width}: it scrolls sideways"
    for width, scheme in SEEN:
        page.set_viewport_size({"width": width, "height": 800})
        page.emulate_media(color_scheme=scheme, reduced_motion="reduce")  # type: ignore[arg-type]
        page.evaluate(DRAWN, scheme)
        found = page.evaluate("axe.run(document, { resultTypes: ['violations'] })")
        for violation in found["violations"]:
            yield f"at {width}, {scheme}: {violation['id']}: {violation['nodes'][0]['html'][:200]}"


@pytest.fixture(scope="module")
def shown(harbour: Harbour) -> dict[str, str]:
    """An app with something on each of its pages, and the addresses of those pages."""
    app = harbour.new_app()
    harbour.risen(app)
    build = harbour.tide.builds.named(app, "latest", platform="android").id
    harbour.tide.testing.make_cohort(app, "crew")
    harbour.tide.testing.add_tester(app, "crew", f"wren.{app}@example.org", name="Wren")
    trial = harbour.tide.testing.open_trial(
        app, cohort="crew", build=build, store="openfield", notes="Look.", contact="ida@example.org"
    )
    until(lambda: harbour.tide.testing.trial(trial.id), lambda seen: seen.state == "open")
    harbour.tide.testing.make_cohort(app, "shore", kind="walk-in")
    stack = "java.lang.IllegalStateException: x\n\tat org.example.AVeryLongNameOfAClassThatNoPhoneHasRoomFor.open(TileStore.java:7)\n"
    report = harbour.tide.reports.file(app, kind="crash", stack=stack, build=build)
    harbour.tide.guards.set_up(app, name="crashes")
    wall = harbour.tide.watching.clock().now.replace(tzinfo=None, microsecond=0)
    harbour.tide.freezes.set(f"fair of {app}", wall + timedelta(days=300), wall + timedelta(days=310), apps=[app])
    pages = {
        "today": "/", "freezes": "/freezes", "ladders": "/ladders", "apps": "/apps", "settings": "/settings", "testers": "/testers", "stores": "/stores", "steps": "/steps",
        "notices": "/notices", "words": "/words", "messages": "/messages", "logbook": "/logbook", "nowhere": "/nowhere", "trial": f"/trials/{trial.id}",
        "report": f"/reports/{report.id}",
    }  # fmt: skip
    of_app = ("releases", "releases/1.0.0", "releases/1.0.0/look", "tracks", "tracks/openfield/workbench", "guards", "live", "builds", f"builds/{build}", "dossier", "dossier/pictures", "dossier/questions", "dossier/goods", "cohorts", "cohorts/crew", "cohorts/shore", "reports", "signing")  # fmt: skip
    return pages | {part: f"/apps/{app}/{part}" for part in of_app}


def test_axe_finds_nothing_on_any_page_at_any_width_in_light_and_dark(page: Page, shown: dict[str, str]) -> None:
    wrong, asking = {}, set[Request]()
    page.on("request", lambda request: asking.add(request) if FEED not in request.url else None)
    for ends in ("requestfinished", "requestfailed"):
        page.on(ends, lambda request: asking.discard(request))
    page.goto(shown["words"])
    for name, path in shown.items():
        page.locator("main > *").first.wait_for()
        page.evaluate(GO_TO, path)
        page.locator(f"main > :not({LEFT})").first.wait_for()
        expect(page.get_by_text(re.compile("^(Looking|Loading) …$"))).to_have_count(0)
        while asking:  # until all has come that the page is drawn of
            page.wait_for_timeout(SOON_MILLISECONDS)
        found = list(violations(page))
        if found:
            wrong[name] = found
    assert wrong == {}


def test_axe_finds_nothing_before_signing_in_and_where_testers_are(
    browser: Browser, harbour: Harbour, shown: dict[str, str]
) -> None:
    app = shown["signing"].split("/")[2]
    link = harbour.link_of(f"wren.{app}@example.org")
    join = harbour.tide.testing.set_join(app, "shore", is_open=True).join
    assert join is not None
    context = browser.new_context(base_url=harbour.address)
    visitor = context.new_page()
    wrong = {}
    for path in ("/sign-in", link, join.link):
        visitor.goto(path)
        visitor.locator("h1").first.wait_for()
        found = list(violations(visitor))
        if found:
            wrong[path] = found
    context.close()
    assert wrong == {}


def test_axe_finds_nothing_in_the_mail_that_testers_get(
    browser: Browser, harbour: Harbour, shown: dict[str, str]
) -> None:
    app = shown["signing"].split("/")[2]
    mails = until(lambda: harbour.mails(f"wren.{app}@example.org"), bool)
    context = browser.new_context()
    reader = context.new_page()
    reader.set_content(mails[-1]["html"])
    assert list(violations(reader)) == []
    context.close()


def test_words_are_explained_acts_are_told_and_people_are_chosen_together(
    page: Page, shown: dict[str, str], harbour: Harbour
) -> None:
    app = shown["signing"].split("/")[2]
    for name in ("ada", "ben", "cyd"):
        harbour.tide.testing.add_tester(app, "shore", f"{name}.{app}@example.org", name=name.title())
    page.goto(f"{shown['cohorts/shore']}?sort=name")
    page.get_by_role("button", name="brief").click()
    expect(page.get_by_role("note")).to_contain_text("What testers and the store's reviewer are told")
    page.keyboard.press("Escape")
    expect(page.get_by_role("note")).to_have_count(0)
    people = page.get_by_role("region", name="People")
    people.get_by_label("Choose ada").check()
    people.get_by_label("Choose ben").check()
    people.get_by_role("button", name="Take them out").click()
    toast = page.get_by_role("status").filter(has_text="2 people left shore")
    expect(toast).to_be_visible()
    assert list(violations(page)) == []
    expect(people).not_to_contain_text("ada.")
    toast.get_by_role("button", name="Undo").click()
    expect(people).to_contain_text("ada.")
    removals = list(harbour.tide.watching.logbook(app=app, act="removed"))
    assert len(removals) == 1, "one act, one line"
    page.goto("/messages")
    expect(
        page.get_by_role("list").filter(has_text="2 people left shore").get_by_role("listitem").first
    ).to_contain_text("Undone")
    assert list(violations(page)) == []
    page.goto(f"/apps/{app}/reports?view=numbers")
    head = page.get_by_role("columnheader", name="Build")
    head.get_by_role("button").click()
    expect(head).to_have_attribute("aria-sort", "descending")
    expect(page).to_have_url(f"{harbour.address}/apps/{app}/reports?view=numbers&sort=-build")


def test_a_dialog_holds_the_focus_and_gives_it_back(page: Page, shown: dict[str, str]) -> None:
    page.goto(shown["releases/1.0.0"])
    halt = page.get_by_role("button", name="halt").first
    halt.focus()
    page.keyboard.press("Enter")
    dialog = page.get_by_role("dialog")
    expect(dialog).to_be_visible()
    assert dialog.get_attribute("aria-modal") == "true"
    assert list(violations(page)) == []
    for _ in range(12):
        page.keyboard.press("Tab")
        assert page.evaluate("document.activeElement.closest('[role=dialog]') !== null"), "the focus left the dialog"
    page.keyboard.press("Escape")
    expect(dialog).to_be_hidden()
    expect(halt).to_be_focused()


def test_one_letter_begins_an_act_until_it_is_switched_off(page: Page, shown: dict[str, str]) -> None:
    page.goto(shown["releases/1.0.0"])
    page.get_by_role("button", name="halt").first.wait_for()
    page.keyboard.press("h")
    expect(page.get_by_role("dialog")).to_be_visible()
    page.keyboard.press("Escape")
    page.goto("/settings")
    page.get_by_role("checkbox", name="One letter begins an act").uncheck()
    page.goto(shown["releases/1.0.0"])
    page.get_by_role("button", name="halt").first.wait_for()
    page.keyboard.press("h")
    expect(page.get_by_role("dialog")).to_have_count(0)


def test_anything_is_found_by_keys_alone_and_the_page_is_announced(page: Page, shown: dict[str, str]) -> None:
    app = shown["signing"].split("/")[2]
    page.goto("/")
    page.locator("main > *").first.wait_for()
    page.keyboard.press("/")
    box: Any = page.get_by_role("combobox", name="Find anything")
    expect(box).to_be_focused()
    page.keyboard.type(f"{app} 1.0.0")
    expect(page.get_by_role("option").first).to_contain_text("release")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(f"/apps/{app}/releases/1.0.0$"))
    expect(page.get_by_role("heading", level=1)).to_contain_text("1.0.0")
    expect(page.locator("p[aria-live=polite]")).to_contain_text("Release")
    page.keyboard.press("/")
    page.keyboard.type("nothing that is here")
    expect(page.get_by_text("Nothing holds all of these words.")).to_be_visible()
