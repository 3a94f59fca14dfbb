"""Chromium without a screen, and pages of it on which somebody has signed in."""

from __future__ import annotations

from time import monotonic

from playwright.sync_api import Browser, Page, Playwright, Request
from tests.worlds import PASSWORD, World

from sortitor.core.vocabulary import Role

#: Debian's Chromium without the windows that nobody sees: they take a third of its work.
CHROMIUM = "/usr/bin/chromium-headless-shell"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]

#: A machine under load is slow, not wrong.
PATIENCE_SECONDS = 15


def launched(playwright: Playwright) -> Browser:
    """A browser; whoever asks for it closes it."""
    return playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)


def signed_in(
    browser: Browser, world: World, role: Role = Role.COORDINATOR, width: int = 1280
) -> Page:
    """A page with nothing on it yet, of somebody who has just signed in, at a desk or by a phone.
    The form to sign in is tested by itself.
    """
    context = browser.new_context(
        viewport={"width": width, "height": 800 if width > 400 else 740},
        reduced_motion="reduce",
        locale="en-GB",
        base_url=world.url,
    )
    context.set_default_timeout(PATIENCE_SECONDS * 1_000)
    signing = context.request.post(
        "/api/v1/session",
        data={"name": role.value, "password": PASSWORD},
        headers={"X-Sortitor-Console": "1"},
    )
    assert signing.ok, signing.text()
    return context.new_page()


_BY_ADDRESS = """
path => {
    history.pushState(null, '', path)
    dispatchEvent(new PopStateEvent('popstate'))
}
"""
#: Once the page has done what it had to do before.
_A_MOMENT_LATER = "() => new Promise(done => setTimeout(done, 50))"


class Pages:
    """From one page of the console to the next; it is loaded anew for the first one alone. On each
    what it asks for is there.
    """

    def __init__(self, page: Page) -> None:
        self._page = page
        self._asked: set[Request] = set()
        page.on("request", self._asks)
        page.on("requestfinished", self._has)
        page.on("requestfailed", self._has)
        page.reload()
        self._settle()

    def go(self, path: str) -> None:
        """As a link within the page does it."""
        self._page.evaluate(_BY_ADDRESS, path)
        self._settle()

    def _settle(self) -> None:
        quiet, until = 0, monotonic() + PATIENCE_SECONDS
        while quiet < 3:
            assert monotonic() < until, [one.url for one in self._waiting]
            self._page.evaluate(_A_MOMENT_LATER)
            quiet = 0 if self._waiting else quiet + 1

    def _asks(self, one: Request) -> None:
        self._asked.add(one)

    def _has(self, one: Request) -> None:
        self._asked.discard(one)

    @property
    def _waiting(self) -> list[Request]:
        return [one for one in self._asked if one.resource_type != "eventsource"]
