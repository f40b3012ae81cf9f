"""What a person loads and waits for who opens the console for the first time."""

from __future__ import annotations

from statistics import median

from playwright.sync_api import Browser, sync_playwright
from tests.browser import launched

from restless_tide.demo.processes import Processes

ROUNDS = 5
_FIRST_CONTENT = "performance.getEntriesByName('first-contentful-paint')[0]?.startTime ?? 0"


def first_view(processes: Processes, email: str, password: str) -> None:
    """Bytes over the wire and time of Today with an empty cache, signed in; against the health check as a page."""
    print("\nThe console, each time with an empty cache")
    with sync_playwright() as playwright:
        browser = launched(playwright)
        context = browser.new_context(base_url=processes.ports.address)
        page = context.new_page()
        page.goto("/")
        page.get_by_label("E-mail").fill(email)
        page.get_by_label("Password").fill(password)
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("link", name="Today", exact=True).wait_for()
        kept = context.storage_state()
        context.close()
        looks = [_look(browser, processes.ports.address, kept, "/", "main h1") for _ in range(ROUNDS)]
        bare = [_look(browser, processes.ports.address, kept, "/healthz", "body") for _ in range(ROUNDS)]
        browser.close()
    count = looks[0][0]
    print(f"first view of Today: {looks[0][1] / 1000:.0f} kB over the wire in {count} answers (goal: at most 150 kB)")
    for place, what in ((2, "first content"), (3, "what needs a person")):
        ours, theirs = (median(look[place] for look in of) for of in (looks, bare))
        print(f"{what} after {ours:.0f} ms; the health check as a page after {theirs:.0f} ms")


def _look(browser: Browser, address: str, kept: object, path: str, waits_for: str) -> tuple[int, float, float, float]:
    """Answers, bytes over the wire, milliseconds to the first content, and to what the page is for."""
    context = browser.new_context(base_url=address, storage_state=kept)  # type: ignore[arg-type]
    page = context.new_page()
    watching = context.new_cdp_session(page)
    watching.send("Network.enable")
    loaded: list[float] = []
    watching.on("Network.loadingFinished", lambda event: loaded.append(event["encodedDataLength"]))
    page.goto(path, wait_until="commit")
    page.locator(waits_for).first.wait_for()
    seen = page.evaluate("performance.now()")
    page.wait_for_timeout(500)
    first = page.evaluate(_FIRST_CONTENT)
    context.close()
    return len(loaded), sum(loaded), first, seen
