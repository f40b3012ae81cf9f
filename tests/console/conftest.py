"""A signed-in page in Debian's Chromium, against the real service."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright
from playwright.sync_api import Error as PlaywrightError

from tests.browser import launched
from tests.harbour import EMAIL, PASSWORD, Harbour
from tests.patience import PATIENCE_SECONDS

expect.set_options(timeout=PATIENCE_SECONDS * 1000)


class Chromium:
    """One browser for a module. One that has died by itself is started anew for what comes after."""

    def __init__(self) -> None:
        self._playwright = sync_playwright().start()
        self._browser = launched(self._playwright)

    @property
    def browser(self) -> Browser:
        try:
            self._browser.new_context().close()
        except PlaywrightError:
            self.close()
            self._playwright = sync_playwright().start()
            self._browser = launched(self._playwright)
        return self._browser

    def close(self) -> None:
        with suppress(PlaywrightError):
            self._browser.close()
        with suppress(Exception):  # of a driver that has died nothing is left to be stopped
            self._playwright.stop()


@pytest.fixture(scope="module")
def chromium() -> Iterator[Chromium]:
    opened = Chromium()
    yield opened
    opened.close()


@pytest.fixture
def browser(chromium: Chromium) -> Browser:
    return chromium.browser


def sign_in(page: Page) -> None:
    page.goto("/")
    page.get_by_label("E-mail").fill(EMAIL)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("link", name="Today", exact=True)).to_be_visible()


@pytest.fixture(scope="module")
def signed_in(chromium: Chromium, harbour: Harbour) -> Any:
    """What a browser keeps once someone has signed in."""
    context = chromium.browser.new_context(base_url=harbour.address)
    sign_in(context.new_page())
    kept = context.storage_state()
    context.close()
    return kept


@pytest.fixture
def page(browser: Browser, harbour: Harbour, signed_in: Any) -> Iterator[Page]:
    """A page, not opened yet, of someone who is signed in; a test fails on any error the page itself logs."""
    context = browser.new_context(
        base_url=harbour.address,
        viewport={"width": 1280, "height": 800},
        storage_state=signed_in,
        reduced_motion="reduce",
    )
    context.set_default_timeout(PATIENCE_SECONDS * 1000)
    opened = context.new_page()
    errors: list[str] = []
    opened.on("pageerror", lambda wrong: errors.append(str(wrong)))
    yield opened
    context.close()
    assert errors == []
