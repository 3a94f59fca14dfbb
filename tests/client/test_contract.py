"""The client library against the OpenAPI document: every call goes to a path that exists, and every
path has its call.
"""

import json
import re
from pathlib import Path

import sortitor.client as client
from sortitor.server.openapi import document

#: What people do by hand in the console, or devices and streams by themselves.
WITHOUT_A_CALL = {
    ("GET", "/jobs/{}/events"),
    ("GET", "/arrivals/events"),
    ("GET", "/welcome-card/pictures/{}"),
    ("GET", "/devices/facets"),
    ("GET", "/vocabulary"),
    # Text, not JSON.
    ("GET", "/calendar/{}"),
    ("GET", "/sources/{}/diagnosis"),
    ("GET", "/sources/{}/certificate"),
    ("GET", "/sources/{}/signing-request"),
    # Written to a file as it comes.
    ("GET", "/discrepancies/export"),
    ("GET", "/journal/export"),
}


def offered() -> set[tuple[str, str]]:
    paths = json.loads(document())["paths"]
    return {
        (method.upper(), re.sub(r"\{[a-z_]+\}", "{}", path.removeprefix("/api/v1")))
        for path, methods in paths.items()
        for method in methods
    }


def called() -> set[tuple[str, str]]:
    """What is asked in the source of the client; a kind of document asks at its own path."""
    folder = Path(client.__file__).parent
    sources = {file.stem: _plain(file.read_text()) for file in folder.glob("*.py")}
    kinds = re.findall(r'path = "(/[a-z-]+)"', "".join(sources.values()))
    documents = sources.pop("documents")
    wholes = [
        *sources.values(),
        *(documents.replace("{self.path}", kind.lstrip("/")) for kind in kinds),
    ]
    return {call for source in wholes for call in _asked(source)}


def _asked(source: str) -> list[tuple[str, str]]:
    single = re.findall(r'"(GET|POST|PUT|PATCH|DELETE)",\s*f?"(/[^"]*)"', source)
    pages = re.findall(r'\.pages\(\s*[\w.]+,\s*f?"(/[^"]*)"', source)
    files = [
        (method, path)
        for word, method in (("download", "GET"), ("upload", "POST"))
        for path in re.findall(rf'\.{word}\(\s*f?"(/[^"]*)"', source)
    ]
    calls = [*single, *files, *(("GET", path) for path in pages)]
    return [(method, re.sub(r"\{[^}]*\}", "{}", path)) for method, path in calls]


def _plain(source: str) -> str:
    """With every path as one string."""
    source = source.replace("at(self.path,", 'at("{self.path}",').replace(
        ", self.path", ', "{self.path}"'
    )
    source = re.sub(r'at\(f?"([^"]*)", [\w.]+, f?"([^"]*)"\)', r'"\1/{}/\2"', source)
    return re.sub(r'at\(f?"([^"]*)", [\w.]+\)', r'"\1/{}"', source).replace('"{self', '"/{self')


def test_every_call_goes_to_a_path_that_exists() -> None:
    assert len(called()) > 60
    # One helper puts two words in: what is done to a lot, and to whom a preview belongs.
    assert {call for call in called() - offered() if call[1].count("{}") < 2} == set()


def test_every_path_has_its_call() -> None:
    helped = {("POST", f"/lots/{{}}/{act}") for act in ("apply", "revert")}
    helped.add(("GET", "/cohorts/{}/overlap/{}"))
    assert offered() - called() - WITHOUT_A_CALL - helped == set()
