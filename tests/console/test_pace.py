"""In the console: pace, ladders, one word that halts many rollouts, and what was live where."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from tests.harbour import Harbour, until

pytestmark = pytest.mark.console


def test_a_ladder_is_kept_used_and_changed(page: Page, harbour: Harbour) -> None:
    page.goto("/settings")
    page.get_by_role("link", name="Open the ladders").click()
    expect(page.get_by_role("region", name="usual")).to_contain_text("built in")
    page.get_by_role("button", name="Add a ladder").click()
    form = page.get_by_role("form", name="A ladder")
    form.get_by_label("Name").fill("by the guard")
    form.get_by_label("Stages").fill("5@24,4")
    form.get_by_role("button", name="Keep it").click()
    expect(page.get_by_role("alert")).to_contain_text("must rise from stage to stage")
    form.get_by_label("Stages").fill("5@steady12/2000,100")
    form.get_by_label("Why").fill("we trust it")
    form.get_by_role("button", name="Keep it").click()
    kept = page.get_by_role("region", name="by the guard")
    expect(kept).to_contain_text("5% (steady for 12 h, 2,000 sessions), 100%")
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",), ladder="by the guard")
    expect(kept).to_contain_text(f"{app} 1.0.0 at northgate")
    page.goto(f"/apps/{app}/releases/1.0.0")
    leg = page.get_by_role("region", name="Northgate")
    expect(leg).to_contain_text("steady 12 h")
    leg.get_by_role("button", name="Change build, ladder, launch").click()
    expect(leg.get_by_role("combobox", name="Ladder")).to_have_value("5@steady12/2000,100")
    leg.get_by_role("combobox", name="Ladder").fill("usual")
    leg.get_by_role("button", name="Save").click()
    until(lambda: harbour.leg(app, "northgate"), lambda told: told.ladder_name == "usual")
    page.goto("/ladders")
    kept.get_by_role("button", name="Forget it").click()
    kept.get_by_label("Why").fill("nobody climbs it")
    kept.get_by_role("button", name="Forget it").click()
    expect(kept).to_have_count(0)


def test_stores_are_set_in_step_say_for_whom_they_wait_and_are_halted_in_one_word(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app)
    harbour.tide.releases.change_leg(app, "1.0.0", "northgate", ladder="5@1,20@1,100")
    page.goto(f"/apps/{app}/releases/1.0.0")
    pace = page.get_by_role("region", name="Pace")
    expect(pace).to_contain_text("each store for itself")
    pace.get_by_role("button", name="Change it").click()
    pace.get_by_label("one store leads").check()
    expect(pace.get_by_label("It leads")).to_be_visible()
    pace.get_by_label("in step: no store").check()
    pace.get_by_label("Why").fill("one at a time")
    pace.get_by_role("button", name="Save").click()
    expect(pace).to_contain_text("in step: no store more than one stage ahead of the slowest")
    harbour.approve(app)
    until(lambda: harbour.tide.releases.one(app, "1.0.0"), lambda seen: all(leg.launched_at for leg in seen.legs))
    harbour.all_confirmed(app)
    harbour.pass_hours(3)
    expect(pace).to_contain_text("Northgate waits for Openfield, which holds 2%")

    page.goto(f"/apps/{app}/live")
    expect(page.get_by_role("row", name="Northgate")).to_contain_text("1.0.0 to 5%")
    expect(page.get_by_role("img", name="Northgate: 1 stretches")).to_be_visible()
    page.get_by_label("Country, two letters").fill("DE")
    expect(page.get_by_role("row", name="Northgate")).to_contain_text("1.0.0 to 5%")
    page.get_by_role("button", name="Now, everywhere").click()
    page.get_by_text("As a table").click()
    expect(page.get_by_role("row", name="Openfield").last).to_contain_text("1.0.0 to 2%")
    with page.expect_download() as loaded:
        page.get_by_role("link", name="PNG").click()
    assert loaded.value.path().read_bytes().startswith(b"\x89PNG")

    page.goto(f"/apps/{app}/releases")
    page.get_by_role("button", name="Halt all of it").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text(f"every rollout of {app.title()}")
    dialog.get_by_label("Why?").fill("the library leaks")
    dialog.get_by_role("button", name="Halt now").click()
    expect(dialog).to_contain_text("Openfield: ✓ a halt is ordered at 2%")
    harbour.released(app, "1.0.0", lambda seen: all(leg.phase == "halted" and leg.confirmed for leg in seen.legs))
    dialog.get_by_role("button", name="Done").click()
    page.goto(f"/apps/{app}/live")
    expect(page.get_by_title("1.0.0 halted").first).to_be_visible()
