"""Takes the pictures of docs/screenshots: the console's pages and the main commands' output, on the
demonstration.

    python -m tools.pictures [--url http://127.0.0.1:8470] [--only today,lot] [--into
    docs/screenshots] [--dark] [--width 1280]

Without --url it starts the demonstration itself.
"""

from __future__ import annotations

import argparse
import contextlib
import fcntl
import html
import os
import pty
import re
import shlex
import struct
import subprocess
import sys
import tempfile
import termios
from collections.abc import Iterator
from pathlib import Path

from playwright.sync_api import Browser, Page, sync_playwright
from rich.console import Console
from rich.text import Text
from tests.console.browsers import launched

from sortitor.client import Sortitor
from sortitor.core.vocabulary import Platform, Role, SignInWay
from sortitor.demo.load import ACCOUNTS
from sortitor.schemas.arrivals import Knock
from sortitor.schemas.passes import PassTerms

BIN = Path(sys.executable).parent

#: Picture → (page, what to do there before it is taken).
PAGES: dict[str, tuple[str, str]] = {
    "today": ("/today", ""),
    "lot": ("/lots/{draft}", ""),
    "devices": ("/devices?filter=cohorts%20eq%20%22Own%20phones%22%20and%20idleDays%20ge%2030", ""),
    "device": ("/devices/{device}", ""),
    "cohort": ("/cohorts/{cohort}", "click:Build by clicking"),
    "gate": ("/gate", ""),
    "names": ("/names", ""),
    "arrivals": ("/arrivals?tab=board", ""),
    "kits": ("/kits", ""),
    "licences": ("/licences/1", ""),
    "sweeps": ("/sweeps", "click:Preview the sweep 2"),
    "people": ("/people", ""),
    "sources": ("/sources/2", ""),
    "levels": ("/levels?kind=unknown&near=true", ""),
    "ends": ("/ends", ""),
    "journal": ("/journal", ""),
}

#: The person's page, on a phone.
WELCOME = "welcome"

#: Picture → the commands it shows.
TERMINALS: dict[str, list[str]] = {
    "terminal-today": ["today"],
    "terminal-lot": ["lot show {draft}"],
}


@contextlib.contextmanager
def demonstration(url: str | None) -> Iterator[str]:
    """The address of a demonstration: the given one, or one started for the pictures."""
    if url:
        yield url
        return
    with tempfile.TemporaryDirectory() as folder:
        Path(folder).chmod(0o755)  # PostgreSQL may run as another user
        process = subprocess.Popen(
            [BIN / "sortitor", "demo", "--port", "0", "--state-dir", folder],
            stdout=subprocess.PIPE,
            text=True,
        )
        assert process.stdout is not None
        try:
            yield next(
                m[1] for line in process.stdout if (m := re.search(r"ready at (http://\S+)", line))
            )
        finally:
            process.terminate()
            process.wait(60)


def subjects(s: Sortitor) -> dict[str, str]:
    """What the pictures show: a draft lot, a device with a story, a person."""
    draft = next(lot.id for lot in s.lots.list() if lot.status == "draft")
    device = next(
        s.devices.list(filter='stage eq "parked" and platform eq "windows"'), None
    ) or next(s.devices.list(filter='stage eq "active"'))
    person = next(s.people.list(group="Crew")).user_name
    cohort = next(cohort.id for cohort in s.cohorts.list() if cohort.name == "Crew handhelds")
    return {"draft": str(draft), "device": str(device.id), "person": person, "cohort": str(cohort)}


def photograph(
    browser: Browser,
    url: str,
    names: list[str],
    found: dict[str, str],
    into: Path,
    dark: bool,
    width: int,
) -> None:
    """The console's pages, signed in as the coordinator."""
    context = browser.new_context(
        viewport={"width": width, "height": 800},
        reduced_motion="reduce",
        locale="en-GB",
        color_scheme="dark" if dark else "light",
    )
    page = context.new_page()
    page.on(
        "console", lambda message: message.type == "error" and print("  page says:", message.text)
    )
    page.goto(f"{url}/sign-in")
    page.get_by_label("Account").fill("coordinator")
    page.get_by_label("Password").fill(ACCOUNTS["coordinator"])
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/today")
    for name in [n for n in names if n in PAGES]:
        path, act = PAGES[name]
        page.goto(url + path.format(**found))
        page.wait_for_load_state("networkidle")
        page.wait_for_timeout(300)
        perform(page, act)
        page.screenshot(path=into / f"{name}.png")
        print(into / f"{name}.png")


