"""Whoever works in the console: by mouse, or by keyboard alone; every step is counted."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Locator, Page, expect

#: So many presses of Tab lead anywhere on a page, and no further.
_FAR = 400


def _click_when_open(entry: Locator) -> None:
    """A menu is put beside its button a moment after it opens, and takes no clicks until it has
    unfolded: whoever clicks before that makes the driver scroll, which moves the menu from under
    the pointer.
    """
    expect(entry).to_be_in_viewport()
    expect(entry).not_to_have_css("pointer-events", "none")
    entry.click()


def click_entry(page: Page, item: str) -> None:
    """An entry of the open menu."""
    _click_when_open(page.locator(".v-overlay--active").get_by_text(item, exact=True))


def choose(page: Page, name: str | re.Pattern[str], exact: bool = False) -> None:
    """An entry of the open list of choices."""
    _click_when_open(page.get_by_role("option", name=name, exact=exact))


class Hands:
    """Clicks and fields filled in, by roles and labels only. Picking a file is one field."""

    def __init__(self, page: Page) -> None:
        self.page = page
        self.clicks = 0
        self.fields = 0

    @property
    def dialog(self) -> Locator:
        """The dialog that is open."""
        return self.page.get_by_role("dialog")

    @property
    def front(self) -> Locator:
        """The open dialog, else the page: asked again until what is looked for is there."""
        return self.page.locator("[role=dialog], body:not(:has([role=dialog]))")

    def button(self, name: str, within: Locator | None = None) -> Locator:
        """A button by what it says."""
        return (within or self.page).get_by_role("button", name=name)

    def click(self, target: Locator) -> None:
        """Once, with the mouse."""
        target.click()
        self.clicks += 1

    def rail(self, name: str) -> None:
        """A page, by the rail."""
        self.click(self.page.get_by_role("link", name=name, exact=True))

    def press(self, name: str) -> None:
        """A button of the page, or of the open dialog."""
        self.click(self.button(name, self.front).first)

    def field(self, label: str) -> Locator:
        """A field of the page, or of the open dialog, that can be written in."""
        writable = self.front.locator("input, textarea")
        return self.front.get_by_label(label).and_(writable).first

    def menu_of(self, label: str) -> Locator:
        """A menu of the page, or of the open dialog, by its label or how that begins."""
        return self.front.get_by_label(re.compile(f"^{re.escape(label)}")).first

    def write(self, label: str, text: str) -> None:
        """Fill in a field of the page, or of the open dialog."""
        self.field(label).fill(text)
        self.fields += 1

    def choose(self, label: str, option: str) -> None:
        """One of the choices of a menu."""
        self.menu_of(label).click(force=True)
        choose(self.page, option, exact=True)
        self.clicks += 2

    def pick(self, label: str, begun: str, option: str) -> None:
        """Somebody or something that the service knows, by the beginning of a name."""
        self.write(label, begun)
        _click_when_open(self.page.get_by_role("option", name=re.compile(option)).first)
        self.clicks += 1

    def menu(self, button: str, item: str) -> None:
        """An entry of a menu behind a button, which opens a dialog."""
        clicks = self.clicks
        self.press(button)
        click_entry(self.page, item)
        self.dialog.wait_for()
        self.clicks = clicks + 2

    def put(self, label: str, path: Path) -> None:
        """A file."""
        self.front.locator("input[type=file]").first.set_input_files(path)
        self.fields += 1

    def apply(self, name: str | re.Pattern[str]) -> None:
        """The preview's one button; the preview goes."""
        self.click(self.dialog.get_by_role("button", name=name))
        expect(self.dialog).to_have_count(0)


class Keyboard(Hands):
    """The same without a mouse: what Tab does not reach is not there."""

    def reach(self, target: Locator) -> None:
        """Go to it, forwards."""
        expect(target).to_be_visible()
        for _ in range(_FAR):
            if target.evaluate("one => one === document.activeElement"):
                return
            self.page.keyboard.press("Tab")
        raise AssertionError(f"the keyboard does not reach {target}")

    def down_to(self, target: Locator) -> None:
        """From one entry of a list to another."""
        expect(target).to_be_visible()
        for _ in range(40):
            if target.evaluate("one => one.contains(document.activeElement)"):
                return
            self.page.keyboard.press("ArrowDown")
        raise AssertionError(f"the arrows do not reach {target}")

    def rail(self, name: str) -> None:
        self.reach(self.page.get_by_role("link", name="Today", exact=True))
        self.down_to(self.page.get_by_role("link", name=name, exact=True))
        self.page.keyboard.press("Enter")
        self.clicks += 1

    def click(self, target: Locator) -> None:
        self.reach(target)
        expect(target).to_be_focused()
        self.page.keyboard.press("Enter")
        self.clicks += 1

    def write(self, label: str, text: str) -> None:
        self.reach(self.field(label))
        self.page.keyboard.type(text)
        self.fields += 1

    def choose(self, label: str, option: str) -> None:
        self.reach(self.menu_of(label))
        self.page.keyboard.press("ArrowDown")
        self.down_to(self.page.get_by_role("option", name=option, exact=True))
        self.page.keyboard.press("Enter")
        self.clicks += 2

    def pick(self, label: str, begun: str, option: str) -> None:
        self.write(label, begun)
        expect(self.page.get_by_role("option", name=re.compile(option)).first).to_be_visible()
        self.page.keyboard.press("ArrowDown")
        self.page.keyboard.press("Enter")
        self.clicks += 1

    def menu(self, button: str, item: str) -> None:
        """An entry of a menu behind a button."""
        self.press(button)
        self.down_to(self.page.get_by_role("listitem").filter(has_text=item).first)
        self.page.keyboard.press("Enter")
        self.clicks += 1
