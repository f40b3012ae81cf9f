"""Testing with people in the browser: cohorts, lists, trials, the inbox, and a tester's whole way on a phone."""

from __future__ import annotations

import io
import re
from pathlib import Path

import pytest
from PIL import Image
from playwright.sync_api import Browser, Page, Route, expect

from tests.harbour import Harbour, until

pytestmark = pytest.mark.console
PHONE = {"width": 390, "height": 844}


def trial_of(harbour: Harbour, app: str, *who: str) -> tuple[str, str, list[str]]:
    """An open trial of a crew; returns build, trial and addresses."""
    build = harbour.ready_build(app, "openfield")
    harbour.tide.testing.make_cohort(app, "crew")
    addresses = [f"{entry}.{app}@example.org" for entry in who]
    for address in addresses:
        harbour.tide.testing.add_tester(app, "crew", address, name=f"{address.partition('.')[0].title()} Tran")
    trial = harbour.tide.testing.open_trial(
        app, cohort="crew", build=build, store="openfield", notes="Walk.", contact="ida@example.org"
    )
    until(lambda: harbour.tide.testing.trial(trial.id), lambda seen: seen.invited == {"sent": len(who)})
    return build, trial.id, addresses


def test_nothing_moves_under_a_pointer_that_is_pressed(page: Page, harbour: Harbour) -> None:
    """Between the button's way down and up another person changes what the page shows; the click is not lost for it."""
    app = harbour.new_app()
    page.goto(f"/apps/{app}/cohorts")
    button = page.get_by_role("button", name="Make a cohort")
    box = button.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    page.mouse.down()
    with page.expect_response(f"**/v1/apps/{app}/cohorts") as answer:
        harbour.tide.testing.make_cohort(app, "crew")
    answer.value.finished()
    page.evaluate("new Promise((done) => requestAnimationFrame(() => setTimeout(done)))")
    assert page.get_by_role("region", name="crew").count() == 0
    page.mouse.up()
    expect(page.get_by_label("Name")).to_be_visible()
    expect(page.get_by_role("region", name="crew")).to_be_visible()


