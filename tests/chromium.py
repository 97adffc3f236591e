"""Debian's Chromium, headless, as every test, measurement and picture uses it."""

from __future__ import annotations

import shutil

from playwright.sync_api import Browser, Playwright

from moorfog.bootstrap import BROWSER

ARGUMENTS = (
    "--no-sandbox",
    "--disable-dev-shm-usage",
    # two windows side by side, as on a bench: neither is in the background
    "--disable-background-timer-throttling",
    "--disable-renderer-backgrounding",
    "--disable-backgrounding-occluded-windows",
)


def launched(playwright: Playwright) -> Browser:
    """Start the browser."""
    path = shutil.which(BROWSER)
    assert path, f"{BROWSER} is missing; ./moorfog test installs it"
    return playwright.chromium.launch(executable_path=path, args=list(ARGUMENTS))
