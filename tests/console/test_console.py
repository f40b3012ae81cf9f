"""The console in headless Chromium, against the real service."""

from __future__ import annotations

import json
import re
from itertools import product
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Browser, Page, expect

from restless_tide.wire.releases import LegWanted
from tests.console.conftest import sign_in
from tests.harbour import EMAIL, PASSWORD, PLACE, Harbour, until
from tests.patience import OPENLY

pytestmark = pytest.mark.console


def test_a_wrong_password_is_said_and_a_deep_link_is_kept_through_the_sign_in(
    browser: Browser, harbour: Harbour
) -> None:
    context = browser.new_context(base_url=harbour.address)
    page = context.new_page()
    page.goto("/logbook")
    page.get_by_label("E-mail").fill(EMAIL)
    page.get_by_label("Password").fill("not-this-one")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("The address or the password is wrong")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    expect(page).to_have_url(f"{harbour.address}/logbook")
    expect(page.get_by_role("heading", name="Logbook")).to_be_visible()
    page.get_by_role("button", name=re.compile("Sign out")).click()
    expect(page).to_have_url(f"{harbour.address}/sign-in")
    context.close()


def test_a_release_goes_from_draft_to_halted_without_a_reload(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    for store in ("northgate", "openfield"):
        harbour.ready_build(app, store)
    page.goto(f"/apps/{app}/releases")
    expect(page.get_by_text("No releases yet")).to_be_visible()
    page.get_by_role("button", name="Draft a release").click()
    page.get_by_label("What is new, in English").fill("Dune maps.")
    page.get_by_role("button", name="Draft it").click()
    expect(page.get_by_role("heading", name=f"{app.title()} 1.0.0")).to_be_visible()
    page.get_by_role("button", name="Hand in for review").click()
    page.get_by_role("button", name="Hand it in").click()
    northgate = page.get_by_role("region", name="Northgate")
    openfield = page.get_by_role("region", name="Openfield")
    for leg in (northgate, openfield):
        expect(leg.locator("header")).to_contain_text("under review")
    harbour.all_confirmed(app)
    harbour.pass_hours(60, desk=False)
    expect(northgate.locator("header")).to_contain_text("rising at 5%")
    expect(openfield.locator("header")).to_contain_text("rising at 2%")
    expect(openfield.get_by_role("button", name="pause")).to_be_visible()
    expect(openfield.get_by_role("button", name="advance")).to_have_count(0)
    openfield.get_by_text("Why not the others?").click()
    expect(openfield).to_contain_text("dictates how long each stage is held")

    northgate.get_by_role("button", name="advance").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("offered to 20% of people instead of 5%")
    expect(dialog.get_by_role("button", name="Advance now")).to_be_disabled()
    dialog.get_by_label("Why?").fill("below the old crash rate")
    dialog.get_by_role("button", name="Advance now").click()
    expect(dialog).to_contain_text("confirmed: rising at 20%")
    dialog.get_by_role("button", name="Done").click()
    expect(northgate.locator("header")).to_contain_text("rising at 20%")

    page.keyboard.press("h")
    expect(dialog).to_contain_text("This store continues it only with a new build")
    expect(dialog).to_contain_text("It can be resumed")
    expect(dialog.get_by_label("Why?")).to_be_focused()
    page.keyboard.type("crashes on start")
    page.keyboard.press("Control+Enter")
    expect(dialog).to_contain_text("confirmed: halted at 20%")
    expect(dialog).to_contain_text("confirmed: halted at 2%")
    dialog.get_by_role("button", name="Done").click()
    for leg in (northgate, openfield):
        expect(leg.locator("header")).to_contain_text("halted")
    for store in ("northgate", "openfield"):
        assert harbour.rollouts(store, app)[0]["state"] == "halted"
    page.goto(f"/logbook?app={app}")
    expect(page.get_by_role("row").filter(has_text="halt").first).to_contain_text("crashes on start")
    page.get_by_role("button", name="Check the chain").click()
    expect(page.get_by_role("status").filter(has_text="nothing was altered")).to_be_visible()


def test_what_is_ordered_and_what_was_seen_are_told_apart_while_a_store_is_away(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))
    harbour.control("openfield", "mischief", {"outage": True})
    try:
        page.goto(f"/apps/{app}/releases/1.0.0")
        page.get_by_role("region", name="Openfield").get_by_role("button", name="halt").click()
        page.get_by_label("Why?").fill("crashes")
        page.get_by_role("button", name="Halt now").click()
        expect(page.get_by_role("dialog")).to_contain_text("ordered, not confirmed")
        page.get_by_role("button", name="Done").click()
        leg = page.get_by_role("region", name="Openfield")
        expect(leg).to_contain_text("Ordered, not confirmed. The store was last seen rising at 2%.")
    finally:
        harbour.control("openfield", "mischief", {"outage": False})
    expect(leg).not_to_contain_text("Ordered, not confirmed")
    expect(leg.locator("header")).to_contain_text("halted at 2%")