def welcome(browser: Browser, s: Sortitor, url: str, file: Path) -> None:
    """The person's page on a phone, while it asks who they are."""
    terms = PassTerms(label="Help desk", sign_in=SignInWay.MAIL, max_uses=1)
    code = s.passes.add(terms).code
    knock = Knock(
        code=code,
        protocol=2,
        platform=Platform.ANDROID,
        os_version="14",
        maker="Tavik",
        model="Lumen 5",
        serial="TV-WELCOME",
    )
    secret = s.agent.knock(knock).secret
    context = browser.new_context(viewport={"width": 360, "height": 800}, locale="en-GB")
    page = context.new_page()
    page.goto(f"{url}/welcome#{secret}")
    page.get_by_role("button", name="Send me a code").wait_for()
    page.screenshot(path=file)
    print(file)


def perform(page: Page, act: str) -> None:
    """`click:NAME` clicks a button; several acts are joined by `;`."""
    for step in filter(None, act.split(";")):
        _, name = step.split(":", 1)
        # A number behind the name says which of several.
        place = int(name[-1]) - 1 if name[-1].isdigit() else 0
        page.get_by_role("button", name=name.rstrip(" 123456789")).nth(place).click()
        page.wait_for_load_state("networkidle")
        page.wait_for_timeout(300)


def typed(command: str, url: str, token: str) -> str:
    """What a command prints on a terminal of 120 columns."""
    master, slave = pty.openpty()
    fcntl.ioctl(slave, termios.TIOCSWINSZ, struct.pack("HHHH", 60, 120, 0, 0))
    environment = {
        **os.environ,
        "SORTITOR_URL": url,
        "SORTITOR_TOKEN": token,
        "COLUMNS": "120",
        "LINES": "60",
        "TERM": "xterm-256color",
    }
    process = subprocess.Popen(
        [BIN / "sortitor", *shlex.split(command)],
        stdout=slave,
        stderr=slave,
        stdin=slave,
        env=environment,
    )
    os.close(slave)
    parts = []
    with contextlib.suppress(OSError):
        while part := os.read(master, 65536):
            parts.append(part)
    process.wait()
    return b"".join(parts).decode().replace("\r\n", "\n")


def terminal(browser: Browser, commands: list[str], url: str, token: str, file: Path) -> None:
    """A picture of a terminal in which the commands were typed."""
    console = Console(record=True, width=122, file=open(os.devnull, "w"), force_terminal=True)  # noqa: SIM115
    for command in commands:
        console.print(Text(f"$ sortitor {command}", style="bold"))
        console.print(Text.from_ansi(typed(command, url, token)))
    body = console.export_html(inline_styles=True, code_format="{code}")
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    style = (
        "margin:0;padding:18px;background:#fbfaf6;color:#22282a;font:14.5px/1.35 'DejaVu Sans"
        " Mono',monospace"
    )
    page.set_content(f'<title>{html.escape(commands[0])}</title><pre style="{style}">{body}</pre>')
    page.screenshot(
        path=file,
        clip={
            "x": 0,
            "y": 0,
            "width": 1280,
            "height": min(1100, page.locator("pre").bounding_box()["height"] + 2),
        },
        full_page=True,
    )  # type: ignore[index]
    print(file)
    page.close()


def main() -> None:
    """Take the pictures asked for."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--url")
    parser.add_argument("--only", default="")
    parser.add_argument("--into", type=Path, default=Path("docs/screenshots"))
    parser.add_argument("--dark", action="store_true")
    parser.add_argument("--width", type=int, default=1280)
    given = parser.parse_args()
    wanted = given.only.split(",") if given.only else [*PAGES, *TERMINALS, WELCOME]
    given.into.mkdir(parents=True, exist_ok=True)
    with demonstration(given.url) as url, Sortitor(url) as s, sync_playwright() as playwright:
        s.accounts.sign_in("coordinator", ACCOUNTS["coordinator"])
        token = s.accounts.add_token("pictures", Role.COORDINATOR, 1)
        found = subjects(s)
        browser = launched(playwright)
        photograph(browser, url, wanted, found, given.into, given.dark, given.width)
        if WELCOME in wanted:
            welcome(browser, s, url, given.into / f"{WELCOME}.png")
        for name in [n for n in wanted if n in TERMINALS]:
            terminal(
                browser,
                [c.format(**found) for c in TERMINALS[name]],
                url,
                token.secret,
                given.into / f"{name}.png",
            )
        s.accounts.revoke_token(token.id)
        browser.close()


if __name__ == "__main__":
    main()
