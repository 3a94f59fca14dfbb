"""The bench knows every read and every preview: a new route without a figure is seen here."""

import json
from pathlib import Path

from bench.everything import APART, EVERYTHING

DOCUMENT = json.loads(Path("console/openapi.json").read_text())


def test_every_read_and_preview_has_a_figure() -> None:
    """Or it is said where else it is measured."""
    known = {asked.operation for asked in EVERYTHING} | APART.keys()
    wanted = {
        operation["operationId"]
        for path, methods in DOCUMENT["paths"].items()
        for method, operation in methods.items()
        if method == "get" or path.endswith("/preview")
    }
    assert wanted - known == set()
    assert known - wanted == set()


def test_a_request_of_the_bench_is_one_of_its_operation() -> None:
    by_operation = {
        operation["operationId"]: path
        for path, methods in DOCUMENT["paths"].items()
        for operation in methods.values()
    }
    for asked in EVERYTHING:
        parts = f"/api/v1{asked.path.partition('?')[0]}".split("/")
        pattern = by_operation[asked.operation].split("/")
        assert len(parts) == len(pattern), asked
        pairs = zip(parts, pattern, strict=True)
        assert all(told == one or one.startswith("{") for told, one in pairs), asked