def test_a_store_that_offers_again_what_was_halted_is_asked_about_and_stopped_again_or_taken_as_wanted(
    page: Page, harbour: Harbour
) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))
    harbour.tide.releases.steer(app, "1.0.0", "halt", reason="crashes")
    harbour.all_confirmed(app)
    (rollout,) = harbour.rollouts("openfield", app)
    page.goto(f"/apps/{app}/releases/1.0.0")
    leg = page.get_by_role("region", name="Openfield")
    expect(leg.get_by_role("alert")).to_have_count(0)
    harbour.control("openfield", "acts/resume", {"submission": rollout["submission"]})
    expect(leg.get_by_role("alert")).to_contain_text("The store offers it again.")
    expect(leg.get_by_role("alert")).to_contain_text("Openfield was last seen rising at 2%")
    leg.get_by_role("button", name="Stop it again").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label(re.compile("Why")).fill("nobody was to resume it")
    dialog.get_by_role("button", name="Halt now").click()
    expect(dialog.get_by_text("confirmed: halted")).to_be_visible()
    dialog.get_by_role("button", name="Done").click()
    expect(leg.get_by_role("alert")).to_have_count(0)
    harbour.control("openfield", "acts/resume", {"submission": rollout["submission"]})
    leg.get_by_role("button", name="It is wanted").click()
    expect(dialog.get_by_text("nothing is sent to the store")).to_be_visible()
    dialog.get_by_label(re.compile("Why")).fill("it was fixed there")
    dialog.get_by_role("button", name="Resume now").click()
    expect(dialog.get_by_text("taken as wanted: rising at 2%; nothing had to be sent")).to_be_visible()
    assert harbour.leg(app, "openfield").phase == "rising"
    assert len([act for act in harbour.control("openfield", "acts") if act["subject"] == rollout["submission"]]) == 5


