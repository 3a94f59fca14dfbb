"""The client library against the OpenAPI document: every call goes to a path that exists, and every
path has its call.
"""

import json
import re
from pathlib import Path

import sortitor.client.nouns as nouns

from sortitor.server.openapi import document

#: What people do by hand in the console, or devices and streams by themselves.
WITHOUT_A_CALL = {("GET", "/jobs/{}/events"), ("GET", "/devices/facets")}


def offered() -> set[tuple[str, str]]:
    paths = json.loads(document())["paths"]
    return {
        (method.upper(), re.sub(r"\{[a-z_]+\}", "{}", path.removeprefix("/api/v1")))
        for path, methods in paths.items()
        for method in methods
    }


def called() -> set[tuple[str, str]]:
    source = Path(nouns.__file__).read_text()
    single = re.findall(r'"(GET|POST|PUT|PATCH|DELETE)", f?"(/[^"]*)"', source)
    pages = [("GET", path) for path in re.findall(r'\.pages\([\w.]+, f?"(/[^"]*)"', source)]
    return {(method, re.sub(r"\{[^}]+\}", "{}", path)) for method, path in (*single, *pages)}


def test_every_call_goes_to_a_path_that_exists() -> None:
    assert len(called()) > 60
    # One helper puts two words in: what is done to a lot, and to whom a preview belongs.
    assert {call for call in called() - offered() if call[1].count("{}") < 2} == set()


def test_every_path_has_its_call() -> None:
    helped = {("POST", f"/lots/{{}}/{act}") for act in ("apply", "revert")}
    assert offered() - called() - WITHOUT_A_CALL - helped == set()
