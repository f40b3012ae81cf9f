"""A signed-in page in Debian's Chromium, against the real service."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.browser import launched
from tests.harbour import EMAIL, PASSWORD, Harbour
from tests.patience import PATIENCE_SECONDS

expect.set_options(timeout=PATIENCE_SECONDS * 1000)


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        opened = launched(playwright)
        yield opened
        opened.close()


def sign_in(page: Page) -> None:
    page.goto("/")
    page.get_by_label("E-mail").fill(EMAIL)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("link", name="Today", exact=True)).to_be_visible()


@pytest.fixture(scope="module")
def signed_in(browser: Browser, harbour: Harbour) -> Any:
    """What a browser keeps once someone has signed in."""
    context = browser.new_context(base_url=harbour.address)
    sign_in(context.new_page())
    kept = context.storage_state()
    context.close()
    return kept


@pytest.fixture
def page(browser: Browser, harbour: Harbour, signed_in: Any) -> Iterator[Page]:
    """A signed-in page; a test fails on any error the page itself logs."""
    context = browser.new_context(
        base_url=harbour.address, viewport={"width": 1280, "height": 800}, storage_state=signed_in
    )
    context.set_default_timeout(PATIENCE_SECONDS * 1000)
    opened = context.new_page()
    errors: list[str] = []
    opened.on("pageerror", lambda wrong: errors.append(str(wrong)))
    opened.goto("/")
    expect(opened.get_by_role("link", name="Today", exact=True)).to_be_visible()
    yield opened
    context.close()
    assert errors == []