def test_a_cohort_is_made_filled_and_gets_a_build(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.ready_build(app, "openfield")
    page.goto(f"/apps/{app}/cohorts")
    page.get_by_role("button", name="Make a cohort").click()
    page.get_by_label("Name").fill("crew")
    page.get_by_role("button", name="Make it").click()
    page.get_by_role("region", name="crew").get_by_role("link", name="Add testers").click()
    page.get_by_role("button", name="Add testers").click()
    page.get_by_label("Address").fill(f"wren.{app}@example.org")
    page.get_by_label("Name").fill("Wren Aldous")
    page.get_by_role("button", name="Add", exact=True).click()
    people = page.get_by_role("region", name="People")
    expect(people).to_contain_text("Wren Aldous")
    expect(people).to_contain_text("not invited yet")
    page.get_by_role("button", name="Hand a build to them").click()
    sheet = page.get_by_role("region", name="Hand a build to testers")
    sheet.get_by_label("Please look at").fill("Walk a path.")
    sheet.get_by_label("Testers may ask").fill("ida@example.org")
    expect(sheet).to_contain_text("1 people, at once")
    expect(sheet).to_contain_text("59 of 60 seats are left then")
    sheet.get_by_role("button", name="Hand it to 1 people").click()
    expect(page.get_by_role("region", name="At the stores")).to_contain_text("59 of 60 seats left")
    until(lambda: harbour.mails(f"wren.{app}@example.org"), lambda found: len(found) == 1)
    expect(people.get_by_role("row", name=re.compile("Wren Aldous"))).to_contain_text("sent")


def test_a_look_that_answers_late_keeps_no_newer_one_away(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.ready_build(app, "openfield")
    harbour.tide.testing.make_cohort(app, "crew")
    harbour.tide.testing.add_tester(app, "crew", f"wren.{app}@example.org")
    held: list[Route] = []

    def hold_the_first(route: Route) -> None:
        if held:
            route.continue_()
        else:
            held.append(route)

    page.route("**/trial-sheets", hold_the_first)
    page.goto(f"/apps/{app}/cohorts/crew")
    page.get_by_role("button", name="Hand a build to them").click()
    sheet = page.get_by_role("region", name="Hand a build to testers")
    sheet.get_by_label("Please look at").fill("Walk a path.")
    sheet.get_by_label("Testers may ask").fill("ida@example.org")
    go = sheet.get_by_role("button", name="Hand it to 1 people")
    expect(go).to_be_enabled()
    with page.expect_response("**/trial-sheets"):
        held[0].continue_()
    expect(go).to_be_enabled()


def test_a_list_is_looked_at_row_by_row_and_taken_in(page: Page, harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app()
    harbour.tide.testing.make_cohort(app, "walkers", kind="guest")
    file = tmp_path / "walkers.csv"
    file.write_text(
        f"mail,name\na.{app}@example.org,Ada\nnot an address,Bo\nA.{app}@example.org,Ada again\n", encoding="utf-8"
    )
    page.goto(f"/apps/{app}/cohorts/walkers")
    page.get_by_role("button", name="Import a list").click()
    sheet = page.get_by_role("region", name="Import a list")
    sheet.get_by_label("List").set_input_files(file)
    expect(sheet).to_contain_text("1 new to the desk")
    expect(sheet.get_by_role("row", name=re.compile("3 not an address"))).to_contain_text("cannot be taken")
    expect(sheet.get_by_role("row", name=re.compile(r"^4 "))).to_contain_text("the same address as on line 2")
    take = sheet.get_by_role("button", name="Take 1 people into walkers")
    expect(take).to_be_disabled()
    sheet.get_by_label("Leave the 1 bad row out").check()
    take.click()
    expect(page.get_by_role("region", name="People")).to_contain_text(f"a.{app}@example.org")


def test_eight_thousand_people_are_searched_as_one_types(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.tide.testing.make_cohort(app, "shore", kind="walk-in", stores=["openfield"])
    rows = "".join(f"t{place}.{app}@example.org,Tester {place}\n" for place in range(8_000))
    harbour.tide.testing.import_testers(rows.encode(), app=app, cohort="shore", dry_run=False)
    page.goto(f"/apps/{app}/cohorts/shore")
    people = page.get_by_role("region", name="People")
    expect(page.locator(".figures")).to_contain_text("8,000")
    expect(people.get_by_role("row")).to_have_count(51)
    people.get_by_label("Search people").press_sequentially("tester 7654")
    expect(people.get_by_role("row")).to_have_count(2)
    expect(people).to_contain_text(f"t7654.{app}@example.org")
    page.get_by_role("button", name="Open it").click()
    link = page.get_by_role("region", name="The link to join")
    expect(link).to_contain_text("● open")
    link.get_by_role("button", name="Close it").click()
    expect(link).to_contain_text("nobody can join: closed")


def test_a_trial_rejected_is_mended_on_its_page(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    harbour.tide.testing.make_cohort(app, "walkers", kind="guest")
    harbour.tide.testing.add_tester(app, "walkers", f"petra.{app}@example.org")
    harbour.control("openfield", "mischief", {"reject_trial_next": ["Nothing to try was named."]})
    trial = harbour.tide.testing.open_trial(
        app, cohort="walkers", build=build, store="openfield", notes="?", contact="ida@example.org"
    )
    until(lambda: harbour.tide.stores.one("openfield"), lambda store: store.pending_orders == 0)
    harbour.pass_hours(12, desk=False)
    until(lambda: harbour.tide.testing.trial(trial.id), lambda seen: seen.state == "rejected")
    page.goto(f"/trials/{trial.id}")
    expect(page.get_by_role("region", name="Where it stands")).to_contain_text("Nothing to try was named.")
    page.get_by_role("button", name="Fix it and hand it in again").click()
    page.get_by_role("textbox", name="Please look at").fill("Open the map and turn the phone.")
    page.get_by_role("button", name="Hand it in again", exact=True).click()
    expect(page.get_by_role("region", name="Where it stands")).to_contain_text("with the store")
    page.get_by_role("button", name="End it").click()
    page.get_by_label("Why?").fill("enough")
    page.get_by_role("button", name="End the trial").click()
    expect(page.get_by_role("region", name="Where it stands")).to_contain_text("closed")


def test_reports_are_sorted_in_the_inbox_and_answered(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    build, _, (mai,) = trial_of(harbour, app, "mai")
    stack = "java.lang.IllegalStateException: x\n\tat org.example.TileStore.open(TileStore.java:7)\n"
    for _ in range(2):
        harbour.tide.reports.file(app, kind="crash", stack=stack, build=build, tester=mai)
    harbour.tide.reports.file(app, text="The map is upside down.", build=build, tester=mai)
    page.goto(f"/apps/{app}/reports")
    page.get_by_label("Search reports").fill("upside")
    page.get_by_role("link", name="The map is upside down.").click()
    page.get_by_role("button", name="Accept").click()
    expect(page.get_by_label("About it")).to_contain_text("accepted")
    page.get_by_role("button", name="link one").click()
    page.get_by_label("Ticket").fill("MAR-7")
    page.get_by_role("button", name="Keep it").click()
    expect(page.get_by_label("About it")).to_contain_text("MAR-7")
    page.get_by_label("Answer Mai Tran by mail").fill("Which phone?")
    page.get_by_role("button", name="Send the answer").click()
    expect(page.get_by_role("region", name="Conversation")).to_contain_text("sent")
    page.get_by_role("button", name="Fixed in …").click()
    page.get_by_role("button", name="Keep it").click()
    expect(page.get_by_label("About it")).to_contain_text("fixed in 1.0.0 (1)")
    page.goto(f"/apps/{app}/reports")
    page.get_by_role("button", name="Crashes").click()
    row = page.get_by_role("row", name=re.compile("IllegalStateException in TileStore.open"))
    expect(row).to_contain_text("2")
    page.get_by_role("button", name="Numbers").click()
    expect(page.get_by_role("row", name=re.compile(r"1.0.0 \(1\)"))).to_be_visible()


def test_somebody_is_found_changed_and_forgotten(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    address = f"forgetful.{app}@example.org"
    harbour.tide.testing.enter_tester(address, name="Fenna Forgetful")
    page.goto("/testers")
    page.get_by_label("Search testers").fill(f"forgetful {app}")
    row = page.get_by_role("row", name=re.compile(f"Fenna Forgetful forgetful.{app}"))
    row.get_by_role("button", name="Change").click()
    page.get_by_label("Tags").fill("coast")
    page.get_by_role("button", name="Keep it").click()
    expect(row).to_contain_text("coast")
    row.get_by_role("button", name="Change").click()
    page.get_by_role("button", name="Forget Fenna Forgetful …").click()
    page.get_by_role("button", name="Forget for good").click()
    expect(page.get_by_role("status").filter(has_text="Forgotten.")).to_be_visible()
    assert harbour.tide.testing.testers(f"forgetful {app}") == []


def test_the_testers_whole_way_on_a_phone(browser: Browser, harbour: Harbour) -> None:
    """Mail, link, accept, install at the store, remark with a picture, the team's answer."""
    app = harbour.new_app()
    build, trial, (address,) = trial_of(harbour, app, "mai")
    context = browser.new_context(viewport=PHONE, locale="en-GB", has_touch=True, is_mobile=True)
    context.set_default_timeout(20_000)
    phone = context.new_page()
    (mail,) = harbour.mails(address)
    phone.set_content(mail["html"])
    expect(phone.get_by_role("heading", name="Please look at")).to_be_visible()
    phone.get_by_role("link", name="Open my page").click()
    phone.get_by_role("button", name="Accept").click()
    expect(phone.get_by_role("status")).to_contain_text("You take part")
    own = phone.url
    phone.get_by_role("link", name="Open Openfield").click()
    phone.get_by_label("Your mail address").fill(address)
    phone.get_by_label("Device").fill("Wavelet 9")
    phone.get_by_label("System").fill("Android 15")
    phone.get_by_role("button", name="Install build 1").click()
    expect(phone.get_by_role("status")).to_contain_text("Installed.")
    until(lambda: harbour.invited(trial), lambda seen: seen == {address: "installed"})
    phone.goto(own)
    expect(phone.get_by_role("status")).to_contain_text("on your Wavelet 9")
    assert phone.evaluate("document.documentElement.scrollWidth") <= PHONE["width"]
    small = phone.evaluate(
        "[...document.querySelectorAll('button, a.button, input, summary')].filter(e => e.offsetParent && e.offsetHeight < 44).map(e => e.outerHTML)"
    )
    assert small == [], "a finger needs 44 pixels"
    out = io.BytesIO()
    Image.new("RGB", (300, 600), "#8fc9c3").save(out, "PNG")
    phone.get_by_label("What happened?").fill("The contour lines are too pale.")
    phone.get_by_label("Picture").set_input_files(
        {"name": "map.png", "mimeType": "image/png", "buffer": out.getvalue()}
    )
    phone.get_by_role("button", name="Send").click()
    expect(phone.get_by_role("status").first).to_contain_text("Thank you, it has arrived.")
    (report,) = harbour.tide.reports.some(app=app)
    assert (report.build, report.device, len(report.pictures)) == (build, "Wavelet 9", 1)
    harbour.tide.reports.reply(report.id, "Would you look again with the next build?")
    until(lambda: harbour.mails(address), lambda found: len(found) == 2)
    phone.goto(own)
    expect(phone.get_by_text("Would you look again with the next build?")).to_be_visible()
    phone.get_by_text("Write back").first.click()
    phone.get_by_label("Write back").fill("Gladly.")
    phone.locator("form[action$='/words'] button").click()
    expect(phone.get_by_text("Gladly.")).to_be_visible()
    phone.get_by_text("What is kept of you").click()
    phone.get_by_role("button", name="I do not want to take part any more").click()
    expect(phone.get_by_role("status")).to_contain_text("You do not take part")
    phone.goto(own[:-4])
    expect(phone.get_by_text("This link is not valid.")).to_be_visible()
    context.close()


def test_somebody_joins_by_the_link_in_their_language(browser: Browser, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.tide.testing.make_cohort(app, "shore", kind="walk-in", stores=["openfield"])
    join = harbour.tide.testing.set_join(app, "shore", is_open=True).join
    assert join is not None
    context = browser.new_context(viewport=PHONE, locale="de-DE", color_scheme="dark")
    phone = context.new_page()
    phone.goto(join.link)
    expect(phone.get_by_role("heading", level=1)).to_contain_text("vor allen anderen testen")
    phone.get_by_label("Mailadresse").fill(f"mai.{app}@example.net")
    phone.get_by_label("Ich bin einverstanden").check()
    phone.get_by_role("button", name="Mitmachen").click()
    expect(phone.get_by_role("status")).to_contain_text("Danke.")
    assert phone.evaluate("document.documentElement.scrollWidth") <= PHONE["width"]
    (member,) = harbour.tide.testing.members(app, "shore")
    assert member.tester.languages == ["de"]
    context.close()


def test_several_reports_are_decided_on_at_once(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    ids = [harbour.tide.reports.file(app, text=f"Remark {place}").id for place in range(3)]
    harbour.tide.reports.decide(ids[0], "accept")
    page.goto(f"/apps/{app}/reports")
    page.get_by_label("all that are shown").check()
    expect(page.get_by_text("3 chosen:")).to_be_visible()
    page.get_by_role("button", name="Accept", exact=True).click()
    expect(page.get_by_text(f"{ids[0]} stays as it is")).to_be_visible()
    until(lambda: harbour.tide.reports.counts(app=app), lambda seen: seen.get("accepted") == 3)
    page.get_by_label(f"Choose Remark 1 of {ids[1]}").check()
    page.get_by_role("button", name="Close", exact=True).click()
    until(lambda: harbour.tide.reports.counts(app=app), lambda seen: seen.get("closed", 0) >= 1)
