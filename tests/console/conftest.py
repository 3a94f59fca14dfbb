"""The console in headless Chromium, against a service of its own."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright
from tests.worlds import PASSWORD, World

from sortitor.api.http.console import STATIC

FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]

# A machine under load is slow, not wrong.
expect.set_options(timeout=15_000)


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    assert (STATIC / "index.html").exists(), "build the console first: make console"
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield chromium
        chromium.close()


@pytest.fixture
def page(browser: Browser, world: World) -> Iterator[Page]:
    """Signed in as coordinator, on Today; whatever the page complains of fails the test."""
    complaints: list[str] = []
    context = browser.new_context(
        viewport={"width": 1280, "height": 800},
        reduced_motion="reduce",
        locale="en-GB",
        base_url=world.url,
    )
    context.set_default_timeout(15_000)
    page = context.new_page()
    page.on("pageerror", lambda error: complaints.append(str(error)))
    page.on(
        "console",
        lambda message: (
            complaints.append(message.text)
            if message.type == "error" and "status of 4" not in message.text
            else None
        ),
    )
    page.goto("/")
    page.get_by_label("Account").fill("coordinator")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url(f"{world.url}/today")
    yield page
    context.close()
    assert complaints == []
