"""The dossier and the readiness sheet in the console."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, expect

from restless_tide.folders.archive import unpack
from tests.harbour import TEXTS, Harbour, until

pytestmark = pytest.mark.console


def field(page: Page, title: str) -> Locator:
    return page.get_by_role("region", name=title, exact=True)


def test_a_text_is_written_counted_sent_and_seen_at_every_store(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    page.goto(f"/apps/{app}/dossier")
    line = field(page, "Short line")
    expect(line).to_contain_text(f"{len(TEXTS['summary'])} of 160 characters")
    line.get_by_label("en", exact=True).fill("x" * 161)
    expect(line).to_contain_text("161 of 160 characters: 1 too many")
    line.get_by_label("en", exact=True).fill("Every shell of the shore.")
    line.get_by_label("en", exact=True).press("Control+Enter")
    expect(line.get_by_role("button", name="Save", exact=True)).to_be_hidden()
    where = page.get_by_role("region", name="Where the texts stand")
    expect(where).to_contain_text("1 text differs from what it holds")
    page.get_by_role("button", name="Send what differs").click()
    expect(where).not_to_contain_text("differs")
    seen = until(
        lambda: harbour.tide.dossier.texts(app).stores, lambda stores: not any(one.differing for one in stores)
    )
    assert {text.held for one in seen for text in one.texts if text.field == "summary"} == {"Every shell of the shore."}
    expect(line).to_contain_text("✓ accepted")


def test_one_store_gets_another_text_and_a_remark_names_the_words(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    page.goto(f"/apps/{app}/dossier")
    line = field(page, "Short line")
    line.get_by_role("button", name="Another text here").last.click()
    line.get_by_label(re.compile("For Openfield alone")).fill("GET THIS DIARY TODAY FOLKS!!!")
    line.get_by_role("button", name="Save for Openfield").click()
    expect(line.get_by_role("button", name="Has its own text")).to_be_visible()
    expect(line).to_contain_text("It shouts: “THIS DIARY TODAY FOLKS”")
    own = [one for one in harbour.tide.dossier.texts(app).texts if one.store == "openfield"]
    assert [one.text for one in own] == ["GET THIS DIARY TODAY FOLKS!!!"]


def test_what_another_person_writes_meanwhile_is_shown_beside_and_nothing_is_lost(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    page.goto(f"/apps/{app}/dossier")
    line = field(page, "Short line")
    line.get_by_label("en", exact=True).fill("Mine.")
    harbour.tide.dossier.write(app, "en", {"summary": "Theirs."})
    expect(line.get_by_role("alert")).to_contain_text("Ida Fenwick has changed this text meanwhile")
    expect(line.get_by_role("alert")).to_contain_text("Theirs.")
    expect(line.get_by_label("en", exact=True)).to_have_value("Mine.")
    line.get_by_role("button", name="Keep mine, to save it over that").click()
    line.get_by_role("button", name="Save", exact=True).click()
    expect(line.get_by_role("button", name="Save", exact=True)).to_be_hidden()
    assert {one.field: one.text for one in harbour.tide.dossier.texts(app).texts}["summary"] == "Mine."


def test_a_language_is_added_beside_another_and_taken_out(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    page.goto(f"/apps/{app}/dossier")
    page.get_by_role("button", name="Add a language").click()
    page.get_by_label("Language", exact=True).fill("de-at")
    page.get_by_role("button", name="Add it").click()
    expect(page.get_by_role("button", name=re.compile("^de-AT 2 of"))).to_have_attribute("aria-pressed", "true")
    line = field(page, "Short line")
    expect(line.get_by_label("en", exact=True)).to_have_value(TEXTS["summary"])
    line.get_by_label("de-AT").fill("Was am Rand der Flut wächst.")
    line.get_by_role("button", name="Save", exact=True).click()
    expect(line.get_by_role("button", name="Save", exact=True)).to_be_hidden()
    page.get_by_role("button", name="Take out de-AT").click()
    page.get_by_role("button", name="Take them out").click()
    expect(page.get_by_role("button", name=re.compile("^de-AT"))).to_be_hidden()
    assert harbour.tide.dossier.texts(app).locales == ["en"]


def test_the_sheet_is_the_first_thing_on_a_page_and_leads_to_the_text_that_is_missing(
    page: Page, harbour: Harbour
) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("openfield",))
    harbour.tide.dossier.write(app, "en", {"description": ""})
    harbour.tide.dossier.send(app)
    until(lambda: harbour.tide.dossier.texts(app).stores, lambda stores: not any(one.differing for one in stores))
    page.goto(f"/apps/{app}/releases/1.0.0")
    sheet = page.get_by_role("region", name="Is it ready?")
    expect(sheet).to_contain_text("✕ Not ready")
    expect(page.get_by_role("button", name="Hand in for review")).to_be_disabled()
    sheet.get_by_role("link", name="Write it").click()
    expect(field(page, "Description").get_by_label("en", exact=True)).to_be_focused()


def test_a_folder_is_downloaded_changed_compared_and_written(page: Page, harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app()
    page.goto(f"/apps/{app}/dossier")
    part = page.get_by_role("region", name="As a folder of files")
    with page.expect_download() as loaded:
        part.get_by_role("link", name="Download it").click()
    assert loaded.value.suggested_filename == f"{app}-dossier.zip"
    folder = unpack(Path(loaded.value.path()), tmp_path)
    part.get_by_label("A dossier folder").set_input_files(folder)
    expect(part).to_contain_text("dossier and this page hold the same.")
    text = folder / "texts" / "en.toml"
    text.write_text(text.read_text().replace("A diary", "A notebook"), encoding="utf-8")
    part.get_by_label("A dossier folder").set_input_files(folder)
    expect(part).to_contain_text("texts/en.toml, description")
    expect(part.get_by_role("blockquote").nth(1)).to_contain_text("A notebook for people")
    part.get_by_role("button", name="Write that change here").click()
    expect(part).to_contain_text("1 change is written here.")
    expect(page.get_by_role("region", name="Description").get_by_role("textbox", name="en")).to_have_value(
        "A notebook for people who walk along the shore."
    )
    harbour.tide.dossier.write(app, "en", {"description": "Another one."})
    text.write_text(text.read_text().replace("A notebook", "A book"), encoding="utf-8")
    part.get_by_label("A dossier folder").set_input_files(folder)
    expect(part).to_contain_text("Changed at both")
    expect(part.get_by_role("button", name="Write")).to_have_count(0)
