"""Every path of the OpenAPI document: nobody gets in, a viewer changes nothing, and nonsense is
refused with words, never by a failure.
"""

import json
import re
from collections.abc import Iterator
from itertools import product
from pathlib import Path
from typing import Any

import httpx
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.worlds import World, http, import_lot, import_people, manifest

from sortitor.core.vocabulary import Role
from sortitor.server.openapi import document

CALENDAR = ("GET", "/api/v1/calendar/{secret}")
#: A device fetches it with its own credential.
OWN_FILE = ("GET", "/api/v1/agent/files/{digest}")
#: For those who are not signed in: signing in, the first set-up, devices with a credential or a
#: pass.
OPEN = {
    ("POST", "/api/v1/session"),
    ("POST", "/api/v1/setup"),
    ("POST", "/api/v1/agent/check-in"),
    ("POST", "/api/v1/agent/check-ins"),
    ("POST", "/api/v1/agent/knock"),
    ("POST", "/api/v1/agent/announce"),
    # With the secret of an arrival, or the credential of a device.
    ("GET", "/api/v1/agent/way"),
    ("POST", "/api/v1/agent/way/code"),
    ("POST", "/api/v1/agent/way/sign-in"),
    ("POST", "/api/v1/agent/way/password"),
    ("POST", "/api/v1/agent/way/answers"),
    ("POST", "/api/v1/agent/way/collect"),
    ("POST", "/api/v1/agent/progress"),
    ("POST", "/api/v1/agent/check-in/wait"),
    ("POST", "/api/v1/agent/reports"),
    ("GET", "/api/v1/agent/kit"),
    OWN_FILE,
    # What everybody sees at the door.
    ("GET", "/api/v1/welcome-card"),
    ("GET", "/api/v1/welcome-card/pictures/{digest}"),
    # With a secret in the address, since a calendar sends nothing else.
    CALENDAR,
}
#: What a viewer may do though it is no GET: it changes nothing of the fleet, or only what is the
#: viewer's own.
HARMLESS = {
    ("POST", "/api/v1/filters/check"),
    ("POST", "/api/v1/naming/check"),
    ("POST", "/api/v1/gate/try"),
    ("POST", "/api/v1/gate/check"),
    ("POST", "/api/v1/gate/effective"),
    ("POST", "/api/v1/gate/replay"),
    ("POST", "/api/v1/gate/replay/list"),
    ("POST", "/api/v1/gate/replay/file"),
    ("POST", "/api/v1/sweeps/due/file"),
    ("DELETE", "/api/v1/session"),
    ("POST", "/api/v1/tokens"),
    ("PUT", "/api/v1/session/password"),
    ("DELETE", "/api/v1/sessions/{session_id}"),
    ("POST", "/api/v1/journal/head/check"),
    ("POST", "/api/v1/imagined-kit"),
    ("POST", "/api/v1/pools/{key}/compare"),
    ("POST", "/api/v1/vouchers/picture"),
    ("POST", "/api/v1/vouchers/read"),
    ("DELETE", "/api/v1/tokens/{token_id}"),
    ("POST", "/api/v1/views"),
    ("DELETE", "/api/v1/views/{view_id}"),
}
#: A stream that lasts as long as its job.
STREAMS = {("GET", "/api/v1/jobs/{job_id}/events"), ("GET", "/api/v1/arrivals/events")}


def endpoints() -> list[tuple[str, str, dict[str, Any]]]:
    return [
        (method.upper(), path, operation)
        for path, methods in json.loads(document())["paths"].items()
        for method, operation in methods.items()
    ]


ENDPOINTS = endpoints()
BY_NAME = {f"{method} {path}": (method, path, operation) for method, path, operation in ENDPOINTS}


def called(
    client: httpx.Client, method: str, path: str, number: object = 1, **more: Any
) -> httpx.Response:
    return client.request(method, re.sub(r"\{[a-z_]+\}", str(number), path), **more)


def refusal(answer: httpx.Response) -> dict[str, Any]:
    """The problem (RFC 9457) that an answer is, with its code, its words and its remedy."""
    assert answer.headers["content-type"] == "application/problem+json", answer.text
    problem: dict[str, Any] = answer.json()
    assert problem["status"] == answer.status_code
    assert problem["type"] == f"urn:sortitor:problem:{problem['code']}"
    assert problem["detail"]
    assert problem["detail"][-1] in ".?…^" or "\n" in problem["detail"], problem["detail"]
    assert problem["request_id"]
    assert "Traceback" not in answer.text
    return problem


def state(world: World) -> list[tuple[object, ...]]:
    tables = (
        "devices",
        "people",
        "pools",
        "sweep_rules",
        "orders",
        "cohorts",
        "rulebooks",
        "holds",
        "journal",
        "lots",
        "passes",
        "accounts",
    )
    return [
        world.rows(
            # That data were taken out is written down, whoever does it.
            f"SELECT '{table}', count(*), coalesce(md5(string_agg(t::text, '|' ORDER BY t::text)),"
            f" '') FROM {table} t" + (" WHERE operation <> 'export'" if table == "journal" else "")
        )[0]
        for table in tables
    ]


def test_a_parameter_that_nobody_heeds_is_refused(world: World) -> None:
    """Ignored, it would give more devices than were asked for."""
    with http(world) as client:
        for asked, remedy in (
            ("stage=parked", "It knows sort, "),
            ("filtre=id pr", "Did you mean 'filter'?"),
            ("Limit=1", "Did you mean 'limit'?"),
        ):
            answer = client.get(f"/api/v1/devices?{asked}")
            assert answer.status_code == 422
            problem = refusal(answer)
            assert (problem["code"], problem["errors"][0]["pointer"]) == (
                "unknown_parameter",
                f"/query/{asked.split('=')[0]}",
            )
            assert problem["remedy"].startswith(remedy)


