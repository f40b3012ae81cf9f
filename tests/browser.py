"""Debian's headless Chromium, as Playwright starts it here."""

from __future__ import annotations

import shutil

from playwright.sync_api import Browser, Playwright

PROGRAMS = ("chromium-headless-shell", "chromium")
"""The first that is there: one without any window of its own, or the whole browser."""
OPTIONS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


def launched(playwright: Playwright) -> Browser:
    program = next(found for name in PROGRAMS if (found := shutil.which(name)))
    return playwright.chromium.launch(executable_path=program, args=OPTIONS)
