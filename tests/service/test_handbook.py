"""The handbook: nothing of the program is missing in it, and the service serves it by itself."""

import re
from concurrent.futures import ThreadPoolExecutor
from html.parser import HTMLParser
from pathlib import Path
from xml.etree import ElementTree

import httpx
import pytest
from playwright.sync_api import sync_playwright
from tests.console.browsers import launched
from tests.worlds import World
from tools import data_model, handbook

from sortitor.api.http.handbook import HANDBOOK
from sortitor.core import gate, notes
from sortitor.core.access import Permission
from sortitor.core.filters import ATTRIBUTES
from sortitor.core.naming.templates import FIELDS, FILTERS
from sortitor.core.vocabulary import Stage, Verdict
from sortitor.server.settings import Settings
from sortitor.store.tables import metadata

WRITTEN = Path(handbook.__file__).parents[1] / "docs" / "handbook"
#: Page → what must be on it.
CONTENTS = {
    "commands": [path for path, _ in handbook.every_command()],
    "settings": [f"SORTITOR_{name.upper()}" for name in Settings.model_fields],
    "errors": list(handbook.error_codes()),
    "notes": list(notes.CATALOGUE),
    "reasons": list(gate.REASON_CODES),
    "filters": list(ATTRIBUTES),
    "naming": [*FIELDS, *FILTERS],
    "roles": [permission.value for permission in Permission],
    "http": ["/api/v1/devices", "/api/v1/pools/{key}/revisions"],
    "data-model": [],
    "glossary": [],
}


class Text(HTMLParser):
    """What a reader sees of a page, and where it leads."""

    def __init__(self, page: str) -> None:
        super().__init__()
        self.words, self.links = "", list[str]()
        self.feed(page)

    def handle_data(self, data: str) -> None:
        self.words += data

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.links += [value for name, value in attrs if name in ("href", "src") and value]


@pytest.mark.parametrize("page", CONTENTS)
def test_nothing_is_missing(page: str) -> None:
    said = Text((HANDBOOK / "reference" / page / "index.html").read_text()).words
    assert [name for name in CONTENTS[page] if name not in said] == []


def test_every_error_that_is_raised_has_its_words() -> None:
    """Read in another way than the handbook does: every code that stands in the source."""
    source = "".join(path.read_text() for path in handbook.SOURCE.rglob("*.py"))
    raised = re.findall(
        r"(?:BadInput|Conflict|Unsupported|TooLarge|NotAllowed|NotSignedIn|Unavailable)"
        r'\(\s*(?:code=)?"([a-z_]+)"',
        source,
    )
    assert len(raised) > 80
    assert set(raised) - set(handbook.error_codes()) == set()


def test_words_of_the_guide_are_those_of_the_program() -> None:
    devices = (WRITTEN / "guide" / "devices.md").read_text()
    assert [stage for stage in Stage if f"| {stage.value} |" not in devices] == []
    lots = (WRITTEN / "guide" / "lots.md").read_text()
    assert [verdict for verdict in Verdict if f"| {verdict.value} |" not in lots] == []
    known = {path for path, _ in handbook.every_command()}
    for page in WRITTEN.rglob("*.md"):
        for found in re.findall(r"`sortitor ([a-z-]+)(?: ([a-z-]+))?", page.read_text()):
            path = " ".join(("sortitor", *filter(None, found)))
            assert path in known or f"sortitor {found[0]}" in known, (page.name, path)


def test_the_picture_of_the_tables_is_of_today() -> None:
    drawn = ElementTree.parse(WRITTEN / "reference" / "data-model.svg")
    titles = {one.text for one in drawn.iter("{http://www.w3.org/2000/svg}title")}
    references = {
        f"{table.name}->{key.column.table.name}"
        for table in metadata.tables.values()
        for key in table.foreign_keys
    }
    assert {*metadata.tables, *references} - titles == set(), "run: make data-model"
    texts = {one.text for one in drawn.iter("{http://www.w3.org/2000/svg}text")}
    columns = {column.name for table in metadata.tables.values() for column in table.columns}
    assert columns - texts == set(), "run: make data-model"
    assert data_model.described().startswith("digraph")


def test_it_is_served_and_fetches_nothing_elsewhere(world: World) -> None:
    page = httpx.get(f"{world.url}/handbook/guide/lots/")
    assert page.status_code == 200
    assert "verdicts" in page.text
    assert "script-src 'self' 'sha256-" in page.headers["content-security-policy"]
    for path in HANDBOOK.rglob("*.html"):
        links = Text(path.read_text()).links
        outside = [link for link in links if re.match(r"(https?:)?//", link)]
        assert [link for link in outside if "mkdocs" not in link] == [], path
    assert httpx.get(f"{world.url}/handbook/%2e%2e/app.py").status_code == 404


def test_it_works_in_a_browser_and_finds_a_word(world: World) -> None:
    # In a thread of its own: the console's tests may have left their browser's loop in this one.
    with ThreadPoolExecutor(1) as thread:
        assert thread.submit(looked_up, world.url).result() == []


def looked_up(url: str) -> list[str]:
    """Find a word in the handbook; gives what the browser complained of."""
    complaints: list[str] = []
    with sync_playwright() as playwright:
        browser = launched(playwright)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.on("console", lambda one: complaints.append(one.text) if one.type == "error" else None)
        page.on("request", lambda one: None if url in one.url else complaints.append(one.url))
        page.goto(f"{url}/handbook/")
        page.get_by_role("textbox", name="Search").click()
        page.get_by_role("textbox", name="Search").fill("quarantine brake")
        page.get_by_role("link", name=re.compile("Glossary|Sweeps")).first.wait_for()
        browser.close()
    return complaints
