"""The console for different people: what each sees, the pages of people and of one's own account, and the second factor."""

from __future__ import annotations

import re

import pyotp
import pytest
from playwright.sync_api import Browser, Page, Route, expect

from restless_tide.core.rights import Grant, Role
from tests.harbour import Harbour
from tests.service.test_rights import A_PASSWORD, person

pytestmark = pytest.mark.console


def signed_in(browser: Browser, harbour: Harbour, email: str) -> Page:
    page = browser.new_context(base_url=harbour.address).new_page()
    page.goto("/")
    page.get_by_label("E-mail").fill(email)
    page.get_by_label("Password").fill(A_PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    return page


def test_a_reader_sees_no_act_and_is_told_why(browser: Browser, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("northgate",))
    _, email = person(harbour, Grant(Role.READER, (app,)))
    page = signed_in(browser, harbour, email)
    page.get_by_role("link", name="Logbook").wait_for()
    page.goto(f"/apps/{app}/releases/1.0.0")
    page.get_by_text("rising").first.wait_for()
    expect(page.get_by_text("nothing can be changed here")).to_be_visible()
    for act in ("halt", "pause", "withdraw"):
        expect(page.get_by_role("button", name=act, exact=True)).to_have_count(0)
    expect(page.get_by_role("link", name="Testers")).to_have_count(0)
    page.context.close()


def test_an_owner_invites_a_person_who_chooses_a_password_and_a_second_factor(
    browser: Browser, harbour: Harbour
) -> None:
    app = harbour.new_app()
    _, owner = person(harbour, Grant(Role.OWNER))
    email = f"ebb.{app}@example.org"
    page = signed_in(browser, harbour, owner)
    page.get_by_role("link", name="Settings").click()
    page.get_by_role("link", name="Open the people").click()
    page.get_by_role("button", name="Invite a person").click()
    form = page.get_by_role("form", name="Invite a person")
    form.get_by_label("Name").fill("Ebb Marsh")
    form.get_by_label("E-mail").fill(email)
    form.get_by_label("Role 1", exact=True).select_option("release-manager")
    form.get_by_label("Role 1 is for").select_option("some")
    form.get_by_label(app.title(), exact=True).check()
    form.get_by_label("Mail the invitation").uncheck()
    form.get_by_role("button", name="Invite", exact=True).click()
    link = page.locator(".secret .mono").inner_text()
    expect(page.get_by_role("row", name="Ebb Marsh")).to_contain_text(f"a release manager of {app}")

    theirs = browser.new_context(base_url=harbour.address).new_page()
    theirs.goto(link)
    theirs.get_by_label("Password").first.fill(A_PASSWORD)
    theirs.get_by_label("The same again").fill(A_PASSWORD)
    theirs.get_by_role("button", name="Set the password").click()
    theirs.get_by_role("button", name="Go to the sign-in").click()
    theirs.get_by_label("E-mail").fill(email)
    theirs.get_by_label("Password").fill(A_PASSWORD)
    theirs.get_by_role("button", name="Sign in").click()
    theirs.get_by_role("link", name="Ebb Marsh").click()
    theirs.get_by_label("Your password").fill(A_PASSWORD)
    theirs.get_by_role("button", name="Set it up").click()
    secret = theirs.locator(".secret.mono").inner_text()
    totp = pyotp.TOTP(secret)
    theirs.get_by_label("The code it shows now").fill(totp.at(harbour.tide.watching.clock().now))
    theirs.get_by_role("button", name="Put it into force").click()
    recovery = theirs.locator(".codes li").first.inner_text()
    theirs.get_by_role("button", name="I have kept them").click()
    theirs.get_by_role("button", name="Sign out").click()
    theirs.get_by_label("E-mail").fill(email)
    theirs.get_by_label("Password").fill(A_PASSWORD)
    theirs.get_by_role("button", name="Sign in").click()
    theirs.get_by_label("Code").fill(recovery)
    theirs.get_by_role("button", name="Sign in").click()
    theirs.get_by_role("link", name="Logbook").wait_for()

    page.get_by_role("row", name="Ebb Marsh").get_by_role("button", name="Change").click()
    page.get_by_label("Why").fill("left the company")
    page.get_by_role("button", name="Remove", exact=True).click()
    page.get_by_role("button", name="Remove", exact=True).click()
    expect(page.get_by_role("row", name="Ebb Marsh")).to_have_count(0)
    theirs.goto("/apps")
    expect(theirs).to_have_url(re.compile("/sign-in"))
    theirs.context.close()
    page.context.close()


def test_who_loses_sees_both_texts_and_nothing_is_overwritten(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",))
    page.goto(f"/apps/{app}/releases/1.0.0")
    page.get_by_role("button", name="edit").click()
    page.get_by_label("Notes").fill("Mine.")
    harbour.tide.releases.write_notes(app, "1.0.0", "en", "Theirs.")
    notes = page.get_by_role("region", name="What is new")
    notes.get_by_role("button", name="Save", exact=True).click()
    expect(notes.get_by_role("alert")).to_contain_text("Theirs.")
    expect(page.get_by_label("Notes")).to_have_value("Mine.")
    assert harbour.tide.releases.one(app, "1.0.0").notes == {"en": "Theirs."}
    notes.get_by_role("button", name="Save mine in its place").click()
    expect(notes.get_by_text("Mine.")).to_be_visible()
    assert harbour.tide.releases.one(app, "1.0.0").notes == {"en": "Mine."}


def test_the_feed_is_taken_up_again_after_a_proxys_answer(page: Page, harbour: Harbour) -> None:
    """An event source ends for good on such an answer; the console opens another."""
    refused = [0]

    def away(route: Route) -> None:
        refused[0] += 1
        route.fulfill(status=502, body="bad gateway")

    page.route("**/v1/live*", away, times=2)
    page.goto("/apps")
    expect(page.get_by_title("Changes appear automatically")).to_be_visible()
    assert refused[0] == 2