@pytest.fixture
def furnished(world: World, tmp_path: Path) -> World:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,Deck,Dunlin,Crew")
    import_lot(
        s,
        manifest(tmp_path, ["serial,maker,site", "KM-1,Kelmar,Dunlin", "KM-2,Kelmar,Petrel"]),
        platform="android",
    )
    return world


def test_nobody_gets_in(furnished: World) -> None:
    before = state(furnished)
    with http(furnished, None) as client:
        for method, path, _ in ENDPOINTS:
            if (method, path) not in OPEN:
                answer = called(client, method, path, json={})
                assert answer.status_code == 401, (method, path, answer.text)
                assert answer.headers["www-authenticate"] == "Bearer"
                assert refusal(answer)["remedy"]
    assert state(furnished) == before


def test_a_made_up_token_is_nobody(furnished: World) -> None:
    with http(furnished, None) as client:
        for token in (
            "x",
            "0" * 64,
            furnished.tokens[Role.COORDINATOR][:-1],
            furnished.tokens[Role.COORDINATOR] + "x",
            "' OR 1=1 --",
        ):
            answer = client.get("/api/v1/devices", headers={"Authorization": f"Bearer {token}"})
            assert answer.status_code == 401, token


def test_a_viewer_changes_nothing(furnished: World) -> None:
    before = state(furnished)
    with http(furnished, Role.VIEWER) as client:
        for method, path, _ in ENDPOINTS:
            if method == "GET" or (method, path) in OPEN | HARMLESS or path.endswith("/preview"):
                continue
            answer = called(client, method, path, json={})
            assert answer.status_code == 403, (method, path, answer.status_code, answer.text)
            assert refusal(answer)["code"] == "role_too_low"
    assert state(furnished) == before


def test_what_is_not_there_is_not_found(furnished: World) -> None:
    with http(furnished, Role.ADMINISTRATOR) as client:
        for method, path, operation in ENDPOINTS:
            if "{" not in path or "{platform}" in path or "requestBody" in operation:
                continue
            if (method, path) in (CALENDAR, OWN_FILE):
                continue
            headers = {"If-Match": "*"} if method == "DELETE" else {}
            answer = called(client, method, path, 987_654_321, headers=headers)
            assert answer.status_code in (404, 422), (method, path, answer.status_code)
            problem = refusal(answer)
            assert answer.status_code == 422 or "987654321" in problem["detail"], problem["detail"]


def test_what_is_no_number_is_refused(furnished: World) -> None:
    with http(furnished, Role.ADMINISTRATOR) as client:
        for number, (method, path, _) in product(
            ["x", "1.5", "-1", "99999999999999999999", "0x1", "%00", "١"], ENDPOINTS
        ):
            if "{" in path and "{platform}" not in path and (method, path) not in STREAMS:
                answer = called(client, method, path, number, json={})
                assert 400 <= answer.status_code < 500, (
                    method,
                    path,
                    number,
                    answer.status_code,
                    answer.text,
                )


def test_a_body_that_is_none_is_refused_with_its_place(furnished: World) -> None:
    bodies = [
        b"",
        b"{",
        b"[]",
        b"null",
        b'"x"',
        b'{"unknown": 1}',
        b"\xff\xfe",
        b'{"name": {"a": []}, "filter": 7, "selection": [], "digest": null}',
        b"[" * 5_000,
    ]
    before = state(furnished)
    with http(furnished, Role.ADMINISTRATOR) as client:
        for method, path, operation in ENDPOINTS:
            if "application/json" not in operation.get("requestBody", {}).get("content", {}):
                continue
            for body in bodies:
                answer = called(
                    client, method, path, content=body, headers={"Content-Type": "application/json"}
                )
                assert answer.status_code < 500, (method, path, body, answer.text)
                if answer.status_code == 422:
                    assert refusal(answer)["code"]
    assert state(furnished) == before


def _parameters() -> Iterator[tuple[str, str, str]]:
    for method, path, operation in ENDPOINTS:
        if method == "GET" and "{" not in path:
            yield from (
                (path, parameter["name"], parameter["in"])
                for parameter in operation.get("parameters", [])
                if parameter["in"] == "query"
            )


PARAMETERS = list(_parameters())
odd = st.one_of(
    st.text(max_size=30),
    st.integers().map(str),
    st.sampled_from(
        [
            "",
            "null",
            "[]",
            "\0",
            "%",
            "'",
            '"',
            "-1",
            "1e400",
            "eyJ4IjoxfQ",
            "WzEsMl0",
            "🚢" * 10,
            "A" * 5_000,
            '(((site eq "x"',
            'site co "\'"',
        ]
    ),
)


def test_no_parameter_makes_the_service_fail(furnished: World) -> None:
    with http(furnished, Role.ADMINISTRATOR) as client:

        @settings(
            max_examples=150, deadline=None, suppress_health_check=[HealthCheck.filter_too_much]
        )
        @given(st.sampled_from(PARAMETERS), odd)
        def never(parameter: tuple[str, str, str], value: str) -> None:
            path, name, _ = parameter
            answer = client.get(path, params={name: value})
            assert answer.status_code < 500, (path, name, value, answer.text)
            if answer.status_code >= 400:
                refusal(answer)

        never()


def test_the_document_says_of_every_path_what_it_does() -> None:
    for method, path, operation in ENDPOINTS:
        assert len(operation.get("description", "")) > 10, (method, path)
    assert "localhost" not in document()
