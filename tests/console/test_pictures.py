"""The pictures of a dossier in the console: put in by clicks, dragged into order, undone, given to one store alone."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import FilePayload, Locator, Page, expect

from restless_tide.standins import pictures
from tests.harbour import Harbour, sample_pictures, until
from tests.service.test_pictures import of

pytestmark = pytest.mark.console


def card(page: Page, title: str) -> Locator:
    return page.get_by_role("region", name=title, exact=True)


def opened(page: Page, app: str) -> Locator:
    page.goto(f"/apps/{app}/dossier/pictures")
    where = page.get_by_role("region", name="Where the pictures stand")
    expect(where).to_be_visible()
    return where


def put(page: Page, title: str, *files: Path) -> None:
    card(page, title).locator("input[type=file]").first.set_input_files(list(files))


def order(harbour: Harbour, app: str) -> list[str]:
    sets = harbour.tide.dossier.pictures(app).sets
    return [file.sha256 for one in sets if one.picture_class == "phone" for file in one.pictures]


def test_the_pictures_of_a_new_app_are_put_in_by_clicks_until_every_store_holds_them(
    page: Page, harbour: Harbour
) -> None:
    app = harbour.new_app(dossier=False)
    where = opened(page, app)
    expect(where).to_contain_text("things to put right")
    page.get_by_role("button", name="Go to the first").first.click()
    expect(card(page, "Icon").get_by_role("button", name="Add a picture")).to_be_focused()
    put(page, "Icon", *sample_pictures()["icon"])
    expect(card(page, "Icon")).to_contain_text("Badge: 1 as 640 × 640 png, made smaller")
    put(page, "Pictures on a phone", *sample_pictures()["phone"])
    expect(card(page, "Pictures on a phone")).to_contain_text("Scenes: 2 as 1080 × 2300 png, as they are")
    expect(card(page, "Scenes on small phones")).to_contain_text("2 as 780 × 1660 png, made smaller (those of Scenes")
    page.get_by_role("button", name="Send what differs").click()
    expect(where.get_by_text("holds the pictures as they are put in").nth(1)).to_be_visible()
    assert of(harbour.tide.dossier.pictures(app), "northgate", "badge").state == "accepted"


def test_pictures_are_moved_by_keys_and_by_dragging_and_each_change_is_undone(
    page: Page, harbour: Harbour, tmp_path: Path
) -> None:
    app = harbour.new_app(dossier=False)
    files = []
    for seed in "abc":
        files.append(tmp_path / f"{seed}.png")
        files[-1].write_bytes(pictures.screen(seed, 1080, 2300))
    opened(page, app)
    put(page, "Pictures on a phone", *files)
    shown = card(page, "Pictures on a phone").get_by_role("listitem").filter(has=page.locator("img"))
    expect(shown).to_have_count(3)
    first = order(harbour, app)
    shown.nth(0).focus()
    page.keyboard.press("Alt+ArrowRight")
    expect(page.get_by_text("Number 1 is number 2 now.")).to_be_visible()
    expect(shown.nth(1)).to_be_focused()
    assert order(harbour, app) == [first[1], first[0], first[2]]
    page.get_by_role("button", name="Undo").click()
    until(lambda: order(harbour, app), lambda seen: seen == first)
    expect(shown.nth(0).locator("img")).to_have_attribute("src", re.compile(first[0]))
    shown.nth(0).focus()
    for key in ("ArrowRight", "ArrowRight", "ArrowLeft", "ArrowLeft"):
        page.keyboard.press(f"Alt+{key}")  # faster than the desk answers
    expect(page.get_by_text("Number 2 is number 1 now.")).to_be_visible()
    assert order(harbour, app) == first
    shown.nth(2).drag_to(shown.nth(0))
    until(lambda: order(harbour, app), lambda seen: seen == [first[2], first[0], first[1]])
    expect(page.get_by_text("Number 3 is number 1 now.")).to_be_visible()
    expect(shown.nth(0)).to_be_focused()
    page.keyboard.press("Delete")
    until(lambda: order(harbour, app), lambda seen: seen == first[:2])
    for left in (2, 1):
        expect(shown).to_have_count(left)
        expect(shown.nth(0)).to_be_focused()
        page.keyboard.press("Delete")
    until(lambda: order(harbour, app), lambda seen: seen == [])
    page.get_by_role("button", name="Undo").click()
    until(lambda: order(harbour, app), lambda seen: seen == first[1:2])


def test_what_does_not_fit_is_told_at_its_place_and_one_store_gets_another(
    page: Page, harbour: Harbour, tmp_path: Path
) -> None:
    app = harbour.new_app()
    opened(page, app)
    phone = card(page, "Pictures on a phone")
    broken = FilePayload(name="broken.png", mimeType="image/png", buffer=b"nothing")
    phone.locator("input[type=file]").first.set_input_files(broken)
    expect(phone.get_by_role("alert")).to_contain_text("broken.png: This is no picture and no film")
    small = tmp_path / "small.png"
    small.write_bytes(pictures.screen("small", 600, 1300))
    put(page, "Pictures on a phone", small)
    expect(phone).to_contain_text("Scenes in en, number 3, has 600 × 1300 pixels; wanted: 1360 × 2900 or 1080 × 2300")
    phone.get_by_role("button", name="Give it others").first.click()
    phone.get_by_role("group", name="Scenes for Northgate").locator("input").set_input_files(sample_pictures()["phone"])
    expect(phone).to_contain_text("Scenes: 2 as 1080 × 2300 png, as they are (its own)")
    expect(phone.get_by_text(re.compile("nothing is enlarged"))).to_have_count(0)
    page.get_by_role("button", name="Remove number 3").click()
    expect(page.get_by_text("Number 3 is taken out.")).to_be_visible()


def test_a_folder_of_a_script_is_imported_and_what_nobody_can_tell_is_named(
    page: Page, harbour: Harbour, tmp_path: Path
) -> None:
    app = harbour.new_app(dossier=False)
    for name, content in (
        ("shots/de/1.png", pictures.screen("eins", 1080, 2300)),
        ("shots/icon/mark.png", pictures.icon(700)),
        ("shots/odd.png", pictures.screen("odd", 40, 30)),
    ):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_bytes(content)
    opened(page, app)
    page.get_by_label("A folder to import").set_input_files(tmp_path / "shots")
    told = page.get_by_role("status").filter(has_text="put in where they belong")
    expect(told).to_contain_text("2 files are put in where they belong, 1 left out.")
    expect(told).to_contain_text("odd.png: no store takes 40 × 30 pixels for anything")
    page.get_by_role("button", name=re.compile("^de")).click()
    expect(card(page, "Pictures on a phone").get_by_role("listitem").filter(has=page.locator("img"))).to_have_count(1)


def test_the_sheet_leads_to_the_pictures_that_are_missing(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app(dossier=False)
    page.goto(f"/apps/{app}/releases")
    page.get_by_role("link", name="Put them in").first.click()
    expect(page).to_have_url(re.compile(rf"/apps/{app}/dossier/pictures\?locale=en&class=(badge|mark)"))
    expect(card(page, "Icon").get_by_role("button", name="Add a picture")).to_be_focused()
