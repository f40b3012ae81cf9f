"""The review desk in the console: the last look, what is kept back, what reviewers are told, and what they ask."""

from __future__ import annotations

import re
from decimal import Decimal
from pathlib import Path

from playwright.sync_api import Page, expect

from restless_tide.core.good import Good, GoodKind, GoodText
from tests.harbour import Harbour, until
from tests.service.test_questions import berth_of
from tests.service.test_review_desk import PDF, SECRET


def test_it_is_looked_at_handed_in_asked_about_and_answered(page: Page, harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app()
    maps = Good(
        kind=GoodKind.KEPT, price=Decimal("4.50"), currency="EUR",
        texts={"en": GoodText(name="Maps", description="All islands.")},
    )  # fmt: skip
    harbour.tide.dossier.write_good(app, "maps", maps)
    harbour.tide.dossier.send(app, store="openfield")
    until(
        lambda: harbour.tide.dossier.goods(app),
        lambda told: not any(one.differing for one in told.stores if one.store == "openfield"),
    )
    harbour.draft(app, stores=("openfield",), needs_go_ahead=True)
    page.goto(f"/apps/{app}/releases/1.0.0")
    page.get_by_role("button", name="Hand in for review").click()
    place = page.get_by_role("region", name="Openfield")
    expect(place).to_contain_text("nothing is live there")
    expect(place).to_contain_text("the good maps")
    expect(place.get_by_role("img").first).to_be_visible()

    page.get_by_role("button", name="Change what reviewers of Openfield are told").click()
    page.get_by_label("Note for every round").fill("The map needs no network.")
    page.get_by_label("this one").check()
    page.get_by_label("Name", exact=True).fill("rita")
    page.get_by_label("Password").fill(SECRET)
    page.get_by_label("Attach").set_input_files({"name": "guide.pdf", "mimeType": "application/pdf", "buffer": PDF})
    expect(page.get_by_role("button", name="Take guide.pdf out")).to_be_visible()
    page.get_by_role("button", name="Save").click()
    expect(place).to_contain_text("a note, a sign-in, 1 files")
    expect(place).to_contain_text("rita (password sealed")
    expect(page.locator("body")).not_to_contain_text(SECRET)

    hand_it_in = page.get_by_role("button", name="Hand it in")
    expect(hand_it_in).to_be_enabled()
    harbour.tide.releases.write_notes(app, "1.0.0", "en", "Other notes.")
    expect(page.get_by_text("Something that is shown here has changed since.")).to_be_visible()
    expect(hand_it_in).to_be_disabled()
    page.get_by_role("button", name="Look again").click()
    expect(place).to_contain_text("Other notes.")
    page.get_by_label("the good maps").check()
    harbour.control("openfield", "mischief", {"ask_next": ["Where is the map?"]})
    hand_it_in.click()

    leg = page.get_by_role("region", name="Openfield")
    expect(leg.locator("header")).to_contain_text("under review")
    expect(leg).to_contain_text("For the reviewer: guide.pdf")
    harbour.all_confirmed(app)
    berth = berth_of(harbour, app, "openfield")
    (there,) = (one for one in harbour.control("openfield", "things/submission") if one["berth"] == berth)
    assert "goods/maps" not in there["items"]
    harbour.pass_hours(40, desk=False)
    expect(leg.get_by_text("it waits for an answer")).to_be_visible()
    expect(leg).to_contain_text("Where is the map?")
    page.goto("/")
    page.get_by_role("link", name=re.compile("The reviewer of 1.0.0 asks: Where is the map")).last.click()
    leg.get_by_role("button", name="Answer").click()
    leg.get_by_label("Message to the reviewer").fill("On the second page.")
    leg.get_by_role("button", name="Send").click()
    expect(leg).to_contain_text("On the second page.")
    expect(leg.get_by_text("it waits for an answer")).to_have_count(0)
    harbour.all_confirmed(app)
    harbour.pass_hours(40, desk=False)
    expect(leg.locator("header")).to_contain_text("approved")


def test_what_a_reviewer_wrote_by_mail_is_entered_and_a_refusal_appealed(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",), needs_go_ahead=True)
    harbour.control("northgate", "mischief", {"reject_next": ["It does not start."]})
    harbour.approve(app)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rejected")
    page.goto(f"/apps/{app}/releases/1.0.0")
    leg = page.get_by_role("region", name="Northgate")
    leg.get_by_text("Correspondence with the reviewer").click()
    leg.get_by_role("button", name="Enter what came by mail").click()
    leg.get_by_label("What the reviewer wrote").fill("It stays on the first page.")
    leg.get_by_role("button", name="Enter it").click()
    expect(leg).to_contain_text("It stays on the first page.")
    leg.get_by_role("button", name="Appeal").click()
    leg.get_by_label("Why the refusal is wrong").fill("It starts after a while; see the film.")
    leg.get_by_role("button", name="Appeal").click()
    expect(leg.locator("header")).to_contain_text("under review")
    harbour.all_confirmed(app)
    harbour.pass_hours(60, desk=False)
    expect(leg.locator("header")).to_contain_text("approved")
    expect(leg.get_by_role("region", name="What was refused")).to_contain_text("settled")
