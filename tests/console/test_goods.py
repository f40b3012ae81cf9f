"""Goods, documents and marked words in the console: entered, changed, taken out, undone, sent."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

import pytest
from playwright.sync_api import FilePayload, Locator, Page, expect

from restless_tide.standins import pictures
from tests.harbour import Harbour, until
from tests.service.test_documents import PDF
from tests.service.test_goods import MAPS, of
from tests.service.test_questions import question

pytestmark = pytest.mark.console


def card(page: Page, name: str) -> Locator:
    return page.get_by_role("region", name=name, exact=True)


def test_a_good_is_entered_by_clicks_until_every_store_holds_it(page: Page, harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app(dossier=False)
    page.goto(f"/apps/{app}/dossier/goods")
    expect(page.get_by_text("Nothing is sold inside this app.")).to_be_visible()
    page.get_by_role("button", name="Enter a good").click()
    new = card(page, "A new good")
    expect(new.get_by_label("Reference")).to_be_focused()
    page.keyboard.type("maps")
    new.get_by_label("Price").fill("4.50")
    new.get_by_label("Name").fill("Maps of the islands, and all else")
    expect(new).to_contain_text("1 left at Northgate")
    new.get_by_label("Name").fill("Maps")
    new.get_by_label("Description").fill("All islands.")
    new.get_by_role("button", name="Save").click()
    expect(card(page, "maps")).to_contain_text("✕ maps: it has no picture; Northgate wants one.")
    expect(page.get_by_role("button", name="Send what differs")).to_be_hidden()
    card(page, "maps").get_by_role("button", name="Change it").click()
    file = FilePayload(name="maps.png", mimeType="image/png", buffer=pictures.screen("maps", 900, 900))
    page.get_by_label("A picture of the good").set_input_files(file)
    expect(page.get_by_role("img", name="The picture of the good")).to_be_visible()
    page.get_by_role("button", name="Save").click()
    page.get_by_role("button", name="Send what differs").click()
    expect(card(page, "maps").get_by_text("✓ holds it as it is here")).to_have_count(2)
    assert of(harbour.tide.dossier.goods(app), "northgate").state == "accepted"


def test_a_good_is_changed_sold_at_one_store_taken_out_and_brought_back(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app(dossier=False)
    harbour.tide.dossier.write_good(app, "maps", MAPS)
    page.goto(f"/apps/{app}/dossier/goods?good=maps")
    good = card(page, "maps")
    expect(good.get_by_role("button", name="Change it")).to_be_focused()
    page.keyboard.press("Enter")
    good.get_by_label("Kind").select_option("renewed")
    good.get_by_label("Every so many months").fill("12")
    good.get_by_label("Northgate").uncheck()
    good.get_by_label("Language").fill("de")
    page.keyboard.press("Enter")
    good.get_by_label("Name").nth(1).fill("Karten")
    good.get_by_role("button", name="Save").click()
    expect(good).to_contain_text("4.50 EUR every 12 months")
    kept = harbour.tide.dossier.goods(app).goods[0].good
    assert (kept.stores, set(kept.texts), kept.months) == (("openfield",), {"en", "de"}, 12)
    good.get_by_role("button", name="Take it out").click()
    expect(good).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(good).to_be_visible()
    assert harbour.tide.dossier.goods(app).goods[0].good == kept


def test_what_someone_else_changed_meanwhile_is_not_written_over(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app(dossier=False)
    harbour.tide.dossier.write_good(app, "maps", MAPS)
    page.goto(f"/apps/{app}/dossier/goods")
    good = card(page, "maps")
    good.get_by_role("button", name="Change it").click()
    good.get_by_label("Price").fill("7.00")
    harbour.tide.dossier.write_good(app, "maps", MAPS.model_copy(update={"price": Decimal(9)}))
    good.get_by_role("button", name="Save").click()
    expect(good.get_by_role("alert")).to_contain_text("has changed The good maps meanwhile; nothing was written.")
    good.get_by_role("button", name="Cancel").click()
    expect(good).to_contain_text("9.00 EUR")


def test_a_document_is_chosen_kept_and_replaced(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app(dossier=False)
    harbour.tide.dossier.answer(app, {"third-party-content": "allowed"})
    page.goto(f"/apps/{app}/dossier/questions")
    asked = card(page, "Permission of the rights holders")
    expect(asked).to_contain_text("takes pdf, png up to 90 kB")
    chooser = asked.locator("input[type=file]")
    chooser.set_input_files(FilePayload(name="notes.pdf", mimeType="application/pdf", buffer=b"%PDF-1.4 cut"))
    expect(asked.get_by_role("alert")).to_contain_text("cut off")
    chooser.set_input_files(FilePayload(name="letter.pdf", mimeType="application/pdf", buffer=PDF))
    link = asked.get_by_role("link", name="letter.pdf")
    expect(link).to_have_attribute("download", "letter.pdf")
    asked.get_by_role("button", name="Save").click()
    expect(asked).to_contain_text("answered by")
    assert question(harbour, app, "openfield", "allowed-by").state == "complete"
    with page.expect_download() as loaded:
        link.click()
    assert Path(loaded.value.path()).read_bytes() == PDF
    asked.get_by_role("button", name="Take it out").click()
    asked.get_by_role("button", name="Save").click()
    until(lambda: question(harbour, app, "openfield", "allowed-by").state, lambda state: state == "untouched")


def test_the_words_that_a_remark_is_about_are_marked_in_the_field(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.tide.dossier.write(
        app, "en", {"description": "Walk the the shore. The theatre is far.\nSee http://broken now."}
    )
    page.goto(f"/apps/{app}/dossier")
    description = card(page, "Description")
    marks = description.locator("mark")
    expect(marks).to_have_text(["the the", "http://broken"])
    field = description.get_by_role("textbox", name="en")
    field.press("Control+End")
    page.keyboard.type(" Again the the tide.")
    expect(marks).to_have_text(["the the", "http://broken", "the the"])
    texts = description.evaluate("""card => {
        const [behind, field] = [card.querySelector('.behind'), card.querySelector('textarea')]
        const [one, other] = [getComputedStyle(behind), getComputedStyle(field)]
        const same = ['fontSize', 'fontFamily', 'lineHeight', 'paddingLeft', 'paddingTop', 'width']
        return same.filter(name => one[name] !== other[name])
    }""")
    assert texts == []
