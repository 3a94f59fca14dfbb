"""The whole interface by its own document, as each role and as nobody: no answer is a fault of the
service, and each is one that the document knows.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from schemathesis import checks
from schemathesis.core.errors import SchemathesisError
from tests.draws import first_of
from tests.worlds import (
    Database,
    World,
    a_pass,
    a_world,
    import_lot,
    import_people,
    knocking,
    manifest,
)

from sortitor.core.vocabulary import Role

pytestmark = pytest.mark.filterwarnings("ignore")
_MANY = os.environ.get("HYPOTHESIS_PROFILE") == "explore"

#: Whoever administers may do all; what others send is mostly refused, or is done as for them.
_DRAWS = dict.fromkeys([None, *Role], 1) | {Role.ADMINISTRATOR: 2}


@pytest.fixture(scope="module")
def furnished(database: Database, tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    folder = tmp_path_factory.mktemp("files")
    with a_world(database, account_per_minute=1_000_000) as world:
        s = world.client()
        import_people(s, folder, "maud,Maud Fenwick,,,,Crew")
        lines = ["serial,maker", *(f"KM-{i}00,Kelmar" for i in range(4))]
        import_lot(s, manifest(folder, lines))
        s.agent.knock(knocking(a_pass(s, person="maud"), "KM-100"))
        yield world


def operations(world: World) -> Iterator[Any]:
    schema = schemathesis.openapi.from_dict(_document())
    schema.config.update(base_url=world.url)
    for found in schema.get_all_operations():
        operation = found.ok()
        if not any(word in operation.path for word in ("/events", "/journal/export")):
            yield operation


def _document() -> dict[str, Any]:
    import json

    return json.loads((Path(__file__).parents[2] / "console" / "openapi.json").read_text())


@pytest.mark.parametrize("role", [None, *first_of(*reversed(Role))], ids=str)
def test_no_answer_is_a_fault(furnished: World, role: Role | None) -> None:
    headers = {"Authorization": f"Bearer {furnished.tokens[role]}"} if role else {}
    known = (
        checks.not_a_server_error,
        checks.status_code_conformance,
        checks.content_type_conformance,
        checks.response_schema_conformance,
    )
    faults = []
    for operation in operations(furnished):
        strategy = operation.as_strategy()

        @given(case=strategy)
        @settings(
            max_examples=60 if _MANY else _DRAWS[role],
            deadline=None,
            database=None,
            derandomize=not _MANY,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )
        def ask(case: Any) -> None:
            case.call_and_validate(headers=headers, checks=list(known), timeout=60)

        try:
            ask()
        except (AssertionError, SchemathesisError, BaseExceptionGroup) as error:
            faults.append(f"{operation.method.upper()} {operation.path}: {str(error)[:700]}")
    assert not faults, "\n\n".join(faults[:12])
