"""Take docs/screenshots anew: the scenario is played into a fresh desk, then each page and command is pictured.

The pages come from headless Chromium; a command's output is drawn by rich as it appears in a terminal
of 120 columns and pictured by the same browser.
"""

from __future__ import annotations

import io
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import httpx
from playwright.sync_api import Browser, Page, sync_playwright
from rich.console import Console
from rich.text import Text
from tests.browser import launched

from restless_tide.client import Tide
from restless_tide.demo import colleagues
from restless_tide.demo.chapter import Chapter, beginning
from restless_tide.demo.processes import Processes, free_ports
from restless_tide.demo.season import Season
from restless_tide.service.serve import add_first_person

TARGET = Path("docs/screenshots")
NAME, EMAIL, PASSWORD = "Ida Fenwick", "ida@saltgrass.example.org", "pictures-of-the-desk"
COMMANDS = {
    "cli-overview": "overview",
}


def signed_in(browser: Browser, address: str, **context: object) -> Page:
    page = browser.new_context(base_url=address, timezone_id="Europe/Berlin", **context).new_page()
    page.goto("/")
    page.get_by_label("E-mail").fill(EMAIL)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("link", name="Logbook").wait_for()
    return page


def take(page: Page, name: str) -> None:
    page.wait_for_timeout(500)
    page.evaluate(
        "Promise.all([...document.images].filter(one => one.loading !== 'lazy').map(one => one.decode().catch(() => {})))"
    )
    page.screenshot(path=TARGET / f"{name}.png")
    print(name, flush=True)


def console(browser: Browser, processes: Processes) -> None:
    page = signed_in(browser, processes.ports.address, viewport={"width": 1280, "height": 800})
    for name, path in (
        ("overview", "/"),
        ("cohort", "/apps/marram/cohorts/dune-walkers"),
        ("reports", "/apps/marram/reports"),
        ("stores", "/stores"),
        ("steps", "/steps"),
        ("questions", "/apps/marram/dossier/questions"),
        ("live", "/apps/ferryglass/live"),
        ("dossier", "/apps/ferryglass/dossier"),
    ):
        page.goto(path)
        page.locator("main .card-plain, main article, main table").first.wait_for()
        take(page, name)
    page.goto("/apps/marram/dossier/pictures")
    page.get_by_role("region", name="Pictures on a phone").evaluate("part => part.scrollIntoView()")
    for shown in page.get_by_role("region", name="Pictures on a phone").locator(".picture img").all():
        shown.evaluate("image => image.decode()")
    take(page, "pictures")
    page.goto("/apps/ferryglass/tracks")
    page.get_by_role("region", name="Openfield", exact=True).evaluate("part => part.scrollIntoView()")
    take(page, "tracks")
    page.goto("/apps/marram/builds")
    page.get_by_role("link", name="2.5.0 (218)").first.click()
    page.get_by_text("Where the size went").wait_for()
    page.get_by_role("button", name="Send on").click()
    page.get_by_text("nobody declared").first.wait_for()
    take(page, "push-sheet")
    page.goto("/people")
    page.get_by_role("row", name="Tam Okoro").get_by_role("button", name="Change").click()
    page.get_by_text("valid tokens").wait_for()
    take(page, "people")
    page.goto("/apps/ferryglass/releases/5.2.0")
    health = page.get_by_role("region", name="How it is doing")
    health.get_by_text("The evidence").first.click()
    health.get_by_role("img", name="Evidence of crashes").wait_for()
    health.evaluate("part => part.scrollIntoView()")
    take(page, "guard")
    page.goto("/apps/marram/releases/2.4.0")
    page.locator("main h1").wait_for()
    page.keyboard.press("h")
    page.get_by_label("Why?").fill("Crashes on start on older phones.")
    take(page, "halt-asked")
    processes.stop("openfield")
    page.get_by_role("button", name="Halt now").click()
    page.get_by_text("confirmed: halted").wait_for()
    page.get_by_text("does not answer").first.wait_for()
    page.get_by_role("button", name="Done").click()
    take(page, "release-one-store-away")
    processes.start("openfield")
    page.goto("/apps/ferryglass/releases/5.2.1/look?store=northgate")
    page.locator("main h3").first.wait_for()
    take(page, "last-look")
    narrow = signed_in(browser, processes.ports.address, viewport={"width": 400, "height": 800}, color_scheme="dark")
    narrow.goto("/apps/loam/releases/1.0.0")
    refused = narrow.get_by_role("region", name="What was refused")
    refused.get_by_role("button", name="Fixed").click()
    refused.get_by_label("What was fixed").fill("The field names itself now, and the page works without one.")
    refused.evaluate("region => region.scrollIntoView({ block: 'start' })")
    take(narrow, "refused-narrow-dark")


def testers(browser: Browser, processes: Processes) -> None:
    """The tester's own page on a phone: whoever wrote and was answered."""
    mails = httpx.get(f"http://127.0.0.1:{processes.ports.mail}/mails", trust_env=False).json()
    answered = next(mail for mail in reversed(mails) if "About your report" in mail["subject"])
    link = next(word for word in answered["text"].split() if "/invitation/" in word)
    phone = browser.new_context(viewport={"width": 390, "height": 844}, locale="en-GB").new_page()
    phone.goto(link)
    take(phone, "tester-phone")


def commands(browser: Browser, processes: Processes, token: str) -> None:
    environment = os.environ | {
        "TIDE_URL": processes.ports.address,
        "TIDE_TOKEN": token,
        "COLUMNS": "150",
        "FORCE_COLOR": "1",
        "TZ": "Europe/Berlin",
    }
    for name, line in COMMANDS.items():
        command = [sys.executable, "-m", "restless_tide.cli.main", *line.split()]
        said = subprocess.run(
            command, env=environment, capture_output=True, text=True, check=False, cwd=processes.folder / "packages"
        ).stdout
        terminal = Console(record=True, width=160, file=io.StringIO(), force_terminal=True)
        shown = line.replace(f"{processes.folder}/", "")
        terminal.print(Text.from_ansi(f"$ tide {shown}\n{said}"))
        page = browser.new_context(viewport={"width": 1280, "height": 200}).new_page()
        page.set_content(
            terminal.export_html(inline_styles=True).replace("<body>", "<body style='margin:16px;font-size:12.5px'>")
        )
        page.screenshot(path=TARGET / f"{name}.png", full_page=True)
        print(name, flush=True)


def main() -> None:
    TARGET.mkdir(parents=True, exist_ok=True)
    fast = {"TIDE_STEPPABLE_CLOCK": "yes", "TIDE_POLL_SECONDS": "0.05"}
    with tempfile.TemporaryDirectory() as folder, Processes(Path(folder), free_ports(29_000), fast) as processes:
        processes.start_all()
        add_first_person(processes.desk_environment(), NAME, EMAIL, PASSWORD)
        with Tide(processes.ports.address) as tide:
            tide.people.sign_in(EMAIL, PASSWORD)
            Chapter(tide, Season(tide, processes.ports, beginning()), Path(folder), print).play()
            colleagues.invite(tide)
            token = tide.people.make_token("pictures").value
        with sync_playwright() as playwright:
            browser = launched(playwright)
            testers(browser, processes)
            console(browser, processes)
            commands(browser, processes, token)
            browser.close()


if __name__ == "__main__":
    main()