def test_a_package_is_handed_in_sent_and_its_question_answered(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    page.goto(f"/apps/{app}/builds")
    expect(page.get_by_text("No builds yet")).to_be_visible()
    page.locator("input[type=file]").set_input_files(harbour.package(app, "openfield", permissions=(PLACE,)))
    sheet = page.get_by_role("region", name="what the stores will say")
    expect(sheet).to_contain_text("Openfield will ask: Does the app ring or vibrate")
    sheet.get_by_role("button", name="Send to Openfield").click()
    row = page.get_by_role("row").filter(has_text="1.0.0 (1)")
    expect(row).to_contain_text("processing")
    harbour.pass_hours(1, desk=False)
    expect(page.get_by_role("heading", name="Openfield holds 1.0.0 (1) and asks")).to_be_visible()
    page.get_by_label("no", exact=True).check()
    page.get_by_role("button", name="Answer").click()
    expect(row).to_contain_text("ready")


def test_what_is_no_package_is_said_on_the_page(page: Page, harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app()
    unfit = tmp_path / "notes.apk"
    unfit.write_text("just text")
    page.goto(f"/apps/{app}/builds")
    page.locator("input[type=file]").set_input_files(unfit)
    expect(page.get_by_role("alert")).to_contain_text("The file is no archive")


def test_a_store_is_connected_an_app_registered_and_a_refused_name_tried_again(
    browser: Browser, own_harbour: Harbour, tmp_path: Path
) -> None:
    harbour = own_harbour  # a second connection to a store would stay with the tests that follow
    page = browser.new_context(base_url=harbour.address, viewport={"width": 1280, "height": 800}).new_page()
    sign_in(page)
    connection = tmp_path / "second.json"
    connection.write_text(json.dumps(harbour.control("openfield", "connections", {})))
    page.goto("/stores")
    page.get_by_role("button", name="Connect a store").click()
    page.get_by_label("Short name").fill("second")
    page.get_by_label("Connection file").set_input_files(connection)
    page.get_by_role("button", name="Try and connect").click()
    expect(page.get_by_text("read, builds, trials").first).to_be_visible()
    expect(page.locator(".mono", has_text="second")).to_be_visible()
    harbour.control("openfield", "mischief", {"taken_names": ["Samphire"]})
    page.get_by_role("button", name="Register an app").click()
    page.get_by_label("Title").fill("Samphire")
    page.get_by_label("Short name").fill("samphire")
    page.get_by_label("Identifier on Android").fill("org.example.samphire")
    page.get_by_role("button", name="Register it").click()
    row = page.get_by_role("row").filter(has_text="Samphire")
    row.get_by_role("button", name="Open at Openfield").first.click()
    row.get_by_role("button", name="Open the berth").click()
    expect(row).to_contain_text("is taken by someone else")
    row.get_by_role("button", name="Try again at Openfield").click()
    row.get_by_label("Name at the store").fill("Samphire Marsh")
    row.get_by_role("button", name="Open the berth").click()
    expect(row).to_contain_text("as Samphire Marsh")
    until(
        lambda: harbour.tide.apps.one("samphire").berths,
        lambda berths: any(berth.state == "open" for berth in berths),
    )
    page.context.close()


WIDTHS = (400, 800, 1600)


def test_every_page_fits_every_width_and_every_control_has_a_name(harbour: Harbour, page: Page) -> None:
    app = "wide"
    harbour.tide.apps.register(app, title="Wide", identifiers={"android": "org.example.wide"})
    harbour.tide.testing.make_cohort(app, "shore", kind="walk-in", stores=[])
    harbour.tide.testing.add_tester(app, "shore", "wren.wide@example.org", name="Wren")
    of_the_app = ("builds", "cohorts", "cohorts/shore", "reports", "releases")
    for path in ("/", "/stores", "/logbook", "/testers", *(f"/apps/{app}/{room}" for room in of_the_app)):
        page.goto(path)
        page.locator("main > *").first.wait_for()
        for width, scheme in product(WIDTHS, ("light", "dark")):
            page.set_viewport_size({"width": width, "height": 800})
            page.emulate_media(color_scheme=scheme)  # type: ignore[arg-type]
            assert page.evaluate("document.documentElement.scrollWidth") <= width, f"{path} overflows at {width}"
            nameless = page.evaluate(
                "[...document.querySelectorAll('button, a, input, select, textarea')].filter(e => !e.closest('[aria-hidden=true]') && e.type !== 'file'"
                " && !(e.textContent?.trim() || e.getAttribute('aria-label') || e.labels?.length)).map(e => e.outerHTML)"
            )
            assert nameless == [], f"{path} at {width}"


def test_a_leg_waits_for_the_word_that_is_given_on_its_page(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",))
    page.goto(f"/apps/{app}/releases/1.0.0")
    leg = page.get_by_role("region", name="Northgate")
    leg.get_by_role("button", name="Change build, ladder, launch").click()
    leg.get_by_role("combobox", name="Ladder").fill("30@12,20,100")
    leg.get_by_role("button", name="Save").click()
    expect(leg.get_by_role("alert")).to_contain_text("must rise")
    leg.get_by_role("combobox", name="Ladder").fill("30@12,100")
    leg.get_by_role("button", name="Add a condition").click()
    leg.get_by_role("checkbox", name="Ida Fenwick").check()
    leg.get_by_role("button", name="Add", exact=True).click()
    leg.get_by_role("button", name="Add a condition").click()
    leg.get_by_role("combobox", name=re.compile("^Condition")).select_option("an instant is reached")
    leg.get_by_label("Not before").fill("2040-01-01T09:00")
    leg.get_by_role("combobox", name=re.compile("^How it counts")).select_option(index=1)
    leg.get_by_role("button", name="Add", exact=True).click()
    expect(leg).to_contain_text("a person gives the go-ahead: Ida Fenwick")
    leg.get_by_role("button", name=re.compile("Remove: not before")).click()
    leg.get_by_role("button", name="Save").click()
    expect(leg).to_contain_text("hold 12 h")
    expect(leg).to_contain_text("Waits for the go-ahead to launch of Ida Fenwick")
    page.get_by_role("button", name="Hand in for review").click()
    page.get_by_role("button", name="Hand it in").click()
    expect(leg.locator("header")).to_contain_text("under review")
    harbour.all_confirmed(app)
    harbour.pass_hours(60, desk=False)
    page.get_by_role("button", name="Give the go-ahead").click()
    expect(leg.locator("header")).to_contain_text("rising at 30%")


def test_notes_are_written_per_language_and_what_stops_a_leg_is_named(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.tide.releases.draft(
        app, "1.0.0", legs={"openfield": LegWanted(build=harbour.ready_build(app, "openfield"))}
    )
    page.goto(f"/apps/{app}/releases/1.0.0")
    leg, sheet = (page.get_by_role("region", name=name) for name in ("Openfield", "Is it ready?"))
    expect(sheet).to_contain_text("Openfield wants release notes in en")
    expect(leg).to_contain_text("It cannot be handed in yet")
    expect(page.get_by_role("button", name="Hand in for review")).to_be_disabled()
    page.get_by_role("button", name="Write them").click()
    page.get_by_label("Notes").fill("Dune maps.")
    page.get_by_role("button", name="Save").click()
    expect(sheet).not_to_contain_text("wants release notes")
    page.get_by_role("button", name="Hand in for review").click()
    page.get_by_role("button", name="Hand it in").click()
    expect(leg.locator("header")).to_contain_text("under review")
    harbour.all_confirmed(app)
    leg.get_by_role("button", name="Recall").click()
    expect(leg.locator("header")).to_contain_text("recalled")


def test_a_rejection_shows_its_reasons_and_another_build_goes_again(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("openfield",))
    fixed = harbour.ready_build(app, "openfield", "1.0.0", 2)
    harbour.control("openfield", "mischief", {"reject_next": ["It asks for a place and takes none."]})
    harbour.approve(app)
    page.goto("/")
    page.get_by_role("link", name=re.compile("1.0.0 was rejected: It asks")).last.click()
    leg = page.get_by_role("region", name="Openfield")
    expect(leg).to_contain_text("It asks for a place and takes none.")
    leg.get_by_role("button", name="Change build, ladder, launch").click()
    leg.get_by_label("Build").select_option(fixed)
    leg.get_by_role("button", name="Save").click()
    expect(leg).to_contain_text("1.0.0 (2)")
    leg.get_by_role("button", name="Fixed").click()
    refused = leg.get_by_role("region", name="What was refused")
    refused.get_by_label("What was fixed").fill("It asks for nothing any more.")
    refused.get_by_role("button", name="Save").click()
    leg.get_by_role("button", name="Check it from now on").click()
    leg.get_by_label("The question").fill("Is every permission used?")
    leg.get_by_role("button", name="Check it from now on").click()
    page.get_by_role("button", name="Yes: Is every permission used?").click()
    expect(page.get_by_role("region", name="Checked before every hand-in")).to_contain_text("yes, for 1.0.0")
    leg.get_by_role("button", name="Hand in again").click()
    expect(page.get_by_label("Note for the reviewer")).to_have_value(re.compile("Fixed: It asks for nothing any more."))
    page.get_by_role("button", name="Hand it in").click()
    expect(leg).to_contain_text("Round 2")
    expect(leg.get_by_role("region", name="What was refused")).to_contain_text("fixed")


def test_slips_are_taken_back_where_they_are_seen(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.ready_build(app, "northgate")
    build = harbour.ready_build(app, "openfield")
    harbour.tide.releases.draft(app, "1.0.0", legs={"openfield": LegWanted(build=build)}, notes={"en": "New."})
    page.goto(f"/apps/{app}/releases/1.0.0")
    page.get_by_label("Another store").select_option("northgate")
    page.get_by_role("button", name="Add it with its latest build").click()
    northgate = page.get_by_role("region", name="Northgate")
    northgate.get_by_role("button", name="Take this store out").click()
    expect(northgate).to_contain_text("1.0.0 no longer goes to Northgate.")
    page.keyboard.press("Escape")
    northgate.get_by_role("button", name="Take this store out").click()
    northgate.get_by_role("button", name="Take it out").click()
    expect(northgate).to_have_count(0)
    page.get_by_role("button", name="Discard this draft").click()
    page.get_by_role("button", name="Discard it").click()
    expect(page).to_have_url(re.compile(f"/apps/{app}/releases$"))
    harbour.tide.testing.make_cohort(app, "crwe")
    page.goto(f"/apps/{app}/cohorts/crwe")
    page.get_by_role("button", name="Rename").click()
    page.get_by_label("New name").fill("crew")
    page.get_by_role("button", name="Rename").click()
    expect(page.get_by_role("heading", name="crew", exact=True)).to_be_visible()
    page.get_by_role("button", name="Remove", exact=True).click()
    page.get_by_role("button", name="Remove it").click()
    expect(page).to_have_url(re.compile(f"/apps/{app}/cohorts$"))
    page.goto("/apps")
    item = page.get_by_role("listitem").filter(has=page.get_by_role("heading", name=app.title(), exact=True))
    item.get_by_role("button", name="Change the title").click()
    page.get_by_label("Title").fill(f"Better {app}")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("heading", name=f"Better {app}")).to_be_visible()


def test_the_rest_of_a_ladder_is_changed_on_the_page(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("northgate",))
    page.goto(f"/apps/{app}/releases/1.0.0")
    leg = page.get_by_role("region", name="Northgate")
    leg.get_by_role("button", name="Change the rest of the ladder").click()
    leg.get_by_label("The stages above 5%").fill("30@12,100")
    leg.get_by_role("button", name="Save").click()
    expect(leg).to_contain_text("hold 12 h")
    assert [stage.share for stage in harbour.leg(app, "northgate").ladder] == [0.05, 0.3, 1.0]


def test_the_console_comes_compressed_and_is_asked_for_once(harbour: Harbour) -> None:
    page = httpx.get(f"{harbour.address}/", **OPENLY).text
    files = re.findall(r'(?:src|href)="(/assets/[^"]+)"', page)
    assert files
    sizes = []
    for name in files:
        with httpx.stream("GET", harbour.address + name, headers={"Accept-Encoding": "gzip"}, **OPENLY) as answer:
            assert answer.headers["Content-Encoding"] == "gzip"
            assert "immutable" in answer.headers["Cache-Control"]
            sizes.append(len(b"".join(answer.iter_raw())))
    assert sum(sizes) < 150_000, "the first view of the console"
