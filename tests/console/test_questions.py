"""The questions of a dossier in the console: answered once, sent, refused, answered by two at once."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Locator, Page, expect

from tests.harbour import Harbour, until
from tests.service.test_questions import held

pytestmark = pytest.mark.console


def card(page: Page, title: str) -> Locator:
    return page.get_by_role("region", name=title, exact=True)


def opened(page: Page, app: str) -> Locator:
    page.goto(f"/apps/{app}/dossier/questions")
    where = page.get_by_role("region", name="Where the answers stand")
    expect(where).to_be_visible()
    return where


def test_a_new_app_is_answered_by_clicks_alone_until_every_store_holds_the_answers(
    page: Page, harbour: Harbour
) -> None:
    app = harbour.new_app(dossier=False)
    where = opened(page, app)
    expect(where).to_contain_text("of 5 to answer")
    expect(where).to_contain_text("Northern countries open, an answer is missing")
    page.get_by_role("button", name="Go to the first").first.click()
    expect(card(page, "Category").get_by_label("Nature and outdoors")).to_be_focused()
    page.keyboard.press("Space")
    card(page, "Category").get_by_role("button", name="Save").click()
    for title, choice in (
        ("Violence", "None"),
        ("Encryption", "Only with what the system offers"),
        ("Advertising", "None"),
        ("Sold inside the app", "No"),
        ("Content of others", "No"),
        ("Audience", "Adults"),
        ("Does the app lead people onto ground where they can come to harm?", "No"),
    ):
        card(page, title).get_by_label(choice, exact=True).check()
        card(page, title).get_by_role("button", name="Save").click()
        expect(card(page, title).get_by_role("button", name="Save")).to_be_hidden()
    grid = card(page, "Data gathered")
    grid.get_by_label("Pictures and films: Gathered").check()
    grid.get_by_role("button", name="None of the others").click()
    expect(grid.get_by_label("Contacts: none of it")).to_be_checked()
    grid.get_by_role("button", name="Save").click()
    expect(where).to_contain_text("Northern countries Open to all")
    page.get_by_role("button", name="Send what differs").click()
    stores = ("northgate", "openfield")
    until(
        lambda: {one.store: one.state for one in harbour.tide.dossier.questions(app).stores},
        lambda seen: all(seen[store] == "accepted" for store in stores),
    )
    expect(where.get_by_text("holds the answers as they are given").nth(1)).to_be_visible()
    answers = held(harbour, app, "openfield")
    assert answers["cipher"] == "borrowed"
    assert answers["gathering"]["place"] == []


def test_an_answer_that_follows_appears_and_one_that_no_store_takes_is_marked(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    where = opened(page, app)
    card(page, "Advertising").get_by_label("For others").check()
    card(page, "Advertising").get_by_role("button", name="Save").click()
    cost = card(page, "Does anything in the app cost money that it does not show before?")
    expect(cost).to_contain_text("not answered, new")
    expect(where).to_contain_text("1 of 6 to answer")
    cost.get_by_label("Yes", exact=True).check()
    cost.get_by_role("button", name="Save").click()
    expect(cost).to_contain_text("with this answer it takes no app")
    page.goto(f"/apps/{app}/releases")
    link = page.get_by_role("link", name=re.compile("Answer it|Send the answers")).first
    expect(link).to_have_attribute("href", f"/apps/{app}/dossier/questions?question=hidden-cost")
    link.click()
    expect(cost.get_by_label("No", exact=True)).to_be_focused()


def test_what_another_person_answers_meanwhile_is_shown_and_nothing_is_lost(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    opened(page, app)
    one = card(page, "Violence")
    one.get_by_label(re.compile("^Mild")).check()
    harbour.tide.dossier.answer(app, {"violence": "strong"})
    expect(one.get_by_role("alert")).to_contain_text("Ida Fenwick has changed this answer meanwhile")
    expect(one.get_by_role("alert")).to_contain_text("Strong: people or animals")
    expect(one.get_by_label(re.compile("^Mild"))).to_be_checked()
    one.get_by_role("button", name="Keep mine, to save it over that").click()
    one.get_by_role("button", name="Save", exact=True).click()
    expect(one.get_by_role("button", name="Save", exact=True)).to_be_hidden()
    assert {topic.key: topic.answer for topic in harbour.tide.dossier.questions(app).topics}["violence"] == "mild"


def test_one_store_gets_another_answer_in_its_own_choices(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    opened(page, app)
    one = card(page, "Encryption")
    one.get_by_role("button", name="Another answer here").click()
    one.get_by_label("Something of its own").check()
    one.get_by_role("button", name="Save for Openfield").click()
    expect(one.get_by_role("button", name="Has its own answer")).to_be_visible()
    expect(one).to_contain_text("changed since sent")
    one.get_by_role("button", name="Has its own answer").click()
    one.get_by_role("button", name="As all others").click()
    expect(one.get_by_role("button", name="Another answer here")).to_be_visible()
    expect(one).to_contain_text("accepted")
