"""The console where builds are handed in, looked at, compared and signed for."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from restless_tide.demo.history import MARRAM, write_history
from restless_tide.standins.packages import PackageRecipe, write_apk
from restless_tide.wire.releases import LegWanted
from tests.harbour import PLACE, Harbour, until

pytestmark = pytest.mark.console


def test_a_sheet_stands_before_the_push_and_a_blocked_store_cannot_be_chosen(
    page: Page,
    harbour: Harbour,
) -> None:
    app = harbour.new_app()
    harbour.ready_build(app, "openfield")
    recipe = PackageRecipe(f"org.example.saltgrass.{app}", "1.0.0", 2, "A", signer="Someone else")
    page.goto(f"/apps/{app}/builds")
    page.locator("input[type=file]").first.set_input_files(write_apk(harbour.folder / f"{app}-x.apk", recipe))
    sheet = page.get_by_role("region", name="what the stores will say")
    expect(sheet).to_contain_text("has seen this app signed with")
    expect(sheet.get_by_label("Openfield")).to_be_disabled()
    sheet.get_by_role("button", name="Keep it at the desk").click()
    expect(page.get_by_role("region", name="Newest for android")).to_contain_text("at the desk only")


def test_two_builds_stand_side_by_side(page: Page, harbour: Harbour) -> None:
    app, builds = harbour.new_app(), harbour.tide.builds
    for number, permissions in ((1, ()), (2, (PLACE,))):
        file = harbour.package(app, "openfield", number=number, permissions=permissions)
        builds.enter(app, [builds.hand_over(file)[0]])
    page.goto(f"/apps/{app}/builds")
    page.get_by_role("region", name="Newest for android").get_by_role("link", name="1.0.0 (2)").click()
    expect(page.get_by_role("heading", name=f"{app.title()} 1.0.0 (2)")).to_be_visible()
    expect(page.get_by_role("row").filter(has_text="Permission added")).to_contain_text(PLACE)
    expect(page.get_by_role("img", name="The icon of")).to_have_js_property("naturalWidth", 192)
    expect(page.get_by_text("v2 holds")).to_be_visible()
    page.get_by_label("from").select_option("")
    expect(page.get_by_role("row")).to_have_count(0)


def test_package_files_are_cleared_by_rule_after_a_second_press(page: Page, harbour: Harbour) -> None:
    app, builds = harbour.new_app(), harbour.tide.builds
    for number in (1, 2):
        builds.enter(app, [builds.hand_over(harbour.package(app, "openfield", number=number))[0]])
    page.goto(f"/apps/{app}/builds")
    page.get_by_text("Package files kept").click()
    page.get_by_label("Keep the newest").fill("1")
    page.get_by_label("and what is younger than").fill("0")
    page.get_by_role("button", name="Save").click()
    page.get_by_role("button", name="Clear 1 …").click()
    page.get_by_role("button", name="Clear them").click()
    expect(page.get_by_role("row").filter(has_text="1.0.0 (1)")).to_contain_text("file cleared")


def test_the_register_is_changed_with_a_reason_and_files_are_laid_into_the_locker(
    page: Page,
    harbour: Harbour,
    tmp_path: Path,
) -> None:
    app = harbour.new_app()
    harbour.ready_build(app, "openfield")
    secret = tmp_path / "upload.p12"
    secret.write_bytes(b"not for every eye")
    page.goto(f"/apps/{app}/signing")
    android = page.get_by_role("region", name="Signing for android")
    android.get_by_role("button", name="Replace a lost sender's key").click()
    android.get_by_label("SHA-256 of the new certificate").fill("ab" * 32)
    android.get_by_label("Reason").fill("the laptop was lost")
    android.get_by_role("button", name="Replace a lost sender's key").click()
    expect(page.get_by_role("status").filter(has_text="To do by hand")).to_contain_text("Have Openfield take the new")
    expect(android).to_contain_text("ab" * 32)
    page.get_by_label("Platform").select_option("android")
    page.get_by_label("Add a file").set_input_files(secret)
    expect(page.get_by_text("upload.p12")).to_be_visible()
    assert harbour.tide.signing.fetch(app, "upload.p12") == b"not for every eye"
    with page.expect_download() as fetched:
        page.get_by_role("link", name="Fetch").click()
    assert fetched.value.path().read_bytes() == b"not for every eye"
    page.get_by_role("button", name="Take out …").click()
    page.get_by_role("button", name="Take it out").click()
    expect(page.get_by_text("It is empty.")).to_be_visible()
    page.get_by_label("Identifier").fill("DEMO-DEVICE-CC")
    page.get_by_role("button", name="Register").click()
    expect(page.get_by_text("DEMO-DEVICE-CC").first).to_be_visible()


def test_the_next_number_is_explained_held_and_given_back(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.ready_build(app, "openfield", number=41)
    page.goto(f"/apps/{app}/builds")
    page.get_by_text("The next number").click()
    expect(page.get_by_text("1.0.0 (42)")).to_be_visible()
    expect(page.get_by_text("41 is the highest seen")).to_be_visible()
    page.get_by_role("textbox", name="For").fill("job 7")
    page.get_by_role("button", name="Hold it").click()
    expect(page.get_by_text("is held for you")).to_be_visible()
    assert [entry.label for entry in harbour.tide.builds.reservations(app)] == ["job 7"]
    page.get_by_role("button", name="Give it back").click()
    until(lambda: harbour.tide.builds.reservations(app), lambda held: not held)


def test_an_answer_is_kept_for_the_builds_to_come_and_taken_back(page: Page, harbour: Harbour) -> None:
    app, builds = harbour.new_app(), harbour.tide.builds
    sent = harbour.push(harbour.package(app, "openfield", permissions=(PLACE,)), app=app, store="openfield")
    until(lambda: builds.consignment(sent.id), lambda seen: seen.state == "processing")
    harbour.pass_hours(1, desk=False)
    page.goto(f"/apps/{app}/builds")
    page.get_by_label("no", exact=True).check()
    page.get_by_label("Give the same answers automatically").check()
    page.get_by_role("button", name="Answer", exact=True).click()
    until(lambda: builds.standing_answers(app, "openfield"), len)
    page.reload()
    page.get_by_text("1 question answered automatically").click()
    page.get_by_role("button", name="Ask me again").click()
    until(lambda: builds.standing_answers(app, "openfield"), lambda kept: not kept)


def test_notes_are_drafted_from_the_source_and_edited(page: Page, harbour: Harbour) -> None:
    app, builds = harbour.new_app(), harbour.tide.builds
    revisions = write_history(harbour.folder / "repositories" / app, MARRAM, datetime(2026, 10, 1))
    file = harbour.package(app, "openfield", "2.4.0")
    build = builds.enter(app, [builds.hand_over(file)[0]], revision=revisions["2.4.0"], repository=app)
    harbour.tide.releases.draft(app, "2.4.0", legs={"openfield": LegWanted(build=build.id)})
    page.goto(f"/apps/{app}/releases/2.4.0")
    page.get_by_role("button", name="Draft from the source").click()
    expect(page.get_by_text("DUNE-40, Wren Aldous, Noor Haddad")).to_be_visible()
    page.get_by_role("button", name="Edit it as notes").click()
    page.get_by_role("button", name="Save").click()
    until(
        lambda: harbour.tide.releases.one(app, "2.4.0").notes, lambda notes: "Draw contour lines" in notes.get("en", "")
    )
