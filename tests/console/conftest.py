"""The console in headless Chromium, against a service of its own."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright
from tests.console.browsers import PATIENCE_SECONDS, launched, signed_in
from tests.worlds import World

from sortitor.api.http.console import STATIC
from sortitor.core.vocabulary import Role

expect.set_options(timeout=PATIENCE_SECONDS * 1_000)


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    assert (STATIC / "index.html").exists(), "build the console first: make console"
    with sync_playwright() as playwright:
        chromium = launched(playwright)
        yield chromium
        chromium.close()


@pytest.fixture
def role() -> Role:
    """Who signs in; a test says another one by its parameter."""
    return Role.COORDINATOR


@pytest.fixture
def page(browser: Browser, world: World, role: Role) -> Iterator[Page]:
    """Signed in, on Today; whatever the page complains of fails the test."""
    complaints: list[str] = []
    page = signed_in(browser, world, role)
    page.on("pageerror", lambda error: complaints.append(str(error)))
    page.on(
        "console",
        lambda message: (
            complaints.append(message.text)
            if message.type == "error" and "status of 4" not in message.text
            else None
        ),
    )
    page.goto("/today")
    yield page
    page.context.close()
    assert complaints == []
